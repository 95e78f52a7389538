"""What an environment was before it is changed, kept until the change is whole.

The copy's folder has its final name only when it is complete: from then on the environment counts as unfinished, and
whoever comes next restores what the copy holds. Renaming the copy away is what makes the change final. Every step can
be stopped at any point and taken up again: a part that was restored is no longer in the copy, and what was there in its
stead lies in the copy's folder.

A copy is restored only where the journal in the user's state folder says that this Kalyx made it. Each path in it is
checked: relative, through no link, inside the environment.
"""

from __future__ import annotations

import msgspec
from msgspec import Struct

from kalyx.core.actions.journal import Working, forget
from kalyx.core.environments.journal import entry_of
from kalyx.core.findings.nothing_starts.half_made import BEFORE_FOLDER, CLAIM, MARK_FILE
from kalyx.core.records import KalyxError
from kalyx.core.system import Facts, Unreadable, claims
from kalyx.core.system.own_files import distrust
from kalyx.core.system.writer import Change
from kalyx.core.text.visible import visible

_PART, _OVER = BEFORE_FOLDER + ".part", BEFORE_FOLDER + ".over"
_LIST = "folders.json"
_LIST_LIMIT = 1024 * 1024


class _Folder(Struct, forbid_unknown_fields=True):
    """One folder that was kept: its path from the environment's, whether it was there, its holder's times (ns)."""

    path: str
    there: bool
    times: tuple[int, int]


def left_over(facts: Facts, prefix: str) -> str | None:
    """What a change that was stopped, or still goes on, left: ``unfinished``, ``traces`` of a finished one, or None.

    Raises KalyxError where something of these names is there that this Kalyx did not leave.
    """
    names = [name for name in (BEFORE_FOLDER, CLAIM, _PART, _OVER) if facts.kind(facts.join(prefix, name)) is not None]
    for name in names:
        path = facts.join(prefix, name)
        if name != CLAIM and not (facts.kind(path) == "folder" and _is_own(facts, prefix, path)):
            raise KalyxError(f"{visible(path)} was not left by a fill of yours, so nothing is restored from it;"
                             " look at it, and move it away")  # fmt: skip
    return ("unfinished" if BEFORE_FOLDER in names else "traces") if names else None


def _is_own(facts: Facts, prefix: str, folder: str) -> bool:
    """Whether the journal knows the mark in a folder; one in which nothing is yet needs none."""
    return entry_of(facts, prefix, facts.join(folder, MARK_FILE), "fill") is not None or not facts.names(folder)


