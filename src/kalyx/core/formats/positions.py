"""Where a value stands in a settings file, to the character, whatever its format: to be read, or changed alone."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from functools import lru_cache

from kalyx.core.formats.comments import without_comments
from kalyx.core.formats.editing import Member, members, past_blanks
from kalyx.core.formats.span import Malformed, Span


def spans_of(form: str, text: str, key: list[str], named: str | None) -> list[Span]:
    """Every place of a text at ``key``, a path of keys. Raises Malformed for what cannot be read."""
    # A format's reader is loaded for a file of that format only: most folders have one or two formats.
    if form == "xml":
        from kalyx.core.formats import xml

        return xml.spans_of(text, key, named)
    if form == "toml":
        from kalyx.core.formats import toml

        return toml.spans_of(text, key)
    if form == "ini":
        from kalyx.core.formats import ini

        return ini.spans_of(text, key)
    if form == "lisp":
        from kalyx.core.formats import lisp

        return lisp.spans_of(text, key)
    if form == "text":
        return list(_in_text(text))
    try:
        plain = _plain(text)
        return list(_in_json(plain, past_blanks(plain, 0), key, named, None))
    except (ValueError, RecursionError) as error:
        raise Malformed(str(error) or "nested too deeply") from None


@lru_cache(maxsize=4)
def _plain(text: str) -> str:
    """The text as plain JSON, which it was found to be; asked for by each key of a file. Raises ValueError."""
    plain = without_comments(text)
    json.loads(plain)
    return plain


@lru_cache(maxsize=64)
def _members(text: str, at: int) -> tuple[Member, ...]:
    return tuple(members(text, at))


def _in_json(text: str, at: int, key: list[str], named: str | None, owner: str | None) -> Iterator[Span]:
    if not key:
        value, end = json.JSONDecoder().raw_decode(text, at)
        if isinstance(value, str):
            yield Span(at, end, value, owner)
        elif isinstance(value, list) and value and all(isinstance(word, str) for word in value):
            first = past_blanks(text, at + 1)
            word, end = json.JSONDecoder().raw_decode(text, first)
            yield Span(first, end, word, owner, tuple(value))
        return
    if text[at] == "{":
        result = _members(text, at)
        own = next((member for member in reversed(result) if member.key == named), None) if named else None
        if own is not None:
            document = json.loads(text[own.start : own.end])
            owner = document if isinstance(document, str) else owner
        wanted = result if key[0] == "*" else [member for member in reversed(result) if member.key == key[0]][:1]
        for member in wanted:
            yield from _in_json(text, member.start, key[1:], named, owner)
    elif text[at] == "[" and key[0] == "*":
        at = past_blanks(text, at + 1)
        while text[at] != "]":
            yield from _in_json(text, at, key[1:], named, owner)
            _, at = json.JSONDecoder().raw_decode(text, at)
            at = past_blanks(text, at)
            at = past_blanks(text, at + 1) if text[at] == "," else at


def _in_text(text: str) -> Iterator[Span]:
    at = 0
    for line in text.splitlines(keepends=True):
        word = line.split("#")[0].strip()
        if word:
            start = at + line.index(word)
            yield Span(start, start + len(word), word)
            return
        at += len(line)


def written(form: str, text: str, span: Span, key: list[str], value: str) -> tuple[int, int, str]:
    """A value as this format writes it in the place of another: from where, to where, what."""
    from kalyx.core.formats import lisp, toml, xml

    if form == "toml":
        whole = toml.with_value(text, key, value)
        return span.start, span.end, whole[span.start : len(whole) - (len(text) - span.end)]
    writers: dict[str, Callable[[str], str]] = {"xml": xml.written, "lisp": lisp.written, "ini": str, "text": str}
    message = writers.get(form, _in_json_words)(value)
    return span.start, span.end, message


def _in_json_words(value: str) -> str:
    return json.dumps(value, ensure_ascii=False)
