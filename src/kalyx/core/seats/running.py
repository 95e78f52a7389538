"""Kernels that run now: their process, the spec they came from, the notebook they serve."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.model.records import Kernel, RunningKernel, Seat
from kalyx.core.seats.callers import above, connection_file_of, connection_in, program_name, some_processes, started_as
from kalyx.core.seats.notebook import ENDING, Notebook
from kalyx.core.seats.process import process_seat, with_life
from kalyx.core.seats.server import Ask, RunningServer, sessions_of
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import Process


class Live(Struct):
    """One kernel process, and what a server says of it."""

    process: Process
    connection: str
    executable: str | None
    server: RunningServer | None = None
    notebook: str | None = None
    spec: str | None = None


def live_kernels(reader: Reader, servers: list[RunningServer], ask: Ask | None) -> list[Live]:
    """Every kernel process of this user; the notebook of each where its server answers (``ask`` None: not asked)."""
    sessions: dict[str, tuple[RunningServer, str, str]] = {}
    answered: set[int] = set()
    # A server of another user is not asked: its answer could claim any notebook for a kernel of that user.
    own = {server.pid: server for server in servers if server.is_own}
    for server in own.values() if ask is not None else []:
        assert ask is not None
        try:
            for identifier, (notebook, spec) in sessions_of(server, ask).items():
                sessions[identifier] = (server, notebook, spec)
            answered.add(server.pid)
        except Unreadable:
            continue
    lives = []
    for pid in some_processes(reader):
        if pid == reader.pid or connection_in(reader.command_of(pid)) is None:
            continue
        process = reader.process(pid)
        connection = connection_file_of(process) if process is not None else None
        if process is None or connection is None or program_name(process) in ("sh", "bash", "dash"):
            continue
        live = Live(process, connection, started_as(reader, process))
        name = reader.name(connection).removesuffix(".json").removeprefix("kernel-")
        # Any process can name the connection file of another one: a server's kernel is started by the server.
        if name in sessions and any(upper.pid == sessions[name][0].pid for upper in above(reader, process)):
            live.server, notebook, live.spec = sessions[name]
            live.notebook = reader.join(live.server.folder, notebook) if notebook else None
        elif process.parent in own and process.parent not in answered:
            live.notebook = _named_notebook(reader, process)
        lives.append(live)
    return lives


def _named_notebook(reader: Reader, process: Process) -> str | None:
    """The notebook that a server which could not be asked started a kernel for: it hands the path to the kernel."""
    named = (process.variables or {}).get("JPY_SESSION_NAME", "")
    return named if named.endswith(ENDING) and reader.path.isabs(named) else None


def live_seat(reader: Reader, live: Live, notebook: Notebook | None = None) -> Seat:
    """A kernel that runs; the notebook that is open on it, whatever its file says."""
    seat = process_seat(reader, live.process, f"kernel:{live.spec}" if live.spec else "")
    if notebook is None:
        label = f"started as {live.spec}" if live.spec else "started by no server known here"
        seat = replace(seat, name=f"running, process {live.process.pid}", label=label)
    else:
        label = f"runs now on kernel {live.spec or '(of no name)'}, process {live.process.pid}"
        if notebook.kernel and live.spec and notebook.kernel.lower() != live.spec:
            label += f"; its file asks for {notebook.kernel}"
        name = reader.name(notebook.path)
        seat = replace(seat, seat="notebook", name=name, source=notebook.path, label=label)
    return with_life(reader, seat, live.process)


def attach(reader: Reader, kernels: list[Kernel], lives: list[Live]) -> tuple[list[Kernel], list[RunningKernel]]:
    """The registered kernels, each with the live ones that came from it; those that no registered kernel explains."""
    rows = []
    by_folder: dict[str, list[RunningKernel]] = {}
    for live in lives:
        row = RunningKernel(
            pid=live.process.pid,
            notebook=live.notebook,
            executable=live.executable,
            started=live.process.started,
            server=live.server.pid if live.server is not None else None,
        )
        kernel = next(
            (kernel for kernel in kernels if live.spec == kernel.id and "hidden" not in kernel.conditions), None
        )
        kernel = kernel or next((kernel for kernel in kernels if _same_command(reader, kernel, live)), None)
        if kernel is None:
            rows.append(row)
        else:
            by_folder.setdefault(kernel.folder, []).append(row)
    return [kernel.changed(running=by_folder.get(kernel.folder, [])) for kernel in kernels], rows


def _same_command(reader: Reader, kernel: Kernel, live: Live) -> bool:
    """Whether this is the command of the kernel with the connection file filled in."""
    if not kernel.command or live.executable is None:
        return False
    wanted = [word.replace("{connection_file}", live.connection) for word in kernel.command[1:]]
    return kernel.command[0] == live.executable and wanted == list(live.process.command[1:])
