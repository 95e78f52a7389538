"""The larger questions of ``why``: a file's imports, one module everywhere, a program, a traceback."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from kalyx.core.answers import SeatImports, WhyAnswer
from kalyx.core.environments.reading import view_of
from kalyx.core.findings.conditions import first_line_dead, not_the_environment, program_absent
from kalyx.core.imports import builtin
from kalyx.core.imports.names import Wanted
from kalyx.core.imports.sources import Asked, Read, read_file, read_folder
from kalyx.core.imports.traceback import prefix_of, read_traceback
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.machine import Machine
from kalyx.core.questions.here import look_here
from kalyx.core.questions.why import why_import
from kalyx.core.records import ImportAnswer, KalyxError, Place, Seat, Unread
from kalyx.core.targets import resolve, seat_of_path
from kalyx.core.ways import FROM_TEXT, kernel_of, way_of
from kalyx.core.words.visible import visible

Tell = Callable[[str], None]


def why_files(machine: Machine, seat: Seat, path: str, *, named: bool, tell: Tell) -> WhyAnswer:
    """Every import of a script, a notebook or a folder's files in this seat, each module asked once."""
    facts = machine.facts
    reads = read_folder(facts, path) if facts.is_folder(path) else [read_file(facts, path)]
    answer = WhyAnswer(target=seat, imports=[])
    answer.unread = [Unread(path=one.path, reason=one.problem) for one in reads if one.problem]
    if not facts.is_folder(path) and reads[0].problem:
        raise KalyxError(f"{visible(path)}: {visible(reads[0].problem)}")
    folder = path if facts.is_folder(path) else facts.parent(path)
    seat.folder = folder
    by_statement: dict[tuple[str, tuple[str, ...]], list[Asked]] = {}
    for one in (asked for read in reads for asked in read.imports):
        by_statement.setdefault((one.module, one.names), []).append(one)
    for (module, names), asked in by_statement.items():
        if module == "__future__" or _lies_beside(machine, module, [one.path for one in asked]):
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


def why_everywhere(machine: Machine, wanted: Wanted, *, tell: Tell) -> WhyAnswer:
    """The same import in every seat of this folder, and by reading alone in every environment that is known.

    No environment that was merely found is started: its start-up code is not ours to run.
    """
    answer = WhyAnswer(target=machine.shell_seat, imports=[], module=wanted.module)
    seats = [seat for seat in look_here(machine).seats if seat.parts or seat.interpreter is not None or seat.via]
    seen = {seat.environment.key for seat in seats if seat.environment is not None}
    quiet, merely_found = Machine(machine.facts), []
    for environment in machine.all_environments:
        if environment.key not in seen and environment.executable is not None:
            merely_found.append(seat_of_path(quiet, environment.prefix))
    for seat in merely_found:
        found = why_import(quiet, seat, wanted, named=False)
        answer.seats.append(SeatImports(target=seat, imports=[found]))
    others, answer.seats = answer.seats, []
    known: dict[object, tuple[Seat, ImportAnswer]] = {}
    for seat in seats:
        if seat.seat == "editor" and seat.interpreter is None:
            continue
        key = _starts_as(seat, machine)
        if key is None or key not in known:
            tell(seat.name)
            found = why_import(machine, seat, wanted, named=False)
            known[key or id(seat)] = seat, found
        else:
            found = _said_of(seat, *known[key])
        answer.seats.append(SeatImports(target=seat, imports=[found]))
    answer.seats += others
    return answer


def _starts_as(seat: Seat, machine: Machine) -> object:
    """What seats have in common that have the same answer; None for one that stands for itself."""
    kernel = kernel_of(seat, machine)
    if seat.interpreter is None or (kernel is not None and "name-misleads" in kernel.conditions):
        return None
    way = way_of(seat, machine, None)
    variables = tuple(sorted(way.variables.items()))
    return seat.seat, seat.interpreter.executable, way.first, way.flags, variables, seat.folder


def _said_of(seat: Seat, other: Seat, answer: ImportAnswer) -> ImportAnswer:
    """The answer of a seat that starts the same, with this one's name in it."""
    one, two = (f"{each.seat} {each.name}" for each in (other, seat))
    findings = [replace(finding, says=finding.says.replace(one, two)) for finding in answer.findings]
    return replace(answer, findings=findings)


def why_traceback(machine: Machine, text: str, seat: Seat, *, named: bool, tell: Tell) -> WhyAnswer:
    """The error at the end of a text, explained where its frames lie. Raises KalyxError where no error is in it."""
    told = read_traceback(text)
    if told.type is None:
        raise KalyxError("no error is in the text given: a traceback ends in a line like ModuleNotFoundError: ...")
    prefix = prefix_of(machine.facts, told) if not named else None
    notes = []
    if prefix is not None:
        try:
            found = resolve(machine, prefix)
            own = seat.environment.key if seat.environment is not None else None
            if found.environment is not None and found.environment.key == own:
                notes.append(f"its frames lie in {prefix}, which this seat runs")
            elif found.interpreter is not None:
                seat = found
                # A stranger's text names no target: it says where to read, and not what to start.
                seat.via = FROM_TEXT
                notes.append(f"its frames lie in {prefix}")
        except KalyxError:
            notes.append(f"its frames lie in {prefix}, which is not on this machine; asked in {seat.name} instead")
    answer = WhyAnswer(target=seat, imports=[], notes=notes)
    first = next((path for path, _ in told.frames if machine.facts.is_file(path)), None)
    if told.module is not None:
        if first is not None and not _inside_packages(machine, first):
            seat.folder = machine.facts.parent(first)
        names = (told.name,) if told.name is not None else ()
        statement = f"from {told.module} import {told.name}" if names else f"import {told.module}"
        tell(told.module)
        answer.imports = [why_import(machine, seat, Wanted(statement, told.module, names), named=named)]
        return answer
    last = told.frames[-1][0] if told.frames else ""
    answer.findings = [not_the_environment.finding(told, not _inside_packages(machine, last))]
    return answer


def _inside_packages(machine: Machine, path: str) -> bool:
    words = path.replace("\\", "/").split("/")
    return any(
        word in ("site-packages", "dist-packages") or word.startswith(("python2.", "python3.")) for word in words
    )


def why_program(machine: Machine, word: str) -> WhyAnswer:
    """Why a command is not found, or which interpreter its first line starts."""
    facts = machine.facts
    found = list(dict.fromkeys(facts.lookup(word)))
    if not found:
        return WhyAnswer(target=machine.shell_seat, imports=[], findings=[program_absent.finding(machine, word)])
    seat = resolve(machine, f"program:{word}")
    answer = WhyAnswer(target=seat, imports=[])
    answer.notes = [f"{word} is {found[0]}"] + [f"after it on PATH comes {other}" for other in found[1:4]]
    script = interpreter_of_script(facts, found[0])
    if seat.interpreter is None and script.path is None and not script.line:
        answer.notes.append(f"{word} is {script.reason or 'a program of its own'}: it starts no Python")
    elif seat.interpreter is None:
        answer.findings = [
            first_line_dead.of_nothing(machine, word, found[0], seat.reason or "it starts no interpreter")
        ]
    elif script.path is not None:
        lies = facts.parent(facts.parent(found[0]))
        view = view_of(facts, seat.interpreter)
        if facts.is_file(facts.join(lies, "pyvenv.cfg")) and facts.real(lies) != view.environment.key:
            answer.findings = [first_line_dead.of_another(machine, word, found[0], lies, view.environment.prefix)]
    return answer
