"""From the word a user gives as TARGET to a seat.

Tried in order: the seats' own words, then anything with a path separator (or
``.``), then the name the survey prints. What names several places, or none, is
an error that lists candidates, nearest first.
"""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError, Kernel, Seat
from kalyx.core.seats import callers
from kalyx.core.seats.answering import live_of
from kalyx.core.seats.build import running, seat_from
from kalyx.core.seats.kernel import kernel_seat
from kalyx.core.seats.notebook import ENDING, notebook_seat, read_notebook
from kalyx.core.seats.process import process_seat
from kalyx.core.seats.running import live_seat
from kalyx.core.system.nearest_path import near_paths
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.nearness import ranked
from kalyx.core.text.numbers import are_numbers, leading_number, number_of
from kalyx.core.text.versions import numbers_of
from kalyx.core.text.visible import visible


def default_seat(machine: Machine) -> Seat:
    """``caller`` where Kalyx was started from a kernel or a Python program, else ``shell``."""
    process = callers.find_caller(machine.reader)
    if process is not None:
        seat = process_seat(machine.reader, process, "the program Kalyx was started from")
        if seat.interpreter is not None:
            return seat
    return machine.shell_seat


def resolve(machine: Machine, text: str) -> Seat:
    """The seat that TARGET names. Raises KalyxError with candidates."""
    if text == "shell":
        return machine.shell_seat
    if text == "caller":
        process = callers.find_caller(machine.reader)
        if process is None:
            raise KalyxError("there is no caller: Kalyx was not started from a kernel or a Python program", ["shell"])
        return process_seat(machine.reader, process, "the program Kalyx was started from")
    if text == "editor":
        return _by_editor(machine, "")
    kind, colon, remainder = text.partition(":")
    if colon and kind in _KINDS:
        if not remainder:
            raise KalyxError(f"{text!r} names nothing: {_KINDS[kind][1]}")
        return _KINDS[kind][0](machine, remainder)
    reader = machine.reader
    if text.endswith(ENDING):
        return seat_of_notebook(machine, reader.absolute(text))
    if text in (".", "..") or reader.has_separator(text) or text.startswith("~"):
        path = reader.absolute(text)
        if not reader.may_be_there(path) and any(view.environment.name == text for view in machine.environments.views):
            return _named(machine, text)  # a name that has its folder's in front
        return seat_of_path(machine, path)
    return _named(machine, text)


def resolve_to_change(machine: Machine, text: str) -> Seat:
    """The seat of a TARGET that is to be changed: a bare name means nothing outside the home and this folder.

    The same line may be repeated when what it named is gone; then it must not mean somebody else's. Raises KalyxError.
    """
    seat, reader = resolve(machine, text), machine.reader
    prefix = seat.environment.prefix if seat.environment is not None else seat.source
    is_name = not any(sign in text for sign in ":\\~") and not reader.may_be_there(reader.absolute(text))
    is_bare = is_name and text not in ("shell", "caller") and prefix is not None
    if is_bare and prefix is not None:
        own = [reader.real(folder) for folder in (reader.home, reader.folder)]
        if not any(reader.inside(reader.real(prefix), folder) for folder in own):
            message = (
                f"{visible(text)!r} lies outside your home and this folder; name it by its path: {visible(prefix)}"
            )
            raise KalyxError(message, [prefix])
    return seat


def seat_of_path(machine: Machine, path: str) -> Seat:
    """A path to an interpreter or an environment."""
    from kalyx.core.seats.path import path_seat

    seat = path_seat(machine.reader, path)
    asked = _asked(machine, seat.source) if seat.undecided and seat.source is not None else None
    return asked or seat


def _asked(machine: Machine, path: str) -> Seat | None:
    """What a starter that reading does not settle says of itself; it is named as an interpreter and by the user."""
    reader = machine.reader
    if machine.runner is None or not reader.name(path).startswith(("python", "pypy")) or not reader.may_run(path):
        return None
    from kalyx.core.interpreters.asking import ask_who

    machine.let_through(path)
    interpreter = ask_who(reader, machine.runner, path, machine.seconds, with_site=True)
    return seat_from("path", path, running(reader, interpreter), reader.folder) if interpreter is not None else None


def seat_of_kernel(machine: Machine, kernel: Kernel) -> Seat:
    """A registered kernel."""
    return kernel_seat(machine.reader, kernel, machine.server)


def _by_kernel(machine: Machine, identifier: str) -> Seat:
    kernel = machine.kernel_by_id(identifier)
    if kernel is None:
        ids = [kernel.id for kernel in machine.kernels]
        raise KalyxError(f"no kernel {visible(identifier)!r} is registered", ranked(identifier, ids, "kernel:"))
    return seat_of_kernel(machine, kernel)


def seat_of_notebook(machine: Machine, path: str) -> Seat:
    """A notebook, through the kernel that runs for it now, else through the one it asks for. Raises KalyxError."""
    reader = machine.reader
    if not reader.is_file(path):
        near = near_paths(reader, path)
        raise KalyxError(f"{visible(path)}: {NOTHING_THERE}", near)
    live = live_of_notebook(machine, path)
    if live is not None:
        return live
    notebook = read_notebook(reader, path)
    if notebook.problem is not None:
        raise KalyxError(f"{visible(path)}: {notebook.problem}")
    if notebook.kernel is None:
        raise KalyxError(f"{visible(path)}: the notebook names no kernel; name one with --in kernel:ID")
    return notebook_seat(reader, notebook, machine.kernel_by_id(notebook.kernel), machine.server)


