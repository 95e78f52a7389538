"""How a seat starts Python, and the search path that results: by reading, or asked where the user named the seat.

Reading cannot know what start-up code adds to sys.path (a ``.pth`` line that
runs, a ``sitecustomize``). The interpreter of a target that the user named is
then asked, with its own flags and variables; an interpreter that was only found
is never asked.
"""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.environments.invocation import Invocation, ProcessState
from kalyx.core.environments.reading import prefix_around
from kalyx.core.environments.searchpath import STARTUP, SearchPath, add_by_program, search_path
from kalyx.core.interpreters.consent import NamedBy, lies_in_tree
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.kernel_path import path_changes
from kalyx.core.kernels.specs import kernel_variables
from kalyx.core.machine import Machine
from kalyx.core.model.records import Interpreter, KalyxError, Kernel, PathEntry, Seat
from kalyx.core.system import Reader
from kalyx.core.system.once import once
from kalyx.core.system.runner import Runner
from kalyx.core.text.command_line import (
    PythonCommand,
    behind_python_or_none,
    commands_of,
    python_command,
)
from kalyx.core.text.visible import visible


def invocation_of(seat: Seat, machine: Machine, command: str | None = None) -> Invocation:
    """How this seat runs Python: a kernel has the current folder first, the others run a script from the folder.

    ``command`` is a command line whose flags and program decide instead; its
    variables and its program count, not its interpreter. Raises KalyxError where it cannot be read.
    """
    invocation = _invocation_of(seat, machine, command)
    invocation.folder = seat.folder
    return invocation.by(seat.interpreter) if seat.interpreter is not None else invocation


def _invocation_of(seat: Seat, machine: Machine, command: str | None) -> Invocation:
    folder = seat.folder or machine.reader.folder
    variables = _variables(seat, machine)
    if command is not None:
        interpreter, given = interpreter_of(seat, machine), command_given(machine.reader, command)
        return Invocation.of_command(given.words, machine.reader, interpreter, given.variables(variables))
    if seat.seat in ("kernel", "notebook"):
        invocation = Invocation(variables=variables)
        kernel = kernel_of(seat, machine)
        process = machine.reader.process(seat.pid) if kernel is None and seat.pid is not None else None
        words = kernel.command if kernel is not None else list(process.command) if process is not None else []
        if seat.interpreter is not None and words:
            # Its own flags decide what it can import; what stands before them may set variables only.
            given = behind_python_or_none(words) or PythonCommand([])
            variables = given.variables(variables)
            invocation = Invocation.of_command(given.words, machine.reader, seat.interpreter, variables)
        first, invocation.changes = path_changes(machine.reader, seat.interpreter, invocation, folder)
        invocation.first, invocation.first_origin, invocation.is_program = first, "the notebook's folder", False
        return invocation
    return Invocation(first=folder, first_origin="the folder of the script", variables=variables)


def command_given(reader: Reader, line: str) -> PythonCommand:
    """What a command line of the user's says: flags and a program; a program that Python runs counts as its script.

    Raises KalyxError where the line cannot be read.
    """
    try:
        command = python_command(line, reader.system)
        (words, *_) = commands_of(line, reader.system) or [[]]
    except ValueError as error:
        raise KalyxError(f"{visible(line)} is not a command line: {error}") from None
    if words and behind_python_or_none(words) is None and command.words == words[1:]:
        program = next(reader.lookup(words[0]), None)
        if program is not None and interpreter_of_script(reader, program).path is not None:
            return PythonCommand([program, *words[1:]])
    return command


def _variables(seat: Seat, machine: Machine) -> dict[str, str]:
    """All variables the seat runs with, read where they are: its record shows only some of them."""
    if seat.pid is not None:
        process = machine.reader.process(seat.pid)
        if process is not None and process.variables:
            return dict(process.variables)
    kernel = kernel_of(seat, machine)
    if kernel is not None:
        return kernel_variables(kernel, machine.server)
    return dict(machine.reader.variables)


def kernel_of(seat: Seat, machine: Machine) -> Kernel | None:
    """The registered kernel that a seat stands for, or None."""
    return machine.kernel_by_id(seat.kernel) if seat.kernel is not None else None


