"""What an environment was before it is changed, kept until the change is whole.

The copy's folder has its final name only when it is complete: from then on the
environment counts as unfinished, and whoever comes next puts back what the copy
holds. Renaming the copy away is what makes the change final. Every step can be
stopped at any point and taken up again: a part that was put back is no longer
in the copy, and what was there in its stead lies in the copy's folder.
"""

from __future__ import annotations

import json

from kalyx.core.doors import Facts, claims
from kalyx.core.doors.changing import Change
from kalyx.core.findings.nothing_starts.half_made import BEFORE_FOLDER, CLAIM
from kalyx.core.records import KalyxError
from kalyx.core.words.visible import visible

_PART, _OVER = BEFORE_FOLDER + ".part", BEFORE_FOLDER + ".over"
_LIST = "folders.json"


def left_over(facts: Facts, prefix: str) -> str | None:
    """What a change that was stopped, or still goes on, left: ``unfinished``, ``traces`` of a finished one, or None."""
    if facts.kind(facts.join(prefix, BEFORE_FOLDER)) is not None:
        return "unfinished"
    traces = [name for name in (CLAIM, _PART, _OVER) if facts.kind(facts.join(prefix, name)) is not None]
    return "traces" if traces else None


class Kept:
    """The copy of one environment's folders. Use: ``begin``, then the change, then ``settle`` or ``put_back``."""

    def __init__(self, facts: Facts, prefix: str, change: Change) -> None:
        self.facts = facts
        self.prefix = prefix
        self.change = change

    def _at(self, *names: str) -> str:
        return self.facts.join(self.prefix, *names)

    def begin(self, folders: list[str]) -> None:
        """Take the place, finish or clear what a stopped run left, and keep these folders as they are now."""
        claims.claim(self.facts, self._at(CLAIM), self.change)
        try:
            self._tidy()
            self.change.folder(self._at(_PART))
            kept = {}
            for number, folder in enumerate(dict.fromkeys(folders)):
                there = self.facts.again().is_folder(folder)
                kept[str(number)] = {"folder": folder, "there": there}
                if there:
                    self.change.copy_folder(folder, self._at(_PART, str(number)), linked=True)
            self.change.write(self._at(_PART, _LIST), json.dumps(kept).encode())
            self.change.move(self._at(_PART), self._at(BEFORE_FOLDER))
        except BaseException:
            self._leave()
            raise

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
        self._restore()
        self._leave()

    def recover(self) -> None:
        """Put back what a stopped run left unfinished, and clear its traces."""
        claims.claim(self.facts, self._at(CLAIM), self.change)
        try:
            self._tidy()
        finally:
            self._leave()

    def _tidy(self) -> None:
        """Finish what a stopped run left: put back a whole copy, clear half of one."""
        if self.facts.again().kind(self._at(BEFORE_FOLDER)) is not None:
            self._restore()
        self._clear()

    def _restore(self) -> None:
        facts = self.facts.again()
        try:
            kept = json.loads(facts.read_text(self._at(BEFORE_FOLDER, _LIST)))
        except (ValueError, OSError):
            raise KalyxError(f"{visible(self._at(BEFORE_FOLDER))}: its list is damaged; nothing was put back") from None
        for number, one in kept.items():
            folder, copy, aside = (
                one["folder"],
                self._at(BEFORE_FOLDER, number),
                self._at(BEFORE_FOLDER, f"{number}.new"),
            )
            facts = self.facts.again()
            if not facts.inside(folder, self.prefix):
                raise KalyxError(f"{visible(folder)} lies outside {visible(self.prefix)}; nothing was put back there")
            if one["there"] and facts.kind(copy) is None:
                continue  # an earlier run put it back
            if facts.kind(folder) is not None:
                if facts.kind(aside) is not None:
                    self.change.remove_folder(aside)
                self.change.move(folder, aside)
            if one["there"]:
                self.change.move(copy, folder)
        self._set_aside()

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