def live_of_notebook(machine: Machine, path: str) -> Seat | None:
    """A notebook that is open now runs on its live kernel, whatever its file says; None where none runs."""
    live = live_of(machine.reader, machine.servers.lives, path)
    if live is None:
        return None
    return machine.environments.named_seat(live_seat(machine.reader, live, read_notebook(machine.reader, path)))


def _by_notebook(machine: Machine, path: str) -> Seat:
    return seat_of_notebook(machine, machine.reader.absolute(path))


def _by_pid(machine: Machine, text: str) -> Seat:
    number = number_of(text)
    if number is None or len(text) > 10:
        raise KalyxError(f"{visible(text)!r} is not a process number")
    process = machine.reader.process(number)
    if process is None:
        raise KalyxError(f"no process {text} is running that this user may see")
    return process_seat(machine.reader, process, f"process {text}")


def _by_editor(machine: Machine, file: str) -> Seat:
    """What a settings file chooses, or the folder's first choice for running."""
    from kalyx.core.seats.editor import choices_for, editor_seats, settings_folder

    reader = machine.reader
    path = reader.absolute(file) if file else reader.folder
    if not reader.exists(path):
        raise KalyxError(f"{visible(path)}: {NOTHING_THERE}", near_paths(reader, path))
    if reader.is_folder(path):
        seats = [seat for seat in editor_seats(reader, path) if seat.parts]
    else:
        seats = [seat for seat in choices_for(reader, settings_folder(reader, path), path) if seat.parts]
    seats.sort(key=lambda seat: (seat.parts[0].role != "run", seat.interpreter is None))
    if not seats:
        where = visible(reader.absolute(file)) if file else f"a settings file in {visible(reader.folder)}"
        raise KalyxError(f"{where} chooses no interpreter")
    return seats[0]


def _by_server(machine: Machine, text: str) -> Seat:
    """A running notebook server, by its process or its port."""
    from kalyx.core.seats.server import server_seat

    for server in machine.servers.running:
        if text in (str(server.pid), str(server.port)):
            return replace(server_seat(machine.reader, server), name=f"server in {server.folder}")
    running = [f"server:{server.port or server.pid}" for server in machine.servers.running]
    raise KalyxError(f"no notebook server of this user runs as process or port {visible(text)}", running)


def _by_program(machine: Machine, word: str) -> Seat:
    from kalyx.core.seats.program import program_seat

    seat = program_seat(machine.reader, word)
    if seat is None:
        raise KalyxError(f"{visible(word)!r} is not on PATH", _programs_near(machine, word))
    return seat


def _programs_near(machine: Machine, word: str) -> list[str]:
    result: set[str] = set()
    for folder in machine.reader.path_folders():
        result.update(name for name in machine.reader.names(folder) if name[:1] == word[:1])
    return ranked(word, sorted(result), "program:", limit=1)


def _by_version(machine: Machine, text: str) -> Seat:
    """The interpreter the survey prefers for a version: this shell's own first, then the newest."""
    if not are_numbers(text):
        raise KalyxError(f"{visible(text)!r} is not a version: write 3.11 or 3.11.7")
    own = [part.interpreter for part in machine.shell_seat.parts if part.role != "installer" and part.interpreter]
    own = [interpreter for interpreter in own if interpreter.prefix == interpreter.base_prefix]
    for interpreter in [*own, *machine.interpreters]:
        if (interpreter.version + ".").startswith(text + "."):
            part = running(machine.reader, interpreter)
            seat = seat_from("path", interpreter.executable, part, machine.reader.folder)
            return replace(seat, via=f"version:{text}")
    newest_first = sorted({python.version for python in machine.interpreters}, key=numbers_of, reverse=True)
    known = sorted(newest_first, key=lambda version: _far(version, text))
    raise KalyxError(f"no interpreter of version {text} is on this machine", [f"version:{item}" for item in known])


def _far(version: str, wanted: str) -> list[int]:
    """How far a version is from the requested one: by its first number, then by the next."""
    pairs = zip(version.split("."), wanted.split("."), strict=False)
    return [abs(leading_number(a) - leading_number(b)) for a, b in pairs]


def _named(machine: Machine, name: str) -> Seat:
    views = [view for view in machine.environments.views if view.environment.name == name]
    if not views:
        more = {environment.name: environment for environment in machine.environments.everywhere}
        if name in more and more[name].executable:
            return seat_of_path(machine, more[name].prefix)
    if len(views) == 1:
        return seat_of_path(machine, views[0].environment.prefix)
    if views:
        raise KalyxError(
            f"{visible(name)!r} names {len(views)} environments; name one by its path",
            [view.environment.prefix for view in views],
        )
    beside = machine.reader.absolute(name)
    if machine.reader.is_folder(beside):
        return seat_of_path(machine, beside)  # no environment has this name, a path in the current folder has
    if are_numbers(name.removeprefix("python")):
        return _by_version(machine, name.removeprefix("python"))  # 3.11 and python3.11 say the same
    names = [environment.name for environment in machine.environments.everywhere]
    near = ranked(name, names, "") + ranked(name, [kernel.id for kernel in machine.kernels], "kernel:")
    raise KalyxError(f"nothing here is called {visible(name)!r}", near or names[:5])


_KINDS = {
    "kernel": (_by_kernel, "write kernel:ID"),
    "notebook": (_by_notebook, "write notebook:FILE"),
    "program": (_by_program, "write program:NAME"),
    "editor": (_by_editor, "write editor:FILE"),
    "server": (_by_server, "write server:PORT or server:PID"),
    "pid": (_by_pid, "write pid:N"),
    "version": (_by_version, "write version:3.9"),
}
