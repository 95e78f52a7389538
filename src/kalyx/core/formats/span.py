"""A value of a settings file and where it stands, as every reader of such a file gives it."""

from __future__ import annotations

from msgspec import Struct


class Malformed(Exception):
    """A settings file that cannot be read, with the reason."""


class Span(Struct, frozen=True):
    """A value's place (its quotes included where it has them), the value, and the name of what it belongs to.

    ``start``, ``end``: characters from the beginning of the text; ``words``: all of a list, of which the value is the
    first.
    """

    start: int
    end: int
    value: str
    named: str | None = None
    words: tuple[str, ...] = ()
