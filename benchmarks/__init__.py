"""Ratios measured side by side, and what is to be kept of each."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Row(NamedTuple):
    """One figure: what was measured, against what, the median, and what is to be kept. None: not measured here."""

    what: str
    against: str
    value: float | None
    keep: float

    @property
    def is_over(self) -> bool:
        """Whether it is over what is to be kept."""
        return self.value is not None and self.value > self.keep

    @property
    def margin(self) -> str:
        """How far the figure lies below what is to be kept, or over it."""
        if self.value is None:
            return "not measured here"
        return f"{abs(1 - self.value / self.keep):.0%} {'over' if self.is_over else 'below'}"


def shown(measure: Callable[[], list[Row]]) -> int:
    """Print the rows of a benchmark; 1 when one of them is over what is to be kept."""
    rows = measure()
    for row in rows:
        value = "   none" if row.value is None else f"{row.value:7.2f}"
        print(f"  {row.what.ljust(44)} {value}   keep {row.keep:6.2f}   {row.margin}")
    return int(any(row.is_over for row in rows))
