"""Simple comparisons of versions, by their numbers."""

from __future__ import annotations

from kalyx.core.text.numbers import leading_number


def change_of(before: str, after: str) -> str:
    """``upgrade`` or ``downgrade``, by the order of versions (PEP 440); ``change`` where that knows none."""
    from packaging.version import InvalidVersion, Version

    try:
        old, new = Version(before), Version(after)
    except InvalidVersion:
        return "change"
    return "upgrade" if new > old else "downgrade" if new < old else "change"


def minor_of(version: str) -> str:
    """``3.11.7`` gives ``3.11``."""
    return ".".join(version.split(".")[:2])


def pair_of(version: str) -> tuple[int, int]:
    """``3.11.7`` gives (3, 11); nought stands for a number that is not there."""
    major, minor = [*(leading_number(part) for part in version.split(".")[:2]), 0, 0][:2]
    return major, minor


def numbers_of(version: str) -> list[int]:
    """The numbers of a version, for comparisons that need not be exact."""
    import re

    return [leading_number(part) for part in re.findall(r"[0-9]+", version[:200])[:4]]
