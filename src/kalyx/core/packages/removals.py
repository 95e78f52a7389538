"""Modules and names that releases of well-known distributions removed: a table, for where no metadata here tells."""

from __future__ import annotations

from functools import cache

from msgspec import Struct

from kalyx.core.data import table


class Removal(Struct, frozen=True):
    """The distribution, the first release without it, and where it went (None: no other place)."""

    distribution: str
    first_without: str
    went: str | None


class _Distribution(Struct, forbid_unknown_fields=True):
    distribution: str
    names: dict[str, tuple[str, str | None]]


class _Table(Struct, forbid_unknown_fields=True):
    about: str
    removals: dict[str, _Distribution]


@cache
def _removals() -> dict[str, _Distribution]:
    return table("removals", _Table).removals


def removal_of(module: str, name: str = "*") -> Removal | None:
    """The removal of a name from a module, or of a module; of a module's parents too."""
    parts = module.split(".")
    for depth in range(len(parts), 0, -1):
        item = _removals().get(".".join(parts[:depth]))
        result = item.names.get(name if depth == len(parts) else "*") if item is not None else None
        if item is not None and result:
            return Removal(item.distribution, result[0], result[1])
    return None


def requirement_with(module: str, distribution: str) -> str:
    """The requirement that provides a module: below the release that no longer has it, where that is known."""
    removal = removal_of(module)
    if removal is not None and removal.distribution.lower() == distribution.lower():
        return f"{distribution}<{removal.first_without}"
    return distribution
