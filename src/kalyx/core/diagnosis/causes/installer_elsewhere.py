"""The pip that this seat's command line finds installs into another interpreter than the one that runs.

How to tell: the first line of the pip script names another interpreter than the one that python starts.
Fix: install with python -m pip, which installs into the interpreter that runs.

Example:
    PATH finds python in orchard and pip in heath
    asked about the shell

Not this (both are in one environment):
    PATH finds python in orchard and pip in orchard
    asked about the shell
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec.structs import replace

from kalyx.core.diagnosis import fixes
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Seat

if TYPE_CHECKING:
    from kalyx.core.imports.case import Missing


LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    """Of an import in the shell: where what is missing is in the environment that its installer fills."""
    finding = look_at_seat(case.seat, machine) if case.missing_is_asked and case.seat.seat == "shell" else None
    if finding is None:
        return None
    part = next(part for part in case.seat.parts if part.role == "installer" and part.word == "pip")
    resolver = machine.resolver(part.environment) if part.environment is not None else None
    location = resolver.resolve(case.missing).location if resolver is not None else None
    owner = machine.distribution_of_module(case.missing, part.environment.site_packages) if part.environment else None
    if location is None or owner is None:
        return None
    there = Evidence.at(location.path, f"{case.missing} is there")
    return replace(
        finding,
        message=f"{finding.message}: {case.missing} was put there",
        evidence=[*finding.evidence, there],
        fixes=[fixes.install(machine, case.interpreter, owner.name)],
    )


def look_at_seat(seat: Seat, machine: Machine) -> Finding | None:
    if seat.environment is None or seat.interpreter is None:
        return None
    for part in seat.parts:
        if part.role != "installer" or part.word != "pip" or part.path is None:
            continue
        if part.environment is None and interpreter_of_script(machine.reader, part.path).path is None:
            continue  # a program that names no interpreter may fill any
        if part.environment is not None and part.environment.key == seat.environment.key:
            continue
        into = part.environment.name if part.environment else "no interpreter that starts"
        reason = f" ({part.reason})" if part.reason else ""
        argv = [seat.interpreter.executable, "-m", "pip", "install"]
        message = f"{part.word} installs into {into}{reason}, but python runs {seat.environment.name}"
        evidence = [
            Evidence.at(part.path, f"{part.word} is this file"),
            Evidence.at(seat.interpreter.executable, "python is this file"),
        ]
        offered = [
            Fix(
                message="install through the interpreter itself",
                steps=[fixes.by_hand("", f"{machine.line(argv)} NAME")],
            )
        ]
        return Finding.proven("installer-elsewhere", message, evidence, offered)
    return None
