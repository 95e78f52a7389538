"""Versions where a look at their numbers is enough."""

from __future__ import annotations


def numbers_of(version: str) -> list[int]:
    """The numbers of a version, to tell the newer of two apart where exactness does not matter."""
    import re

    return [int(part) for part in re.findall(r"\d+", version)[:4]]
