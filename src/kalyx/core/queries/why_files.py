"""The imports of a script, a notebook or a folder's files, each asked once."""

from __future__ import annotations

import sys
from collections.abc import Callable

from msgspec.structs import replace

from kalyx.core.diagnosis.causes import circular, no_parent_package, not_activated, shadowed
from kalyx.core.environments.reading import environment_of
from kalyx.core.imports import builtin
from kalyx.core.imports.names import ImportStatement
from kalyx.core.imports.sources import FoundImport, Read, read_file, read_folder
from kalyx.core.interpreters.reading import NotAnInterpreter, interpreter_at, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.invocation import Question, named_by
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, ImportAnswer, KalyxError, Seat, SourceLine, Unread
from kalyx.core.model.results import WhyAnswer
from kalyx.core.queries.why import as_asked, why_import
from kalyx.core.system.loopback import monotonic
from kalyx.core.text.quoting import line_for
from kalyx.core.text.visible import visible

Tell = Callable[[str], None]

# The limit for all imports together, as so many times that for each.
_WHOLE = 15


def why_files(machine: Machine, seat: Seat, path: str, question: Question, tell: Tell) -> WhyAnswer:
    """Every import of a script, a notebook or a folder's files in this seat, each module asked once.

    The project's own modules are asked as any other: where they are next to the file, from its folder.
    """
    reader = machine.reader
    reads = read_folder(reader, path) if reader.is_folder(path) else [read_file(reader, path)]
    is_script = not reader.is_folder(path) and not path.endswith(".ipynb")
    if is_script and question.command is None and reads[0].is_archive:
        line = line_for(["python", path], "cmd" if reader.system == "windows" else "sh")
        question = replace(question, command=line)
    # For a link to a script the folder of its target is the first entry; a notebook runs in its own folder.
    ends = reader.hops(path)[-1] if is_script else path
    folder = path if reader.is_folder(path) else reader.parent(ends)
    seat = replace(seat, folder=folder)
    answer = WhyAnswer(target=as_asked(machine, seat, question), imports=[])
    named, by_line = question.named, [read for read in reads if read.by_line]
    notes = [note for read in by_line for note in _by_the_seats_python(machine, seat, read, named)]
    answer.unread = [Unread(path=source.path, reason=source.problem) for source in reads if source.problem]
    if not reader.is_folder(path) and reads[0].problem:
        raise KalyxError(f"{visible(path)}: {visible(reads[0].problem)}")
    is_run_itself = is_script and "-m" not in (question.command or "").split()
    by_statement: dict[tuple[str, str, tuple[str, ...]], list[FoundImport]] = {}
    for imported in (asked for read in reads for asked in read.imports):
        if imported.level:
            result = _relative(machine, imported, ends if imported.path == path else imported.path, is_run_itself)
            if isinstance(result, ImportAnswer):
                answer.imports.append(result)
                continue
            key = result
        else:
            beside = reader.parent(ends if imported.path == path else imported.path)
            key = (beside if _lies_in(machine, beside, imported.top) else folder, imported.module, imported.names)
        by_statement.setdefault(key, []).append(imported)
    if is_script:
        question = replace(question, script=path)
    _ask_each(machine, answer, seat, path, by_statement, question, tell)
    _judge_ways(answer, by_statement)
    answer.notes = notes + [note for read in reads for note in _installs(machine, seat, read)]
    if not answer.imports and not answer.unread:
        answer.notes.append(f"{reader.name(path)} imports nothing, or only modules that are part of the interpreter")
    if is_script and (not named or seat.seat == "shell"):
        answer.notes += _started_as_command(machine, seat, path)
    unused = not_activated.look_at_seat(seat, machine)
    if unused is not None and all(item.outcome == "imports" for item in answer.imports):
        answer.notes.insert(0, f"{unused.message}: {unused.fixes[0].steps[0].line}")
    return answer


def _by_the_seats_python(machine: Machine, seat: Seat, read: Read, named: bool) -> list[str]:
    """Take the imports line by line of a file that the seat's Python takes, and that of Kalyx does not; with a note.

    Where it cannot be asked, a Python of another version may take it.
    """
    interpreter = seat.interpreter
    if interpreter is None:
        return []
    own = f"{sys.version_info[0]}.{sys.version_info[1]}"
    takes = interpreter.minor.rstrip("t") != own
    if machine.runner is not None and machine.objection(interpreter, named_by(seat, machine, named)) is None:
        from kalyx.core.interpreters.asking import parsed_by  # few files need that

        answer = parsed_by(machine.runner, interpreter.executable, read.path)
        takes = answer.parses if answer is not None else takes
    if not takes:
        return []
    note = f"{machine.reader.name(read.path)} was read line by line: the Python that runs Kalyx does not take it"
    note += f" ({read.problem})"
    read.imports, read.problem = read.by_line, None
    return [note]


