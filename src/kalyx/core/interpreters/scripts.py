"""Which interpreter a script starts, by its first line.

Covers the plain form, ``env``, the form installers write when the path is long
or has spaces, and the launchers of Windows, which carry the line at their end.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from kalyx.core.interpreters import shims
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import FileStat, variable_of
from kalyx.core.text.patterns import pattern

# A call by which a Python script starts another program in its place.
_GOES_ON = pattern(rb"\bos\.exec[lv]")


class FirstLine(Struct):
    """The interpreter a script names (None where it names none), the line, and why not.

    ``is_unknown``: what the script starts is not known, because it cannot be read, or only running it tells.
    """

    path: str | None
    line: str
    reason: str | None = None
    script: str = ""
    is_unknown: bool = False


def interpreter_of_script(reader: Reader, script: str, variables: Mapping[str, str] | None = None) -> FirstLine:
    """The interpreter that starting ``script`` would start."""
    for _ in range(8):
        try:
            start = reader.read(script, 4096)
        except Unreadable as problem:
            return FirstLine(None, "", problem.reason, script, is_unknown=True)
        following = shims.follow(reader, script, start, variables)
        if isinstance(following, shims.Unknown):
            return FirstLine(None, "", following.reason, script, is_unknown=True)
        if following is None:
            break
        if reader.name(following.path).startswith(("python", "pypy")):
            return FirstLine(following.path, following.because, None, script)
        script = following.path
    if start.startswith(b"MZ"):
        return _launcher(reader, script)
    if not start.startswith(b"#!"):
        return FirstLine(None, "", "a program of its own, no script", script)
    lines = start.decode("utf-8", "surrogateescape").splitlines()
    first = lines[0][2:].strip()
    if len(lines) > 1 and lines[1].startswith("'''exec' "):
        remainder = lines[1][len("'''exec' ") :].strip()
        path = remainder[1:].split('"')[0] if remainder.startswith('"') else "".join(remainder.split()[:1])
        return FirstLine(path or None, lines[1], None if path else "a second line that names nothing", script)
    words = first.split()
    if not words:
        return FirstLine(None, lines[0], "an empty first line", script)
    if reader.name(words[0]) == "env":
        words = [word for word in words[1:] if not word.startswith("-") and "=" not in word]
        if not words:
            return FirstLine(None, lines[0], "a first line that names nothing", script)
        path_value = variable_of(reader.variables if variables is None else variables, "PATH", reader.system)
        result = next(reader.lookup(words[0], path_value), None)
        reason = None if result else f"{words[0]} is not on PATH"
        return FirstLine(result, lines[0], reason, script)
    if reader.name(words[0]).startswith(("python", "pypy")) and _GOES_ON.search(start):
        return FirstLine(None, lines[0], "a Python script that goes on to another program", script, is_unknown=True)
    # The system takes everything up to the first blank as the path.
    return FirstLine(words[0], lines[0], None, script)


def _launcher(reader: Reader, script: str) -> FirstLine:
    """A Windows launcher: an executable, the first line, then a zip."""
    status = reader.status(script)
    size = status.size if isinstance(status, FileStat) else 0
    try:
        tail = reader.read(script, 256 * 1024, max(0, size - 256 * 1024))
    except Unreadable as problem:
        return FirstLine(None, "", problem.reason, script, is_unknown=True)
    at = tail.rfind(b"#!")
    line = (
        tail[at : at + 1024].split(b"\n")[0].split(b"PK")[0].strip().decode("utf-8", "surrogateescape")
        if at >= 0
        else ""
    )
    path = line[2:].strip().strip('"')
    if not path.lower().endswith(".exe"):
        return FirstLine(None, "", "a program of its own, no script", script)
    return FirstLine(path, line, None, script)
