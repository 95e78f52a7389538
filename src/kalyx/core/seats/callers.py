"""Who started Kalyx: the user's real shell, and the program behind the call."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from kalyx.core.system import Reader
from kalyx.core.system.reader import Process
from kalyx.core.text.shells import SHELLS, shell_called

_MANY_IN_ONE = "busybox"  # the shell is the program that starts others
_PROCESSES = 20_000
_PYTHON_STARTS = ("python", "pypy")
_REMOVED = " (deleted)"
# The process that types lines into a shell for a user (the demo): those lines have no other caller.
TYPED_BY = "KALYX_TYPED_BY"


class ShellFound(Struct, frozen=True):
    """The user's shell: its name, its process, and how it is known."""

    name: str
    pid: int | None
    known_by: str
    is_typed_into: bool = True
    is_login: bool = False


def program_name(process: Process) -> str:
    """The plain name of a process's program: ``-bash`` and ``bash.exe`` are ``bash``."""
    for word in (process.executable, process.command[0] if process.command else None, process.name):
        if word:
            name = word.replace("\\", "/").rpartition("/")[2].removesuffix(_REMOVED)
            return name.lstrip("-").lower().removesuffix(".exe")
    return ""


def above(reader: Reader, process: Process | None) -> Iterator[Process]:
    """The processes above one, nearest first, up to the system's first."""
    for _ in range(64):
        process = reader.process(process.parent) if process is not None and process.parent else None
        if process is None:
            return
        yield process


def ancestors(reader: Reader) -> Iterator[Process]:
    """The processes above Kalyx's own, nearest first."""
    return above(reader, reader.process(reader.pid))


def is_launcher_of(reader: Reader, process: Process, child: Process) -> bool:
    """Whether a process only waits for its child: the ``python.exe`` of a Windows environment starts its base's."""
    if reader.system != "windows" or not program_name(process).startswith(_PYTHON_STARTS):
        return False
    return process.pid == child.parent and process.command[1:] == child.command[1:]


def is_shell(process: Process) -> bool:
    """Whether a program's name is that of a shell."""
    name = program_name(process)
    if name in SHELLS or name == _MANY_IN_ONE:
        return True
    return len(process.command) > 1 and process.command[1].endswith("/xonsh")  # a program of an interpreter


def _goes_on_in_windows(name: str, options: list[str]) -> bool:
    """Whether cmd or PowerShell goes on reading what is typed (``cmd /?``, about_PowerShell_exe)."""
    if name == "cmd":  # options may be written together: /s/c
        letters = [part[:1] for word in options if word.startswith("/") for part in word.split("/")[1:]]
        return next((letter == "k" for letter in letters if letter in ("c", "r", "k")), True)
    if any(word.startswith("-noe") for word in options):
        return True
    runs = (word.startswith(("-c", "-f", "-en")) or word in ("-e", "-ec") or word.endswith(".ps1") for word in options)
    return not any(runs)


def is_interactive_shell(process: Process) -> bool:
    """A shell that a person types into: given neither a script nor a command, or first in a terminal of its own.

    A command given with ``-c`` never counts: kernels run shell lines that way, in a terminal of their own too.
    """
    if not is_shell(process):
        return False
    name = program_name(process)
    if shell_called(name).language in ("cmd", "powershell"):
        return _goes_on_in_windows(name, [word.lower() for word in process.command[1:]])
    if process.leads_terminal and not any(word in ("/c", "/C") or _has_c(word) for word in process.command[1:]):
        return True
    for word in process.command[1:]:
        if not word.startswith(("-", "/", "+")) or word in ("-c", "/c", "/C") or _has_c(word):
            return False
        if word.startswith("/") and len(word) > 3:
            return False
    return True


def _is_typed_into(process: Process) -> bool:
    """Whether it reads the start files of a shell that is typed into: told so, or given nothing to run."""
    letters = [word for word in process.command[1:] if word.startswith("-") and not word.startswith("--")]
    return any("i" in word for word in letters) or is_interactive_shell(process)


def _is_login(process: Process) -> bool:
    words = process.command
    letters = [word for word in words[1:] if word.startswith("-") and not word.startswith("--")]
    return words[:1] != () and words[0].startswith("-") or "--login" in words or any("l" in word for word in letters)


