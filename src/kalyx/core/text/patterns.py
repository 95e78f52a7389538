"""Regular expressions that are compiled when they are first used, as most are never; and names with stars."""

from __future__ import annotations

import re
from typing import AnyStr, cast


class _Pattern:
    """A regular expression that is compiled at the first use of a method."""

    def __init__(self, text: str | bytes, flags: int) -> None:
        self.pattern, self.flags = text, flags

    def __getattr__(self, name: str) -> object:
        used = getattr(re.compile(self.pattern, self.flags), name)
        setattr(self, name, used)
        return used


def fits(name: str, stars: str) -> bool:
    """Whether a name is a text in which each ``*`` stands for any text, also none."""
    first, *others = stars.split("*")
    if not others:
        return name == stars
    last, at = others.pop(), len(first)
    end = len(name) - len(last)
    for part in others:
        result = name.find(part, at, end)
        if result < 0:
            return False
        at = result + len(part)
    return name.startswith(first) and name.endswith(last) and at <= end


def pattern(text: AnyStr, flags: int = 0) -> re.Pattern[AnyStr]:
    """The expression of a text, with ``re``'s flags; a mistake in it shows at its first use (a test uses them all)."""
    return cast("re.Pattern[AnyStr]", _Pattern(text, flags))
