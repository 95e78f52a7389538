"""The live Writer: everything that Kalyx writes on this machine goes through here.

A file is written next to its final path and renamed, so that every reader sees the old file or the new one. It keeps
its owner, mode, extended attributes and hard links. A tree is checked to its end before anything in it is removed.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
import sys
import tempfile
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

from kalyx.core import signals
from kalyx.core.model.records import KalyxError
from kalyx.core.system.processes import is_living
from kalyx.core.system.reasons import reason_of
from kalyx.core.system.trees import copy_tree, first_difference, keep_what_belongs, look_through
from kalyx.core.system.writer import Writer
from kalyx.core.text.numbers import is_number
from kalyx.core.text.visible import visible

# The name of a file that is not yet renamed; the number of the writing process follows.
_BESIDE = ".kalyx-new-"


def _clear_left_over(folder: str) -> None:
    """Remove what a run that was killed left next to the file it was writing; that of a living run stays.

    Only a regular file of this user whose name such a run gives is removed. Raises OSError where the folder cannot be
    listed.
    """
    for name in os.listdir(folder):
        number, _, remainder = name.removeprefix(_BESIDE).partition("-")
        if not name.startswith(_BESIDE) or not is_number(number) or len(remainder) != 8 or is_living(int(number)):
            continue
        path = os.path.join(folder, name)
        with suppress(OSError):
            seen = os.lstat(path)
            if stat.S_ISREG(seen.st_mode) and (not hasattr(os, "geteuid") or seen.st_uid == os.geteuid()):
                os.unlink(path)


_PATIENCE = 10.0  # seconds: another process holds the lock only for a moment


def _hold(folder: str) -> int:
    """The descriptor that holds the folder's lock for this process; closing it, or the end of the process, releases it.

    The folder itself is locked where the system locks folders (``flock``); on Windows a file named after it.
    """
    until = time.monotonic() + _PATIENCE
    if sys.platform == "win32":
        import msvcrt

        name = f"kalyx-{zlib.crc32(os.path.realpath(folder).encode('utf-8', 'surrogateescape')):08x}.lock"
        held = os.open(os.path.join(tempfile.gettempdir(), name), os.O_RDWR | os.O_CREAT)

        def lock() -> None:
            msvcrt.locking(held, msvcrt.LK_NBLCK, 1)
    else:
        import fcntl

        held = os.open(folder, os.O_RDONLY)

        def lock() -> None:
            fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)

    while True:
        try:
            lock()
            return held
        except OSError as refusal:
            if refusal.errno not in (errno.EAGAIN, errno.EACCES, errno.EDEADLK):
                return held  # a file system without locks: the claim that is written alone decides
            if time.monotonic() > until:
                os.close(held)
                raise
        time.sleep(0.02)


class LiveWriter(Writer):
    """Writes on this machine."""

    def folder(self, path: str, private: bool = False) -> None:
        if not os.path.isdir(path):
            self._do(lambda: _make_folders(path, private), path)

    def write(
        self,
        path: str,
        content: bytes,
        mode: int | None = None,
        *,
        over: bytes | None = None,
        new: bool = False,
        times: tuple[int, int] | None = None,
    ) -> None:
        self._do(lambda: _write(path, content, mode, over, new, times), path)

    def remove_file(self, path: str) -> None:
        self._do(lambda: os.unlink(path), path)

    def obstacle(self, path: str) -> str | None:
        return look_through(path).obstacle if os.path.lexists(path) and not os.path.islink(path) else None

    def remove_folder(self, path: str) -> None:
        if os.path.islink(path):
            self._do(lambda: os.unlink(path), path)
        else:
            self._do(lambda: _remove_tree(path), path)

    def mark(self, path: str, content: bytes) -> None:

        def write() -> None:
            with open(path, "wb") as file:
                file.write(content)

        self._do(write, path)

    def copy_folder(self, path: str, to: str, *, linked: bool) -> None:
        self._do(lambda: copy_tree(path, to, linked=linked), path)

    def claim(self, path: str, content: bytes) -> bool:
        try:
            with open(path, "xb") as file:
                file.write(content)
        except FileExistsError:
            return False
        except OSError as error:
            raise KalyxError(f"{path}: {reason_of(error)}; nothing was changed there") from None
        return True

    @contextmanager
    def alone(self, folder: str) -> Iterator[None]:
        try:
            held = _hold(folder)
        except OSError as error:
            raise KalyxError(f"{folder}: {reason_of(error)}; nothing was changed there") from None
        try:
            yield
        finally:
            os.close(held)

    def remove_empty_folder(self, path: str) -> None:
        try:
            os.rmdir(path)
        except OSError:
            return

    def link(self, path: str, target: str) -> None:
        self._do(lambda: os.symlink(target, path), path)

    def move(self, path: str, to: str) -> None:
        self._do(lambda: _move(path, to), path)

    def clear_left_over(self, folder: str) -> None:
        with suppress(OSError):
            _clear_left_over(folder)

    def set_times(self, path: str, times: tuple[int, int]) -> None:
        self._do(lambda: os.utime(path, ns=times, follow_symlinks=False), path)

    @staticmethod
    def _do(act: Callable[[], object], path: str) -> None:
        try:
            with signals.held():
                act()
        except OSError as error:
            raise KalyxError(f"{path}: {reason_of(error)}; nothing was changed there") from None


def _make_folders(path: str, private: bool) -> None:
    """Make a folder and those above; of a ``private`` one nobody else may read the last."""
    os.makedirs(path, exist_ok=True)
    if private:
        os.chmod(path, 0o700)


def _mode_of_new() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


def _write(
    path: str, content: bytes, mode: int | None, over: bytes | None, new: bool, times: tuple[int, int] | None
) -> None:
    """Write a file whole or not at all. Raises OSError; FileExistsError where it must be ``new`` and is not."""
    folder = os.path.dirname(path)
    _clear_left_over(folder)
    there = os.stat(path) if os.path.lexists(path) and os.path.exists(path) else None
    if new and os.path.lexists(path):
        raise FileExistsError(errno.EEXIST, "a file of this name appeared meanwhile")
    if over is not None:
        with open(path, "rb") as file:
            if file.read(len(over) + 1) != over:
                raise OSError(errno.ESTALE, "the file was changed meanwhile")
    is_plain = there is None or os.path.islink(path)
    if there is not None and not is_plain and not stat.S_ISREG(there.st_mode):
        raise (
            OSError(errno.EISDIR, "is a directory")
            if stat.S_ISDIR(there.st_mode)
            else OSError(errno.EINVAL, "not a regular file")
        )
    handle, beside = _new_file_in(folder)
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        if is_plain:
            os.chmod(beside, mode if mode is not None else stat.S_IMODE(there.st_mode) if there else _mode_of_new())
        else:
            assert there is not None
            if there.st_nlink > 1 or not _takes_after(path, beside, there):
                _write_in_place(path, content)
                os.unlink(beside)
                beside = path
            if mode is not None:
                os.chmod(beside, mode)
        if times is not None:
            os.utime(beside, ns=times)
        if beside != path:
            _into_place(beside, path, new)
    except BaseException:
        if beside != path:
            with suppress(OSError):
                os.unlink(beside)
        raise


def _new_file_in(folder: str) -> tuple[int, str]:
    return tempfile.mkstemp(prefix=f"{_BESIDE}{os.getpid()}-", dir=folder)


def _takes_after(path: str, beside: str, there: os.stat_result) -> bool:
    """Give the new file the old one's owner, mode and attributes, without its times; False where the owner differs."""
    now = os.stat(beside)
    keep_what_belongs(path, beside)
    os.utime(beside, ns=(now.st_atime_ns, now.st_mtime_ns))
    same = os.stat(beside)
    return (same.st_uid, same.st_gid) == (there.st_uid, there.st_gid)


