"""The module imports when run; only the editor's type checker searches another environment.

How to tell: the module imports in the interpreter that runs; the checker's settings name another interpreter.
Fix: set the checker's interpreter to the one that runs.

Example:
    the editor checks with orchard and runs heath, which has hivescale 2.1
    asked about the checker: import hivescale

Not this (neither has it):
    the editor checks with orchard and runs heath
    asked about the checker: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.imports.case import Case, Missing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Seat

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    if not case.missing_is_asked or not _is_checker(case.seat):
        return None
    for seat in _that_run(case, machine):
        assert seat.environment is not None and seat.interpreter is not None
        resolver = machine.resolver(seat.environment)
        location = resolver.resolve(case.missing).location if resolver is not None else None
        if location is None or location.kind in ("namespace", "builtin"):
            continue
        source = case.seat.source or ""
        looks = case.environment.name if case.environment is not None else "no environment"
        called = "the shell" if seat.seat == "shell" else f"{seat.seat} {seat.name}"
        step = fixes.by_hand(f"in {source}, line {case.seat.line or 1}, write {seat.interpreter.executable}")
        message = f"{case.missing} imports when run ({called}); only the checker looks in {looks}"
        evidence = [
            Evidence.at(source, f"the checker's interpreter is chosen here: {case.seat.parts[0].word}", case.seat.line),
            Evidence.at(location.path, f"{case.missing} is in {seat.environment.name}"),
        ]
        offered = [Fix(message="let the checker look where the code runs", steps=[step], changes=[source])]
        return Finding.proven("checker-only", message, evidence, offered)
    return None


def _is_checker(seat: Seat) -> bool:
    return seat.seat == "editor" and bool(seat.parts) and seat.parts[0].role.startswith("check")


def _that_run(case: Case, machine: Machine) -> list[Seat]:
    """The seats of the same folder that run code: the editor's own, then the shell."""
    from kalyx.core.seats.editor import editor_seats

    own = case.environment.key if case.environment is not None else ""
    seats = [
        seat
        for seat in editor_seats(machine.reader, machine.reader.folder)
        if seat.parts and seat.parts[0].role == "run"
    ]
    return [
        seat
        for seat in [*seats, machine.shell_seat]
        if seat.environment is not None and seat.interpreter is not None and seat.environment.key != own
    ]
