"""A command on PATH, and the interpreter behind it."""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.model.records import Seat
from kalyx.core.seats.build import seat_from, starting, starting_script
from kalyx.core.system import Reader


def program_seat(reader: Reader, word: str) -> Seat | None:
    """What a command starts: an interpreter, or a program that one runs. None: it is not on PATH."""
    path = next(reader.lookup(word), None)
    if path is None:
        return None
    part = starting(reader, path, "program", word)
    if part.interpreter is None:
        part = starting_script(reader, path, "program", word)
    seat = seat_from("program", word, part, reader.folder, source=path)
    return replace(seat, via=path if part.interpreter is not None else None)