def _write_in_place(path: str, content: bytes) -> None:
    """Change the bytes in place: a new file would lose a hard link of the old one, or its owner."""
    handle = os.open(path, os.O_WRONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0))
    try:
        remainder = memoryview(content)
        while remainder:
            remainder = remainder[os.write(handle, remainder) :]
        os.ftruncate(handle, len(content))
        os.fsync(handle)
    finally:
        os.close(handle)


def _into_place(beside: str, path: str, new: bool) -> None:
    """Rename to the final path; a ``new`` file never replaces another."""
    if not new:
        os.replace(beside, path)
        return
    if sys.platform == "win32":
        os.rename(beside, path)  # fails if the path exists
        return
    try:
        os.link(beside, path)
    except FileExistsError:
        raise FileExistsError(errno.EEXIST, "a file of this name appeared meanwhile") from None
    except OSError:
        # A file system without such links: the name is taken first, by an empty file.
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
        os.replace(beside, path)
        return
    os.unlink(beside)


def _remove_tree(path: str) -> None:
    """Remove a tree that was checked to its end. Raises KalyxError with the number of removed files where some stay."""
    try:
        os.lstat(path)
    except FileNotFoundError:
        return
    seen = look_through(path, owners=False)
    if seen.obstacle is not None:
        raise KalyxError(f"{visible(seen.obstacle)}; nothing of {visible(path)} was removed")
    for attempt in range(5):  # something may still write into it
        try:
            shutil.rmtree(path, **_IF_REFUSED)
            return
        except FileNotFoundError:
            if not os.path.lexists(path):
                return
        except OSError as error:
            if attempt == 4:
                raise _part_removed(path, seen.files, error) from None
        time.sleep(0.1)


