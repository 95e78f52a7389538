"""The versions of a package that an environment accepts: the intersection of all requirements on the package."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import TYPE_CHECKING

from msgspec import Struct

from kalyx.core.model import System
from kalyx.core.model.records import Interpreter
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import asked_by, speaks_of
from kalyx.core.text.names import canonical

if TYPE_CHECKING:
    from packaging.specifiers import Specifier, SpecifierSet


class Bounded(Struct):
    """A requirement within what others ask of the same package; whom to move along where none suits all of them."""

    line: str
    minders: list[str] = []  # "beelines 1.0 (nectarflow<2)" of each whose bounds were added
    in_the_way: list[str] = []  # names of those that no release would suit


def within(requirement: str, others: Iterable[Installed], interpreter: Interpreter, system: System) -> Bounded:
    """The requirement with the bounds of ``others`` added; unchanged where it is an address or names one exact version.

    Those whose bounds leave no version together with it are named instead, and not added.
    """
    match = re.match(r"[A-Za-z0-9][A-Za-z0-9._-]*", requirement)
    named = canonical(match[0]) if match is not None else ""
    others = [distribution for distribution in others if distribution.key != named and speaks_of(distribution, named)]
    if not others:
        return Bounded(requirement)
    from packaging.requirements import InvalidRequirement, Requirement
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    try:
        wanted = Requirement(requirement)
    except InvalidRequirement:
        return Bounded(requirement)
    if wanted.url or wanted.marker or any(specifier.operator == "===" for specifier in wanted.specifier):
        return Bounded(requirement)
    key, bounded, both = canonical(wanted.name), Bounded(requirement), wanted.specifier
    for distribution in others:
        for asked in asked_by(distribution, interpreter, system):
            if asked.key != key or not asked.specifier:
                continue
            try:
                together = both & SpecifierSet(asked.specifier)
            except InvalidSpecifier:
                continue
            if not _leaves_any(together):
                bounded.in_the_way.append(distribution.name)
            elif together != both:
                both = together
                bounded.minders.append(f"{distribution.name} {distribution.version} ({asked.line})")
    pinned = any(specifier.operator == "==" for specifier in wanted.specifier)
    if bounded.minders and not pinned:
        extras = f"[{','.join(sorted(wanted.extras))}]" if wanted.extras else ""
        signs = sorted(map(str, _tightest(both)), key=lambda text: (text[0] not in ">~=", text))
        bounded.line = f"{wanted.name}{extras}{','.join(signs)}"
    return bounded


def _tightest(specifiers: SpecifierSet) -> list[Specifier]:
    """The bounds without those that a tighter one implies; of two at one version the stricter is tighter."""
    from packaging.version import InvalidVersion, Version

    kept = list(specifiers)
    try:
        lower = [
            ((Version(bound.version), bound.operator == ">"), bound) for bound in kept if bound.operator in (">", ">=")
        ]
        upper = [
            ((Version(bound.version), bound.operator == "<="), bound) for bound in kept if bound.operator in ("<", "<=")
        ]
    except InvalidVersion:
        return sorted(kept, key=str)
    loose = [bound for _, bound in sorted(lower, key=lambda pair: pair[0])[:-1]]
    loose += [bound for _, bound in sorted(upper, key=lambda pair: pair[0])[1:]]
    return sorted((bound for bound in kept if bound not in loose), key=str)


def _leaves_any(specifiers: SpecifierSet) -> bool:
    """Whether some version can meet all: tried are the versions named, the next after each, and the ones below."""
    from packaging.version import InvalidVersion, Version

    tried = {"0", "99999"}
    for specifier in specifiers:
        try:
            release = Version(specifier.version.removesuffix(".*")).release
        except InvalidVersion:
            return True  # nothing is known about that
        for numbers in (
            release,
            (*release, 1),
            (*release[:-1], release[-1] + 1),
            (*release[:-1], max(release[-1] - 1, 0), 99999),
        ):
            tried.add(".".join(map(str, numbers)))
        tried.add(specifier.version.removesuffix(".*"))
    return any(specifiers.contains(version, prereleases=True) for version in tried)
