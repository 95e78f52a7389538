"""The module imports, the name asked for is not in this version of it.

Has it:
    heath has hivescale 2.1
    asked in heath: from hivescale import old_weights

Only looks like it (the module itself is not there):
    orchard has hivescale 2.1
    asked in heath: from hivescale import old_weights
"""

from __future__ import annotations

import re

from msgspec import Struct

from kalyx.core.facts import Evidence, Finding, Remedy
from kalyx.core.findings import circular, remedies
from kalyx.core.findings._failing import broken_requirement
from kalyx.core.imports import standard
from kalyx.core.imports.case import Case
from kalyx.core.imports.trial import lacking_name
from kalyx.core.machine import Machine
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.names import table_modules
from kalyx.core.packages.removals import Removal, removal_of
from kalyx.core.packages.requirements import asked_by, satisfies
from kalyx.core.text import distance

YIELDS_TO = (
    "shadowed",
    "gutted",
    "name-misleads",
    "unmet",
    "interpreter-gone",
    "circular",
    "damaged",
    "other-platform",
    "other-build",
    "syntax-newer",
    "syntax-older",
    "older-wins",
    "unreadable",
    "folder-answers",
    "submodule-gone",
    "binary-mismatch",
    "link-broken",
    "namespace-split",
)
FOLDS = True

_ATTRIBUTE = re.compile(r"module '([\w.]+)' has no attribute '(\w+)'")


class Lack(Struct):
    """A module and the name it has not; where it is asked for, who owns both."""

    module: str
    name: str
    owner: Installed | None = None
    asker: Installed | None = None


def lack_of(case: Case) -> Lack | None:
    """What is asked of a module that it does not have, by an import or as an attribute; None where that is not it."""
    raised = case.raised
    if raised is None or case.resolver is None or case.interpreter is None:
        return None
    name, module = lacking_name(raised), None
    if name is not None:
        module = raised.name or module_asked(case)
    elif raised.type == "AttributeError" and (match := _ATTRIBUTE.search(raised.text)):
        module, name = match.groups()
    else:
        # Some packages tell in an error of their own that a name has gone.
        gone = [one for one in case.wanted.names if one in raised.text and removal_of(case.module, one) is not None]
        if gone and not case.missing:
            name, module = gone[0], case.module
    if name is None or module is None:
        return None
    lack = Lack(module, name)
    place = case.resolver.resolve(module).place
    lack.owner = case.owner(place.path) if place is not None else None
    frame = case.importer()
    if frame is not None and not frame.file.startswith("<"):
        lack.asker = case.owner(frame.file)
    return lack


def look(case: Case, machine: Machine) -> Finding | None:
    lack, raised = lack_of(case), case.raised
    if lack is None or raised is None or case.resolver is None or case.interpreter is None or circular.loop_of(case):
        return None
    place = case.resolver.resolve(lack.module).place
    what = f"{lack.owner.name} {lack.owner.version}" if lack.owner is not None else lack.module
    evidence = [Evidence(fact=f"{raised.type}: {raised.text[:200]}", source="the trial")]
    if place is not None:
        where = place.path if place.kind != "builtin" else None
        evidence.append(Evidence(fact=f"{lack.module} of {what} is here", source=place.path, path=where))
    frame = case.importer()
    if frame is not None and not frame.file.startswith("<"):
        evidence.append(
            Evidence(fact=f"{lack.name} is asked for here", source=frame.file, path=frame.file, line=frame.line)
        )
    span = standard.name_span(lack.module, lack.name) if lack.owner is None else None
    says = f"{lack.module} imports, and {what} has no {lack.name}"
    mends = _by_the_standard_library(case, machine, lack, span) if span is not None else []
    if span is not None and mends:
        has = f"until {span.last}" if span.is_gone(case.interpreter.version) else f"from {span.first} on"
        own = ".".join(case.interpreter.version.split(".")[:2])
        says = f"Python {own} has no {lack.module}.{lack.name}; it is there {has}"
    return Finding(
        cause="name-gone",
        certainty="proven",
        says=says,
        evidence=evidence,
        remedies=mends or ways_out(case, machine, lack),
    )


def module_asked(case: Case) -> str | None:
    """Older versions do not say which module lacks the name: the line that asked does."""
    assert case.resolver is not None
    frame, line = case.importer(), case.wanted.statement
    if frame is not None and not frame.file.startswith("<"):
        lines = (case.resolver.facts.text_or_none(frame.file) or "").splitlines()
        line = lines[frame.line - 1].strip() if 0 < frame.line <= len(lines) else ""
    words = line.split()
    if len(words) > 1 and words[0] == "from" and not words[1].startswith("."):
        return words[1]
    return None