class Kept:
    """The copy of one environment's folders. Use: ``begin``, then the change, then ``settle`` or ``put_back``."""

    def __init__(self, facts: Facts, prefix: str, change: Change) -> None:
        self.facts = facts
        self.prefix = facts.real(prefix)
        self.change = change
        self._working = Working(facts, self.prefix, "fill", change)
        self._stopped: list[str] = []  # marks of runs that were stopped: their entries go when this is done

    def _at(self, *names: str) -> str:
        return self.facts.join(self.prefix, *names)

    def begin(self, folders: list[str]) -> None:
        """Take the place, finish or clear what a stopped run left, and keep these folders as they are now."""
        left_over(self.facts, self.prefix)
        inside = self.paths_of(folders)
        times = [_times(self.facts.again(), self.facts.parent(self._at(folder))) for folder in inside]
        claims.claim(self.facts, self._at(CLAIM), self.change, self._working.mark)
        try:
            self._tidy()
            self._working.begin()
            self.change.folder(self._at(_PART))
            self.change.write(self._at(_PART, MARK_FILE), f"fill\n{self._working.mark}\n".encode(), mode=0o600)
            kept = []
            for number, folder in enumerate(inside):
                facts = self.facts.again()
                there = facts.is_folder(self._at(folder))
                kept.append(_Folder(folder, there, times[number]))
                if there:
                    self.change.copy_folder(self._at(folder), self._at(_PART, str(number)), linked=True)
            self.change.write(self._at(_PART, _LIST), msgspec.json.encode(kept), mode=0o600)
            self.change.move(self._at(_PART), self._at(BEFORE_FOLDER))
        except BaseException:
            self._leave()
            raise

    def paths_of(self, folders: list[str]) -> list[str]:
        """Each folder once by its path from the environment's, links followed.

        Raises KalyxError for one that a link puts outside the environment: what lies there belongs to others too.
        """
        found = []
        for folder in folders:
            real = self.facts.real(folder)
            if not self.facts.inside(real, self.prefix) or self.facts.same_path(real, self.prefix):
                raise KalyxError(f"{visible(folder)} is a link that leads out of the environment, to {visible(real)};"
                                 " packages there belong to others too, so nothing was changed")  # fmt: skip
            found.append(str(self.facts.path.relpath(real, self.prefix)))
        return list(dict.fromkeys(found))

    def settle(self) -> None:
        """The change is whole: what was before is no longer needed."""
        if self.facts.again().kind(self._at(BEFORE_FOLDER)) is not None:
            self._set_aside()
        self._leave()

    def _set_aside(self) -> None:
        """The one step that makes the environment count as finished again."""
        if self.facts.again().kind(self._at(_OVER)) is not None:
            self.change.remove_folder(self._at(_OVER))
        self.change.move(self._at(BEFORE_FOLDER), self._at(_OVER))

    def put_back(self) -> None:
        """Make the environment what it was."""
        times = self._restore()
        self._leave()
        self._reset(times)

    def recover(self) -> None:
        """Restore what a stopped run left unfinished, and clear its traces. Raises KalyxError where it is not ours."""
        left_over(self.facts, self.prefix)
        claims.claim(self.facts, self._at(CLAIM), self.change)
        times = []
        try:
            times = self._tidy()
        finally:
            self._leave()
        self._reset(times)

    def _know(self) -> None:
        """Remember the marks of what a stopped run left, before that is cleared."""
        for name in (BEFORE_FOLDER, _PART, _OVER):
            entry = entry_of(self.facts.again(), self.prefix, self._at(name, MARK_FILE), "fill")
            if entry is not None and entry.mark != self._working.mark:
                self._stopped.append(entry.mark)

    def _tidy(self) -> list[tuple[str, tuple[int, int]]]:
        """Finish what a stopped run left: restore a whole copy, clear half of one."""
        times = []
        self._know()
        if self.facts.again().kind(self._at(BEFORE_FOLDER)) is not None:
            times = self._restore()
        self._clear()
        return times

    def _restore(self) -> list[tuple[str, tuple[int, int]]]:
        """Move each kept folder back; returns the times that the folders above had. Raises KalyxError."""
        facts, kept = self.facts.again(), self._list()
        for one in kept:  # all are looked at before the first is moved
            self._refuse_outside(facts, one.path)
        for number, one in enumerate(kept):
            folder, copy = self._at(one.path), self._at(BEFORE_FOLDER, str(number))
            aside = self._at(BEFORE_FOLDER, f"{number}.new")
            facts = self.facts.again()
            if one.there and facts.kind(copy) is None:
                continue  # an earlier run restored it
            if facts.kind(folder) is not None:
                if facts.kind(aside) is not None:
                    self.change.remove_folder(aside)
                self.change.move(folder, aside)
            if one.there:
                self.change.move(copy, folder)
        self._set_aside()
        return [(facts.parent(self._at(one.path)), one.times) for one in kept]

    def _list(self) -> list[_Folder]:
        """The list of the copy. Raises KalyxError for one that this Kalyx did not write, or that is damaged."""
        facts, folder = self.facts.again(), self._at(BEFORE_FOLDER)
        path = self._at(BEFORE_FOLDER, _LIST)
        says = "nothing was restored, and it is left as it is"
        if entry_of(facts, self.prefix, self._at(BEFORE_FOLDER, MARK_FILE), "fill") is None:
            raise KalyxError(f"{visible(folder)} was not written by a fill of yours; {says}")
        if facts.kind(folder) != "folder" or facts.kind(path) != "file" or distrust(facts, path):
            raise KalyxError(f"{visible(folder)} was not written by Kalyx; {says}")
        try:
            return msgspec.json.decode(facts.read(path, _LIST_LIMIT), type=list[_Folder])
        except (Unreadable, msgspec.MsgspecError, RecursionError):
            raise KalyxError(f"{visible(path)} is damaged, or was not written by Kalyx; {says}") from None

    def _refuse_outside(self, facts: Facts, path: str) -> None:
        """Raise KalyxError unless the path is a plain one inside the environment that no link leads away from."""
        whole = facts.path.normpath(self._at(path))
        is_plain = path and not facts.path.isabs(path) and ".." not in path.replace("\\", "/").split("/")
        if not is_plain or facts.real(facts.parent(whole)) != facts.parent(whole) or facts.kind(whole) == "link":
            raise KalyxError(f"{visible(whole)} lies outside {visible(self.prefix)}; nothing was restored")

    def _reset(self, times: list[tuple[str, tuple[int, int]]]) -> None:
        """Give the folders above the restored ones the times that they had."""
        for folder, had in reversed(times):
            if self.facts.again().is_folder(folder) and had[1]:
                self.change.set_times(folder, had)

    def _clear(self) -> None:
        facts = self.facts.again()
        for name in (_PART, _OVER):
            if facts.kind(self._at(name)) is not None:
                self.change.remove_folder(self._at(name))

    def _leave(self) -> None:
        try:
            self._clear()
        finally:
            if self.facts.again().kind(self._at(CLAIM)) is not None:
                self.change.remove_file(self._at(CLAIM))
            if self.facts.again().kind(self._at(BEFORE_FOLDER)) is None:
                self._working.end()
                for mark in self._stopped:
                    forget(self.facts, self.prefix, mark, self.change)


def _times(facts: Facts, folder: str) -> tuple[int, int]:
    status = facts.status(folder)
    return (status.modified_ns, status.modified_ns) if status is not None else (0, 0)
