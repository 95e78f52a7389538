"""Who is at work in a folder: a file that names the process, so that two never work in one place at once."""

from __future__ import annotations

from kalyx.core.doors import Facts
from kalyx.core.doors.changing import Change
from kalyx.core.records import KalyxError
from kalyx.core.words.numbers import number_of
from kalyx.core.words.visible import visible

_JUST_NOW = 10.0
_SAME = 3.0  # seconds: when a process began is worked out from a clock that may be set meanwhile


def own_words(facts: Facts) -> bytes:
    """What a claim of this process says: its number and when it started."""
    process = facts.process(facts.pid)
    return f"{facts.pid} {process.started if process else None}\n".encode()


def worker(facts: Facts, path: str, now: float = 0.0) -> int | None:
    """The number of the living process whose claim lies at ``path``; None where none does or its maker is gone."""
    text = facts.text_or_none(path, 4096)
    if text is None:
        return None
    written, _, started = text.split("\n")[0].partition(" ")
    number = number_of(written)
    if number is None:
        # Made this moment and not yet written, or no claim of ours.
        status = facts.status(path)
        return 0 if not text and status is not None and now - status.modified_ns / 1e9 < _JUST_NOW else None
    process = facts.process(number)
    if process is None:
        return None
    try:
        same = process.started is None or abs(process.started - float(started)) < _SAME
    except ValueError:
        same = False
    return number if same else None


def claim(facts: Facts, path: str, change: Change) -> None:
    """Take the place, or raise KalyxError where somebody else is at work there; a dead worker's claim is taken over.

    Of several that find a dead one at once one takes it over: it claims the right to, and looks again.
    """
    taking = path + "-taking"
    for _ in range(3):
        if change.claim(path, own_words(facts)):
            return
        _refuse_living(facts, path, change)
        if not change.claim(taking, own_words(facts)):
            _refuse_living(facts, taking, change)
            change.remove_file(taking)  # whoever took it over died of it
            continue
        try:
            _refuse_living(facts, path, change)
            change.remove_file(path)
        finally:
            change.remove_file(taking)
    raise KalyxError(f"{visible(path)} cannot be taken")


def _refuse_living(facts: Facts, path: str, change: Change) -> None:
    found = worker(facts.again(), path, change.now())
    if found is not None:
        who = f" (process {found})" if found else ""
        raise KalyxError(f"another kalyx{who} is at work in {visible(facts.parent(path))}; try again when it is done")
