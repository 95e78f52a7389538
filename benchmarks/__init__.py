"""Ratios measured side by side, and what is to be kept of each."""

from __future__ import annotations


def is_over(name: str, value: float, keep: float) -> bool:
    """Print a row of a benchmark's table; whether the figure is over what is to be kept."""
    over = value > keep
    print(f"  {name.ljust(20)} {value:7.2f}   keep {keep:6.2f}  {'OVER' if over else ''}")
    return over
