"""A lock file in a folder that names the process which changes the folder, so that two processes never do at once."""

from __future__ import annotations

from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader
from kalyx.core.system.own_files import distrust
from kalyx.core.system.reader import FileStat, Process
from kalyx.core.system.writer import Writer
from kalyx.core.text.numbers import number_of
from kalyx.core.text.patterns import pattern
from kalyx.core.text.visible import visible

_JUST_NOW = 10.0
# The content of a claim: a process, when it began, and in the next line the mark of the journal's entry.
_CLAIM = pattern(r"\d{1,10} \S{1,80}\n(?:[0-9a-f]{32}\n)?")


def own_words(reader: Reader, mark: str = "") -> bytes:
    """What a claim of this process says: its number, when it began, the mark of the journal's entry."""
    process = reader.process(reader.pid)
    return f"{reader.pid} {_began(process)}\n{mark}{chr(10) if mark else ''}".encode()


def _began(process: Process | None) -> str:
    """When a process began, in the system's own count where it has one: that holds also where the clock is set."""
    return (process.ticks or repr(process.started)) if process is not None else "None"


def worker(reader: Reader, path: str, now: float = 0.0) -> int | None:
    """The number of the living process whose claim is at ``path``; None where none does or its maker is gone."""
    text = reader.text_or_none(path, 4096)
    return None if text is None else _maker(reader, path, text, now)


def _maker(reader: Reader, path: str, text: str, now: float) -> int | None:
    """As ``worker``, of a claim that says ``text``."""
    written, _, started = text.split("\n")[0].partition(" ")
    number = number_of(written)
    if number is None:
        # Created this moment and not yet written, or no claim of Kalyx.
        status = reader.status(path)
        return 0 if not text and isinstance(status, FileStat) and now - status.modified_ns / 1e9 < _JUST_NOW else None
    process = reader.process(number)
    if process is None or (process.started is not None and started != _began(process)):
        return None
    return number


def is_living(reader: Reader, words: str) -> bool:
    """Whether the process that a claim's first line names still runs."""
    number, _, began = words.partition(" ")
    process = reader.process(number_of(number) or 0)
    return process is not None and (process.started is None or began == _began(process))


def claim(reader: Reader, path: str, writer: Writer, mark: str = "") -> None:
    """Lock the folder. Raises KalyxError where another process has the lock; the claim of a dead process is replaced.

    ``mark``: that of the journal's entry about this change. A file that is no claim of Kalyx is refused.

    Judging a claim dead, removing it and writing the new one is one step for others: the folder is locked meanwhile.
    """
    if writer.claim(path, own_words(reader, mark)):
        return
    with writer.alone(reader.parent(path)):
        look = reader.again()
        text = look.text_or_none(path, 4096)
        if text is not None:  # None: its owner just removed it
            result = _maker(look, path, text, writer.now())
            if result is not None:
                raise _at_work(reader, path, result)
            if look.kind(path) != "file" or (text and not _CLAIM.fullmatch(text)) or distrust(look, path):
                raise KalyxError(f"{visible(path)} was not written by Kalyx; remove it, if it is yours, and try again")
            writer.remove_file(path)
        if not writer.claim(path, own_words(reader, mark)):
            raise _at_work(reader, path, 0)


def _at_work(reader: Reader, path: str, number: int) -> KalyxError:
    who = f" (process {number})" if number else ""
    return KalyxError(f"another kalyx{who} is changing {visible(reader.parent(path))}; try again when it has finished")
