"""What Kalyx was changing when it was stopped, by the journal in the user's state folder alone.

Each run that changes something keeps a record of how each of its changes is undone. A run that makes, fills or removes
an environment also locks the environment: the lock file carries the mark of the run's record. A lock, or a copy, that
is found in an environment without that record was written by somebody else: it is data, and nothing is done because of
it.
"""

from __future__ import annotations

from typing import Literal

import msgspec
from msgspec import Struct

from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_files import believed, own_folder
from kalyx.core.text.patterns import pattern

Work = Literal["prepare", "fill", "discard"]
LOCKS: dict[Work, str] = {"prepare": ".kalyx-unfinished", "fill": ".kalyx-filling", "discard": ".kalyx-discarding"}
COPIES = ".kalyx-before"  # the folder in the environment where a fill keeps what an installer changes
CONTENT_LIMIT = 64 * 1024 * 1024  # bytes of a file that is changed
_LIMIT = 2 * CONTENT_LIMIT
_NAME = pattern(r"changes-([0-9a-f]{32})\.json")
_MARK = pattern(r"[0-9a-f]{32}")


class Inverse(Struct, forbid_unknown_fields=True):
    """How one change is undone.

    ``remove`` a file that was made, while its content is the one written; ``write`` back the content and the times that
    a file had; ``move`` back; ``remove-folder`` that was made, where nothing is in it; ``remove-tree`` that was made;
    ``empty`` a folder that this run alone fills, but for the file ``to``; ``restore`` a folder from its copy in ``to``.
    """

    how: Literal["remove", "write", "move", "remove-folder", "remove-tree", "empty", "restore"]
    path: str
    digest: str = ""  # of the content that the run wrote
    content: str = ""  # what was there before, in base64
    to: str = ""
    times: tuple[int, int] | None = None  # of a file; of a restored folder those of the folder above (ns)
    always: bool = False  # carried out when the change is committed too


class Record(Struct, forbid_unknown_fields=True):
    """One run that changes something: the process, how its changes are undone; the environment, the work, the start."""

    schema: Literal["kalyx.changes/1"]
    worker: str
    inverses: list[Inverse]
    work: Work | None = None
    target: str = ""  # the real path of the environment
    mark: str = ""
    began: int = 0  # ns
    is_settled: bool = False  # what was changed stays: only what a commit does too is left to do


def record_file(reader: Reader, mark: str) -> str:
    """The file of the record with this mark, there or not."""
    return reader.join(own_folder(reader, "state"), "journal", f"changes-{mark}.json")


def records(reader: Reader) -> list[Record]:
    """Every record that is believed."""
    folder = reader.parent(record_file(reader, ""))
    marks = [match[1] for name in reader.names(folder) if (match := _NAME.fullmatch(name)) is not None]
    return [record for mark in marks if (record := _read(reader, mark)) is not None]


def record_of(reader: Reader, target: str, work: Work) -> Record | None:
    """The record that the lock in an environment belongs to, about this environment and this work.

    None where there is none, or what is there is not believed: then somebody else wrote the lock.
    """
    lock = reader.join(target, LOCKS[work])
    if reader.kind(lock) != "file":
        return None
    lines = (reader.text_or_none(lock, 4096) or "").split("\n")
    if len(lines) < 2 or not _MARK.fullmatch(lines[1]):
        return None
    record = _read(reader, lines[1])
    is_it = record is not None and record.work == work
    return record if record and is_it and reader.same_path(record.target, reader.real(target)) else None


def _read(reader: Reader, mark: str) -> Record | None:
    """The record with a mark, None where it is damaged, was written by somebody else, or names no whole path."""
    path = record_file(reader, mark)
    if not reader.may_be_there(path):
        return None
    try:
        record = msgspec.json.decode(believed(reader, path, _LIMIT), type=Record)
    except (Unreadable, msgspec.MsgspecError, RecursionError):
        return None
    named = [word for inverse in record.inverses for word in (inverse.path, inverse.to) if word]
    return record if record.mark == mark and all(reader.path.isabs(word) for word in named) else None
