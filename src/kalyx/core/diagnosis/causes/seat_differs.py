"""The module imports in another of the user's seats; this seat starts another interpreter.

How to tell: the same import works in another of your seats.
Fix: use that seat's interpreter, or install the package for this one.

Example:
    orchard has hivescale 2.1
    kernel heath starts /home/keeper/heath/bin/python
    kernel orchard starts /home/keeper/orchard/bin/python
    asked in kernel:heath: import hivescale

Not this (an environment has it that no seat uses):
    orchard has hivescale 2.1
    kernel heath starts /home/keeper/heath/bin/python
    asked in kernel:heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared.holders import called, holders, proof, propose, ways_out
from kalyx.core.imports.case import Missing
from kalyx.core.kernels.specs import SPEC_FILE, argv_line
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Seat

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    if case.seat.seat == "path" or case.environment is None:
        return None
    by_key = {environment.key: (environment, location) for environment, location in holders(case, machine)}
    for name, key, runs in _other_seats(case.seat, machine):
        if key in by_key:
            environment, location = by_key[key]
            propose(case, machine, "seat-differs", environment, location)
            seen, requirement = proof(case, machine, environment, location)
            message = (
                f"{case.missing} is in {environment.name}, which {name} runs;"
                f" {called(case.seat)} runs {case.environment.name}"
            )
            offered = ways_out(case, machine, environment, requirement)
            return Finding.proven("seat-differs", message, [runs, *seen], offered)
    return None


def _other_seats(seat: Seat, machine: Machine) -> list[tuple[str, str, Evidence]]:
    """The user's other seats: name, environment key, and what says so."""
    reader = machine.reader
    other_seats = []
    shell = machine.shell_seat
    if seat.seat != "shell" and shell.environment is not None and shell.interpreter is not None:
        path = shell.interpreter.executable
        other_seats.append(("the shell", shell.environment.key, Evidence.at(path, "python on PATH")))
    for kernel in machine.kernels:
        if kernel.environment is None or "hidden" in kernel.conditions or kernel.id == seat.kernel:
            continue
        path = reader.join(kernel.folder, SPEC_FILE)
        fact = f"kernel {kernel.id} starts {kernel.command[0]}"
        other_seats.append(
            (
                f"kernel {kernel.id}",
                kernel.environment.key,
                Evidence.at(path, fact, argv_line(reader, kernel)),
            )
        )
    return other_seats
