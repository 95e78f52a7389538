"""Why an import just failed: in a notebook kernel, which hands over its failure, or in a command that ended."""

from __future__ import annotations

import json
from collections.abc import Callable

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.diagnosis.causes import stale_in_memory
from kalyx.core.environments.invocation import ProcessState
from kalyx.core.imports.names import ImportStatement, parse_wanted
from kalyx.core.imports.traceback import read_traceback
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.invocation import UNNAMED, Question
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError, Seat
from kalyx.core.model.results import WhyAnswer
from kalyx.core.model.steps import (
    BringInstaller,
    FillEnvironment,
    Install,
    MakeReadable,
    ManualStep,
    Move,
    RemoveFiles,
    Uninstall,
    WriteImport,
)
from kalyx.core.queries.why import as_asked, why_import
from kalyx.core.queries.why_traceback import why_traceback
from kalyx.core.seats.running import live_seat
from kalyx.core.targets import live_of_notebook, resolve, seat_of_path
from kalyx.core.text.command_line import behind_python_or_none

# What a running kernel meets without a restart: files of the environment that it looks in.
_IN_PLACE = (Install, Uninstall, FillEnvironment, BringInstaller, Move, RemoveFiles, MakeReadable, ManualStep,
             WriteImport)  # fmt: skip
# The errors whose cause is asked for; a package's own subclass has another name, and its text tells.
IMPORT_ERRORS = ("ImportError", "ModuleNotFoundError")


class Failure(Struct, kw_only=True):
    """What a kernel hands over: its process, its id, the error's text, and what it has now.

    ``line``: the line of the cell that failed; ``error`` and ``message``: the exception's class and words;
    ``loaded_from``: where it has the module from that the error names.
    """

    pid: int
    kernel: str
    traceback: str
    line: str
    error: str
    message: str
    path: list[str]
    folder: str
    loaded_from: str | None = None


def failure_from(raw: bytes) -> Failure:
    """The failure that a kernel wrote as JSON. Raises KalyxError."""
    try:  # the standard reader: an entry of sys.path may be no text, which only escapes of half a letter can carry
        return msgspec.convert(json.loads(raw), Failure)
    except (msgspec.MsgspecError, ValueError, RecursionError) as problem:
        raise KalyxError(f"standard input holds no failure of a kernel as JSON: {problem}") from None


def explain_failure(machine: Machine, failure: Failure, tell: Callable[[str], None]) -> WhyAnswer:
    """The answer for the kernel that hands over its failure: asked with the path and the variables that it has now.

    Raises KalyxError where neither its process nor its kernel file can be read, or its text holds no error.
    """
    seat = replace(_seat_of(machine, failure), folder=failure.folder)
    question = Question(named=True, state=ProcessState(failure.path, dict(machine.reader.variables)))
    answer = WhyAnswer(target=as_asked(machine, seat, question), imports=[])
    for wanted in _statements(failure.line):
        tell(wanted.module)
        answer.imports.append(why_import(machine, seat, wanted, question))
    answer.imports = [item for item in answer.imports if item.outcome != "imports"]
    if not answer.imports:
        # A class of a package's own is an ImportError too, whatever its name is.
        text = failure.traceback + ("" if failure.error in IMPORT_ERRORS else f"\nImportError: {failure.message}\n")
        answer = why_traceback(machine, text, seat, question, tell)
    for item in answer.imports:
        if item.outcome == "imports" and not item.findings:
            error = f"{failure.error}: {failure.message}"
            item.findings = [stale_in_memory.of_failure(seat, item, failure.loaded_from, error)]
    return answer


def _seat_of(machine: Machine, failure: Failure) -> Seat:
    """The running kernel, its notebook where the server tells; else the kernel as it is registered."""
    live = next((live for live in machine.servers.lives if live.process.pid == failure.pid), None)
    if live is None:
        return resolve(machine, f"kernel:{failure.kernel}")
    notebook = live_of_notebook(machine, live.notebook) if live.notebook else None
    if notebook is not None and notebook.pid == failure.pid:
        return notebook
    return replace(live_seat(machine.reader, live), name=f"{failure.kernel}, process {failure.pid}")


def _statements(line: str) -> list[ImportStatement]:
    """The imports of a line of code; none where the line is none, or goes on."""
    if not line.startswith(("import ", "from ")):
        return []
    try:
        return parse_wanted(line)
    except KalyxError:
        return []


def after_the_fix(answer: WhyAnswer, failure: Failure) -> str | None:
    """What is left to do in the notebook once the first fix is carried out; None where no fix can be carried out."""
    findings = [finding for item in answer.imports for finding in item.findings[:1]] + answer.findings[:1]
    steps = [step for finding in findings for fix in finding.fixes[:1] for step in fix.steps]
    if all(isinstance(step, ManualStep) for step in steps):
        return None
    if failure.loaded_from is not None:
        return f"restart the kernel, which holds the module from {failure.loaded_from}; then run the cell again"
    if all(isinstance(step, _IN_PLACE) for step in steps):
        return "run the cell again"
    return "restart the kernel, then run the cell again"


def explain_command(
    machine: Machine, words: list[str], line: str, text: str, tell: Callable[[str], None]
) -> WhyAnswer | None:
    """The answer for a command that ended with an error on its standard error; None where no import ended it."""
    error = read_traceback(text)
    if error.type is None or not (error.type in IMPORT_ERRORS or error.module is not None or error.wish is not None):
        return None
    seat = _seat_of_command(machine, words)
    if seat is None:
        return why_traceback(machine, text, machine.shell_seat, UNNAMED, tell)
    return why_traceback(machine, text, seat, Question(named=True, command=line), tell)


def _seat_of_command(machine: Machine, words: list[str]) -> Seat | None:
    """The interpreter that a command starts: it is one, or its first line names one; None where neither is so."""
    reader = machine.reader
    starts = behind_python_or_none(words)
    program = starts.program if starts is not None else words[0]
    path = reader.absolute(program) if reader.path.dirname(program) else next(reader.lookup(program), None)
    if path is not None and interpreter_at(reader, path) is None:
        path = interpreter_of_script(reader, path).path
    return seat_of_path(machine, path) if path is not None else None
