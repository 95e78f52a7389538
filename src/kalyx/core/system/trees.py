"""Folder trees: checked before anything in them is removed, and copied with all attributes of each file.

Links are never followed. A walk has no limit: a tree that cannot be read to its end is refused instead.
"""

from __future__ import annotations

import os
import shutil
import stat
import sys
from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.system.live_reader import mounts
from kalyx.core.system.reasons import reason_of

# The inode flags "immutable" and "append only" of Linux (ioctl_iflags(2)).
_GET_FLAGS, _FIXED = 0x80086601, 0x10 | 0x20


class Look(Struct):
    """The result of checking a tree: how many files, and the first reason why it cannot be removed completely."""

    files: int = 0
    obstacle: str | None = None


def look_through(top: str, owners: bool = True) -> Look:
    """Look at everything in a tree and at the folder that holds it. Raises nothing: a refusal is an obstacle.

    ``owners``: a file of another user is an obstacle too; to root one of another user than the top's.
    """
    result = Look()
    result.obstacle = _cannot_leave(top)
    try:
        first = os.lstat(top)
    except OSError as error:
        return Look(0, _refused(top, error))
    user = os.geteuid() if hasattr(os, "geteuid") else None
    owner = (first.st_uid if user == 0 else user) if owners else None
    mounted = {folder for folder, _ in mounts() if folder == top or folder.startswith(top.rstrip("/") + "/")}
    if mounted:
        result.obstacle = result.obstacle or f"{min(mounted)} is a mount point"
    for path, seen, problem in _walk(top):
        if problem is not None:
            result.obstacle = result.obstacle or problem
            continue
        assert seen is not None
        is_folder = stat.S_ISDIR(seen.st_mode)
        result.files += not is_folder
        if result.obstacle is None:
            result.obstacle = _obstacle(path, seen, first, owner, is_folder)
    return result


def _walk(top: str) -> Iterator[tuple[str, os.stat_result | None, str | None]]:
    """Each path of a tree with what the system says of it, the top first; or with the reason why it says nothing."""
    pending = [top]
    try:
        yield top, os.lstat(top), None
    except OSError as error:
        yield top, None, _refused(top, error)
        return
    while pending:
        folder = pending.pop()
        try:
            with os.scandir(folder) as entries:
                names = list(entries)
        except OSError as error:
            yield folder, None, _refused(folder, error)
            continue
        for entry in names:
            try:
                seen = os.lstat(entry.path) if sys.platform == "win32" else entry.stat(follow_symlinks=False)
            except OSError as error:
                yield entry.path, None, _refused(entry.path, error)
                continue
            yield entry.path, seen, None
            if stat.S_ISDIR(seen.st_mode) and not os.path.islink(entry.path):
                pending.append(entry.path)


def _obstacle(path: str, seen: os.stat_result, first: os.stat_result, owner: int | None, is_folder: bool) -> str | None:
    if seen.st_dev != first.st_dev:
        return f"{path} lies on another file system"
    if owner is not None and seen.st_uid != owner:
        return f"{path} belongs to another user (number {seen.st_uid})"
    if is_folder and not stat.S_ISLNK(seen.st_mode) and not os.access(path, os.W_OK | os.X_OK):
        return f"{path} may not be written"
    if _is_fixed(path, seen):
        return f"{path} is marked as not to be changed (immutable)"
    if sys.platform == "win32" and _is_held(path, is_folder):
        return f"{path} is open in a running program: end that program first"
    return None


_DELETE, _WRITE = 0x00010000, 0x40000000
_SHARED, _EXISTING, _ITSELF = 7, 3, 0x02000000 | 0x00200000  # a folder and a link are opened themselves
_SHARING_VIOLATION = 32


def _is_held(path: str, is_folder: bool) -> bool:
    """Whether Windows keeps a file because a program has it open, or runs it (CreateFileW, ``dwShareMode``)."""
    import ctypes

    library = ctypes.WinDLL("kernel32", use_last_error=True)  # type: ignore[attr-defined,unused-ignore]
    library.CreateFileW.restype = ctypes.c_void_p
    # What runs may be opened to be removed, and not be removed; it cannot be opened to be written.
    for access in (_DELETE,) if is_folder or not path.lower().endswith((".exe", ".dll", ".pyd")) else (_DELETE, _WRITE):
        handle = library.CreateFileW(path, access, _SHARED, None, _EXISTING, _ITSELF, None)
        if handle in (None, ctypes.c_void_p(-1).value):
            if ctypes.get_last_error() == _SHARING_VIOLATION:  # type: ignore[attr-defined,unused-ignore]
                return True
        else:
            library.CloseHandle(ctypes.c_void_p(handle))
    return False


