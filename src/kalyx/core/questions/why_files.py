"""The imports of a script, a notebook or a folder's files, each asked once."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from kalyx.core.answers import WhyAnswer
from kalyx.core.doors.loopback import monotonic
from kalyx.core.imports import builtin
from kalyx.core.imports.names import Wanted
from kalyx.core.imports.sources import Asked, Read, read_file, read_folder
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.machine import Machine
from kalyx.core.questions.why import why_import
from kalyx.core.records import KalyxError, Place, Seat, Unread
from kalyx.core.words.visible import visible

Tell = Callable[[str], None]

# The limit for all imports together, as so many times that for each.
_WHOLE = 15


def why_files(machine: Machine, seat: Seat, path: str, *, named: bool, tell: Tell) -> WhyAnswer:
    """Every import of a script, a notebook or a folder's files in this seat, each module asked once."""
    facts = machine.facts
    reads = read_folder(facts, path) if facts.is_folder(path) else [read_file(facts, path)]
    # Of a link to a script the folder of its target is the first entry; a notebook stands where it is opened.
    ends = facts.hops(path)[-1] if path.endswith(".py") else path
    folder = path if facts.is_folder(path) else facts.parent(ends)
    seat = replace(seat, folder=folder)
    answer = WhyAnswer(target=seat, imports=[])
    answer.unread = [Unread(path=one.path, reason=one.problem) for one in reads if one.problem]
    if not facts.is_folder(path) and reads[0].problem:
        raise KalyxError(f"{visible(path)}: {visible(reads[0].problem)}")
    by_statement: dict[tuple[str, tuple[str, ...]], list[Asked]] = {}
    for one in (asked for read in reads for asked in read.imports):
        by_statement.setdefault((one.module, one.names), []).append(one)
    until = monotonic() + _WHOLE * machine.seconds
    for number, ((module, names), asked) in enumerate(by_statement.items()):
        if monotonic() > until:
            left = f"{len(by_statement) - number} of its {len(by_statement)} imports were not asked"
            answer.unread.append(
                Unread(path=path, reason=f"{left}: the time was up; name fewer, or a longer --timeout")
            )
            break
        beside = [ends if one.path == path else one.path for one in asked]
        if module == "__future__" or _lies_beside(machine, module, beside):
            continue
        if seat.interpreter is not None and builtin.is_builtin(module.split(".")[0], seat.interpreter.version):
            continue
        tell(module)
        names = () if names == ("*",) else names
        found = why_import(machine, seat, Wanted(asked[0].statement, module, names), named=named)
        found.asked_at = [Place(path=one.path, line=one.line, cell=one.cell) for one in asked]
        found.guarded = all(one.guarded for one in asked)
        answer.imports.append(found)
    answer.notes = [note for read in reads for note in _installs(machine, seat, read)]
    return answer


def _lies_beside(machine: Machine, module: str, paths: list[str]) -> bool:
    """A module of the project itself, beside every file that imports it."""
    facts, top = machine.facts, module.split(".")[0]
    return all(
        facts.is_file(facts.join(facts.parent(path), top + ".py"))
        or facts.is_folder(facts.join(facts.parent(path), top))
        for path in paths
    )


def _installs(machine: Machine, seat: Seat, read: Read) -> list[str]:
    """Cells that install: where the line reaches another environment than the notebook runs in, that is said."""
    notes = []
    for cell, line, words in read.installs:
        where = f"{machine.facts.name(read.path)}, cell {cell}, line {line}"
        if words.startswith("%"):
            notes.append(f"{where}: {words} fills the kernel's own environment; restart the kernel after it")
            continue
        word = words[1:].split()[0]
        path = next(machine.facts.lookup(word, seat.variables.get("PATH") or None), None)
        prefix = None
        if path is not None:
            told = interpreter_of_script(machine.facts, path)
            try:
                prefix = read_interpreter(machine.facts, told.path or path).prefix
            except NotAnInterpreter:
                prefix = None
        own = seat.environment.prefix if seat.environment is not None else None
        if prefix is not None and own is not None and prefix != own:
            notes.append(f"{where}: {words} fills {prefix}, and the notebook runs in {own}")
    return notes
