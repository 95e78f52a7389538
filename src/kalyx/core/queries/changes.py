"""What changed between two readings of the seats of a folder."""

from __future__ import annotations

from kalyx.core.model.records import Seat
from kalyx.core.model.results import HereAnswer
from kalyx.core.text.visible import visible

_RELATIONS = {
    "same": "agrees with", "differs": "differs from", "dead": "starts nothing, unlike",
    "unknown": "cannot be compared with",
}  # fmt: skip


def changes(before: HereAnswer, after: HereAnswer) -> list[str]:
    """Seats that are new, gone, start another interpreter or have another relation; findings that are new or gone."""
    result = []
    # A path is a seat only where the call names it.
    item, other = (
        {(seat.seat, seat.name): seat for seat in answer.seats if seat.seat != "path"} for answer in (before, after)
    )
    for key in [*item, *(key for key in other if key not in item)]:
        was, now = item.get(key), other.get(key)
        name = f"{key[0]} {visible(key[1])}" if key[0] != "shell" else "shell"
        if was is None and now is not None:
            result.append(f"{name} is new: {_runs(now)}")
        elif now is None and was is not None:
            result.append(f"{name} is gone; it ran {_runs(was)}")
        elif was is not None and now is not None:
            result += [f"{name} {words}" for words in _between(was, now)]
    text, message = ([finding.message for finding in answer.findings] for answer in (before, after))
    result += [f"fixed: {visible(words)}" for words in text if words not in message]
    result += [f"found: {visible(words)}" for words in message if words not in text]
    return result


def _between(was: Seat, now: Seat) -> list[str]:
    result = []
    if _runs(was) != _runs(now):
        result.append(f"ran {_runs(was)}, runs {_runs(now)} now")
    elif was.relation != now.relation:
        result.append(f"{_RELATIONS[now.relation]} the reference now")
    parts = {(part.role, part.word): part for part in was.parts}
    for part in now.parts:
        old = parts.get((part.role, part.word))
        if old is not None and old.path != part.path:
            result.append(f"found {part.word} as {old.path or 'nothing'}, finds {part.path or 'nothing'} now")
    return result


def _runs(seat: Seat) -> str:
    if seat.interpreter is None:
        return "nothing" + (f" ({visible(seat.reason)})" if seat.reason else "")
    prefix = seat.environment.prefix if seat.environment is not None else seat.interpreter.prefix
    return f"{visible(prefix)} ({seat.interpreter.version})"
