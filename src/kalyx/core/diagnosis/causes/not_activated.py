"""The project has an environment of its own, and this seat runs another Python.

How to tell: an environment is in the project's folder, and the seat does not start it.
Fix: activate that environment, run the script with its Python, or register it for the notebook.

Example:
    the folder's project has an environment of its own with hivescale 2.1
    asked in the shell: import hivescale

Not this (that environment is the one that runs):
    the folder's project has an environment of its own, which the shell has entered
    asked in the shell: import hivescale
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.holders import called, of_project, proof
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Finding, Fix, Seat
from kalyx.core.model.steps import Install, RunWith, Step
from kalyx.core.packages.removals import requirement_with

if TYPE_CHECKING:
    from kalyx.core.imports.case import Missing

LOOKS_AT = "missing"

_SEATS = ("shell", "kernel", "notebook")


def look(case: Missing, machine: Machine) -> Finding | None:
    """Where the project's own environment has what is missing; where it has not, only next to a Python nobody chose."""
    own = _own(machine, case.seat, case.resolver.folder)
    resolver = machine.resolver(own) if own is not None else None
    if own is None or resolver is None or case.environment is None:
        return None
    location = resolver.resolve(case.missing).location
    has_it = location is not None and location.kind != "namespace"
    if not has_it and (_is_chosen(machine, case) or _is_of_the_library(case)):
        return None
    steps: list[Step] = []
    if has_it:
        assert location is not None
        evidence, _ = proof(case, machine, own, location)
        message = f"this project's own environment, {own.name}, has {case.missing};"
        message += f" {called(case.seat)} runs {case.here}"
    else:
        evidence = [Evidence.at(own.prefix, f"no {case.missing} in {own.name} either")]
        message = f"this project has an environment of its own, {own.name}, and {called(case.seat)} runs {case.here}"
        from kalyx.core.diagnosis.shared.brought import brought_by

        known = brought_by(machine, case.missing) if "." not in case.missing else None
        if known is not None and own.executable is not None:
            requirement = requirement_with(case.missing, known.name)
            steps.append(fixes.step(machine, Install(python=own.executable, requirements=[requirement])))
    evidence.append(Evidence.at(case.interpreter.executable, f"{called(case.seat)} runs {case.here}"))  # fmt: skip
    choices = _choices(case, machine, own)
    if steps:
        choices = [fix.called(f"install it in {own.name}, then {fix.message}").with_steps(*steps, *fix.steps)
                   for fix in choices]  # fmt: skip
    elif not has_it:
        choices = [fix.guessed() for fix in choices]  # it is not there either
    return Finding(
        cause="not-activated",
        certainty="proven" if has_it else "likely",
        message=message,
        evidence=evidence,
        fixes=choices,
    )


def _is_of_the_library(case: Missing) -> bool:
    """Whether a standard module of some version or system is missing: another environment does not have it either."""
    from kalyx.core.diagnosis.shared.standard import missing_standard  # only where an import fails
    from kalyx.core.imports.standard import systems_of

    return missing_standard(case) is not None or systems_of(case.missing) is not None


def look_at_seat(seat: Seat, machine: Machine) -> Finding | None:
    """Of a shell in a project's folder that starts a Python nobody chose."""
    own = _own(machine, seat, seat.folder or machine.reader.folder) if seat.seat == "shell" else None
    if own is None or seat.environment is None or seat.environment.kind != "installation":
        return None
    message = f"this project has an environment of its own, {own.name}, and the shell runs {seat.environment.name}"
    evidence = [Evidence.at(own.prefix, f"{own.name} is here")]
    return Finding.proven("not-activated", message, evidence, [_activate(machine, own)])


def _own(machine: Machine, seat: Seat, folder: str) -> Environment | None:
    """The sound environment of the folder's project that this seat does not run; None where there is none."""
    own = of_project(machine, folder) if seat.seat in _SEATS else None
    if own is None or (seat.environment is not None and seat.environment.key == own.key):
        return None
    return own if own.executable is not None and own.condition == "sound" else None


def _is_chosen(machine: Machine, case: Missing) -> bool:
    """Whether somebody chose what runs: an environment that is activated, or that a kernel names by its path."""
    assert case.environment is not None
    if case.seat.seat == "shell":
        return case.environment.kind != "installation"
    server = machine.server.interpreter
    return server is None or not case.interpreter.is_in_environment_of(server)


def _choices(case: Missing, machine: Machine, own: Environment) -> list[Fix]:
    if case.seat.seat != "shell":
        return [fixes.run_notebook_on(machine, own, case.notebook)]
    choices = [_activate(machine, own)]
    if case.runs and own.executable is not None:
        run = fixes.step(machine, RunWith(words=[own.executable, *case.runs], same_words=True))
        choices.insert(0, Fix(message=f"run it with the Python of {own.name}", steps=[run]))
    return choices


def _activate(machine: Machine, own: Environment) -> Fix:
    return Fix(message=f"activate {own.name}", steps=[fixes.activate(machine, own.prefix)])
