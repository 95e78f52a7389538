"""The module comes from a distribution with a similar name, not from the one that is meant.

How to tell: Kalyx's table lists another distribution for this module; the installed one only has the same module name.
Fix: remove the installed distribution and install the one that is meant.

Example:
    heath has yaml 0.1
    asked in heath: import yaml.loader

Not this (the one that is meant is here, in another version):
    heath has hivescale 2.1
    asked in heath: import hivescale.loader
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared.brought import table_modules
from kalyx.core.diagnosis.shared.failing import asked_here, namesake, owned, raised_evidence
from kalyx.core.imports.case import Failing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding

LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    for name in _tops(case):
        location = case.resolver.resolve(name).location
        owner = case.owner(location.path) if location is not None and location.path else None
        if owner is None:
            continue
        fix = namesake(machine, case.interpreter, owner, name)
        if fix is None:
            continue
        meant = table_modules()[name]
        message = f"{name} comes from {owner.name} {owner.version} here; most code means that of {meant}"
        evidence = [
            owned(owner),
            Evidence(fact=f"{name} comes from {meant}", source="Kalyx's table of well-known names"),
            *asked_here(case, name),
            *raised_evidence(case),
        ]
        return Finding.likely("other-distribution", message, evidence, [fix])
    return None


def _tops(case: Failing) -> list[str]:
    """The top-level names in the failure: asked for, or missing."""
    return list(dict.fromkeys((name or "").split(".")[0] for name in (case.missing, case.module) if name))
