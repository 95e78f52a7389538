"""Changes that are made completely or not at all, at whatever moment the run is stopped.

Before each change its inverse is written to the run's record, in the journal of the user's state folder
(``environments/journal``). Leaving the block without ``commit`` (a refusal, a failure, a signal) carries out the
inverses, the last change first. A run that was killed leaves its record: the next call that changes something carries
the inverses out first (``recover``). An inverse touches only what is still as the run left it.

What makes, fills or removes an environment locks the environment too. The lock carries the mark of the record, so that
the survey shows what is unfinished, and the next run of that command takes the record over. Nothing of an environment
is rolled back by another command, except the kernels of a removal that had not yet begun to delete.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable
from functools import partial
from types import TracebackType

import msgspec

from kalyx.core import signals
from kalyx.core.environments.journal import CONTENT_LIMIT, LOCKS, Inverse, Record, Work, record_file, record_of, records
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader, Unreadable, claims
from kalyx.core.system.reader import Refused
from kalyx.core.system.writer import Writer
from kalyx.core.text.visible import visible


class Transaction:
    """Use as a block: changes by its methods, then ``commit``. Between them a signal takes effect at once."""

    def __init__(self, reader: Reader, writer: Writer, work: Work | None = None, target: str = "") -> None:
        """``work``, ``target``: what is done to which environment; call ``lock`` before the first change in it."""
        self.reader = reader
        self.writer = writer
        self._record = Record("kalyx.changes/1", claims.own_words(reader).decode().strip(), [], work)
        self._record.target = reader.real(target) if work else ""
        self._record.mark, self._record.began = writer.chance(16), int(writer.now() * 1e9) if work else 0
        self._made: list[str] = []  # folders made for the record: they go with it
        self._is_over = False
        self._stays_locked = False  # a removal that had begun to delete is finished, never undone

    @property
    def inverses(self) -> list[Inverse]:
        """How each change that was made is undone, the first change first."""
        return self._record.inverses

    @property
    def _lock(self) -> str:
        assert self._record.work is not None
        return self.reader.join(self._record.target, LOCKS[self._record.work])

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

    def lock(self) -> Record | None:
        """Lock the environment; returns the record of a run that was stopped here, which this one takes over.

        Raises KalyxError where another process is at work there, or the lock is a file of somebody else.
        """
        work, target, path = self._record.work, self._record.target, self._lock
        assert work is not None
        self._record.is_settled = work == "fill"  # nothing changes before the copies are complete
        unlock = Inverse("remove", path, always=True)
        with signals.held():
            before = record_of(self.reader.again(), target, work)
            if before is None:
                self._do(unlock, lambda: claims.claim(self.reader, path, self.writer, self._record.mark))
                return None
            claims.claim(self.reader, path, self.writer, before.mark)
            stopped = record_of(self.reader.again(), target, work)  # since nobody else changes the record
            self._record.mark = before.mark
            if stopped is not None:
                self.take_over(stopped, [*stopped.inverses, *self.inverses])
                self._stays_locked = work == "discard" and stopped.is_settled
            else:
                self.inverses.append(unlock)
            self._note()
        return stopped

    def take_over(self, stopped: Record, inverses: list[Inverse]) -> None:
        """Go on with the record of a run that was stopped."""
        self._record.mark, self._record.began, self._record.work = stopped.mark, stopped.began, stopped.work
        self._record.target, self._record.is_settled = stopped.target, stopped.is_settled
        self._record.inverses = list(inverses)

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
        reader, digest = self.reader.again(), _digest(content)
        self.folder(reader.parent(path))
        status = reader.status(path)
        if isinstance(status, Refused):
            raise KalyxError(f"{path}: {status.reason}; nothing was changed there")
        with signals.held():
            if status is None:
                inverse = Inverse("remove", path, digest)
            else:
                had = (status.modified_ns, status.modified_ns)
                inverse = Inverse("write", path, digest, self._content(path), times=had)
            self._do(inverse, lambda: self.writer.write(path, content, mode, new=new, over=over, times=times))

    def move(self, path: str, to: str) -> None:
        """Give a file or folder another path; the folders above that are made."""
        self.folder(self.reader.parent(to))
        with signals.held():
            self._do(Inverse("move", path, to=to), lambda: self.writer.move(path, to))

    def remove_file(self, path: str) -> None:
        """Remove a file; its content is kept until the commit."""
        with signals.held():
            inverse = Inverse("write", path, content=self._content(path))
            self._do(inverse, lambda: self.writer.remove_file(path))

    def empty(self) -> None:
        """Remove what a stopped run left in the environment, but for the lock; what comes into it now goes at a
        rollback."""
        folder, lock = self._record.target, self._lock
        with signals.held():
            self._do(Inverse("empty", folder, to=lock), lambda: _empty(self.reader.again(), self.writer, folder, lock))

    def copy(self, folders: dict[str, tuple[int, int] | None], to: str) -> None:
        """Copy folders, there or not, into the new folder ``to``: whatever happens to them is undone at a rollback.

        ``folders``: each with the times (ns) of the folder above, which that has again after a rollback.
        """
        with signals.held():
            self._do(Inverse("remove-tree", to, always=True), partial(self.writer.folder, to))
            copies = []
            for number, (folder, times) in enumerate(folders.items()):
                copy = self.reader.join(to, str(number))
                if self.reader.again().is_folder(folder):
                    self.writer.copy_folder(folder, copy, linked=True)
                    copies.append(Inverse("restore", folder, to=copy, times=times))
                else:
                    copies.append(Inverse("remove-tree", folder, times=times))
            self._record.inverses += copies
            self._record.is_settled = False
            self._note()

    def _content(self, path: str) -> str:
        try:
            content = self.reader.again().read_whole(path, CONTENT_LIMIT)
        except Unreadable as refusal:
            raise KalyxError(f"{path}: {refusal.reason}; nothing was changed there") from None
        return base64.b64encode(content).decode("ascii")

    # -- the end ----------------------------------------------------------------

    def commit(self) -> None:
        """What was changed stays; nothing where it was rolled back. A signal that arrives later changes nothing of it.

        Raises KalyxError for what this run must clear and cannot.
        """
        if self._is_over:
            return
        with signals.held():
            self.settle()
            self.end()

    def settle(self) -> None:
        """What was changed stays; the lock and the record stay until ``end``."""
        with signals.held():
            self._is_over = self._record.is_settled = True
            self._record.inverses = [inverse for inverse in self.inverses if inverse.always]
            if self.inverses:
                self._note()

    def end(self) -> None:
        """Clear what this run kept meanwhile, and the record."""
        with signals.held():
            left = self._take_back(self.inverses)
            if left:
                path, reason = left[0]
                raise KalyxError(f"{visible(path)}: the change is made, and what it kept there stays ({reason})")
            self._forget()

    def roll_back(self) -> list[str]:
        """Carry out the inverses; returns what could not be undone, in words."""
        self._is_over = True
        inverses = [inverse for inverse in self.inverses if not (inverse.always and self._stays_locked)]
        left = self._take_back(inverses)
        if left or self._stays_locked:
            self._note()
        else:
            self._forget()
        return [f"{path}: not rolled back ({reason})" for path, reason in left]

    def _take_back(self, inverses: list[Inverse]) -> list[tuple[str, str]]:
        """Carry out inverses, the last first; returns the paths of those that failed, with the reasons.

        What is cleared at a commit too (the lock, the copies) stays where an inverse before it failed.
        """
        reader = self.reader.again()
        left = [(item.path, reason) for item in inverses if (reason := _not_restorable(reader, item)) is not None][:1]
        for inverse in [] if left else reversed(inverses):
            if inverse.always and not left:
                self._note()  # what came after it is undone
            try:
                if not (left and inverse.always):
                    _take_back(self.reader.again(), self.writer, inverse)
                    self.inverses.remove(inverse)
            except (KalyxError, Unreadable, ValueError) as refusal:
                left.append((inverse.path, str(refusal)))
        for inverse in inverses:
            upper = reader.parent(inverse.path)
            if inverse.how in ("restore", "remove-tree") and inverse.times and self.reader.again().is_folder(upper):
                self.writer.set_times(upper, inverse.times)
        return left

    def _do(self, inverse: Inverse, change: Callable[[], None]) -> None:
        """Write the inverse to the record, then make the change; a change that was refused needs no inverse."""
        self.inverses.append(inverse)
        self._note()
        try:
            change()
        except KalyxError:
            self.inverses.remove(inverse)
            raise

    def _note(self) -> None:
        """Write the record; nothing where the state folder cannot be written: what a killed run leaves then stays."""
        path = record_file(self.reader, self._record.mark)
        try:
            reader, upper = self.reader.again(), self.reader.parent(path)
            while not reader.exists(upper) and reader.parent(upper) != upper:
                if upper not in self._made:
                    self._made.append(upper)
                upper = reader.parent(upper)
            self.writer.folder(reader.parent(path), private=True)
            self.writer.write(path, msgspec.json.encode(self._record), mode=0o600)
        except KalyxError:
            pass

    def _forget(self) -> None:
        """Remove the record, and the folders made for it that are empty then."""
        path = record_file(self.reader, self._record.mark)
        if self.reader.again().may_be_there(path):
            try:
                self.writer.remove_file(path)
            except KalyxError:
                return
        for folder in sorted(self._made, key=len, reverse=True):
            self.writer.remove_empty_folder(folder)


def recover(reader: Reader, writer: Writer) -> list[str]:
    """Undo what killed runs had begun to change; returns what was undone, in words.

    Only records whose process is gone are looked at. An environment that was being made or filled waits for its user,
    and so does a removal that had begun to delete.
    """
    text: list[str] = []
    for record in records(reader):
        if claims.is_living(reader, record.worker):
            continue
        with signals.held():
            inverses = _to_take_back(reader, writer, record)
            if inverses is None:
                continue
            changed = [path for inverse in inverses for path in (inverse.path, inverse.to) if path]
            transaction = Transaction(reader, writer)
            transaction.take_over(record, inverses)
            left = transaction.roll_back()
            for upper in dict.fromkeys(map(reader.parent, changed)):
                writer.clear_left_over(upper)
            if not record.is_settled and any(inverse.how != "remove-folder" for inverse in inverses):
                what = "the unfinished change of a killed run was rolled back"
                text.append(f"{record.target or changed[0]}: {what}")
            text += left
    return text


# What changes an environment's content, which nobody may do without its lock.
_INSIDE = ("empty", "restore", "remove-tree")


def _to_take_back(reader: Reader, writer: Writer, record: Record) -> list[Inverse] | None:
    """The inverses of a killed run that are carried out now; None where its record waits. Locks the environment."""
    if record.work is None:
        return record.inverses
    lock, own = reader.join(record.target, LOCKS[record.work]), record_of(reader, record.target, record.work)
    if own is None or own.mark != record.mark:  # not yet locked, or cleared since
        is_done = record.is_settled and record.work == "discard" and not reader.may_be_there(record.target)
        is_unlocked = reader.kind(record.target) == "folder" and not reader.may_be_there(lock)
        is_cleared = own is not None or is_unlocked or is_done
        return [item for item in record.inverses if item.how not in _INSIDE and not item.always] if is_cleared else None
    if record.is_settled == (record.work == "discard"):
        return None
    try:
        claims.claim(reader, lock, writer, record.mark)
    except KalyxError:
        return None
    return record.inverses


def _not_restorable(reader: Reader, inverse: Inverse) -> str | None:
    """Why a folder cannot be restored from its copy: nothing is restored then."""
    if inverse.how != "restore":
        return None
    copies = reader.parent(inverse.to)
    if reader.kind(copies) != "folder":
        lock = reader.join(reader.parent(copies), LOCKS["fill"])
        return f"the copies are gone; to keep the environment as it is, remove {visible(lock)}"
    behind = next((path for path in (inverse.path, inverse.to) if reader.real(path) != path), None)
    return (
        None if behind is None else f"{visible(behind)} is behind a link that leads to {visible(reader.real(behind))}"
    )


def _take_back(reader: Reader, writer: Writer, inverse: Inverse) -> None:
    path, there = inverse.path, reader.may_be_there(inverse.path)
    if inverse.how == "move":
        if reader.may_be_there(inverse.to) and not there:
            writer.move(inverse.to, path)
    elif inverse.how == "remove-folder":
        if reader.kind(path) == "folder":
            writer.remove_empty_folder(path)
    elif inverse.how == "remove-tree":
        _remove(reader, writer, path)
    elif inverse.how == "empty":
        _empty(reader, writer, path, inverse.to)
    elif inverse.how == "restore":
        _restore(reader, writer, path, inverse.to)
    elif there and inverse.digest and _digest(reader.read_whole(path, CONTENT_LIMIT)) != inverse.digest:
        return  # not as the run left it: it had not written yet, or somebody has since
    elif inverse.how == "remove":
        _remove(reader, writer, path)
    elif there == bool(inverse.digest):
        writer.write(path, base64.b64decode(inverse.content), times=inverse.times)


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _remove(reader: Reader, writer: Writer, path: str) -> None:
    if reader.may_be_there(path):
        (writer.remove_folder if reader.kind(path) == "folder" else writer.remove_file)(path)


def _empty(reader: Reader, writer: Writer, folder: str, keep: str) -> None:
    """Remove what is in a folder, but for the file ``keep``."""
    for name in sorted(reader.names(folder)):
        if (path := reader.join(folder, name)) != keep:
            _remove(reader, writer, path)


def _restore(reader: Reader, writer: Writer, path: str, copy: str) -> None:
    """Move a copy to its place; what is there is set aside first."""
    if not reader.may_be_there(copy):
        return  # an earlier run restored it
    if reader.may_be_there(path):
        aside = copy + ".new"
        _remove(reader, writer, aside)
        writer.move(path, aside)
    writer.move(copy, path)
