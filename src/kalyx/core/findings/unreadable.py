"""This user may not read it, or its settings file cannot be read.

Has it:
    heath may not be read
    asked about heath

Only looks like it (it can be read, and is empty):
    heath was begun and not finished
    asked about heath
"""

from __future__ import annotations

from kalyx.core.doors import Unreadable
from kalyx.core.environments.reading import View
from kalyx.core.facts import Evidence, Finding, Remedy
from kalyx.core.findings import remedies
from kalyx.core.findings._conditions import condition, of_target
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine

YIELDS_TO = ()


def look(case: Case, machine: Machine) -> Finding | None:
    return of_target(case, machine, "unreadable")


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    facts, prefix, settings = machine.facts, view.environment.prefix, view.settings
    try:
        facts.listing(prefix)
    except Unreadable as problem:
        status = facts.status(prefix)
        mode = f" (owner {status.owner}, mode {status.mode:o})" if status else ""
        evidence = [Evidence(fact=problem.reason + mode, source=prefix, path=prefix)]
        return condition("unreadable", f"it cannot be read: {problem.reason}", evidence, [_ask_owner(prefix)])
    if settings is not None and settings.problem is not None:
        evidence = [Evidence(fact=settings.problem, source=settings.path, path=settings.path)]
        says = f"its settings file cannot be read: {settings.problem}"
        return condition("unreadable", says, evidence, [_ask_owner(settings.path)])
    return None


def _ask_owner(path: str) -> Remedy:
    return Remedy(says="make it readable", steps=[remedies.by_hand(f"look at {path}: its owner can let you read it")])
