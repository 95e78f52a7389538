"""It is there, but a package that it requires is not.

Has it:
    heath has hivescale 2.1 requiring nectarflow>=1.2
    asked in heath: import hivescale

Only looks like it (what is missing is not required by anything):
    heath has hivescale 2.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.findings import remedies
from kalyx.core.findings.shared.brought import brought_by
from kalyx.core.imports.case import Case, Missing
from kalyx.core.machine import Machine
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import Asked, asked_by
from kalyx.core.records import Evidence, Finding
from kalyx.core.words.names import canonical

_SAYS_MORE = "what a package itself requires says more than where else the module lies"
STANDS_BEFORE = dict.fromkeys(
    ("base-hidden", "user-site-off", "path-cut", "other-minor", "stdlib-gone", "stdlib-newer", "stdlib-part-missing",
     "syntax-newer", "syntax-older"),
    _SAYS_MORE,
)  # fmt: skip


def look(case: Missing, machine: Machine) -> Finding | None:
    missing, interpreter = case.missing, case.interpreter
    if case.missing_is_asked:
        return None
    importer = case.importer()
    asker = case.owner(importer.file) if importer is not None else None
    if asker is None or importer is None:
        return None
    asked = _requirement_for(case, machine, asker, missing)
    if asked is None:
        return None
    present = {one.key: one for one in machine.installed(case.sites)}
    if asked.key in present:
        return None
    evidence = [
        Evidence(fact=f"{importer.file} imports {missing}", source="the trial", path=importer.file, line=importer.line),
        Evidence(
            fact=f"{asker.name} {asker.version} requires {asked.line}",
            source=machine.facts.join(asker.path, "METADATA" if asker.is_wheel else "requires.txt"),
            path=machine.facts.join(asker.path, "METADATA" if asker.is_wheel else "requires.txt"),
        ),
        Evidence(fact=f"no {asked.name} among {len(present)} distributions", source=", ".join(case.sites[:2])),
    ]
    chain = _chain(case, importer.file)
    if chain:
        evidence.insert(0, Evidence(fact=" → ".join([*chain, missing]), source="the trial's frames"))
    return Finding(
        cause="unmet",
        certainty="proven",
        says=f"{asker.name} {asker.version} requires {asked.line}, which is not installed",
        evidence=evidence,
        remedies=[remedies.install(machine, interpreter, asked.line)],
    )


def _requirement_for(case: Case, machine: Machine, asker: Installed, missing: str) -> Asked | None:
    """The requirement of ``asker`` that would bring the missing module."""
    requirements = asked_by(asker, case.interpreter, machine.facts.system)
    top = canonical(missing.split(".")[0])
    for asked in requirements:
        if asked.key == top:
            return asked
    known = brought_by(machine, missing)
    return next((a for a in requirements if known is not None and a.key == canonical(known.name)), None)


def _chain(case: Case, last: str) -> list[str]:
    """The distributions whose files were passed on the way, outermost first."""
    found: list[str] = []
    for frame in case.frames():
        owner = case.owner(frame.file)
        if owner is not None and (not found or found[-1] != owner.name):
            found.append(owner.name)
    return found if len(found) > 1 else []
