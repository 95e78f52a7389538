"""A copy of an environment's folders, kept while an installer changes them.

The copy's folder gets its final name only when the copy is complete: from then on the environment counts as unfinished,
and the next run restores the copy. Renaming the copy makes the change final. Each step can be stopped at any point and
repeated: a restored folder is no longer in the copy, and the folder that it replaced is in the copy's folder.

A copy is restored only where the journal in the user's state folder says that this Kalyx made it. Each path in it is
checked: relative, through no link, inside the environment.
"""

from __future__ import annotations

import msgspec
from msgspec import Struct

from kalyx.core.actions.journal import Working, forget
from kalyx.core.diagnosis.causes.half_made import BEFORE_FOLDER, CLAIM, MARK_FILE
from kalyx.core.environments.journal import entry_of
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader, Unreadable, claims
from kalyx.core.system.own_files import distrust
from kalyx.core.system.reader import FileStat
from kalyx.core.system.writer import Writer
from kalyx.core.text.visible import visible

_PART, _OVER = BEFORE_FOLDER + ".part", BEFORE_FOLDER + ".over"
_LIST = "folders.json"
_LIST_LIMIT = 1024 * 1024


class _Folder(Struct, forbid_unknown_fields=True):
    """One folder of the copy: its path in the environment, whether it existed, the times (ns) of the folder above."""

    path: str
    there: bool
    times: tuple[int, int]


def left_over(reader: Reader, prefix: str) -> str | None:
    """What a fill that was stopped, or still runs, left: ``unfinished``, ``traces`` of a finished one, or None.

    Raises KalyxError where these names exist and this Kalyx did not create them.
    """
    names = [name for name in (BEFORE_FOLDER, CLAIM, _PART, _OVER) if reader.may_be_there(reader.join(prefix, name))]
    for name in names:
        path = reader.join(prefix, name)
        if name != CLAIM and not (reader.kind(path) == "folder" and _is_own(reader, prefix, path)):
            raise KalyxError(f"{visible(path)} was not left by a fill of yours, so nothing is restored from it;"
                             " inspect it, and move it away")  # fmt: skip
    return ("unfinished" if BEFORE_FOLDER in names else "traces") if names else None


def _is_own(reader: Reader, prefix: str, folder: str) -> bool:
    """Whether the journal knows the mark in a folder; an empty folder needs none."""
    return entry_of(reader, prefix, reader.join(folder, MARK_FILE), "fill") is not None or not reader.names(folder)


