"""INI settings, read as the standard library's ``configparser`` reads them, with the place of every value.

Sections in brackets, ``key = value`` or ``key: value``, keys in any case, whole-line comments, and values that go on
in indented lines.
"""

from __future__ import annotations

from functools import lru_cache

from kalyx.core.formats.span import Malformed, Span
from kalyx.core.text.patterns import pattern

_SECTION = pattern(r"\[(.+)\]")


@lru_cache(maxsize=8)
def read(text: str, strict: bool = False) -> dict[tuple[str, str], Span]:
    """Section and key to value; of a key that stands twice the last counts. Raises Malformed.

    ``strict``: what the standard library's reader refuses is refused too: a line without a sign, a name that stands
    twice. A section without a key has the key ``""`` then.
    """
    result: dict[tuple[str, str], Span] = {}
    more: dict[tuple[str, str], list[str]] = {}
    ends: dict[tuple[str, str], int] = {}
    section: str | None = None
    last: tuple[str, str] | None = None
    indent, at, blanks = 0, 0, 0
    for line in text.splitlines(keepends=True):
        begins, at = at, at + len(line)
        if begins == 0 and line[:1] == "\ufeff":
            line, begins = line[1:], 1
        body = line.strip()
        if body.startswith(("#", ";")):
            continue
        own = len(line) - len(line.lstrip())
        if not body:
            blanks += 1
            continue
        if last is not None and own > indent:
            more.setdefault(last, []).append("\n" * (blanks + 1) + body)
            ends[last] = begins + own + len(body)
            blanks = 0
            continue
        blanks = 0
        indent = own
        head = _SECTION.match(body)
        if head is not None:
            section, last = head[1], None
            if strict:
                _keep(result, (section, ""), Span(begins, begins, ""), strict)
            continue
        sign = min((at for at in (body.find("="), body.find(":")) if at >= 0), default=-1)
        if section is None or (strict and sign <= 0):
            why = "a value before the first section" if section is None else "no sign between a key and a value"
            raise Malformed(f"line {text.count(chr(10), 0, begins) + 1}: {why}")
        if sign <= 0:
            last = None
            continue
        value = body[sign + 1 :].strip()
        start = begins + own + len(body) - len(value)
        last = section, body[:sign].rstrip().lower()
        more.pop(last, None)
        _keep(result, last, Span(start, start + len(value), value), strict)
    for key, parts in more.items():
        span = result[key]
        result[key] = Span(span.start, ends[key], span.value + "".join(parts))
    return result


def _keep(spans: dict[tuple[str, str], Span], name: tuple[str, str], span: Span, strict: bool) -> None:
    if strict and name in spans:
        raise Malformed(f"{(name[1] or name[0])[:80]!r} stands twice")
    spans[name] = span


def spans_of(text: str, key: list[str]) -> list[Span]:
    """The value at section and key; none where it is not."""
    span = read(text).get((".".join(key[:-1]), key[-1].lower()))
    return [span] if span is not None and span.value else []
