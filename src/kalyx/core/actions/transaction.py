"""Changes that are made completely or not at all, at whatever moment the run is stopped.

Before each change its inverse is written to a journal in the user's state folder. Leaving the block without ``commit``
(a refusal, a failure, a signal) carries out the inverses, the last change first. A run that was killed leaves its
journal: the next call that changes something carries the inverses out first (``recover``). An inverse touches only what
is still as the run left it.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable, Iterator
from functools import partial
from types import TracebackType
from typing import Literal

import msgspec
from msgspec import Struct

from kalyx.core import signals
from kalyx.core.actions.journal import Files
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader, Unreadable, claims
from kalyx.core.system.own_files import believed, own_folder
from kalyx.core.system.reader import Refused
from kalyx.core.system.writer import Writer

_LIMIT = 64 * 1024 * 1024
_START = "changes-"


class Inverse(Struct, forbid_unknown_fields=True):
    """How one change is undone.

    ``remove`` a file that was made, while its content is the one written; ``write`` back the content and the times that
    a file had; ``move`` back; ``remove-folder`` that was made, where nothing is in it.
    """

    how: Literal["remove", "write", "move", "remove-folder"]
    path: str
    digest: str = ""  # of the content that the run wrote
    content: str = ""  # what was there before, in base64
    to: str = ""
    times: tuple[int, int] | None = None


class _Journal(Struct, forbid_unknown_fields=True):
    schema: Literal["kalyx.changes/1"]
    worker: str
    inverses: list[Inverse]


def _folder(reader: Reader) -> str:
    return reader.join(own_folder(reader, "state"), "journal")


class Transaction:
    """Use as a block: changes by its methods, then ``commit``. Between them a signal takes effect at once."""

    def __init__(self, reader: Reader, writer: Writer) -> None:
        self.reader = reader
        self.writer = writer
        self.inverses: list[Inverse] = []
        self._file = reader.join(_folder(reader), f"{_START}{writer.chance(8)}.json")
        self._files = Files(reader, writer)
        self._is_over = False

    def __enter__(self) -> Transaction:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, traceback: TracebackType | None
    ) -> None:
        if self._is_over:
            return
        with signals.held():
            left = self.roll_back()
        if left and isinstance(error, KalyxError):
            raise KalyxError("; ".join([error.message, *left]), error.candidates) from None

    # -- changes ----------------------------------------------------------------

    def folder(self, path: str) -> None:
        """Make a folder and those above it."""
        made, upper, reader = [], path, self.reader.again()
        while not reader.exists(upper) and reader.parent(upper) != upper:
            made.append(upper)
            upper = reader.parent(upper)
        with signals.held():
            for item in reversed(made):
                self._do(Inverse("remove-folder", item), partial(self.writer.folder, item))

    def write(
        self,
        path: str,
        content: bytes,
        mode: int | None = None,
        *,
        new: bool = False,
        over: bytes | None = None,
        times: tuple[int, int] | None = None,
    ) -> None:
        """Write a file (``Writer.write``); the folders above it are made."""
        reader, digest = self.reader.again(), hashlib.sha256(content).hexdigest()
        self.folder(reader.parent(path))
        status = reader.status(path)
        if isinstance(status, Refused):
            raise KalyxError(f"{path}: {status.reason}; nothing was changed there")
        with signals.held():
            if status is None:
                inverse = Inverse("remove", path, digest)
            else:
                try:
                    before = reader.read_whole(path, _LIMIT)
                except Unreadable as refusal:
                    raise KalyxError(f"{path}: {refusal.reason}; nothing was changed there") from None
                had = (status.modified_ns, status.modified_ns)
                inverse = Inverse("write", path, digest, base64.b64encode(before).decode("ascii"), times=had)
            self._do(inverse, lambda: self.writer.write(path, content, mode, new=new, over=over, times=times))

    def move(self, path: str, to: str) -> None:
        """Give a file or folder another path; the folders above that are made."""
        self.folder(self.reader.parent(to))
        with signals.held():
            self._do(Inverse("move", path, to=to), lambda: self.writer.move(path, to))

    def remove_file(self, path: str) -> None:
        """Remove a file; its content is kept until the commit."""
        reader = self.reader.again()
        with signals.held():
            try:
                before = reader.read_whole(path, _LIMIT)
            except Unreadable as refusal:
                raise KalyxError(f"{path}: {refusal.reason}; nothing was changed there") from None
            inverse = Inverse("write", path, content=base64.b64encode(before).decode("ascii"))
            self._do(inverse, lambda: self.writer.remove_file(path))

    # -- the end ----------------------------------------------------------------

    def commit(self) -> None:
        """What was changed stays. A signal that arrives later changes nothing of it."""
        with signals.held():
            self._is_over = True
            self._forget()

    def roll_back(self) -> list[str]:
        """Carry out the inverses; returns what could not be undone, in words."""
        self._is_over = True
        left = list(_taken_back(self.reader, self.writer, self.inverses))
        if not left:
            self._forget()
        return left

    def _do(self, inverse: Inverse, writer: Callable[[], None]) -> None:
        """Write the inverse to the journal, then make the change; a change that was refused needs no inverse."""
        self.inverses.append(inverse)
        self._note()
        try:
            writer()
        except KalyxError:
            self.inverses.remove(inverse)
            raise

    def _note(self) -> None:
        worker = claims.own_words(self.reader).decode().strip()
        journal = _Journal("kalyx.changes/1", worker, self.inverses)
        self._files.write(self._file, msgspec.json.encode(journal))

    def _forget(self) -> None:
        self._files.remove(self._file)


def recover(reader: Reader, writer: Writer) -> list[str]:
    """Undo what killed runs had begun to change; returns what was undone, in words.

    Only journals of this user's own state folder whose process is gone are read; a damaged journal is left.
    """
    text: list[str] = []
    folder = _folder(reader)
    for name in reader.names(folder):
        path = reader.join(folder, name)
        if not name.startswith(_START) or not name.endswith(".json"):
            continue
        try:
            journal = msgspec.json.decode(believed(reader, path, 2 * _LIMIT), type=_Journal)
        except (Unreadable, msgspec.MsgspecError, RecursionError):
            continue
        paths = [word for inverse in journal.inverses for word in (inverse.path, inverse.to) if word]
        if not all(reader.path.isabs(word) for word in paths) or claims.is_living(reader, journal.worker):
            continue
        with signals.held():
            left = list(_taken_back(reader, writer, journal.inverses))
            for upper in dict.fromkeys(reader.parent(word) for word in paths):
                writer.clear_left_over(upper)
            if not left:
                writer.remove_file(path)
            text += [f"{journal.inverses[0].path}: the unfinished change of a killed run was rolled back"]
            text += left
    return text


def _taken_back(reader: Reader, writer: Writer, inverses: list[Inverse]) -> Iterator[str]:
    """Carry out the inverses, the last first; gives those that failed, in words."""
    for inverse in reversed(inverses):
        try:
            _take_back(reader.again(), writer, inverse)
        except (KalyxError, Unreadable, ValueError) as refusal:
            yield f"{inverse.path}: not rolled back ({refusal})"


def _take_back(reader: Reader, writer: Writer, inverse: Inverse) -> None:
    if inverse.how == "move":
        if reader.may_be_there(inverse.to) and not reader.may_be_there(inverse.path):
            writer.move(inverse.to, inverse.path)
        return
    if inverse.how == "remove-folder":
        if reader.kind(inverse.path) == "folder":
            writer.remove_empty_folder(inverse.path)
        return
    there = reader.may_be_there(inverse.path)
    if (
        there
        and inverse.digest
        and hashlib.sha256(reader.read_whole(inverse.path, _LIMIT)).hexdigest() != inverse.digest
    ):
        return  # not as the run left it: it had not written yet, or somebody has since
    if inverse.how == "remove":
        if there:
            writer.remove_file(inverse.path)
    elif there == bool(inverse.digest):
        writer.write(inverse.path, base64.b64decode(inverse.content), times=inverse.times)