class Kept:
    """The copy of one environment's folders. Use: ``begin``, then the change, then ``settle`` or ``put_back``."""

    def __init__(self, reader: Reader, prefix: str, writer: Writer) -> None:
        self.reader = reader
        self.prefix = reader.real(prefix)
        self.writer = writer
        self._working = Working(reader, self.prefix, "fill", writer)
        self._stopped: list[str] = []  # marks of runs that were stopped: their entries go when this is done

    def _at(self, *names: str) -> str:
        return self.reader.join(self.prefix, *names)

    def begin(self, folders: list[str]) -> None:
        """Lock the environment, finish or clear what a stopped run left, and copy these folders."""
        left_over(self.reader, self.prefix)
        inside = self.paths_of(folders)
        times = [_times(self.reader.again(), self.reader.parent(self._at(folder))) for folder in inside]
        claims.claim(self.reader, self._at(CLAIM), self.writer, self._working.mark)
        try:
            self._tidy()
            self._working.begin()
            self.writer.folder(self._at(_PART))
            self.writer.write(self._at(_PART, MARK_FILE), f"fill\n{self._working.mark}\n".encode(), mode=0o600)
            kept = []
            for number, folder in enumerate(inside):
                reader = self.reader.again()
                there = reader.is_folder(self._at(folder))
                kept.append(_Folder(folder, there, times[number]))
                if there:
                    self.writer.copy_folder(self._at(folder), self._at(_PART, str(number)), linked=True)
            self.writer.write(self._at(_PART, _LIST), msgspec.json.encode(kept), mode=0o600)
            self.writer.move(self._at(_PART), self._at(BEFORE_FOLDER))
        except BaseException:
            self._leave()
            raise

    def paths_of(self, folders: list[str]) -> list[str]:
        """Each folder once by its path from the environment's, links followed.

        Raises KalyxError for one that a link puts outside the environment: what is there belongs to others too.
        """
        paths = []
        for folder in folders:
            real = self.reader.real(folder)
            if not self.reader.inside(real, self.prefix) or self.reader.same_path(real, self.prefix):
                raise KalyxError(f"{visible(folder)} is a link that leads out of the environment, to {visible(real)};"
                                 " packages there belong to others too, so nothing was changed")  # fmt: skip
            paths.append(str(self.reader.path.relpath(real, self.prefix)))
        return list(dict.fromkeys(paths))

    def settle(self) -> None:
        """End a change that succeeded: the copy is removed."""
        if self.reader.again().may_be_there(self._at(BEFORE_FOLDER)):
            self._set_aside()
        self._leave()

    def _set_aside(self) -> None:
        """The one step that makes the environment count as finished again."""
        if self.reader.again().may_be_there(self._at(_OVER)):
            self.writer.remove_folder(self._at(_OVER))
        self.writer.move(self._at(BEFORE_FOLDER), self._at(_OVER))

    def put_back(self) -> None:
        """Roll back: restore the environment from the copy."""
        times = self._restore()
        self._leave()
        self._reset(times)

    def recover(self) -> None:
        """Restore what a stopped run left unfinished, and clear its traces. Raises KalyxError for another's files."""
        left_over(self.reader, self.prefix)
        claims.claim(self.reader, self._at(CLAIM), self.writer)
        times = []
        try:
            times = self._tidy()
        finally:
            self._leave()
        self._reset(times)

    def _know(self) -> None:
        """Remember the marks of what a stopped run left, before that is cleared."""
        for name in (BEFORE_FOLDER, _PART, _OVER):
            entry = entry_of(self.reader.again(), self.prefix, self._at(name, MARK_FILE), "fill")
            if entry is not None and entry.mark != self._working.mark:
                self._stopped.append(entry.mark)

    def _tidy(self) -> list[tuple[str, tuple[int, int]]]:
        """Finish what a stopped run left: restore a complete copy, clear an incomplete one."""
        times = []
        self._know()
        if self.reader.again().may_be_there(self._at(BEFORE_FOLDER)):
            times = self._restore()
        self._clear()
        return times

    def _restore(self) -> list[tuple[str, tuple[int, int]]]:
        """Move each kept folder back; returns the times that the folders above had. Raises KalyxError."""
        reader, kept = self.reader.again(), self._list()
        for item in kept:  # all are looked at before the first is moved
            self._refuse_outside(reader, item.path)
        for number, item in enumerate(kept):
            folder, copy = self._at(item.path), self._at(BEFORE_FOLDER, str(number))
            aside = self._at(BEFORE_FOLDER, f"{number}.new")
            reader = self.reader.again()
            if item.there and not reader.may_be_there(copy):
                continue  # an earlier run restored it
            if reader.may_be_there(folder):
                if reader.may_be_there(aside):
                    self.writer.remove_folder(aside)
                self.writer.move(folder, aside)
            if item.there:
                self.writer.move(copy, folder)
        self._set_aside()
        return [(reader.parent(self._at(folder.path)), folder.times) for folder in kept]

    def _list(self) -> list[_Folder]:
        """The folders of the copy. Raises KalyxError for a list that this Kalyx did not write, or that is damaged."""
        reader, folder = self.reader.again(), self._at(BEFORE_FOLDER)
        path = self._at(BEFORE_FOLDER, _LIST)
        message = "nothing was restored, and it is left as it is"
        if entry_of(reader, self.prefix, self._at(BEFORE_FOLDER, MARK_FILE), "fill") is None:
            raise KalyxError(f"{visible(folder)} was not written by a fill of yours; {message}")
        if reader.kind(folder) != "folder" or reader.kind(path) != "file" or distrust(reader, path):
            raise KalyxError(f"{visible(folder)} was not written by Kalyx; {message}")
        try:
            return msgspec.json.decode(reader.read(path, _LIST_LIMIT), type=list[_Folder])
        except (Unreadable, msgspec.MsgspecError, RecursionError):
            raise KalyxError(f"{visible(path)} is damaged, or was not written by Kalyx; {message}") from None

    def _refuse_outside(self, reader: Reader, path: str) -> None:
        """Raise KalyxError unless the path is a plain one inside the environment that no link leads away from."""
        whole = reader.path.normpath(self._at(path))
        is_plain = path and not reader.path.isabs(path) and ".." not in path.replace("\\", "/").split("/")
        if not is_plain or reader.real(reader.parent(whole)) != reader.parent(whole) or reader.kind(whole) == "link":
            raise KalyxError(f"{visible(whole)} lies outside {visible(self.prefix)}; nothing was restored")

    def _reset(self, times: list[tuple[str, tuple[int, int]]]) -> None:
        """Give the folders above the restored ones the times that they had."""
        for folder, had in times:
            if self.reader.again().is_folder(folder) and had[1]:
                self.writer.set_times(folder, had)

    def _clear(self) -> None:
        reader = self.reader.again()
        for name in (_PART, _OVER):
            if reader.may_be_there(self._at(name)):
                self.writer.remove_folder(self._at(name))

    def _leave(self) -> None:
        try:
            self._clear()
        finally:
            if self.reader.again().may_be_there(self._at(CLAIM)):
                self.writer.remove_file(self._at(CLAIM))
            if not self.reader.again().may_be_there(self._at(BEFORE_FOLDER)):
                self._working.end()
                for mark in self._stopped:
                    forget(self.reader, self.prefix, mark, self.writer)


def _times(reader: Reader, folder: str) -> tuple[int, int]:
    status = reader.status(folder)
    return (status.modified_ns, status.modified_ns) if isinstance(status, FileStat) else (0, 0)
