"""Which notebook server answers for a notebook or a folder. One rule, tried in this order:

1. the running server whose session runs the notebook now;
2. the running server whose root folder holds the notebook or the folder: the deepest root, then the latest start;
3. the server that would be started from here: the first notebook server command on ``PATH``;
4. this shell's Python, where ``PATH`` has no such command.

Only servers of this user answer. What another user's server lists is believed where the user names that server.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.kernels.folders import Server
from kalyx.core.model.records import Interpreter
from kalyx.core.seats.notebook import ENDING
from kalyx.core.seats.running import Live
from kalyx.core.seats.server import RunningServer
from kalyx.core.system import Reader

# Commands that start a notebook server, likeliest first; the names are the programs' own.
_SERVER_COMMANDS = ("jupyter-lab", "jupyter-notebook", "jupyter")


def running_server(
    reader: Reader, servers: list[RunningServer], subject: str, lives: list[Live]
) -> tuple[RunningServer, Server] | None:
    """The running server that answers for a notebook or a folder, with the reason; None where none does.

    ``lives``: the running kernels with their notebooks, needed where ``subject`` is a notebook.
    """
    live = live_of(reader, lives, subject)
    if live is not None and live.server is not None:
        return live.server, called(live.server, "it runs this notebook now")
    real = reader.real(subject)
    holding = [server for server in servers if server.is_own and server.folder and _holds(reader, server, real)]
    if not holding:
        return None
    holding.sort(key=lambda server: (len(reader.real(server.folder)), server.process.started or 0.0), reverse=True)
    first, what = holding[0], "notebook" if subject.endswith(ENDING) else "folder"
    why = f"it serves {first.folder}, which holds this {what}" if first.folder != subject else "it serves this folder"
    rivals = [
        server for server in holding[1:] if reader.same_path(reader.real(server.folder), reader.real(first.folder))
    ]
    if rivals:
        others = ", ".join(_name(server) for server in rivals)
        why += f", and was started last; so does {others} (--seen-by server:{rivals[0].port or rivals[0].pid})"
    return first, called(first, why)


def _holds(reader: Reader, running: RunningServer, real: str) -> bool:
    """Whether a server's root holds a path, and the process that its file names is the one that listens there."""
    if not reader.inside(real, reader.real(running.folder)):
        return False
    return running.port is not None and reader.listens(running.pid, running.port) is not False


def live_of(reader: Reader, lives: list[Live], notebook: str) -> Live | None:
    """The running kernel of a notebook, by what its server says; None where none runs."""
    real = reader.case(reader.real(notebook))
    return next((live for live in lives if live.notebook and reader.case(reader.real(live.notebook)) == real), None)


def _name(running: RunningServer) -> str:
    return f"the server on port {running.port}" if running.port else f"the server with process {running.pid}"


def called(running: RunningServer, why: str) -> Server:
    """A running server under its port and environment, with the reason why it is the one that answers."""
    interpreter = running.server.interpreter
    whose = f", from {interpreter.prefix}" if interpreter is not None else ""
    return replace(running.server, said_as=_name(running) + whose, why=why)


def server_to_start(reader: Reader, interpreter: Interpreter | None) -> Server:
    """The server that would be started from here; ``interpreter``: the shell's own, where ``PATH`` has no server."""
    for word, path in _commands(reader):
        line = interpreter_of_script(reader, path)
        own = interpreter_at(reader, line.path)
        if own is None:
            continue
        name = f"the server that {word} would start, from {own.prefix}"
        return Server(
            own,
            reader.variables,
            name,
            why=f"no server that runs serves this folder; {word} is the first server command on PATH",
        )
    name = "a server started by this shell's python" if interpreter else "any server started from this shell"
    why = "no server that runs serves this folder, and PATH has no server command"
    return Server(interpreter, reader.variables, name, why=why)


def _commands(reader: Reader) -> Iterator[tuple[str, str]]:
    """The notebook server commands on ``PATH``, by its folders, then by how likely each is typed."""
    commands = [(word, path) for word in _SERVER_COMMANDS for path in reader.lookup(word)]
    folders = reader.path_folders()
    order = {folder: number for number, folder in reversed(list(enumerate(folders)))}
    commands.sort(key=lambda pair: order.get(reader.parent(pair[1]), len(folders)))  # stable: the words stay in order
    yield from commands