def _ask_each(
    machine: Machine,
    answer: WhyAnswer,
    seat: Seat,
    path: str,
    by_statement: dict[tuple[str, str, tuple[str, ...]], list[FoundImport]],
    question: Question,
    tell: Tell,
) -> None:
    """Each import asked from the folder that it is asked in, until the time is up."""
    until = monotonic() + _WHOLE * machine.seconds
    for number, ((folder, module, names), asked) in enumerate(by_statement.items()):
        if monotonic() > until:
            left = f"{len(by_statement) - number} of its {len(by_statement)} imports were not asked"
            answer.unread.append(
                Unread(path=path, reason=f"{left}: the time limit was reached; name fewer files, or a longer --timeout")
            )
            break
        if module == "__future__":
            continue
        if seat.interpreter is not None and builtin.is_builtin(module.split(".")[0], seat.interpreter.version):
            continue
        tell(module)
        names = () if names == ("*",) else names
        statement = f"from {module} import {', '.join(names)}" if names else f"import {module}"
        stands = seat if folder == seat.folder else replace(seat, folder=folder)
        result = why_import(machine, stands, ImportStatement(statement, module, names), question)
        result.statement = asked[0].statement
        result.asked_at = [SourceLine(path=imported.path, line=imported.line, cell=imported.cell) for imported in asked]
        result.guarded = all(imported.guarded for imported in asked)
        if result.outcome == "imports" and result.found_at in [imported.path for imported in asked]:
            is_script = not result.guarded and not result.found_at.endswith("__init__.py")
            if result.hides:
                result.findings.insert(0, shadowed.by_itself(result, machine))
            elif is_script and seat.interpreter is not None:
                result.findings.insert(0, circular.by_itself(machine, seat.interpreter, result))
        answer.imports.append(result)


def _started_as_command(machine: Machine, seat: Seat, path: str) -> list[str]:
    """A note where a script that is run by its name starts another interpreter than this seat does."""
    reader = machine.reader
    first_line = interpreter_of_script(reader, path)
    if first_line.path is None or seat.interpreter is None or not reader.may_run(path):
        return []
    try:
        own = read_interpreter(reader, first_line.path)
    except NotAnInterpreter as problem:
        return [f"run by its name, it does not start: {visible(first_line.line)} ({visible(problem.reason)})"]
    if own.prefix == seat.interpreter.prefix and own.version == seat.interpreter.version:
        return []
    line = machine.line(["kalyx", "why", path, "--in", first_line.path])
    return [f"run by its name, it starts {own.executable} ({own.version}): {line}"]


def _relative(
    machine: Machine, asked: FoundImport, path: str, is_script: bool
) -> ImportAnswer | tuple[str, str, tuple[str, ...]]:
    """What an import by dots means: of a script that is run by itself nothing; else the same by its whole name."""
    above, dotted = no_parent_package.package_of(machine.reader, path)
    depth = len((dotted or "").split(".")) - (not path.endswith("__init__.py"))
    if is_script or dotted is None or asked.level > depth:
        seen = [Evidence.at(path, asked.statement, asked.line)]
        shell = machine.shell_seat.interpreter
        python = shell.executable if shell is not None else "python"
        if is_script or dotted is None:
            finding = no_parent_package.finding(machine, path, seen, by_name=python)
        else:
            finding = no_parent_package.beyond(machine, path, asked.statement, asked.level, seen, by_name=python)
        return ImportAnswer(
            statement=asked.statement,
            module=asked.module,
            outcome="fails",
            findings=[finding],
            asked_at=[SourceLine(path=asked.path, line=asked.line, cell=asked.cell)],
            guarded=asked.guarded,
        )
    words = dotted.split(".")
    if not path.endswith("__init__.py"):
        words.pop()
    words = words[: len(words) - asked.level + 1]
    return above, ".".join([*words, *([asked.module] if asked.module else [])]), asked.names


def _judge_ways(answer: WhyAnswer, by_statement: dict[tuple[str, str, tuple[str, ...]], list[FoundImport]]) -> None:
    """Of imports that stand in for each other one must work: where none does, none of them is guarded."""
    imports = [imported for asked in by_statement.values() for imported in asked]
    tried_by = {(imported.path, imported.line): imported.either for imported in imports}
    groups: dict[tuple[str, int], list[ImportAnswer]] = {}
    for result in answer.imports:
        for location in result.asked_at:
            line = tried_by.get((location.path, location.line or 0))
            if line is not None:
                groups.setdefault((location.path, line), []).append(result)
    for group in groups.values():
        if all(answer.outcome == "fails" for answer in group):
            for item in group:
                item.guarded = False


def _lies_in(machine: Machine, folder: str, top: str) -> bool:
    """Whether a module of the project itself is in the folder of the file that imports it."""
    reader = machine.reader
    return reader.is_file(reader.join(folder, top + ".py")) or reader.is_folder(reader.join(folder, top))


def _installs(machine: Machine, seat: Seat, read: Read) -> list[str]:
    """Cells that install: where the line reaches another environment than the notebook runs in, that is said."""
    notes = []
    for cell, line, words in read.installs:
        where = f"{machine.reader.name(read.path)}, cell {cell}, line {line}"
        if words.startswith("%"):
            notes.append(f"{where}: {words} installs into the kernel's own environment; restart the kernel after it")
            continue
        word = words[1:].split()[0]
        path = next(machine.reader.lookup(word, seat.variables.get("PATH") or None), None)
        if path is None or seat.interpreter is None or seat.environment is None:
            continue
        other = interpreter_at(machine.reader, interpreter_of_script(machine.reader, path).path or path)
        if other is not None and not other.is_in_environment_of(seat.interpreter):
            own = environment_of(machine.reader, other).target
            notes.append(f"{where}: {words} installs into {own}, and the notebook runs in {seat.environment.target}")
    return notes