def _has_c(word: str) -> bool:
    return word.startswith("-") and not word.startswith("--") and "c" in word[1:]


def find_shell(reader: Reader) -> ShellFound:
    """The nearest shell above Kalyx; where there is none, the one the variables name."""
    for process in ancestors(reader):
        if is_shell(process):
            name = program_name(process)
            if name.startswith(_PYTHON_STARTS):
                name = "xonsh"
            name = "sh" if name in (_MANY_IN_ONE, "ash") else name
            return ShellFound(name, process.pid, "the process above", _is_typed_into(process), _is_login(process))
    if reader.system == "windows":
        name = "powershell" if reader.variable("PSModulePath") and not reader.variable("PROMPT") else "cmd"
        return ShellFound(name, None, "variables")
    named = reader.variable("SHELL") or ""
    name = named.rpartition("/")[2]
    return ShellFound(name if name in SHELLS else "sh", None, "the variable SHELL")


def find_caller(reader: Reader) -> Process | None:
    """The nearest process above that runs Python, unless a person's shell stands between."""
    own = reader.process(reader.pid)
    for process in above(reader, own):
        if own is not None and process.pid == own.parent and is_launcher_of(reader, process, own):
            continue
        if is_interactive_shell(process) or str(process.pid) == reader.variable(TYPED_BY):
            return None
        if program_name(process).startswith(_PYTHON_STARTS):
            return process
    return None


def some_processes(reader: Reader) -> Sequence[int]:
    """The numbers of the processes to look at: all of them, to a limit that is told where it is reached."""
    return reader.first_of(reader.processes(), _PROCESSES, "processes")


def python_processes(reader: Reader) -> Iterator[Process]:
    """The processes of this user that run Python, Kalyx's own left out; others are not read further."""
    running = []
    for pid in some_processes(reader):
        program = reader.program_of(pid) if pid != reader.pid else None
        if program is not None and reader.name(program).lower().startswith(_PYTHON_STARTS):
            process = reader.process(pid)
            if process is not None and program_name(process).startswith(_PYTHON_STARTS):
                running.append(process)
    launchers = {child.parent for child in running if reader.system == "windows"}
    for process in running:
        if process.pid in launchers and any(is_launcher_of(reader, process, child) for child in running):
            continue
        yield process


def connection_file_of(process: Process) -> str | None:
    """The connection file a kernel process was started with, or None when it is no kernel."""
    return connection_in(process.command)


def connection_in(command: tuple[str, ...]) -> str | None:
    """The connection file among the words of a command, or None."""
    for position, word in enumerate(command):
        if word in ("-f", "--connection-file") and position + 1 < len(command):
            following = command[position + 1]
            if following.endswith(".json"):
                return following
        option, _, value = word.partition("=")
        if option in ("--f", "--connection-file") and value:
            return value
    return None


def is_removed(reader: Reader, process: Process) -> bool:
    """Whether the file of a process's program was removed or replaced after the process had started (proc(5))."""
    path = process.executable or ""
    return path.endswith(_REMOVED) and not reader.exists(path)


def started_as(reader: Reader, process: Process) -> str | None:
    """The path a process was started by: its first word where that leads to its real file.

    The system names the real file, which is the base's for an environment's
    link; the word it was started by tells which environment. On Windows the process above is the environment's.
    """
    if reader.system == "windows" and process.parent:
        upper = reader.process(process.parent)
        if upper is not None and upper.executable and is_launcher_of(reader, upper, process):
            return upper.executable
    real = process.executable
    if real is not None and is_removed(reader, process):
        real = real.removesuffix(_REMOVED)
    word = process.command[0] if process.command else ""
    is_path = bool(reader.path.dirname(word))
    if is_path:
        candidate = reader.absolute(word, process.folder)
    elif word and process.variables is not None:
        candidate = next(reader.lookup(word, process.variables.get("PATH", "")), "")
    else:
        return real
    if real is None or (is_path and not reader.exists(real)):
        return candidate or real
    return candidate if candidate and reader.real(candidate) == reader.real(real) else real