def _is_fixed(path: str, seen: os.stat_result) -> bool:
    if sys.platform != "linux" or not (stat.S_ISREG(seen.st_mode) or stat.S_ISDIR(seen.st_mode)):
        fixed = getattr(stat, "UF_IMMUTABLE", 0) | getattr(stat, "SF_IMMUTABLE", 0)
        return bool(getattr(seen, "st_flags", 0) & fixed)
    import fcntl

    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW)
    except OSError:
        return False
    try:
        flags = int.from_bytes(fcntl.ioctl(handle, _GET_FLAGS, bytes(8))[:4], sys.byteorder)
    except OSError:
        return False  # a file system without such flags
    finally:
        os.close(handle)
    return bool(flags & _FIXED)


def _cannot_leave(top: str) -> str | None:
    """Why a folder cannot be removed from the folder above it."""
    upper = os.path.dirname(top)
    try:
        seen, own = os.stat(upper), os.lstat(top)
    except OSError as error:
        return _refused(upper, error)
    if not os.access(upper, os.W_OK | os.X_OK):
        return f"{upper} may not be written"
    user = os.geteuid() if hasattr(os, "geteuid") else 0
    if seen.st_mode & stat.S_ISVTX and user not in (0, seen.st_uid, own.st_uid):
        return f"{upper} lets only the owner of {top} remove it"
    return None


def _refused(path: str, error: OSError) -> str:
    return f"{error.filename if isinstance(error.filename, str) else path}: {reason_of(error)}"


# -- copies ---------------------------------------------------------------------


def keep_what_belongs(path: str, to: str) -> None:
    """Give ``to`` the owner, the mode, the extended attributes and the times of ``path``; links themselves.

    What the system does not let this user set (another owner) is left out. Raises OSError for anything else.
    """
    seen = os.lstat(path)
    if hasattr(os, "chown"):
        there = os.lstat(to)
        if (there.st_uid, there.st_gid) != (seen.st_uid, seen.st_gid):
            try:
                os.chown(to, seen.st_uid, seen.st_gid, follow_symlinks=False)
            except PermissionError:
                pass
    shutil.copystat(path, to, follow_symlinks=False)  # after the owner: a change of owner clears mode bits


def copy_tree(path: str, to: str, *, linked: bool) -> None:
    """Copy a folder exactly; names of one file stay names of one file. Raises OSError with the place.

    ``linked``: files of its subfolders share their bytes with the original where the system can. What is directly in
    the folder (path files, scripts) may be written in place by others: only a real copy keeps it.
    """
    os.makedirs(to, exist_ok=True)
    copies: dict[tuple[int, int], str] = {}
    folders = [(path, to)]
    for source, target in folders:
        with os.scandir(source) as entries:
            for entry in entries:
                other = os.path.join(target, entry.name)
                if entry.is_dir(follow_symlinks=False):
                    os.makedirs(other, exist_ok=True)
                    folders.append((entry.path, other))
                else:
                    _copy_file(entry, other, copies, linked and source != path)
    for source, target in reversed(folders):
        keep_what_belongs(source, target)


def _copy_file(entry: os.DirEntry[str], to: str, copies: dict[tuple[int, int], str], linked: bool) -> None:
    seen = entry.stat(follow_symlinks=False)
    if not (stat.S_ISREG(seen.st_mode) or stat.S_ISLNK(seen.st_mode)):
        raise OSError(None, "it is neither a file nor a link", entry.path)
    same = copies.get((seen.st_dev, seen.st_ino)) if seen.st_nlink > 1 else None
    if linked or same is not None:
        try:
            os.link(same or entry.path, to, follow_symlinks=False)
            return
        except OSError:
            pass
    shutil.copyfile(entry.path, to, follow_symlinks=False)
    keep_what_belongs(entry.path, to)
    if seen.st_nlink > 1:
        copies[(seen.st_dev, seen.st_ino)] = to


def first_difference(path: str, other: str) -> str | None:
    """The first place where a tree's copy is not as the tree: names, kinds, contents, links; None where it is."""
    import filecmp

    pending = [(path, other)]
    while pending:
        item, two = pending.pop()
        seen, there = os.lstat(item), os.lstat(two) if os.path.lexists(two) else None
        if there is None or stat.S_IFMT(seen.st_mode) != stat.S_IFMT(there.st_mode):
            return two
        if stat.S_ISLNK(seen.st_mode):
            if os.readlink(item) != os.readlink(two):
                return two
        elif stat.S_ISDIR(seen.st_mode):
            names = sorted(os.listdir(item))
            if names != sorted(os.listdir(two)):
                return two
            pending += [(os.path.join(item, name), os.path.join(two, name)) for name in names]
        elif not filecmp.cmp(item, two, shallow=False):
            return two
    return None
