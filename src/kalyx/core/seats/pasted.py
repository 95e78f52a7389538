"""Seats that only the user can reach: a line to run in any console, and the parser of its output.

The line is standard-library Python, 2.7 to the newest. What it prints begins
with a word of Kalyx's own, so that it may stand anywhere in a pasted text or a
file. For shells another line lets them say what a child process cannot know.
"""

from __future__ import annotations

import json
from collections.abc import Iterator

from msgspec.structs import replace

from kalyx.core.model.records import Part, PartRole, Seat
from kalyx.core.seats.build import seat_from, silent_seat, starting
from kalyx.core.system import Reader
from kalyx.core.text.shells import Language, shell_called
from kalyx.core.text.visible import visible

MARK, SHELL_MARK, ENDING = "kalyx-seat", "kalyx-says", ".kalyx-seat"
_LIMIT = 1024 * 1024

PYTHON_LINE = (
    "import sys,os,json;print('kalyx-seat '+json.dumps({'executable':sys.executable,'prefix':sys.prefix,"
    "'base_prefix':getattr(sys,'base_prefix',sys.prefix),'version':'.'.join(map(str,sys.version_info[:3])),"
    "'folder':os.getcwd(),'pid':os.getpid(),'path':sys.path}))"
)

_WORDS = "python python3 pip pip3"
# What a shell itself says of the words: aliases, functions and remembered places too. "{}": how it tells of one word.
_LOOPS: dict[Language, tuple[str, str]] = {
    "posix": (f"for w in {_WORDS}; do {{}} 2>&1 | head -n 1 | sed 's/^/kalyx-says /'; done", '"$w"'),
    "fish": (f"for w in {_WORDS}; {{}} 2>&1 | head -n 1 | sed 's/^/kalyx-says /'; end", "$w"),
    "csh": (f"foreach w ({_WORDS})\n{{}} | sed 's/^/kalyx-says /'\nend", "$w"),
}
_IN_POWERSHELL = (
    "'python','python3','pip','pip3' | % { 'kalyx-says ' + $_ + ' is ' + (Get-Command $_ -EA 0 | % Source) }"
)


def line_of_shell(name: str) -> str | None:
    """The line by which a shell tells what it takes the words of Python for, or None where no line is known."""
    shell = shell_called(name)
    if shell.language == "powershell":
        return _IN_POWERSHELL
    if not shell.tells:
        return None
    loop, word = _LOOPS[shell.language]
    return loop.format(f"{shell.tells} {word}")


def lines_to_paste(shell: str) -> list[tuple[str, str]]:
    """The lines to run, each with where."""
    lines = [("in any Python console", PYTHON_LINE)]
    own = line_of_shell(shell)
    if own is not None:
        lines.append((f"in this {shell}", own))
    return lines


def pasted_seats(reader: Reader, folder: str, text: str) -> list[Seat]:
    """The seats told by a pasted text, and by files of the folder whose name ends so."""
    seats = list(_seats(reader, text, "pasted"))
    for name in reader.names(folder):
        if name.endswith(ENDING):
            path = reader.join(folder, name)
            seats += _seats(
                reader, reader.text_or_none(path, _LIMIT) or "", name.removesuffix(ENDING) or "pasted", path
            )
    return seats


def _seats(reader: Reader, text: str, name: str, path: str | None = None) -> Iterator[Seat]:
    number = 0
    message = []
    for line in text.splitlines():
        _, result, remainder = line.partition(MARK + " ")
        if result:
            number += 1
            seat = _seat(reader, remainder, name if number == 1 else f"{name} {number}")
            if seat is not None:
                yield replace(seat, source=path)
        _, result, remainder = line.partition(SHELL_MARK + " ")
        if result and remainder.strip():
            message.append(remainder.strip())
    if message:
        parts = [
            Part(role=_role(words), word=words.split()[0].strip("'\":,"), reason=words[:300]) for words in message[:20]
        ]
        reason = "the shell's own words: " + visible(message[0])[:200]
        seat = silent_seat("shell", f"{name}, as the shell itself says", reason, None, undecided=True, source=path)
        yield replace(seat, parts=parts)


def _role(words: str) -> PartRole:
    return "installer" if words.lstrip("'\"").startswith("pip") else "python"


def _seat(reader: Reader, text: str, name: str) -> Seat | None:
    try:
        message, _ = json.JSONDecoder().raw_decode(text.strip())
        executable, version = message["executable"], message["version"]
    except (ValueError, KeyError, TypeError, RecursionError):
        return None
    if not all(isinstance(item, str) and item for item in (executable, version)):
        return None
    folder = message.get("folder") if isinstance(message.get("folder"), str) else None
    part = starting(reader, executable)
    if part.interpreter is None:
        # A container or another machine: its paths say nothing about this one.
        reason = f"{visible(executable)} ({visible(version)}) is not on this machine: {part.reason}"
        return silent_seat("process", name, reason, folder, undecided=True)
    return replace(seat_from("process", name, part, folder), label="reported by the console itself")
