"""Change: everything Kalyx writes goes through here, and can be listed instead of done.

A file is written beside its place and renamed over it, so that whoever looks
sees the old one or the new one. Of a new folder, the file that makes it count
is written last. ``PlannedChange`` lists the same deeds and does none.
"""

from __future__ import annotations

import os
import shutil
import stat
import tempfile
import time

from kalyx.core.facts import ChangePlan, KalyxError


class LiveChange:
    """Writes on this machine, and keeps the list of what it did."""

    planned = False

    def __init__(self) -> None:
        self.deeds: list[ChangePlan] = []

    def _note(self, deed: str, path: str) -> None:
        self.deeds.append(ChangePlan(deed=deed, path=path))

    def folder(self, path: str) -> None:
        """Make a folder and those above it."""
        if not os.path.isdir(path):
            self._note("make folder", path)
            self._do(lambda: os.makedirs(path, exist_ok=True), path)

    def write(self, path: str, content: bytes, mode: int | None = None) -> None:
        """Write a file whole or not at all; an existing file keeps its mode."""
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
        handle, beside = tempfile.mkstemp(prefix=".kalyx-", dir=os.path.dirname(path))
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
        """Remove a folder and all in it; a link is removed, never followed."""
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
        """Write a mark at its very place: it counts from the moment it exists, whatever is in it."""
        self._note("write", path)

        def write() -> None:
            with open(path, "wb") as file:
                file.write(content)

        self._do(write, path)

    def remove_empty_folder(self, path: str) -> None:
        try:
            os.rmdir(path)
        except OSError:
            return
        self._note("remove", path)

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
