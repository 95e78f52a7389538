"""Writing the journal of what Kalyx does to environments (``environments/journal``)."""

from __future__ import annotations

import json

from kalyx.core.environments.journal import Work, entry_file
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader
from kalyx.core.system.writer import Writer


class Files:
    """Files of the journal: the folders made for them go with the last of them."""

    def __init__(self, reader: Reader, writer: Writer) -> None:
        self.reader = reader
        self.writer = writer
        self._made: list[str] = []

    def write(self, path: str, content: bytes) -> None:
        """Write a file; nothing where the state folder cannot be written: what a killed run leaves then stays."""
        try:
            reader, upper = self.reader.again(), self.reader.parent(path)
            while not reader.exists(upper) and reader.parent(upper) != upper:
                if upper not in self._made:
                    self._made.append(upper)
                upper = reader.parent(upper)
            self.writer.folder(reader.parent(path), private=True)
            self.writer.write(path, content, mode=0o600)
        except KalyxError:
            pass

    def remove(self, path: str) -> None:
        """Remove one, and the folders made for it that are empty then."""
        if self.reader.again().may_be_there(path):
            try:
                self.writer.remove_file(path)
            except KalyxError:
                return
        for folder in sorted(self._made, key=len, reverse=True):
            self.writer.remove_empty_folder(folder)


class Working:
    """The entry of one change of an environment: ``begin`` before the first write, ``end`` when it is done or undone.

    ``mark`` is written into what the change keeps in the environment meanwhile.
    """

    def __init__(self, reader: Reader, target: str, work: Work, writer: Writer) -> None:
        self.mark = writer.chance(16)
        self._target, self._work = reader.real(target), work
        self._file = entry_file(reader, target, self.mark)
        self._files, self._change = Files(reader, writer), writer

    def begin(self) -> None:
        """Write the entry."""
        entry = {"schema": "kalyx.journal/1", "place": self._target, "work": self._work, "mark": self.mark,
                 "began": int(self._change.now() * 1e9)}  # fmt: skip
        self._files.write(self._file, json.dumps(entry).encode("utf-8", "backslashreplace"))

    def end(self) -> None:
        """Remove the entry."""
        self._files.remove(self._file)


def forget(reader: Reader, target: str, mark: str, writer: Writer) -> None:
    """Remove the entry of a run that was stopped, once what it left is cleared."""
    Files(reader, writer).remove(entry_file(reader, target, mark))
