"""From the word a user gives as TARGET to a seat.

Tried in order: the seats' own words, then anything with a path separator (or
``.``), then the name the survey prints. What names several places, or none, is
an error that lists candidates, nearest first.
"""

from __future__ import annotations

from kalyx.core.doors.nearby import near_paths
from kalyx.core.doors.reading import Process
from kalyx.core.environments.reading import executables_of, looks_like_environment, view_of
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.kernels.specs import SPEC_FILE, kernel_variables
from kalyx.core.machine import Machine
from kalyx.core.records import Interpreter, KalyxError, Kernel, Seat
from kalyx.core.seats import callers
from kalyx.core.seats.notebook import ENDING, Notebook, read_notebook
from kalyx.core.seats.shell import telling
from kalyx.core.words.nearness import distance
from kalyx.core.words.numbers import are_numbers, leading_number, number_of
from kalyx.core.words.visible import visible


def default_seat(machine: Machine) -> Seat:
    """``caller`` where Kalyx was started from a kernel or a Python program, else ``shell``."""
    process = callers.find_caller(machine.facts)
    if process is not None:
        seat = seat_of_process(machine, process, "the program Kalyx was started from")
        if seat.interpreter is not None:
            return seat
    return machine.shell_seat


def resolve(machine: Machine, text: str) -> Seat:
    """The seat that TARGET names. Raises KalyxError with candidates."""
    if text == "shell":
        return machine.shell_seat
    if text == "caller":
        process = callers.find_caller(machine.facts)
        if process is None:
            raise KalyxError("there is no caller: Kalyx was not started from a kernel or a Python program", ["shell"])
        return seat_of_process(machine, process, "the program Kalyx was started from")
    if text == "editor":
        return _by_editor(machine, "")
    kind, colon, rest = text.partition(":")
    if colon and kind in _KINDS:
        if not rest:
            raise KalyxError(f"{text!r} names nothing: {_KINDS[kind][1]}")
        return _KINDS[kind][0](machine, rest)
    facts = machine.facts
    if text.endswith(ENDING):
        return seat_of_notebook(machine, facts.absolute(text))
    if text in (".", "..") or "/" in text or (facts.system == "windows" and "\\" in text) or text.startswith("~"):
        return seat_of_path(machine, facts.absolute(text))
    return _named(machine, text)


def resolve_to_change(machine: Machine, text: str) -> Seat:
    """The seat of a TARGET that is to be changed: a bare name means nothing outside the home and this folder.

    The same line may be repeated when what it named is gone; then it must not mean somebody else's. Raises KalyxError.
    """
    seat, facts = resolve(machine, text), machine.facts
    prefix = seat.environment.prefix if seat.environment is not None else seat.source
    is_bare = text not in ("shell", "caller") and not any(sign in text for sign in ":/\\~.") and prefix is not None
    if is_bare and prefix is not None:
        own = [facts.real(folder) for folder in (facts.home, facts.folder)]
        if not any(facts.inside(facts.real(prefix), folder) for folder in own):
            says = f"{visible(text)!r} lies outside your home and this folder; name it by its path: {visible(prefix)}"
            raise KalyxError(says, [prefix])
    return seat


def seat_of_interpreter(
    machine: Machine, interpreter: Interpreter, kind: str, name: str, via: str | None = None
) -> Seat:
    """An interpreter named by its path, as a seat."""
    environment = view_of(machine.facts, interpreter).environment
    known = machine.environment_named(environment.key) if kind != "path" else None
    return Seat(
        seat=kind,  # type: ignore[arg-type]
        name=name,
        interpreter=interpreter,
        environment=known or environment,
        folder=machine.facts.folder,
        via=via,
    )


def seat_of_path(machine: Machine, path: str) -> Seat:
    """A path to an interpreter or an environment."""
    facts = machine.facts
    if not facts.exists(path) and facts.kind(path) is None:
        raise KalyxError(f"{visible(path)}: there is nothing at this path", near_paths(facts, path))
    if facts.is_folder(path):
        return _seat_of_folder(machine, path)
    try:
        interpreter = read_interpreter(facts, path)
    except NotAnInterpreter as refusal:
        return Seat(seat="path", name=path, reason=refusal.reason, undecided=not refusal.dead, folder=facts.folder,
                    source=refusal.path)  # fmt: skip
    return seat_of_interpreter(machine, interpreter, "path", path)


