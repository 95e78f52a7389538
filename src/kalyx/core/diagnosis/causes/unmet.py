"""The package is installed, but a package that it requires is missing or has the wrong version.

How to tell: the importing package lists the other among its requirements, and none is installed, or
one too old.
Fix: install the missing requirements in versions that the environment's other packages accept.

Example:
    heath has hivescale 2.1 requiring nectarflow>=1.2
    asked in heath: import hivescale

Not this (what is missing is not required by anything):
    heath has hivescale 2.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import brought_by
from kalyx.core.diagnosis.shared.failing import broken_requirement, owners_passed, raised_evidence
from kalyx.core.imports.case import Case, Failing
from kalyx.core.imports.lacking import lack_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import MarkedRequirement, asked_by, satisfies
from kalyx.core.text.names import canonical
from kalyx.core.text.patterns import pattern

_WANTS = pattern(r"\b(?:requires?|required|needs?|needed|must|at least|too old|upgrade|minimum|newer)\b|>=")
_OF_A_BUILD = pattern(r"\b(?:binary|compiled|size changed|abi|symbol)\b")
_SAYS_MORE = "what a package itself requires says more than where else the module lies"
PRECEDES = dict.fromkeys(
    ("base-hidden", "user-site-off", "path-cut", "other-minor", "stdlib-gone", "stdlib-newer", "stdlib-part-missing",
     "syntax-newer", "syntax-older"),
    _SAYS_MORE,
)  # fmt: skip


LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    if case.missing is not None:
        return _missing(case, machine)
    return _too_old(case, machine) if case.raised is not None else None


def _too_old(case: Failing, machine: Machine) -> Finding | None:
    """The package's own message says that the installed version of a requirement is too old."""
    assert case.raised is not None
    words = case.raised.text.lower()
    if lack_of(case) is not None or not _WANTS.search(words) or _OF_A_BUILD.search(words):
        return None  # a missing name, or a part that was compiled against another version, is more specific
    for passed in owners_passed(case):
        broken = broken_requirement(case, machine, passed)
        if broken is None or broken[1].name.lower() not in words:
            continue
        line, there = broken
        message = f"{passed.name} {passed.version} requires {line}, and {there.name} {there.version} is here"
        evidence = [
            Evidence.at(passed.path, f"{passed.name} {passed.version} requires {line}"),
            Evidence.at(there.path, f"{there.name} {there.version} is here"),
            *raised_evidence(case),
        ]
        return Finding.proven("unmet", message, evidence, [fixes.install(machine, case.interpreter, line)])
    return None


def _missing(case: Failing, machine: Machine) -> Finding | None:
    assert case.missing is not None
    missing = case.missing
    if case.missing_is_asked:
        return None
    importer = case.importer()
    asker = case.owner(importer.file) if importer is not None else None
    if asker is None or importer is None:
        return None
    asked = _requirement_for(case, machine, asker, missing)
    if asked is None:
        return None
    present = {distribution.key: distribution for distribution in machine.installed(case.sites)}
    there = present.get(asked.key)
    is_part = case.resolver.resolve(missing.split(".")[0]).location is not None
    if there is not None and (is_part or satisfies(there.version, asked.specifier)):
        return None  # a submodule that this version lacks belongs to the cause submodule-gone
    lacks = f"no {asked.name} among {len(present)} distribution{'s' * (len(present) != 1)}"
    if there is not None:
        lacks = f"{there.name} {there.version} is here"
    evidence = [
        Evidence(fact=f"{importer.file} imports {missing}", source="the trial", path=importer.file, line=importer.line),
        Evidence.at(
            machine.reader.join(asker.path, "METADATA" if asker.is_wheel else "requires.txt"),
            f"{asker.name} {asker.version} requires {asked.line}",
        ),
        Evidence(fact=lacks, source=there.path if there is not None else ", ".join(case.sites[:2])),
    ]
    chain = _chain(case, importer.file)
    if chain:
        evidence.insert(0, Evidence(fact=" → ".join([*chain, missing]), source="the trial's frames"))
    message = f"{asker.name} {asker.version} requires {asked.line}, " + (
        f"and {there.name} {there.version} is here" if there is not None else "which is not installed"
    )
    return Finding.proven("unmet", message, evidence, [_all_of(case, machine, asker, asked)])


def _all_of(case: Case, machine: Machine, asker: Installed, first: MarkedRequirement) -> Fix:
    """Everything that a package requires and that is not here, or not as required, in one line."""
    here = {distribution.key: distribution for distribution in reversed(machine.installed(case.sites))}
    lines = [first.line]
    for asked in asked_by(asker, case.interpreter, machine.reader.system):
        there = here.get(asked.key)
        if asked.key != first.key and (there is None or not satisfies(there.version, asked.specifier)):
            lines.append(asked.line)
    return fixes.install_all(machine, case.interpreter, lines)


def _requirement_for(case: Case, machine: Machine, asker: Installed, missing: str) -> MarkedRequirement | None:
    """The requirement of ``asker`` that would provide the missing module."""
    requirements = asked_by(asker, case.interpreter, machine.reader.system)
    top = canonical(missing.split(".")[0])
    for asked in requirements:
        if asked.key == top:
            return asked
    known = brought_by(machine, missing)
    return next((a for a in requirements if known is not None and a.key == canonical(known.name)), None)


def _chain(case: Case, last: str) -> list[str]:
    """The distributions whose files are in the frames of the failure, outermost first."""
    result: list[str] = []
    for frame in case.frames():
        owner = case.owner(frame.file)
        if owner is not None and (not result or result[-1] != owner.name):
            result.append(owner.name)
    return result if len(result) > 1 else []
