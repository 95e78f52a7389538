"""Notebook servers of this user that run now, and what they answer when asked.

A server writes a small file about itself into the runtime folder (the notebook
server's own documentation, "Common directories", runtime files). Its token is
used to ask it over loopback and is in no record of Kalyx, and never shown.
"""

from __future__ import annotations

import json
from collections.abc import Callable

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.environments.finding import ONLY_BELOW
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.kernels.folders import Server, data_folder
from kalyx.core.model.records import Seat
from kalyx.core.seats.callers import connection_in, some_processes
from kalyx.core.seats.process import process_seat
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import FileStat, Process
from kalyx.core.text.nested import nested

_FILE_LIMIT = 64 * 1024
_LATER = 10.0


class RunningServer(Struct):
    """A running server: its process, the folder it serves, and how to reach it."""

    pid: int
    port: int | None
    folder: str
    path: str
    address: str
    process: Process
    server: Server
    token: str = ""
    is_own: bool = True  # its file is this user's: another user's server is believed only where the user names it

    def __repr__(self) -> str:
        return f"Found(pid={self.pid}, port={self.port}, folder={self.folder!r})"


# Asks one path of a server: what its JSON says. Raises Unreadable.
Ask = Callable[[RunningServer, str], object]


def runtime_folder(reader: Reader) -> str:
    """Where notebook servers keep their files while they run."""
    named = reader.variable("JUPYTER_RUNTIME_DIR")
    return named or reader.join(data_folder(reader, reader.variables)[0], "runtime")


def running_servers(reader: Reader) -> list[RunningServer]:
    """Every server whose file names a process that still is that server; files of dead ones are passed over."""
    servers: dict[int, RunningServer] = {}
    for folder in _runtime_folders(reader):
        for name in reader.names(folder):
            if name.startswith(("jpserver-", "nbserver-")) and name.endswith(".json"):
                server = _read(reader, reader.join(folder, name))
                if server is not None:
                    servers.setdefault(server.pid, server)
    return list(servers.values())


def _runtime_folders(reader: Reader) -> list[str]:
    """The runtime folder by this user's variables, and those of the servers and kernels that run with others."""
    folders = [runtime_folder(reader)]
    for pid in some_processes(reader):
        command = reader.command_of(pid)
        connection = connection_in(command)
        if connection is not None and reader.path.isabs(connection):
            folders.append(reader.parent(connection))
        elif _may_be_server(reader, command):
            process = reader.process(pid)
            if process is not None and process.variables:
                folders.append(runtime_folder(reader.seen_by(process.variables, process.folder)))
    only = reader.variable(ONLY_BELOW)
    more = [folder for folder in folders[1:] if not only or reader.inside(folder, only)]
    return list(dict.fromkeys([folders[0], *more]))


def _may_be_server(reader: Reader, command: tuple[str, ...]) -> bool:
    """Whether a command line is that of a notebook server: its script, or the module after ``-m``."""
    names = [reader.name(word).lower().removesuffix(".exe") for word in command[:6]]
    return any(name.startswith("jupyter") or name == "notebook" for name in names)


def _read(reader: Reader, path: str) -> RunningServer | None:
    try:
        document = json.loads(reader.read(path, _FILE_LIMIT).decode("utf-8"))
    except (Unreadable, ValueError, RecursionError):
        return None
    if not isinstance(document, dict) or not isinstance(document.get("pid"), int):
        return None
    process, status = reader.process(document["pid"]), reader.status(path)
    if process is None or not isinstance(status, FileStat):
        return None
    if process.started is not None and process.started > status.modified_ns / 1e9 + _LATER:
        return None  # another process has its number now
    port = document.get("port")
    port = port if isinstance(port, int) and not isinstance(port, bool) and 0 < port < 65536 else None
    scheme = "https" if document.get("secure") else "http"
    base = document.get("base_url") if isinstance(document.get("base_url"), str) else "/"
    # Kalyx asks only on the loopback address, whatever name the server gives.
    address = f"{scheme}://127.0.0.1:{port}{base}" if port else ""
    root = document.get("root_dir") or document.get("notebook_dir")
    token = document.get("token")
    is_own = reader.system == "windows" or status.owner == reader.user
    return RunningServer(
        pid=document["pid"],
        port=port,
        folder=root if isinstance(root, str) else process.folder or "",
        path=path,
        address=address,
        process=process,
        server=_as_server(reader, process),
        token=token if isinstance(token, str) else "",
        is_own=is_own,
    )


def _as_server(reader: Reader, process: Process) -> Server:
    """The view of this server: its interpreter, by the word it was started by, and its variables."""
    from kalyx.core.seats.callers import started_as

    variables = dict(process.variables or {})
    text = f"the server with process {process.pid}"
    executable = started_as(reader, process)
    own = reader.seen_by(variables, process.folder) if variables else reader
    interpreter = interpreter_at(own, executable or None)
    return Server(interpreter, variables or reader.variables, text, process.folder)


def server_seat(reader: Reader, running: RunningServer) -> Seat:
    """A running notebook server as a seat: the process it is."""
    seat = process_seat(reader, running.process, f"server with process {running.pid}")
    means = f"python3 means {seat.interpreter.executable} there" if seat.interpreter else ""
    return replace(
        seat,
        seat="server",
        name=f"port {running.port}" if running.port else f"process {running.pid}",
        folder=running.folder or seat.folder,
        source=running.path,
        label=f"serves {running.folder}; {means}",
    )


def listed_by(running: RunningServer, ask: Ask) -> dict[str, dict[str, object]]:
    """The kernels it lists: id to the content of the kernel file, which is all it tells. Raises Unreadable."""
    text = ask(running, "api/kernelspecs")
    specs = nested(text, "kernelspecs")
    if not isinstance(specs, dict):
        raise Unreadable(running.path, "its list of kernels could not be read")
    rows = {str(name): nested(item, "spec") for name, item in specs.items()}
    return {name: spec if isinstance(spec, dict) else {} for name, spec in rows.items()}


def sessions_of(running: RunningServer, ask: Ask) -> dict[str, tuple[str, str]]:
    """What runs in it: id of the live kernel to (notebook, id of its spec). Raises Unreadable."""
    text = ask(running, "api/sessions")
    rows = {}
    for item in text if isinstance(text, list) else []:
        kernel = nested(item, "kernel")
        if isinstance(kernel, dict):
            rows[str(kernel.get("id"))] = (str(item.get("path") or ""), str(kernel.get("name") or ""))
    return rows
