"""Writer: changes a machine, as an abstract class; ``live_writer`` has the live form."""

from __future__ import annotations

import os
import time
from contextlib import AbstractContextManager, nullcontext

from kalyx.core.model.records import KalyxError


class Writer:
    """Writes. Each change is made completely or not at all, except ``mark`` and ``claim``.

    A change that the system refuses raises KalyxError with the path and the reason; then nothing was changed there.
    """

    def folder(self, path: str, private: bool = False) -> None:
        """Make a folder and those above it; nothing where it is there. Of a ``private`` one nobody else may read."""
        raise NotImplementedError

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
        """Write a file whole or not at all; a link becomes a file.

        An existing file keeps its owner, mode, extended attributes and further names. ``over``: only where the file
        still has this content. ``new``: only where no file of this name is there. ``times``: of access and of change,
        in nanoseconds, which the file then has.
        """
        raise NotImplementedError

    def obstacle(self, path: str) -> str | None:
        """Why the folder ``path`` cannot be removed whole (a mount point, another owner, a folder that may not be
        written, what cannot be looked at), or None; everything in it is looked at."""
        return None

    def clear_left_over(self, folder: str) -> None:
        """Remove the files that runs which were killed left half written in a folder; those of living runs stay."""

    def set_times(self, path: str, times: tuple[int, int]) -> None:
        """Give a file, link or folder these times of access and of change, in nanoseconds."""
        raise NotImplementedError

    def remove_file(self, path: str) -> None:
        """Remove a file or a link."""
        raise NotImplementedError

    def remove_folder(self, path: str) -> None:
        """Remove a folder and all in it; a link is removed, never followed."""
        raise NotImplementedError

    def remove_empty_folder(self, path: str) -> None:
        """Remove a folder if nothing is in it; else leave it, without a word."""
        raise NotImplementedError

    def mark(self, path: str, content: bytes) -> None:
        """Write a mark directly at its path: the mark counts from the moment it exists, whatever its content is."""
        raise NotImplementedError

    def claim(self, path: str, content: bytes) -> bool:
        """Write a file that must not be there yet; False where it is."""
        raise NotImplementedError

    def alone(self, folder: str) -> AbstractContextManager[None]:
        """A block that one process at a time runs for a folder; the system releases the lock when the process ends."""
        return nullcontext()

    def copy_folder(self, path: str, to: str, *, linked: bool) -> None:
        """Copy a folder, links as links. ``linked``: files of its subfolders share their bytes where the system can."""
        raise NotImplementedError

    def link(self, path: str, target: str) -> None:
        """Make a link at a path that must not be there yet."""
        raise NotImplementedError

    def move(self, path: str, to: str) -> None:
        """Give a file, link or folder another path; to another file system by a copy that is compared first."""
        raise NotImplementedError

    @staticmethod
    def chance(count: int) -> str:
        """``count`` bytes from the system's source of chance, in hexadecimal digits: nobody can guess them."""
        return os.urandom(count).hex()

    @staticmethod
    def now() -> float:
        """The time of day, in seconds since the epoch."""
        return time.time()

    @staticmethod
    def stamp() -> str:
        """The present time as part of a file's name: later times sort later."""
        now = time.time()
        return time.strftime("%Y%m%d-%H%M%S", time.localtime(now)) + f"-{int(now * 1e6) % 1_000_000:06}"


class NoWriter(Writer):
    """Refuses to change anything: nothing is changed on a machine that is only examined."""

    def folder(self, path: str, private: bool = False) -> None:
        raise KalyxError(f"{path}: nothing is written for a machine that is only examined")

    def write(self, path: str, content: bytes, mode: int | None = None, **more: object) -> None:
        raise KalyxError(f"{path}: nothing is written for a machine that is only examined")
