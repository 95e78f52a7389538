"""A traceback or an error's text: which interpreter it comes from, and the cause of the error."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from kalyx.core.diagnosis.causes import library_missing, library_too_old, no_parent_package
from kalyx.core.diagnosis.conditions import not_the_environment
from kalyx.core.diagnosis.shared.brought import brought_by, modules_of_listed
from kalyx.core.imports.names import ImportStatement, parse_wanted
from kalyx.core.imports.traceback import ErrorReport, prefix_of, read_traceback
from kalyx.core.invocation import Question
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding, ImportAnswer, KalyxError, Seat
from kalyx.core.model.results import WhyAnswer
from kalyx.core.queries.why import as_asked, why_import
from kalyx.core.queries.why_program import why_program
from kalyx.core.targets import resolve

Tell = Callable[[str], None]


def why_traceback(machine: Machine, text: str, seat: Seat, question: Question, tell: Tell) -> WhyAnswer:
    """The error at the end of a text, explained where its frames are. Raises KalyxError where no error is in it."""
    parsed = read_traceback(text)
    if parsed.type is None:
        raise KalyxError("the text given holds no error: a traceback ends in a line like ModuleNotFoundError: ...")
    if parsed.program is not None:
        return why_program(machine, parsed.program, tell=tell)
    seat, notes = _asked_in(machine, parsed, seat, question.named)
    answer = WhyAnswer(target=seat, imports=[], notes=notes)
    # A pasted error: the machine may be another by now.
    is_past = question.state is None and question.command is None

    def asked(wanted: ImportStatement) -> ImportAnswer:
        tell(wanted.module)
        result = why_import(machine, seat, wanted, question)
        if result.outcome == "imports" and is_past:
            notes.append(f"{wanted.module} imports here now: the text is older, or from another environment")
        return result

    if parsed.release is not None:
        notes.append(f"the installer said: {parsed.text}")
    module = parsed.module or _module_of(parsed.wish or parsed.release) or _known(machine, parsed.may_wish)
    if module is not None:
        notes += _of_another_folder(machine, parsed, module) if is_past else []
        answer.imports = [asked(_statement_of(parsed, module))]
        answer.target = as_asked(machine, seat, question)
        return answer
    results = [asked(wanted) for wanted in _asked(parsed.asked) or _of_a_file(machine, parsed.text)]
    if results:
        answer.target = as_asked(machine, seat, question)
    answer.imports = [result for result in results if result.outcome != "imports" and result.findings]
    if not answer.imports:
        answer.findings = [_of_the_text(machine, parsed, seat)]
    return answer


def _statement_of(parsed: ErrorReport, module: str) -> ImportStatement:
    """The import that an error about a module is about."""
    if parsed.name == "__main__":
        return ImportStatement(f"import {module}.__main__", f"{module}.__main__", ())
    if parsed.name is None:
        return ImportStatement(f"import {module}", module, ())
    return ImportStatement(f"from {module} import {parsed.name}", module, (parsed.name,))


def _of_another_folder(machine: Machine, parsed: ErrorReport, module: str) -> list[str]:
    """What is to be said where the script that failed is in another folder, which has the module."""
    first = next((path for path, line in parsed.frames if line and machine.reader.is_file(path)), None)
    if first is None or _inside_packages(machine, first):
        return []
    return _elsewhere(machine, machine.reader.parent(first), module)


def _of_the_text(machine: Machine, parsed: ErrorReport, seat: Seat) -> Finding:
    """What the words of an error tell that names no import."""
    by_name = seat.interpreter.executable if seat.interpreter is not None else "python"
    last = parsed.frames[-1][0] if parsed.frames else ""
    return (
        library_missing.of_text(parsed.text, machine)
        or library_too_old.of_text(parsed.text, machine)
        or no_parent_package.of_text(parsed, machine, by_name)
        or not_the_environment.finding(parsed, not _inside_packages(machine, last))
    )


def _asked_in(machine: Machine, parsed: ErrorReport, seat: Seat, named: bool) -> tuple[Seat, list[str]]:
    """The seat that a text is from, by the prefix that its frames are in, and what is to be said of that."""
    prefix = prefix_of(machine.reader, parsed) if not named else None
    notes: list[str] = []
    if prefix is not None:
        try:
            where = "the text is from" if machine.reader.is_file(prefix) else "its frames are in"
            resolution = resolve(machine, prefix)
            own = seat.environment.key if seat.environment is not None else None
            if resolution.environment is not None and resolution.environment.key == own:
                notes.append(f"{where} {prefix}, which this seat runs")
            elif resolution.interpreter is not None:
                # A pasted text says where to read, and not what may be started.
                seat = replace(resolution, from_text=True)
                notes.append(f"{where} {prefix}")
        except KalyxError:
            notes.append(f"its frames are in {prefix}, which is not on this machine; asked in {seat.name} instead")
    elif not named:
        assumed = "this shell's python" if seat.seat == "shell" else seat.name
        notes.append(f"the text does not say which environment it is from: assuming {assumed}; --in names another")
    return seat, notes


def _elsewhere(machine: Machine, folder: str, module: str) -> list[str]:
    """A script of another folder: what is there is not imported because a text names it; how the user asks for it."""
    reader = machine.reader
    if reader.same_path(reader.real(folder), reader.real(reader.folder)):
        return []
    line = machine.line(["kalyx", "why", module, "--from", folder])
    return [f"its script is in {folder}, which was not searched; to ask as a script there: {line}"]


def _asked(line: str | None) -> list[ImportStatement]:
    """The imports of the line that the outermost frame stands at; none where that is no whole statement."""
    try:
        return parse_wanted(line) if line is not None else []
    except KalyxError:
        return []


def _of_a_file(machine: Machine, text: str) -> list[ImportStatement]:
    """The module of a compiled file that a text names and that is here."""
    for sign in "'\"()":
        text = text.replace(sign, " ")
    for word in text.split():
        path = word.rstrip(":,.;")
        _, _, part = path.replace("\\", "/").rpartition("-packages/")
        module = part.split(".")[0].replace("/", ".")
        if path.endswith((".so", ".pyd")) and module and machine.reader.is_file(path):
            return parse_wanted(module) if all(word.isidentifier() for word in module.split(".")) else []
    return []


def _module_of(word: str | None) -> str | None:
    """The module that a word means which may be a distribution's name; None where it can be none."""
    if word is None:
        return None
    listed = modules_of_listed(word)
    module = listed[0] if listed else word.replace("-", "_")
    return module if all(part.isidentifier() for part in module.split(".")) else None


def _known(machine: Machine, word: str | None) -> str | None:
    """The module that a word means, where this machine or the table knows which distribution provides it."""
    module = _module_of(word)
    return module if module is not None and brought_by(machine, module) is not None else None


def _inside_packages(machine: Machine, path: str) -> bool:
    words = path.replace("\\", "/").split("/")
    return any(
        word in ("site-packages", "dist-packages") or word.startswith(("python2.", "python3.")) for word in words
    )
