"""Launchers that are not interpreters: version managers' shims and small scripts.

A shim is a script of one name for all versions; which interpreter it starts is
decided by a variable, by a file in the folder or above it, and by a file of
the manager. The table says which; reading it starts nothing.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from kalyx.core.system import Reader
from kalyx.core.text.numbers import are_numbers
from kalyx.core.text.shells import is_posix


class ShimRule(Struct, frozen=True):
    """How one form of shim chooses: the folder that holds it and where the choice is written."""

    folder: str
    variable: str
    local_file: str
    global_file: str
    versions: str


class Followed(Struct):
    """The program that a launcher starts, and the source of that."""

    path: str
    because: str
    words: tuple[str, ...] = ()  # in front of the launcher's own
    sets: tuple[tuple[str, str], ...] = ()


class Unknown(Struct):
    """The reason why it is not known what a launcher starts."""

    reason: str


_SCRIPT_LIMIT = 32 * 1024

# Names in this table are dictated by the files and variables themselves.
RULES = [ShimRule("shims", "PYENV_VERSION", ".python-version", "version", "versions")]

SYSTEM_WORD = "system"


def follow(
    reader: Reader, executable: str, start: bytes, variables: Mapping[str, str] | None = None
) -> Followed | Unknown | None:
    """What a launcher starts; Unknown where reading cannot tell; None when the script is no launcher."""
    if not start.startswith(b"#!"):
        # A text without a first line is run by the shell that finds such a file.
        if not start or b"\0" in start or reader.system == "windows" or not reader.may_run(executable):
            return None
        followed = _by_script(reader, executable, b"#!/bin/sh\n", variables)
        return followed if isinstance(followed, Followed) else None
    for rule in RULES:
        if reader.name(reader.parent(executable)) == rule.folder:
            root = reader.parent(reader.parent(executable))
            if reader.is_folder(reader.join(root, rule.versions)):
                return _by_rule(reader, rule, root, reader.name(executable))
    return _by_script(reader, executable, start, variables)


# Where macOS' developer tools are unless a link says otherwise (xcode-select(1)), in its order.
_TOOLS_LINK = "/var/db/xcode_select_link"
_TOOLS = ("/Applications/Xcode.app/Contents/Developer", "/Library/Developer/CommandLineTools")


def system_starter(reader: Reader, executable: str) -> Followed | Unknown | None:
    """What macOS' own ``/usr/bin/python3`` starts: it is no interpreter, but starts that of the developer tools."""
    if reader.system != "macos" or reader.parent(executable) != "/usr/bin":
        return None
    name = reader.name(executable)
    if not name.startswith(("python", "pip")) or name.startswith("python2"):
        return None
    chosen = reader.real(_TOOLS_LINK) if reader.may_be_there(_TOOLS_LINK) else None
    for root in [chosen] if chosen else _TOOLS:
        candidate = reader.join(root, "usr", "bin", name)
        if reader.may_be_there(candidate):
            return Followed(candidate, f"the developer tools in {root}")
    return Unknown("the system's starter for the developer tools, which have no such program here")


def _by_rule(reader: Reader, rule: ShimRule, root: str, word: str) -> Followed | Unknown:
    chosen, source = _choice(reader, rule, root)
    for version in chosen:
        if version == SYSTEM_WORD:
            shim_folder = reader.join(root, rule.folder)
            path = ":".join(f for f in reader.path_folders() if not reader.same_path(f, shim_folder))
            for candidate in reader.lookup(word, path):
                return Followed(candidate, source)
            continue
        for name in (version, version.removeprefix("python-")):
            folder = _installed(reader, reader.join(root, rule.versions), name)
            candidate = reader.join(root, rule.versions, folder, "bin", word) if folder else ""
            if candidate and reader.is_file(candidate):
                return Followed(candidate, source)
    wanted = ", ".join(chosen) or "nothing"
    return Unknown(f"a version manager's launcher; {source} chooses {wanted}, which has no {word}")


def _installed(reader: Reader, versions: str, name: str) -> str | None:
    """The installed version that ``name`` means: itself, or the latest one below it (3.9 means 3.9.18)."""
    if not name or "/" in name or "\\" in name or name in (".", ".."):
        return None
    if reader.is_folder(reader.join(versions, name)):
        return name
    below = [n for n in reader.names(versions) if n.startswith(name + ".") and are_numbers(n)]
    return max(below, key=lambda n: [int(part) for part in n.split(".")], default=None)


def _choice(reader: Reader, rule: ShimRule, root: str) -> tuple[list[str], str]:
    value = reader.variable(rule.variable)
    if value:
        return value.split(":"), f"the variable {rule.variable}"
    folder = reader.folder
    while True:
        path = reader.join(folder, rule.local_file)
        words = _words(reader, path)
        if words:
            return words, path
        upper = reader.parent(folder)
        if upper == folder:
            break
        folder = upper
    path = reader.join(root, rule.global_file)
    words = _words(reader, path)
    return (words, path) if words else ([SYSTEM_WORD], "no choice made")


def _words(reader: Reader, path: str) -> list[str]:
    if not reader.may_be_there(path):
        return []
    text = reader.text_or_none(path, 4096) or ""
    return [word for line in text.splitlines() for word in line.split("#")[0].split()]


def _by_script(
    reader: Reader, executable: str, start: bytes, variables: Mapping[str, str] | None
) -> Followed | Unknown | None:
    """What a shell script starts; None for a script of another program, and for an installer's two-line form."""
    lines = start.decode("utf-8", "surrogateescape").split("\n", 2)
    words = lines[0][2:].split()
    program = reader.name(words[-1] if words and reader.name(words[0]) == "env" else words[0]) if words else ""
    from kalyx.core.interpreters.shell_script import start_of  # most launchers are no scripts
    from kalyx.core.interpreters.shell_syntax import Unsettled

    if not is_posix(program) or (len(lines) > 1 and lines[1].startswith("'''exec' ")):
        return None
    text = reader.text_or_none(executable, _SCRIPT_LIMIT)
    try:
        started = start_of(reader, executable, text or "", variables or reader.variables, program, "".join(words[1:2]))
    except Unsettled as reason:
        return Unknown(str(reason))
    path = str(reader.path.normpath(started.path))
    path = path if reader.same_path(reader.real(path), reader.real(started.path)) else started.path
    return Followed(path, "the script's last command", started.words, started.sets)
