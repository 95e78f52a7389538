"""Kalyx's own files in the user's folders: where they are, and when their content is believed.

A file is believed only where it is a regular file and no link, belongs to this user (or to root), and nobody else may
write it. The reader of a file also checks its structure.
"""

from __future__ import annotations

from typing import Literal

from kalyx.core.system.reader import Reader, Refused, Unreadable

Purpose = Literal["cache", "state", "data"]

# By system: the variable that names the folder, the folder below the home folder otherwise, and what follows "kalyx".
_FOLDERS = {
    ("linux", "cache"): ("XDG_CACHE_HOME", (".cache",), ()),
    ("linux", "state"): ("XDG_STATE_HOME", (".local", "state"), ()),
    ("linux", "data"): ("XDG_DATA_HOME", (".local", "share"), ()),
    ("macos", "cache"): ("", ("Library", "Caches"), ()),
    ("macos", "state"): ("", ("Library", "Application Support"), ()),
    ("macos", "data"): ("", ("Library", "Application Support"), ()),
    ("windows", "cache"): ("LOCALAPPDATA", ("AppData", "Local"), ("Cache",)),
    ("windows", "state"): ("LOCALAPPDATA", ("AppData", "Local"), ()),
    ("windows", "data"): ("LOCALAPPDATA", ("AppData", "Local"), ()),
}  # fmt: skip


def own_folder(reader: Reader, purpose: Purpose) -> str:
    """Kalyx's folder for this purpose: the system's usual one (on Linux by the XDG Base Directory Specification)."""
    variable, below, more = _FOLDERS[(reader.system, purpose)]
    base = (reader.variable(variable) if variable else None) or reader.join(reader.home, *below)
    return reader.join(base, "kalyx", *more)


def believed(reader: Reader, path: str, limit: int) -> bytes:
    """The content of one of Kalyx's own files, at most ``limit`` bytes. Raises Unreadable for what is not believed."""
    kind = reader.kind(path)
    if isinstance(kind, str) and kind != "file":
        raise Unreadable(path, f"it is a {kind}, and Kalyx keeps a regular file there")
    reason = distrust(reader, path)
    if reason is not None:
        raise Unreadable(path, reason)
    content = reader.read(path, limit + 1)
    if len(content) > limit:
        raise Unreadable(path, f"it is larger than {limit} bytes")
    return content


def distrust(reader: Reader, path: str) -> str | None:
    """Why a file or folder of Kalyx's own is not believed, by its owner and mode; None where it is, or is not there."""
    status = reader.status(path)
    if isinstance(status, Refused):
        return status.reason
    if status is None or reader.system == "windows":
        return None
    if reader.user >= 0 and status.owner not in (reader.user, 0):
        return f"it belongs to another user (number {status.owner})"
    if status.mode & 0o002:
        return "every user may write it"
    return None
