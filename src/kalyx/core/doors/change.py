"""Change: everything Kalyx writes goes through here, and can be listed instead of done.

A file is written beside its place and renamed over it, so that whoever looks
sees the old one or the new one. Of a new folder, the file that makes it count
is written last. ``PlannedChange`` lists the same deeds and does none.
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
from collections.abc import Iterator
from contextlib import contextmanager

from kalyx.core.doors.changing import Change
from kalyx.core.doors.processes import is_living
from kalyx.core.records import KalyxError
from kalyx.core.words.numbers import is_number

# A file that is not yet renamed over its place; the number of the process that writes it follows.
_BESIDE = ".kalyx-new-"


def _clear_left_over(folder: str) -> None:
    """Remove what a run that was killed left beside the file it was writing; that of a living one stays."""
    for name in os.listdir(folder):
        number = name.removeprefix(_BESIDE).partition("-")[0]
        if name.startswith(_BESIDE) and is_number(number) and not is_living(int(number)):
            try:
                os.unlink(os.path.join(folder, name))
            except OSError:
                pass


_PATIENCE = 10.0  # seconds: whoever holds the lock is between two deeds


def _hold(folder: str) -> int:
    """The descriptor by which this process alone holds the folder's lock; closing it, or dying, lets go.

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


class LiveChange(Change):
    """Writes on this machine."""

    def folder(self, path: str) -> None:
        if not os.path.isdir(path):
            self._note("make folder", path)
            self._do(lambda: os.makedirs(path, exist_ok=True), path)

    def write(self, path: str, content: bytes, mode: int | None = None) -> None:
        self._note("replace" if os.path.lexists(path) else "write", path)
        self._do(lambda: self._write(path, content, mode), path)

    @staticmethod
    def _write(path: str, content: bytes, mode: int | None) -> None:
        if mode is None:
            try:
                mode = stat.S_IMODE(os.stat(path).st_mode)
            except OSError:
                mask = os.umask(0)
                os.umask(mask)
                mode = 0o666 & ~mask
        folder = os.path.dirname(path)
        _clear_left_over(folder)
        handle, beside = tempfile.mkstemp(prefix=f"{_BESIDE}{os.getpid()}-", dir=folder)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            os.chmod(beside, mode)
            os.replace(beside, path)
        except BaseException:
            try:
                os.unlink(beside)
            except OSError:
                pass
            raise

    def remove_file(self, path: str) -> None:
        self._note("remove", path)
        self._do(lambda: os.unlink(path), path)

    def remove_folder(self, path: str) -> None:
        self._note("remove", path)
        if os.path.islink(path):
            self._do(lambda: os.unlink(path), path)
        else:
            self._do(lambda: self._remove_tree(path), path)

    @staticmethod
    def _remove_tree(path: str) -> None:
        """Remove a tree; tried again a few times where something still writes into it."""
        for attempt in range(5):
            try:
                shutil.rmtree(path)
                return
            except FileNotFoundError:
                if not os.path.lexists(path):
                    return
            except OSError:
                if attempt == 4:
                    raise
            time.sleep(0.1)

    def mark(self, path: str, content: bytes) -> None:
        self._note("write", path)

        def write() -> None:
            with open(path, "wb") as file:
                file.write(content)

        self._do(write, path)

    def copy_folder(self, path: str, to: str, *, linked: bool) -> None:
        self._note("copy", path)
        top = os.path.normpath(path)

        def copy(one: str, other: str) -> str:
            # What lies right in the folder (path files, scripts) may be written in place: only a real copy keeps it.
            if linked and os.path.dirname(one) != top:
                try:
                    os.link(one, other, follow_symlinks=False)
                    return other
                except OSError:
                    pass
            return str(shutil.copy2(one, other, follow_symlinks=False))

        def do() -> None:
            try:
                shutil.copytree(path, to, symlinks=True, copy_function=copy, dirs_exist_ok=True)
            except shutil.Error as error:
                raise OSError(str(error.args[0][0][2]) if error.args and error.args[0] else "copying failed") from None

        self._do(do, path)

    def claim(self, path: str, content: bytes) -> bool:
        try:
            with open(path, "xb") as file:
                file.write(content)
        except FileExistsError:
            return False
        except OSError as error:
            raise KalyxError(f"{path}: {(error.strerror or str(error)).lower()}; nothing was changed there") from None
        return True

    @contextmanager
    def alone(self, folder: str) -> Iterator[None]:
        try:
            held = _hold(folder)
        except OSError as error:
            raise KalyxError(f"{folder}: {(error.strerror or str(error)).lower()}; nothing was changed there") from None
        try:
            yield
        finally:
            os.close(held)

    def remove_empty_folder(self, path: str) -> None:
        try:
            os.rmdir(path)
        except OSError:
            return
        self._note("remove", path)

    def link(self, path: str, target: str) -> None:
        self._note("link", path)
        self._do(lambda: os.symlink(target, path), path)

    def move(self, path: str, to: str) -> None:
        self._note("move away", path)
        self._do(lambda: os.rename(path, to), path)

    @staticmethod
    def _do(deed: object, path: str) -> None:
        try:
            deed()  # type: ignore[operator]
        except OSError as error:
            raise KalyxError(f"{path}: {(error.strerror or str(error)).lower()}; nothing was changed there") from None


class PlannedChange(LiveChange):
    """Lists what would be done."""

    planned = True

    @staticmethod
    def _do(deed: object, path: str) -> None:
        return

    def remove_empty_folder(self, path: str) -> None:
        return

    @contextmanager
    def alone(self, folder: str) -> Iterator[None]:
        yield
