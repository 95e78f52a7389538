"""Shortening lists: of rows that are alike the first few are shown, then how many more there are."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import TypeVar

SHOWN = 3
# Up to this many are all shown: a number would save nothing.
FEW = 5

_Row = TypeVar("_Row")


def folded(rows: list[_Row], kind: Callable[[_Row], Hashable]) -> list[tuple[_Row, int]]:
    """The rows to draw in their order, each with how many more of its kind are not drawn after it (mostly none)."""
    alike: dict[Hashable, list[int]] = {}
    for at, row in enumerate(rows):
        alike.setdefault(kind(row), []).append(at)
    more = dict.fromkeys(range(len(rows)), 0)
    for places in alike.values():
        if len(places) > FEW:
            for at in places[SHOWN:]:
                del more[at]
            more[places[SHOWN - 1]] = len(places) - SHOWN
    return [(rows[at], count) for at, count in more.items()]
