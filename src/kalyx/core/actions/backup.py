"""A copy of an environment's folders, kept in the environment while an installer changes them.

The run's transaction has the copies in its record: from then on the environment counts as unfinished, and a rollback,
of this run or of a later one, moves the copies to their places. Each path in the record is real and inside the
environment; a copy is moved through no link.
"""

from __future__ import annotations

from kalyx.core.actions.transaction import Transaction
from kalyx.core.environments.journal import COPIES, record_of
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader
from kalyx.core.system.reader import FileStat
from kalyx.core.system.writer import Writer
from kalyx.core.text.visible import visible


def left_over(reader: Reader, prefix: str) -> str | None:
    """What a fill that was stopped, or still runs, left: ``unfinished``, ``traces`` of a finished one, or None.

    Raises KalyxError for copies that this Kalyx did not make.
    """
    record, copies = record_of(reader, prefix, "fill"), reader.join(prefix, COPIES)
    if record is None and reader.may_be_there(copies):
        raise KalyxError(f"{visible(copies)} was not left by a fill of yours, so nothing is restored from it;"
                         " inspect it, and move it away")  # fmt: skip
    return None if record is None else "traces" if record.is_settled else "unfinished"


def restore(reader: Reader, prefix: str, writer: Writer) -> None:
    """Restore what a stopped run left unfinished, and clear its traces. Raises KalyxError where that fails."""
    with Transaction(reader, writer, "fill", prefix) as transaction:
        transaction.lock()
        left = transaction.roll_back()
    if left:
        raise KalyxError("; ".join(left))


def keep(transaction: Transaction, prefix: str, folders: list[str]) -> None:
    """Lock the environment, and copy these folders. Raises KalyxError, also for what a stopped fill left here."""
    reader = transaction.reader
    inside = folders_inside(reader, prefix, folders)
    times = {folder: _times(reader.again(), reader.parent(folder)) for folder in inside}
    left_over(reader.again(), prefix)
    if transaction.lock() is not None:
        raise KalyxError(f"a fill of {visible(prefix)} was interrupted, and is rolled back first; try again")
    transaction.copy(times, reader.join(reader.real(prefix), COPIES))


def folders_inside(reader: Reader, prefix: str, folders: list[str]) -> list[str]:
    """The real path of each folder, once.

    Raises KalyxError for one that a link puts outside the environment: what is there belongs to others too.
    """
    upper, real = reader.real(prefix), {folder: reader.real(folder) for folder in folders}
    for folder, path in real.items():
        if not reader.inside(path, upper) or reader.same_path(path, upper):
            raise KalyxError(f"{visible(folder)} is a link that leads out of the environment, to {visible(path)};"
                             " packages there belong to others too, so nothing was changed")  # fmt: skip
    return list(dict.fromkeys(real.values()))


def _times(reader: Reader, folder: str) -> tuple[int, int] | None:
    status = reader.status(folder)
    return (status.modified_ns, status.modified_ns) if isinstance(status, FileStat) and status.modified_ns else None