def _by_the_standard_library(case: Case, machine: Machine, lack: Lack, span: standard.Span) -> list[Remedy]:
    """For a name that this Python's own library no longer has, or has not yet."""
    assert case.interpreter is not None
    version = case.interpreter.version
    if not span.is_gone(version) and not span.is_newer(version):
        return []
    now = standard.instead_of_name(lack.module, lack.name)
    if lack.asker is not None:
        newer = span.is_gone(version)
        line = lack.asker.name if newer else f"{lack.asker.name}<{lack.asker.version}"
        mend = remedies.install(machine, case.interpreter, line, *(["--upgrade"] if newer else []))
        mend.says = f"{'a newer' if newer else 'an older'} {lack.asker.name}, which is for this Python"
        exact = f"{lack.asker.name}=={lack.asker.version}"
        wanted = span.last if newer else span.first
        return [mend, remedies.with_another_python(machine, case.interpreter.prefix, wanted, exact)]
    if now is not None and span.is_gone(version):
        module, _, name = now.rpartition(".")
        return [
            Remedy(says="it has another place now", steps=[remedies.by_hand(f"write: from {module} import {name}")])
        ]
    back = standard.instead("since").get(lack.module) if span.is_newer(version) else None
    if back is not None and "write" in back:
        mend = remedies.install(machine, case.interpreter, back["install"])
        mend.says = f"{back['install']} brings it to older Pythons"
        mend.steps.append(remedies.by_hand(f"write: from {back['write'].removeprefix('import ')} import {lack.name}"))
        return [mend]
    wanted = span.last if span.is_gone(version) else span.first
    return [
        Remedy(
            says=f"run it on Python {wanted}",
            steps=[remedies.by_hand(f"run it on Python {wanted}, or write it otherwise")],
        )
    ]


def ways_out(case: Case, machine: Machine, lack: Lack) -> list[Remedy]:
    """The version of a package that has what is asked for, by the surest that says so."""
    assert case.interpreter is not None and case.raised is not None
    interpreter, owner, asker = case.interpreter, lack.owner, lack.asker
    removal = removal_of(lack.module, lack.name) or removal_of(f"{lack.module}.{lack.name}")
    if asker is not None and owner is not None and asker.key != owner.key:
        broken = broken_requirement(case, machine, asker)
        if broken is not None and broken[1].key == owner.key:
            mend = remedies.install(machine, interpreter, broken[0])
            mend.says = f"{asker.name} {asker.version} requires {broken[0]}"
            return [mend]
    found = []
    if owner is not None:
        held = _held(case, machine, owner, asker, removal)
        found += [held] if held is not None else []
    near = sorted((distance(lack.name.lower(), other.lower(), 2), other) for other in case.raised.members)
    near = [(far, other) for far, other in near if far <= 2 and other != lack.name]
    if near and asker is None:
        write = f"write: from {lack.module} import {near[0][1]}"
        found.insert(0, Remedy(says="write it as it is called", steps=[remedies.by_hand(write)]))
    elif removal is not None and removal.went is not None and asker is None:
        module, _, name = removal.went.rpartition(".")
        write = f"write: from {module} import {name}" if module else f"write: import {name}"
        # In one's own code, another line is a smaller change than another release.
        went = Remedy(says="write where it went", steps=[remedies.by_hand(write)])
        top = (module or name).split(".")[0]
        if case.resolver is not None and case.resolver.resolve(top).place is None:
            brings = remedies.install(machine, interpreter, table_modules().get(top, top))
            went.says, went.steps = f"it went to {top}: install that, and write", [*brings.steps, *went.steps]
        found.insert(0, went)
    for one in {"owner": owner, "asker": asker}.values() if asker is not None else ():
        if one is not None:
            again = remedies.install(machine, interpreter, one.name, "--upgrade")
            again.says = (
                f"{'or ' if found else ''}a newer {one.name} may {'have it' if one is owner else 'know this version'}"
            )
            found.append(again)
    if found:
        return found
    line = machine.line([interpreter.executable, "-c", f"import {lack.module}; print(dir({lack.module}))"])
    return [Remedy(says="see what it has", steps=[remedies.by_hand(f"see what it has: {line}")])]


def _held(
    case: Case, machine: Machine, owner: Installed, asker: Installed | None, removal: Removal | None
) -> Remedy | None:
    """An older release of what took the name away: by the table, else below the next major that the asker names."""
    assert case.interpreter is not None
    line, says = None, ""
    if removal is not None and removal.distribution.lower() == owner.name.lower():
        if not satisfies(owner.version, f"<{removal.first_without}"):
            line, says = f"{owner.name}<{removal.first_without}", f"{owner.name} {removal.first_without} took it away"
    if line is None and asker is not None and asker.key != owner.key:
        for asked in asked_by(asker, case.interpreter, machine.facts.system):
            bound = _next_major(asked.specifier, owner.version) if asked.key == owner.key else None
            if bound is not None:
                line = f"{asked.line},<{bound}"
                says = f"{asker.name} {asker.version} was written for {asked.line}, and this is {owner.version}"
    if line is None:
        return None
    mend = remedies.install(machine, case.interpreter, line)
    mend.says = says
    return mend


def _next_major(specifier: str, version: str) -> str | None:
    """The major version after the one that a requirement begins at, where what is here has gone on past it."""
    lower = re.search(r"(?:>=|~=|>|==)\s*(\d+)", specifier)
    major = version.split(".")[0]
    if lower is None or not major.isdigit() or "<" in specifier or int(major) <= max(int(lower[1]), 1):
        return None
    return str(max(int(lower[1]), 1) + 1)
