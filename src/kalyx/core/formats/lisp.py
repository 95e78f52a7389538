"""Lisp settings: a name and the text that follows it, as ``(name . "text")`` or ``name "text"``.

The GNU Emacs Lisp Reference Manual, "Printed Representation and Read Syntax": comments run to the end of the line,
texts have backslashes, and a character is written with a question mark before it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

from msgspec import Struct

from kalyx.core.formats.span import Malformed, Span
from kalyx.core.text.patterns import pattern

_TOKEN = pattern(
    r'(?P<blank>\s+)|(?P<comment>;[^\n]*)|(?P<text>"(?:[^"\\]|\\.)*")|(?P<character>\?\\?(?:\\.|.))'
    r"|(?P<mark>[()\[\]'`]|,@?|\#')|(?P<name>(?:[^\s()\[\]\"';`,\\]|\\.)+)|(?P<other>.)",
    re.DOTALL,
)


class Token(Struct, frozen=True):
    """A word of the text: its kind, itself, and where it begins."""

    kind: str
    text: str
    start: int


def tokens(text: str) -> Iterator[Token]:
    """The words of a text, without blanks and comments. Raises Malformed for a text that does not end."""
    for match in _TOKEN.finditer(text):
        kind = match.lastgroup or "other"
        if kind == "other" and match[0] == '"':
            raise Malformed(f"line {text.count(chr(10), 0, match.start()) + 1}: a text that does not end")
        if kind not in ("blank", "comment"):
            yield Token(kind, match[0], match.start())


_LARGE = 64 * 1024


@lru_cache(maxsize=2)
def _all_tokens(text: str) -> tuple[Token, ...]:
    return tuple(tokens(text))


def spans_of(text: str, key: list[str]) -> list[Span]:
    """Every text that is given to the last word of the key."""
    if key[-1] not in text and len(text) > _LARGE:
        return []
    spans, before = [], ("", "")
    for token in _all_tokens(text):
        if token.kind == "text" and key[-1] in (before[1], before[0] if before[1] == "." else None):
            value = re.sub(r"\\(.)", r"\1", token.text[1:-1], flags=re.DOTALL)
            spans.append(Span(token.start, token.start + len(token.text), value))
        before = before[1], token.text if token.kind == "name" else ""
    return spans


def written(value: str) -> str:
    """A text with its quotation marks, as Lisp reads it."""
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
