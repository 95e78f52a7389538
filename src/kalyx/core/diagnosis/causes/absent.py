"""Nothing that provides it is found in any environment that Kalyx knows on this machine.

How to tell: all environments known here were read, and none has it.
Fix: install the distribution that brings it, once you know which.

Example:
    asked in heath: import broodmap

Not this (it is in another environment):
    orchard has broodmap 1.0
    asked in heath: import broodmap
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import Brought, brought_by, listed_part
from kalyx.core.diagnosis.shared.failing import asked_here
from kalyx.core.diagnosis.shared.spelling import is_standard, nearest, written
from kalyx.core.imports.case import Missing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import CreateEnvironment, FillEnvironment, Install
from kalyx.core.packages.removals import requirement_with
from kalyx.core.packages.requirements import asked_by, speaks_of
from kalyx.core.text.names import canonical

SUPPRESSED_BY_OTHERS = True


def _required_here(case: Missing, machine: Machine, missing: str) -> tuple[Brought | None, str]:
    """The distribution of this name that something installed here, or an extra of that, requires; and what does."""
    key = canonical(missing)
    for distribution in machine.installed(case.sites):
        if speaks_of(distribution, key):
            for asked in asked_by(distribution, case.interpreter, machine.reader.system, extras=True):
                if asked.key == key:
                    by = f"the extra {asked.extra} of {distribution.name}" if asked.extra else distribution.name
                    return Brought(asked.line, None, "its metadata", distribution.path), by
    return None, ""


LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    missing = case.missing
    searched = _searched(machine)
    counted = " and ".join(f"{count} {noun}{'' if count == 1 else 's'}" for count, noun in searched)
    where = case.environment.name if case.environment else case.interpreter.prefix
    evidence = [
        Evidence(
            fact=f"{missing} is in none of the folders on {where}'s sys.path",
            source=f"{len(case.search.entries)} folders read",
        ),
        Evidence(
            fact=f"no environment known here has {missing.split('.')[0]}",
            source=f"{counted} read",
        ),
    ]
    if not case.missing_is_asked:
        evidence = asked_here(case, missing) + evidence
    asks = ""
    known = listed_part(case.module if case.missing_is_asked else missing)
    if known is None and "." not in missing:
        known = brought_by(machine, missing)
    if known is None and "." not in missing:
        known, asks = _required_here(case, machine, missing)
    if known is not None:
        provides = f"the package {known.name} provides {missing}"
        if asks:
            provides = f"{asks} requires {known.name}, which provides {missing}"
        evidence.append(Evidence(fact=provides, source=known.source, path=known.path))
        fix = fixes.install(machine, case.interpreter, requirement_with(missing, known.name))
    else:
        brings: Install | CreateEnvironment | FillEnvironment | None
        brings = Install(python=case.interpreter.executable, requirements=[])
        if fixes.keeper_of(machine, case.interpreter) is not None:
            brings = fixes.own_environment(machine, case.interpreter, [])
        if isinstance(brings, CreateEnvironment):
            brings.asks = True
        text = f"Kalyx does not know which package provides {missing}: look up its"
        step = fixes.by_hand(f"{text} name")
        if brings is not None:
            step = fixes.by_hand(f"{text} NAME, then", f"{fixes.step(machine, brings).line} NAME")
        fix = Fix(message="find out which package provides it", steps=[step], state="may-help")
    return Finding(
        cause="absent",
        certainty="proven" if case.trial is not None else "likely",
        message=f"{missing} is in no {' or '.join(noun for _, noun in searched)} that Kalyx found",
        evidence=evidence,
        fixes=[fix, *_meant(case)],
    )


def _searched(machine: Machine) -> list[tuple[int, str]]:
    """How many environments, and how many installations, were searched: as the survey counts both."""
    every = len(machine.environments.everywhere)
    bases = sum(environment.kind == "installation" for environment in machine.environments.everywhere)
    both = [(every - bases, "environment"), (bases, "base Python")]
    return [(count, noun) for count, noun in both if count] or both


def _meant(case: Missing) -> list[Fix]:
    """Another way, where the word is a letter or two from a module of the standard library: perhaps that was meant."""
    near = nearest(case, case.missing) if case.missing_is_asked and "." not in case.missing else None
    if near is None or not is_standard(case, near[1]):
        return []
    return [Fix(message=f"if {near[0]} was meant", steps=[fixes.write(written(case, near[0]))], state="may-help")]
