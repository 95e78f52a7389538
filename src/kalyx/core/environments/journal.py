"""What Kalyx was doing to an environment when it was stopped, by the journal in the user's state folder alone.

Before Kalyx makes, fills or removes an environment it writes an entry of its journal, in the user's state folder, and
puts the entry's mark into what it leaves in the environment. A mark, a copy or a claim found in an environment without
that entry was written by somebody else: it is data, and nothing is done because of it.
"""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_files import believed, own_folder

Work = Literal["prepare", "fill", "discard"]
_LIMIT = 64 * 1024


class Entry(Struct, forbid_unknown_fields=True):
    """One piece of work: the real path of the environment, what was done to it, its mark, when it began (ns)."""

    schema: Literal["kalyx.journal/1"]
    target: str = field(name="place")
    work: Work
    mark: str
    began: int


def entry_file(reader: Reader, target: str, mark: str) -> str:
    """The file of the entry with this mark about an environment, there or not."""
    words = f"{reader.real(target)}\0{mark}"
    import hashlib  # costs a start seven milliseconds

    name = hashlib.sha256(words.encode("utf-8", "surrogateescape")).hexdigest()[:24]
    return reader.join(own_folder(reader, "state"), "journal", f"{name}.json")


def entry_of(reader: Reader, target: str, path: str, work: Work) -> Entry | None:
    """The entry that the mark in the file ``path`` belongs to, about this environment and this work.

    None where there is none, or what is there is not believed: then somebody else wrote the mark.
    """
    if reader.kind(path) != "file":
        return None
    lines = (reader.text_or_none(path, 4096) or "").split("\n")
    if len(lines) < 2 or len(lines[1]) != 32:
        return None
    file = entry_file(reader, target, lines[1])
    if not reader.may_be_there(file):
        return None
    import msgspec

    try:
        entry = msgspec.json.decode(believed(reader, file, _LIMIT), type=Entry)
    except (Unreadable, msgspec.MsgspecError, RecursionError):
        return None
    is_it = entry.mark == lines[1] and entry.work == work and reader.same_path(entry.target, reader.real(target))
    return entry if is_it else None
