"""From a path to the interpreter that it starts, and from that to a seat, for every kind of seat.

The module of a kind of seat gives the word or path; this module follows it.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from kalyx.core.environments.reading import environment_of
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.model.records import Interpreter, Part, PartRole, Seat, SeatKind
from kalyx.core.system import Reader


def starting(reader: Reader, path: str, role: PartRole = "python", word: str = "") -> Part:
    """What the executable at ``path`` starts, hop by hop; else the reason, and whether it is not known."""
    try:
        return running(reader, read_interpreter(reader, path), role, word, path)
    except NotAnInterpreter as refusal:
        return Part(role=role, word=word or path, path=path, links=refusal.links, reason=refusal.reason,
                    undecided=not refusal.dead)  # fmt: skip


def running(
    reader: Reader, interpreter: Interpreter, role: PartRole = "python", word: str = "", path: str = ""
) -> Part:
    """An interpreter that is known already, as a part."""
    path = path or interpreter.executable
    return Part(role=role, word=word or path, path=path, links=interpreter.links, interpreter=interpreter,
                environment=environment_of(reader, interpreter))  # fmt: skip


def starting_script(reader: Reader, path: str, role: PartRole, word: str) -> Part:
    """What a program with a first line, or a copied starter, is run by."""
    line = interpreter_of_script(reader, path)
    links = list(dict.fromkeys([path, line.script or path]))
    if line.path is None:
        return Part(role=role, word=word, path=path, links=links, reason=line.reason, undecided=line.is_unknown)
    runs = starting(reader, line.path)
    if runs.interpreter is None:
        reason = f"its first line names {line.path}: {runs.reason}"
        return Part(role=role, word=word, path=path, links=links, reason=reason, undecided=runs.undecided)
    links = list(dict.fromkeys([*links, *runs.links]))
    return replace(runs, role=role, word=word, path=path, links=links, reason=None)


def first_that_starts(reader: Reader, paths: Iterable[str]) -> Part | None:
    """Of several places for one interpreter the first that starts; else the first that is there; None: none is."""
    first = None
    for path in paths:
        if reader.may_be_there(path):
            part = starting(reader, path)
            if part.interpreter is not None:
                return part
            first = first or part
    return first


def seat_from(
    kind: SeatKind,
    name: str,
    main: Part,
    folder: str | None,
    parts: Iterable[Part] = (),
    *,
    source: str | None = None,
) -> Seat:
    """A seat: its own interpreter is that of its main part. ``parts``: its words; ``source``: where it is written."""
    return Seat(
        seat=kind,
        name=name,
        interpreter=main.interpreter,
        environment=main.environment,
        reason=main.reason if main.interpreter is None else None,
        undecided=main.undecided if main.interpreter is None else False,
        folder=folder,
        parts=list(parts),
        source=source,
    )


def silent_seat(
    kind: SeatKind, name: str, reason: str, folder: str | None, *, undecided: bool = False, source: str | None = None
) -> Seat:
    """A seat that starts nothing, or of which that is not known (``undecided``), with the reason."""
    main = Part(role="python", word=name, reason=reason, undecided=undecided)
    return seat_from(kind, name, main, folder, source=source)
