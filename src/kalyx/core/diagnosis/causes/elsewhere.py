"""The package is installed in another environment than the one that runs.

How to tell: an environment that was read has the module, and the one that runs has not.
Fix: install the package here too, or run the environment that has it.

Example:
    orchard has hivescale 2.1
    asked in heath: import hivescale

Not this (nothing has it):
    orchard has nectarflow 1.0
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.conditions import packages_in, starts_nothing, ways_to_recreate
from kalyx.core.diagnosis.shared.holders import holders, proof, propose, ways_out
from kalyx.core.environments.reading import View, executables_of
from kalyx.core.imports.case import Missing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import RunWith
from kalyx.core.packages.removals import requirement_with

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    result = holders(case, machine)
    if not result:
        return _in_one_that_starts_nothing(case, machine)
    environment, location = result[0]
    evidence, requirement = proof(case, machine, environment, location)
    for other, other_place in result[1:4]:
        evidence.append(Evidence.at(other_place.path, f"also in {other.name}"))
    propose(case, machine, "elsewhere", environment, location)
    message = f"{case.missing} is installed in {environment.name}, not in {case.here}"
    return Finding.proven("elsewhere", message, evidence, ways_out(case, machine, environment, requirement))


def _in_one_that_starts_nothing(case: Missing, machine: Machine) -> Finding | None:
    """The module is among the packages of an environment whose Python is gone: that is recreated, its packages stay."""
    top = case.missing.partition(".")[0]
    dead = [view for view in machine.environments.views if starts_nothing(view)]
    for view, item in ((each, item) for each in dead for item in packages_in(each, machine)):
        if not item.provides(top):
            continue
        name = view.environment.name
        evidence = [Evidence.at(item.path, f"{item.name} {item.version} is in {name}")]
        if view.problem is not None:
            evidence.append(Evidence.at(view.problem.path, view.problem.reason))
        install = fixes.install(machine, case.interpreter, requirement_with(case.missing, item.name))
        again = _recreated(case, machine, view)
        is_meant = case.seat.seat == "shell" and again[0].steps[0].command is not None
        offered = [*again, install] if is_meant else [install, *again]
        message = f"{case.missing} is installed in {name}, which starts nothing, and not in {case.here}"
        return Finding.proven("elsewhere", message, evidence, offered)
    return None


def _recreated(case: Missing, machine: Machine, view: View) -> list[Fix]:
    """The environment recreated and used by this seat; none for a kernel, which the package is installed for."""
    if case.seat.seat in ("kernel", "notebook"):
        return []
    prefix, name = view.environment.prefix, view.environment.name
    if case.seat.seat == "shell" and not case.runs:
        use, words = fixes.activate(machine, prefix), f"activate {name}"
    else:
        python = next(executables_of(machine.reader, prefix))
        use, words = fixes.step(machine, RunWith(words=[python, *case.runs], same_words=True)), "run it with its Python"
    fix = ways_to_recreate(view, machine)[0]
    message = fix.message.replace("recreate it", f"recreate {name}")
    return [fix.called(f"{message}; then {words}").with_steps(*fix.steps, use)]
