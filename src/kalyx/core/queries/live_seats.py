"""Seats asked on request: a shell what its start files define, a running kernel who it is.

A shell is started in its three ways, which runs its start files: only on request.
A kernel is first asked who it is; code runs in it only when it answered at once,
so that nothing waits in a busy kernel's queue, and silently, so that nothing
stays in its history.
"""

from __future__ import annotations

import ast
import json
from collections.abc import Callable
from typing import TYPE_CHECKING

from kalyx.core.interpreters.consent import brought_along, lies_in_tree
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.kernels.wire import Session, WireError
from kalyx.core.machine import Machine
from kalyx.core.model.records import Part, Seat
from kalyx.core.seats.running import Live
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.nested import nested
from kalyx.core.text.shells import shell_called

if TYPE_CHECKING:
    from kalyx.core.system.loopback import Connection

_AT_ONCE = 2.0

_EXPRESSION = "[__import__('sys').executable, __import__('sys').prefix, __import__('os').getcwd()]"


# Whether a module is loaded, from which file, and where its top one would be found. Names only: nothing is imported.
_HELD = (
    "['{module}' in __import__('sys').modules,"
    " getattr(__import__('sys').modules.get('{module}'), '__file__', None),"
    " (lambda spec: spec and (spec.origin or list(spec.submodule_search_locations or ['']))[0:999])"
    "(__import__('importlib.util', None, None, ['']).find_spec('{top}'))]"
)


def ask_shell(machine: Machine) -> list[Part]:
    """What ``python`` and the installer are in each way of starting the user's shell, in its own words."""
    shell = shell_called(machine.shell.name)
    parts = []
    program = _program_of_shell(machine)
    if program is None or machine.runner is None:
        return []
    for mode, flags in shell.modes.items():
        for word in ("python", "pip"):
            asked = f"{shell.tells} {word}"
            with machine.runner.empty_folder() as empty:
                ended = machine.runner.run(
                    [program, *flags, asked],
                    variables=machine.reader.variables,
                    folder=empty,
                    seconds=min(machine.seconds, 10.0),
                )
            text = ended.output.decode("utf-8", "replace").strip().splitlines()
            reason = text[-1][:300] if text else "it gave no answer" if ended.timed_out else f"no {word}"
            path = next(
                (piece.strip("'\"") for piece in reversed(reason.split()) if piece.strip("'\"").startswith("/")), None
            )
            is_python = path is not None and word == "python" and "alias" not in reason
            interpreter = interpreter_at(machine.reader, path) if is_python else None
            shown = path if is_python else None
            parts.append(Part(role=mode, word=word, reason=reason, path=shown, interpreter=interpreter))
    return parts


def _program_of_shell(machine: Machine) -> str | None:
    """The program of the shell that Kalyx was started from: of its process, else by SHELL, else the first on PATH.

    None where that is in the folder's tree: somebody else may have put it there under a shell's name.
    """
    reader, shell = machine.reader, machine.shell
    process = reader.process(shell.pid) if shell.pid is not None else None
    named = reader.variable("SHELL") or ""
    result = [process.executable] if process is not None and process.executable else []
    result += [named] if reader.path.isabs(named) and reader.name(named) == shell.name else []
    result += list(reader.lookup(shell.name))
    usable = (path for path in result if reader.is_file(path) and lies_in_tree(reader, path) is None)
    return next((path for path in usable if brought_along(reader, path) is None), None)


def ask_kernel(machine: Machine, live: Live) -> dict[str, str] | str:
    """Who a running kernel says it is (executable, prefix, folder), or why it could not be asked."""
    answer = _evaluated(machine, live, _EXPRESSION)
    if isinstance(answer, str):
        return answer
    executable, prefix, folder = answer
    return {"executable": str(executable), "prefix": str(prefix), "folder": str(folder)}


def held_by(machine: Machine, seat: Seat, module: str) -> str:
    """What the process of a seat holds of a module, in one line.

    A kernel is asked; of another program of this user the files that it has mapped and open are looked at.
    """
    reader, top = machine.reader, module.split(".")[0]
    assert seat.pid is not None
    live = next((live for live in machine.servers.lives if live.process.pid == seat.pid), None)
    if live is None:
        files = [*reader.loaded_by(seat.pid), *reader.opened_by(seat.pid)]
        held = next((path for path in files if _is_of(reader, path, top)), None)
        if held is not None:
            return f"process {seat.pid} has {held} open"
        return f"process {seat.pid} has no file of {top} open; what it loaded and closed only that process can tell"
    answer = _evaluated(machine, live, _HELD.format(module=module, top=top))
    if isinstance(answer, str):
        return f"process {seat.pid} was not asked: {answer}"
    is_loaded, file, origin = answer
    if is_loaded:
        return f"process {seat.pid} holds {module} from {file or 'no file'}"
    if origin:
        return f"process {seat.pid} has not loaded {module} and would find {top} in {origin}"
    return f"process {seat.pid} has not loaded {module} and finds no {top}"


def _is_of(reader: Reader, path: str, top: str) -> bool:
    return any(word == top or word.startswith(top + ".") for word in path.replace("\\", "/").split("/"))


def _evaluated(machine: Machine, live: Live, expression: str) -> list[object] | str:
    """The three values of an expression in a running kernel, left out of its history; or why the kernel gave none."""
    assert machine.runner is not None
    if not machine.runner.is_live:
        return "it runs on the captured machine, and the capture holds no answer of it"
    loopback = machine.runner.loopback
    try:
        document = json.loads(machine.reader.read_text(live.connection, 65536))
        connection = loopback.to_running(document)
    except (Unreadable, ValueError, KeyError, TypeError) as problem:
        return f"its connection file cannot be used: {problem}"
    with connection:
        try:
            connection.open()
        except ValueError as problem:
            return f"its connection file cannot be used: {problem}"
        session = Session(connection.key.encode("utf-8", "surrogateescape"))
        identifier, frames = session.request("kernel_info_request", {})
        connection.send("shell", frames)
        if _reply(connection, session, identifier, loopback.clock, _AT_ONCE) is None:
            return "it is busy or does not answer at once, so nothing was put into its queue"
        content = {"code": "", "silent": True, "store_history": False, "allow_stdin": False, "stop_on_error": False,
                   "user_expressions": {"kalyx": expression}}  # fmt: skip
        identifier, frames = session.request("execute_request", content)
        connection.send("shell", frames)
        reply = _reply(connection, session, identifier, loopback.clock, min(machine.seconds, 5.0))
    try:
        told = nested(reply, "user_expressions", "kalyx", "data", "text/plain")
        first, second, third = ast.literal_eval(str(told))
        return [first, second, third]
    except (TypeError, ValueError, SyntaxError):
        return "it answered, and what it said could not be read"


def _reply(
    connection: Connection, session: Session, identifier: str, clock: Callable[[], float], seconds: float
) -> dict[str, object] | None:
    until = clock() + seconds
    while clock() < until:
        result = connection.receive(("shell",), max(0.01, until - clock()))
        if result is None:
            continue
        try:
            message = session.read(result[1])
        except WireError:
            continue
        if message.parent == identifier and not message.signed_wrongly:
            return message.content
    return None