def _seat_of_folder(machine: Machine, path: str) -> Seat:
    facts = machine.facts
    problem: NotAnInterpreter | None = None
    for executable in executables_of(facts, path):
        if facts.kind(executable) is None:
            continue
        try:
            return seat_of_interpreter(machine, read_interpreter(facts, executable), "path", path)
        except NotAnInterpreter as refusal:
            problem = problem or refusal
    if problem is not None:
        return Seat(seat="path", name=path, reason=problem.reason, undecided=not problem.dead, folder=facts.folder,
                    source=problem.path)  # fmt: skip
    if looks_like_environment(facts, path):
        return Seat(seat="path", name=path, reason="it holds no interpreter", folder=facts.folder, source=path)
    near = [
        facts.join(path, name) for name in facts.names(path) if looks_like_environment(facts, facts.join(path, name))
    ]
    raise KalyxError(f"{visible(path)}: a folder that is no environment", near)


def seat_of_process(machine: Machine, process: Process, via: str) -> Seat:
    """A live process: what the system says it runs, which beats every file."""
    facts = machine.facts
    name = f"{callers.program_name(process)} (pid {process.pid})"
    connection = callers.connection_file_of(process)
    kind = "kernel" if connection else "process"
    executable = callers.started_as(facts, process)
    if executable is None:
        return Seat(seat=kind, name=name, reason="the system does not show what it runs", undecided=True, via=via)  # type: ignore[arg-type]
    try:
        interpreter = read_interpreter(facts, executable)
    except NotAnInterpreter as refusal:
        undecided = not refusal.dead
        return Seat(seat=kind, name=name, reason=refusal.reason, undecided=undecided, via=via)  # type: ignore[arg-type]
    seat = seat_of_interpreter(machine, interpreter, kind, name, via)
    seat.folder = process.folder or facts.folder
    seat.variables = telling(process.variables or {})
    seat.pid = process.pid
    return seat


def seat_of_kernel(machine: Machine, kernel: Kernel, notebook: Notebook | None = None) -> Seat:
    """A registered kernel, or a notebook through its kernel."""
    facts = machine.facts
    environment = kernel.environment
    if environment is not None:
        environment = machine.environment_named(environment.key) or environment
    folder = facts.parent(notebook.path) if notebook else facts.folder
    return Seat(
        seat="notebook" if notebook else "kernel",
        name=facts.name(notebook.path) if notebook else kernel.id,
        interpreter=kernel.interpreter,
        environment=environment,
        undecided=kernel.undecided,
        reason=kernel.reason or ("; ".join(f.says for f in kernel.findings) if not kernel.argv else None),
        folder=folder,
        variables=telling(kernel_variables(kernel, machine.server)),
        via=f"kernel:{kernel.id}",
        source=facts.join(kernel.folder, SPEC_FILE),
    )


def _by_kernel(machine: Machine, identifier: str) -> Seat:
    kernel = machine.kernel_by_id(identifier)
    if kernel is None:
        ids = [one.id for one in machine.kernels]
        raise KalyxError(f"no kernel {visible(identifier)!r} is registered", _ranked(identifier, ids, "kernel:"))
    return seat_of_kernel(machine, kernel)


def seat_of_notebook(machine: Machine, path: str) -> Seat:
    """A notebook, through the kernel it asks for."""
    facts = machine.facts
    if not facts.is_file(path):
        near = near_paths(facts, path)
        raise KalyxError(f"{visible(path)}: there is no such notebook", near)
    notebook = read_notebook(facts, path)
    if notebook.problem is not None:
        raise KalyxError(f"{visible(path)}: {notebook.problem}")
    if notebook.kernel is None:
        raise KalyxError(f"{visible(path)}: the notebook names no kernel; name one with --in kernel:ID")
    kernel = machine.kernel_by_id(notebook.kernel)
    if kernel is None:
        return Seat(
            seat="notebook",
            name=facts.name(path),
            reason=f"it asks for kernel {notebook.kernel}, which is not registered",
            folder=facts.parent(path),
            via=f"kernel:{notebook.kernel}",
            source=path,
        )
    return seat_of_kernel(machine, kernel, notebook)


def _by_notebook(machine: Machine, path: str) -> Seat:
    return seat_of_notebook(machine, machine.facts.absolute(path))


def _by_pid(machine: Machine, text: str) -> Seat:
    number = number_of(text)
    if number is None or len(text) > 10:
        raise KalyxError(f"{visible(text)!r} is no process number")
    process = machine.facts.process(number)
    if process is None:
        raise KalyxError(f"no process {text} is running that this user may see")
    return seat_of_process(machine, process, f"process {text}")


def _by_editor(machine: Machine, file: str) -> Seat:
    """What a settings file chooses, or the folder's first choice for running."""
    from kalyx.core.seats.editor import editor_seats

    facts = machine.facts
    seats = [seat for seat in editor_seats(facts, facts.folder) if seat.parts]
    if file:
        path = facts.absolute(file)
        seats = [seat for seat in seats if seat.source == path]
    seats.sort(key=lambda seat: (seat.parts[0].role != "run", seat.interpreter is None))
    if not seats:
        where = visible(facts.absolute(file)) if file else f"a settings file in {visible(facts.folder)}"
        raise KalyxError(f"{where} chooses no interpreter")
    return seats[0]


