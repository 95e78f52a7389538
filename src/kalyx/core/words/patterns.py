"""Regular expressions that are compiled when they are first used: most of a call's are never needed."""

from __future__ import annotations

import re
from typing import Any, AnyStr, cast


class _Pattern:
    """What stands for a compiled expression; at the first use of a method the compiled one's takes its place."""

    def __init__(self, text: str | bytes, flags: int) -> None:
        self.pattern, self.flags = text, flags

    def __getattr__(self, name: str) -> Any:
        used = getattr(re.compile(self.pattern, self.flags), name)
        setattr(self, name, used)
        return used


def pattern(text: AnyStr, flags: int = 0) -> re.Pattern[AnyStr]:
    """The expression of a text, with ``re``'s flags; a mistake in it shows at its first use (a test uses them all)."""
    return cast("re.Pattern[AnyStr]", _Pattern(text, flags))
