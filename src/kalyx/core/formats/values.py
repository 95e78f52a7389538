"""The texts at a path of keys of a settings file, with their lines.

Bounded and forgiving: comments, trailing commas, a byte-order mark, duplicate
keys (the last counts) and wrong types are the everyday of such files.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from msgspec import Struct

LIMIT = 1024 * 1024
Format = Literal["json", "jsonc", "xml", "toml", "ini", "lisp", "text"]


class Value(Struct, frozen=True):
    """A text or a list of words, its line, and the name of what it belongs to."""

    text: str
    line: int | None = None
    named: str | None = None
    words: tuple[str, ...] = ()


def values(form: str, text: str, key: list[str], named: str | None, below: list[str] | None) -> Iterator[Value]:
    """Every text at ``key`` in a file of this format. Raises Malformed with the reason."""

    from kalyx.core.formats.positions import spans_of  # most folders have no such file

    def whole(value: str, folder: object) -> str:
        return f"{folder.rstrip('/')}/{value}" if isinstance(folder, str) else value

    spans = spans_of(form, text, key, named)
    folders = spans_of(form, text, below, None) if below else []
    for span in spans:
        if span.value:
            line = text.count("\n", 0, span.start) + 1
            yield Value(whole(span.value, folders[-1].value if folders else None), line, span.named, span.words)
