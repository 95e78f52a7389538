"""One module in every seat of the folder and every environment of the machine."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from kalyx.core.imports.names import ImportStatement
from kalyx.core.invocation import invocation_of
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
    for environment in machine.all_environments:
        if environment.key not in seen and environment.executable is not None:
            # Of a second version of Python in one prefix, the program tells which is meant.
            is_second = environment.key != machine.reader.real(environment.prefix)
            merely_found.append(seat_of_path(quiet, environment.executable if is_second else environment.prefix))
    for seat in merely_found:
        result = why_import(quiet, seat, wanted, named=False)
        answer.seats.append(SeatImports(target=as_asked(quiet, seat, named=False), imports=[result]))
    others, answer.seats = answer.seats, []
    known: dict[object, tuple[Seat, ImportAnswer]] = {}
    for seat in seats:
        if seat.seat == "editor" and seat.interpreter is None:
            continue
        key = _starts_as(seat, machine)
        if key is None or key not in known:
            tell(seat.name)
            result = why_import(machine, seat, wanted, named=False)
            known[key or id(seat)] = seat, result
        else:
            result = _said_of(seat, *known[key])
        answer.seats.append(SeatImports(target=as_asked(machine, seat, named=False), imports=[result]))
    answer.seats += others
    return answer


def _starts_as(seat: Seat, machine: Machine) -> object:
    """What seats have in common that have the same answer; None for one that stands for itself."""
    if seat.interpreter is None or any(finding.cause == "name-misleads" for finding in seat.findings):
        return None
    started = invocation_of(seat, machine, None)
    variables = tuple(sorted(started.variables.items()))
    return seat.seat, seat.interpreter.executable, started.first, started.changes, started.flags, variables, seat.folder


def _said_of(seat: Seat, other: Seat, answer: ImportAnswer) -> ImportAnswer:
    """The answer of a seat that starts the same, with this one's name in it."""
    item, two = (f"{each.seat} {each.name}" for each in (other, seat))
    findings = [replace(finding, message=finding.message.replace(item, two)) for finding in answer.findings]
    return replace(answer, findings=findings)