def named_by(seat: Seat, machine: Machine, named: bool) -> NamedBy:
    """Who named what this seat starts: the user, or a word for the source.

    ``named``: the user named the seat. Where a seat is only a way to somewhere (the shell's PATH, a folder's settings,
    a notebook whose kernel file the folder brings), naming it names nothing that is there.
    """
    if seat.from_text:
        return "text"
    kernel = kernel_of(seat, machine)
    brought = kernel is not None and lies_in_tree(machine.reader, kernel.folder) is not None
    if (seat.seat == "editor" or brought) and _is_the_shells(seat, machine):
        return "shell"  # the folder names what the user's own shell names too
    if seat.seat == "editor":
        return "folder"
    if seat.seat == "program" and seat.source and lies_in_tree(machine.reader, seat.source) is not None:
        return "shell" if _is_the_shells(seat, machine) else "machine"  # the first line is the folder's word
    if named and seat.seat not in ("shell", "program") and not (seat.seat == "notebook" and brought):
        return "user"
    if seat.pid is not None or seat.seat in ("process", "server"):
        return "process"
    if kernel is None:
        return "machine" if seat.seat == "path" else "shell"
    # A kernel file of the folder's own is the folder's word; one that looks its program up says nothing of where.
    if brought:
        return "folder"
    return "kernel" if kernel.argv and machine.reader.path.isabs(kernel.argv[0]) else "shell"


def refuse_unnamed(seat: Seat, machine: Machine) -> None:
    """Raise KalyxError where the program of a seat may not be started, although the user named the seat."""
    if seat.interpreter is not None:
        refused = machine.objection(seat.interpreter, named_by(seat, machine, True))
        if refused is not None:
            raise KalyxError(refused.replace("name it with --in", "name it by its path:"))


def _is_the_shells(seat: Seat, machine: Machine) -> bool:
    own = machine.shell_seat.environment
    return own is not None and seat.environment is not None and own.key == seat.environment.key


def interpreter_of(seat: Seat, machine: Machine, so: str = "") -> Interpreter:
    """The interpreter that a seat starts. Raises KalyxError: why the seat starts none, and the line that tells the fix.

    ``so``: what follows from that, in words.
    """
    if seat.interpreter is not None:
        return seat.interpreter
    prefix = prefix_around(machine.reader, seat.name) or prefix_around(machine.reader, seat.program or "")
    then = f"; for the fix: {machine.line(['kalyx', 'why', 'os', '--in', prefix])}" if prefix is not None else ""
    raise KalyxError(f"{seat.name} starts no interpreter{so and f', so {so}'}: {seat.reason}{then}")


class Question(Struct, frozen=True):
    """What is known of a question besides the seat and the import that it is about.

    ``named``: the user named the seat; else ``consent`` says whether its interpreter may be started. ``command``: the
    command line that the code was run by, whose flags and program decide the path; ``script``: the file that asks.
    ``state``: what the seat's running process has now, where that is known.
    """

    named: bool
    command: str | None = None
    script: str | None = None
    state: ProcessState | None = None


NAMED, UNNAMED = Question(named=True), Question(named=False)


def search_of(seat: Seat, machine: Machine, question: Question) -> SearchPath:
    """The seat's search path; asked where the user named the seat and only running code can tell."""
    assert seat.interpreter is not None
    invocation = invocation_of(seat, machine, question.command)
    search = search_path(machine.reader, seat.interpreter, invocation)
    refused = machine.objection(seat.interpreter, named_by(seat, machine, question.named))
    if search.unknown and question.named and machine.runner is not None and refused is None:
        variables = tuple(sorted(invocation.variables.items()))
        folder = seat.folder or machine.reader.folder
        executable, flags = seat.interpreter.executable, invocation.flags
        path = _answered(machine.reader, machine.runner, executable, flags, variables, folder, machine.seconds)
        return search if path is None else _as_answered(machine.reader, path, invocation, search)
    return search


@once
def _answered(
    reader: Reader,
    runner: Runner,
    executable: str,
    flags: tuple[str, ...],
    variables: tuple[tuple[str, str], ...],
    folder: str,
    seconds: float,
) -> list[str] | None:
    """The search path that an interpreter says it has, started so; None where it gives no answer."""
    from kalyx.core.interpreters.asking import Who, ask_witness

    answer, _ = ask_witness(
        runner, executable, ["-B", *flags], ["who"], Who, variables=dict(variables), folder=folder, seconds=seconds
    )
    return answer.path if answer is not None else None


def _as_answered(reader: Reader, path: list[str], invocation: Invocation, search: SearchPath) -> SearchPath:
    """The interpreter's own word in place of what was read."""
    known = {reader.case(entry.entry): entry for entry in search.entries}
    first = search.entries[:1] if search.has_program and search.entries[0].entry == invocation.first else []
    entries = first + [
        known.get(reader.case(text))
        or PathEntry(entry=text, origin=STARTUP, exists=reader.exists(text) if text else True, put_by="start-up")
        for text in path
    ]
    add_by_program(reader, entries, invocation)
    return replace(search, entries=entries, unknown=[])


def with_search_path(seat: Seat, machine: Machine) -> Seat:
    """The seat with its search path, each entry with its origin; no interpreter is asked for that."""
    if seat.interpreter is None:
        return seat
    return replace(seat, search_path=search_of(seat, machine, UNNAMED).entries)
