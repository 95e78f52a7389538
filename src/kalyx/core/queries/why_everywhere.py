"""One module in every seat of the folder and every environment of the machine."""

from __future__ import annotations

import re
from collections.abc import Callable

import msgspec
from msgspec.structs import replace

from kalyx.core.imports.names import ImportStatement
from kalyx.core.invocation import UNNAMED, invocation_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import ImportAnswer, Seat
from kalyx.core.model.results import SeatImports, WhyAnswer
from kalyx.core.queries.here import look_here
from kalyx.core.queries.why import as_asked, why_import
from kalyx.core.targets import seat_of_path

Tell = Callable[[str], None]


def why_everywhere(machine: Machine, wanted: ImportStatement, *, tell: Tell) -> WhyAnswer:
    """The same import in every seat of this folder, and by reading alone in every environment that is known.

    No environment that was only found is started, because that would run its start-up code.
    """
    answer = WhyAnswer(target=machine.shell_seat, imports=[], module=wanted.module)
    seats = [
        seat for seat in look_here(machine, whole=True).seats if seat.parts or seat.interpreter is not None or seat.via
    ]
    seen = {seat.environment.key for seat in seats if seat.environment is not None}
    quiet, merely_found = Machine(machine.reader), []
    for environment in machine.environments.everywhere:
        if environment.key not in seen and environment.executable is not None:
            # Of a second version of Python in one prefix, the program tells which is meant.
            is_second = environment.key != machine.reader.real(environment.prefix)
            merely_found.append(seat_of_path(quiet, environment.executable if is_second else environment.prefix))
    for seat in merely_found:
        result = why_import(quiet, seat, wanted, UNNAMED)
        answer.seats.append(SeatImports(target=as_asked(quiet, seat, UNNAMED), imports=[result]))
    others, answer.seats = answer.seats, []
    known: dict[object, tuple[Seat, ImportAnswer]] = {}
    for seat in seats:
        if seat.seat == "editor" and seat.interpreter is None:
            continue
        key = _starts_as(seat, machine)
        shared = _as_told_of(seat, *known[key]) if key is not None and key in known else None
        if shared is None:
            tell(seat.name)
        result = shared or why_import(machine, seat, wanted, UNNAMED)
        known.setdefault(key or id(seat), (seat, result))
        answer.seats.append(SeatImports(target=as_asked(machine, seat, UNNAMED), imports=[result]))
    answer.seats += others
    return answer


def _starts_as(seat: Seat, machine: Machine) -> object:
    """What seats have in common that have the same answer; None for one that stands for itself."""
    if seat.interpreter is None or any(finding.cause == "name-misleads" for finding in seat.findings):
        return None
    started = invocation_of(seat, machine, None)
    variables = tuple(sorted(started.variables.items()))
    return seat.seat, seat.interpreter.executable, started.first, started.changes, started.flags, variables, seat.folder


def _as_told_of(seat: Seat, other: Seat, answer: ImportAnswer) -> ImportAnswer | None:
    """The answer of a seat that starts the same, with this seat's name in it; None where more is about the other."""
    named = re.compile(rf"\b{re.escape(f'{other.seat} {other.name}')}(?![\w.-])")
    findings = [
        replace(finding, message=named.sub(lambda _: f"{seat.seat} {seat.name}", finding.message))
        for finding in answer.findings
    ]
    told = msgspec.json.encode(findings).decode("utf-8", "replace")
    is_about_it = re.search(rf"(?<![\w.-]){re.escape(other.name)}(?![\w.-])", told) is not None
    return replace(answer, findings=findings) if not is_about_it or seat.name == other.name else None
