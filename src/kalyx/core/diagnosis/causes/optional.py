"""The package is installed, and the part of it that is used needs an extra that was not requested.

How to tell: the package's metadata requires the missing module for one of its extras.
Fix: install the package with that extra: name[extra].

Example:
    heath has hivescale 2.1 whose extra plots asks for nectarflow
    asked in heath: import hivescale.plots

Not this (it is required without any extra):
    heath has hivescale 2.1 requiring nectarflow>=1.2
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import brought_by
from kalyx.core.diagnosis.shared.failing import asked_here, raised_evidence
from kalyx.core.imports.case import Case, Raising
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import MarkedRequirement, asked_by
from kalyx.core.text.names import canonical
from kalyx.core.text.patterns import pattern

# The words of packages whose part needs an extra that was not requested.
_SAYS = pattern(r"install\s+(?:-\S+\s+)*[\"'`]?([A-Za-z0-9][\w.-]*)\[([\w.,\s-]+)\]")

PRECEDES = dict.fromkeys(
    ("base-hidden", "user-site-off", "path-cut", "other-minor"),
    "what a package itself asks for says more than where else the module lies",
)

LOOKS_AT = "raising"


def look(case: Raising, machine: Machine) -> Finding | None:
    interpreter = case.interpreter
    result = _by_requirement(case, machine) or _by_words(case, machine)
    if result is None:
        return None
    owner, extra, line = result
    path = machine.reader.join(owner.path, "METADATA" if owner.is_wheel else "requires.txt")
    path = path if machine.reader.is_file(path) else owner.path
    fact = f"its extra {extra} asks for {line}" if line else f"it has an extra {extra}"
    evidence = [
        *(asked_here(case, case.missing) if case.missing else []),
        Evidence.at(path, fact),
        *raised_evidence(case),
    ]
    fix = fixes.install(machine, interpreter, f"{owner.name}[{extra}]=={owner.version}")
    fix = fix.called(f"install what the extra {extra} of {owner.name} requires")
    message = f"this part of {owner.name} {owner.version} needs its extra {extra}, which was not asked for"
    return Finding.proven("optional", message, evidence, [fix])


def _by_requirement(case: Case, machine: Machine) -> tuple[Installed, str, str] | None:
    """The package, its extra, and the extra's requirement that would provide what is missing."""
    missing, asker = case.missing, case.asker()
    if missing is None or asker is None or case.missing_is_asked:
        return None
    requirements = asked_by(asker, case.interpreter, machine.reader.system, extras=True)
    asked = _for(case, machine, requirements, missing)
    if (
        asked is None
        or asked.extra is None
        or asked.key in {distribution.key for distribution in machine.installed(case.sites)}
    ):
        return None
    return asker, asked.extra, asked.line


def _for(case: Case, machine: Machine, requirements: list[MarkedRequirement], missing: str) -> MarkedRequirement | None:
    """The requirement on what is missing: of several extras that have one, that which the package names itself, else
    the one that requires least."""
    top = canonical(missing.split(".")[0])
    result = [requirement for requirement in requirements if requirement.key == top]
    if not result:
        known = brought_by(machine, missing)
        result = [
            requirement
            for requirement in requirements
            if known is not None and requirement.key == canonical(known.name)
        ]
    # A requirement without an extra belongs to the cause unmet.
    if any(requirement.extra is None for requirement in result):
        return None
    words = case.trial.words if case.trial is not None else ""
    named = {canonical(extra.strip()) for match in _SAYS.finditer(words) for extra in match[2].split(",")}

    def size(requirement: MarkedRequirement) -> tuple[bool, int]:
        return canonical(requirement.extra or "") not in named, sum(
            other.extra == requirement.extra for other in requirements
        )

    return min(result, key=size, default=None)


def _by_words(case: Case, machine: Machine) -> tuple[Installed, str, str] | None:
    """The package and the extra that the error names; no requirement."""
    match = _SAYS.search(case.trial.words) if case.trial is not None else None
    if match is None:
        return None
    here = {distribution.key: distribution for distribution in reversed(machine.installed(case.sites))}
    owner = here.get(canonical(match[1]))
    extra = match[2].split(",")[0].strip()
    if owner is None or canonical(extra) not in {canonical(name) for name in owner.extras}:
        return None
    return owner, extra, ""