def _by_server(machine: Machine, text: str) -> Seat:
    """A running notebook server, by its process or its port."""
    for found in machine.servers:
        if text in (str(found.pid), str(found.port)):
            seat = seat_of_process(machine, found.process, f"server with process {found.pid}")
            seat.seat, seat.name = "server", f"server in {found.folder}"
            seat.folder, seat.source = found.folder or seat.folder, found.path
            return seat
    running = [f"server:{found.port or found.pid}" for found in machine.servers]
    raise KalyxError(f"no notebook server of this user runs as process or port {visible(text)}", running)


def _by_program(machine: Machine, word: str) -> Seat:
    facts = machine.facts
    path = next(facts.lookup(word), None)
    if path is None:
        raise KalyxError(f"{visible(word)!r} is not on PATH", _programs_near(machine, word))
    try:
        interpreter = read_interpreter(facts, path)
    except NotAnInterpreter:
        line = interpreter_of_script(facts, path)
        if line.path is None:
            return Seat(seat="program", name=word, reason=line.reason, source=path, folder=facts.folder)
        try:
            interpreter = read_interpreter(facts, line.path)
        except NotAnInterpreter as refusal:
            reason = f"its first line names {line.path}: {refusal.reason}"
            return Seat(seat="program", name=word, reason=reason, source=path, folder=facts.folder)
    seat = seat_of_interpreter(machine, interpreter, "program", word, via=path)
    seat.source = path
    return seat


def _programs_near(machine: Machine, word: str) -> list[str]:
    found: set[str] = set()
    for folder in machine.facts.path_folders():
        found.update(name for name in machine.facts.names(folder) if name[:1] == word[:1])
    return _ranked(word, sorted(found), "program:", limit=1)


def _by_version(machine: Machine, text: str) -> Seat:
    """The interpreter the survey prefers for a version: this shell's own first, then the newest."""
    if not are_numbers(text):
        raise KalyxError(f"{visible(text)!r} is no version: write 3.11 or 3.11.7")
    own = [part.interpreter for part in machine.shell_seat.parts if part.role != "installer" and part.interpreter]
    own = [one for one in own if one.prefix == one.base_prefix]
    for interpreter in [*own, *machine.interpreters]:
        if (interpreter.version + ".").startswith(text + "."):
            return seat_of_interpreter(machine, interpreter, "path", interpreter.executable, via=f"version:{text}")
    known = sorted({one.version for one in machine.interpreters}, key=lambda one: _far(one, text))
    raise KalyxError(f"no interpreter of version {text} is on this machine", [f"version:{one}" for one in known])


def _far(version: str, wanted: str) -> list[int]:
    """How far a version is from the wanted one: by its first number, then by the next."""
    pairs = zip(version.split("."), wanted.split("."), strict=False)
    return [abs(leading_number(a) - leading_number(b)) for a, b in pairs]


def _named(machine: Machine, name: str) -> Seat:
    found = [view for view in machine.views if view.environment.name == name]
    if not found:
        more = {one.name: one for one in machine.all_environments}
        if name in more and more[name].executable:
            return _seat_of_folder(machine, more[name].prefix)
    if len(found) == 1:
        return _seat_of_folder(machine, found[0].environment.prefix)
    if found:
        raise KalyxError(
            f"{visible(name)!r} names {len(found)} environments; name one by its path",
            [view.environment.prefix for view in found],
        )
    names = [one.name for one in machine.all_environments]
    near = _ranked(name, names, "") + _ranked(name, [one.id for one in machine.kernels], "kernel:")
    raise KalyxError(f"nothing here is called {visible(name)!r}", near or names[:5])


def _ranked(word: str, names: list[str], prefix: str, limit: int = 3) -> list[str]:
    """Names nearest to a word first: those that contain it, then those a few letters away."""
    low = word.lower()
    scored = []
    for name in dict.fromkeys(names):
        far = 0 if low in name.lower() or name.lower() in low else distance(low, name.lower(), limit)
        if far <= limit:
            scored.append((far, name))
    return [prefix + name for _, name in sorted(scored)][:5]


_KINDS = {
    "kernel": (_by_kernel, "write kernel:ID"),
    "notebook": (_by_notebook, "write notebook:FILE"),
    "program": (_by_program, "write program:NAME"),
    "editor": (_by_editor, "write editor:FILE"),
    "server": (_by_server, "write server:PORT or server:PID"),
    "pid": (_by_pid, "write pid:N"),
    "version": (_by_version, "write version:3.9"),
}
