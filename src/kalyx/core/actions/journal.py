"""Writing the journal of what Kalyx does to environments (``environments/journal``)."""

from __future__ import annotations

import json

from kalyx.core.environments.journal import Work, entry_file
from kalyx.core.records import KalyxError
from kalyx.core.system import Facts
from kalyx.core.system.writer import Change


class Files:
    """Files of the journal: the folders made for them go with the last of them."""

    def __init__(self, facts: Facts, change: Change) -> None:
        self.facts = facts
        self.change = change
        self._made: list[str] = []

    def write(self, path: str, content: bytes) -> None:
        """Write one. Where the state folder cannot be written nothing is: a killed run then leaves what it left."""
        try:
            facts, upper = self.facts.again(), self.facts.parent(path)
            while not facts.exists(upper) and facts.parent(upper) != upper:
                if upper not in self._made:
                    self._made.append(upper)
                upper = facts.parent(upper)
            self.change.folder(facts.parent(path), private=True)
            self.change.write(path, content, mode=0o600)
        except KalyxError:
            pass

    def remove(self, path: str) -> None:
        """Remove one, and the folders made for it that are empty then."""
        if self.facts.again().kind(path) is not None:
            try:
                self.change.remove_file(path)
            except KalyxError:
                return
        for folder in sorted(self._made, key=len, reverse=True):
            self.change.remove_empty_folder(folder)


class Working:
    """One piece of work at an environment: ``begin`` before anything is left there, ``end`` when it is done or undone.

    ``mark`` goes into what is left in the environment meanwhile.
    """

    def __init__(self, facts: Facts, place: str, work: Work, change: Change) -> None:
        self.mark = change.chance(16)
        self._place, self._work = facts.real(place), work
        self._file = entry_file(facts, place, self.mark)
        self._files, self._change = Files(facts, change), change

    def begin(self) -> None:
        """Write the entry."""
        entry = {"schema": "kalyx.journal/1", "place": self._place, "work": self._work, "mark": self.mark,
                 "began": int(self._change.now() * 1e9)}  # fmt: skip
        self._files.write(self._file, json.dumps(entry).encode("utf-8", "backslashreplace"))

    def end(self) -> None:
        """Remove the entry."""
        self._files.remove(self._file)


def forget(facts: Facts, place: str, mark: str, change: Change) -> None:
    """Remove the entry of a run that was stopped, once what it left is cleared."""
    Files(facts, change).remove(entry_file(facts, place, mark))
