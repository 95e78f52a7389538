"""Whether an environment is in a version-controlled folder where it does not belong.

Read from the files of the version control itself: its index (the "index
format" document, versions 2 to 4) for what is tracked, ignore files (the
"gitignore" document) for what is left out. No program is started, since a
folder's own configuration could make that run something.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.once import once
from kalyx.core.text.lines import lines_of

if TYPE_CHECKING:
    from pathspec import GitIgnoreSpec

_INDEX_LIMIT = 64 * 1024 * 1024
_NAME_LIMIT = 4096
_PATTERNS, _PATTERN_LIMIT, _STARS = 5000, 1000, 4


def repository_of(reader: Reader, folder: str) -> str | None:
    """The nearest folder at or above that holds a repository, or None."""
    while not _holds_repository(reader, folder):
        if reader.parent(folder) == folder:
            return None
        folder = reader.parent(folder)
    return folder


@once
def _holds_repository(reader: Reader, folder: str) -> bool:
    return reader.is_there(reader.join(folder, ".git"))


def _control_folder(reader: Reader, repository: str) -> str | None:
    path = reader.join(repository, ".git")
    if reader.is_folder(path):
        return path
    text = reader.text_or_none(path, 4096) or ""
    if text.startswith("gitdir:"):
        return reader.absolute(text.removeprefix("gitdir:").strip(), repository)
    return None


def _shared_folder(reader: Reader, control: str) -> str:
    """Where what all worktrees of a repository share is: its control folder, which a worktree's own one names."""
    text = reader.text_or_none(reader.join(control, "commondir"), 4096) or ""
    return reader.path.normpath(reader.absolute(text.strip(), control)) if text.strip() else control


def _user_patterns(reader: Reader, control: str) -> list[str]:
    """The ignore file of the user's own: the one that settings name (the last word counts), else the usual place."""
    base = reader.variable("XDG_CONFIG_HOME") or reader.join(reader.home, ".config")
    named = reader.join(base, "git", "ignore")
    for path in ("/etc/gitconfig", reader.join(base, "git", "config"), reader.join(reader.home, ".gitconfig"),
                 reader.join(control, "config")):  # fmt: skip
        section = ""
        for _, line in lines_of(reader.text_or_none(path, 262144) or ""):
            line = line.strip()
            if line.startswith("["):
                section = line.strip("[]").strip().lower()
            key, equals, value = line.partition("=")
            if section == "core" and equals and key.strip().lower() == "excludesfile":
                named = reader.absolute(value.strip().strip('"'), reader.home)
    return [named]


def tracked_below(reader: Reader, repository: str, folder: str) -> int:
    """How many files below ``folder`` the index of the repository tracks."""
    start = _inner(reader, repository, folder) + b"/"
    return sum(1 for name in _tracked(reader, repository) if name.startswith(start))


def is_tracked(reader: Reader, repository: str, path: str) -> bool:
    """Whether the index of the repository tracks this file."""
    return _inner(reader, repository, path) in _tracked(reader, repository)


def _inner(reader: Reader, repository: str, path: str) -> bytes:
    return str(reader.path.relpath(path, repository)).replace("\\", "/").encode("utf-8", "surrogateescape")


@once
def _tracked(reader: Reader, repository: str) -> list[bytes]:
    """Every path that the index tracks, relative to the repository; none where it cannot be read."""
    control = _control_folder(reader, repository)
    try:
        index = reader.read(reader.join(control, "index"), _INDEX_LIMIT) if control is not None else b""
    except Unreadable:
        index = b""
    return _names_in_index(index)


def _names_in_index(index: bytes) -> list[bytes]:
    """The paths of an index; those read before anything odd, where something is."""
    if index[:4] != b"DIRC" or len(index) < 12:
        return []
    version, count = int.from_bytes(index[4:8], "big"), int.from_bytes(index[8:12], "big")
    names: list[bytes] = []
    at, before = 12, b""
    for _ in range(min(count, 1_000_000)):
        if at + 62 > len(index):
            break
        flags = int.from_bytes(index[at + 60 : at + 62], "big")
        name_at = at + 62 + (2 if version >= 3 and flags & 0x4000 else 0)
        if version == 4:
            strip, name_at = _variable_number(index, name_at)
            if strip > len(before):
                break
            end = index.find(b"\0", name_at)
            before = before[: len(before) - strip] + index[name_at:end]
            at = end + 1
        else:
            end = index.find(b"\0", name_at)
            before = index[name_at:end]
            at += (end - at + 8) // 8 * 8
        if end < 0 or len(before) > _NAME_LIMIT:
            break
        names.append(before)
    return names


def _variable_number(data: bytes, at: int) -> tuple[int, int]:
    value = data[at] & 0x7F
    end = min(len(data) - 1, at + 8)  # a longer number is none
    while at < end and data[at] & 0x80:
        at += 1
        value = ((value + 1) << 7) | (data[at] & 0x7F)
    return value, at + 1


def _usable(lines: Sequence[str]) -> list[str]:
    """The lines of an ignore file that are patterns; version control passes over the others too."""
    import pathspec

    result = []
    for line in lines:
        # A pattern with many stars could take too long to match.
        if len(line) > _PATTERN_LIMIT or any(part.count("*") + part.count("[") > _STARS for part in line.split("/")):
            continue
        try:
            pathspec.GitIgnoreSpec.from_lines([line])
        except (ValueError, re.error, IndexError, RecursionError):
            continue
        result.append(line)
    return result


def _verdict(spec: GitIgnoreSpec, path: str) -> bool | None:
    """What the last pattern says that means this very path, and not a folder above; a folder ends in ``/``."""
    for pattern in reversed(spec.patterns):
        if pattern.include is None or pattern.regex is None:
            continue
        for match in pattern.regex.finditer(path):
            mark = match.groupdict().get("ps_d")  # the library's name for the "/" after the folder that a pattern means
            is_of_contents = mark is None and path.endswith("/") and not pattern.regex.search(path[:-1])
            if not is_of_contents and (mark is None or match.end("ps_d") == len(path)):
                return bool(pattern.include)
    return None


def is_ignored(reader: Reader, repository: str, folder: str) -> bool:
    """Whether the ignore files leave out what makes a folder an environment: its settings, its interpreter.

    A folder that is left out takes all below it along; in any other the nearest ignore file decides.
    """
    import pathspec

    inner = reader.path.relpath(folder, repository).replace("\\", "/")
    words = [] if inner == "." else inner.split("/")
    shared = _shared_folder(reader, _control_folder(reader, repository) or "")
    places = [(path, "") for path in (*_user_patterns(reader, shared), reader.join(shared, "info", "exclude"))]
    places += [(reader.join(repository, ".gitignore"), "")]
    for depth in range(1, len(words) + 1):
        places.append((reader.join(repository, *words[:depth], ".gitignore"), "/".join(words[:depth]) + "/"))
    rules = []
    for path, start in places:
        text = reader.text_or_none(path, 262144)
        if text is not None:
            usable = _usable(reader.first_of(text.splitlines(), _PATTERNS, path))
            rules.append((start, pathspec.GitIgnoreSpec.from_lines(usable)))

    def is_left_out(path: str) -> bool:
        applied = (_verdict(spec, path[len(start) :]) for start, spec in reversed(rules) if path.startswith(start))
        return next((verdict for verdict in applied if verdict is not None), False)

    program = "Scripts/python.exe" if reader.system == "windows" else "bin/python"
    return all(
        any(is_left_out(path[: end.end()]) for end in re.finditer("/|$", path))
        for path in ("/".join([*words, "pyvenv.cfg"]), "/".join([*words, program]))
    )