def _write_and_again(function: Callable[[str], object], path: str, _: object) -> None:
    """Windows does not remove read-only files: make the file writable, and try again."""
    if sys.platform != "win32":
        raise
    os.chmod(path, stat.S_IWRITE)
    function(path)


_IF_REFUSED: dict[str, Any] = {"onexc" if sys.version_info >= (3, 12) else "onerror": _write_and_again}


def _part_removed(path: str, files: int, error: OSError) -> KalyxError:
    left = look_through(path).files
    what = f"{max(0, files - left)} of {files} files were removed before that, and {left} are left in {visible(path)}"
    where = visible(error.filename) if isinstance(error.filename, str) else visible(path)
    return KalyxError(f"{where}: {reason_of(error)}; {what if left < files else 'nothing was removed'}")


def _move(path: str, to: str) -> None:
    """Rename; to another file system: copy next to the new place, compare, rename, and only then remove."""
    try:
        os.rename(path, to)
        return
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
    if os.path.lexists(to):
        raise FileExistsError(errno.EEXIST, "file exists")
    seen = look_through(path) if os.path.isdir(path) and not os.path.islink(path) else None
    if seen is not None and seen.obstacle is not None:
        raise KalyxError(f"{visible(seen.obstacle)}; nothing was moved")
    beside = os.path.join(os.path.dirname(to), f"{_BESIDE}{os.getpid()}-{os.urandom(4).hex()}")
    try:
        if seen is not None:
            copy_tree(path, beside, linked=False)
        else:
            shutil.copyfile(path, beside, follow_symlinks=False)
            keep_what_belongs(path, beside)
        different = first_difference(path, beside)
        if different is not None:
            raise OSError(errno.EIO, "the copy is not the same as the original")
        os.rename(beside, to)
    except BaseException:
        if os.path.isdir(beside) and not os.path.islink(beside):
            shutil.rmtree(beside, ignore_errors=True)
        else:
            with suppress(OSError):
                os.unlink(beside)
        raise
    if seen is not None:
        _remove_tree(path)
    else:
        os.unlink(path)
