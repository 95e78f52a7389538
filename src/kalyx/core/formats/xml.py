"""XML settings: attributes of tags, with their places. Parsed by expat; no entity or external part is ever taken in.

Extensible Markup Language 1.0; a document type is refused: such files need none, and hostile ones use them.
"""

from __future__ import annotations

from html import escape

from msgspec import Struct

from kalyx.core.formats.span import Malformed, Span
from kalyx.core.text.patterns import pattern

_ATTRIBUTE = pattern(r"(?<![^\s=\"'<>/])([^\s=\"'<>/]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')")
_CHOICE = pattern(r"([\w.-]+)\[([\w.-]+)=(.*)\]")
_DEEP = 200


class Tag(Struct, frozen=True):
    """An element's start: its name, its attributes' values, where it begins, and the elements that it is in."""

    name: str
    attributes: dict[str, str]
    start: int
    within: tuple[Tag, ...]


def tags(text: str) -> list[Tag]:
    """Every element of a document, in its order; comments and text are none. Raises Malformed."""
    from xml.parsers import expat

    whole = text.encode("utf-8", "surrogatepass")
    parser = expat.ParserCreate("utf-8")
    result: list[Tag] = []
    opened: list[Tag] = []
    ascii_only = len(whole) == len(text)

    def start(name: str, values: dict[str, str]) -> None:
        if len(opened) >= _DEEP:
            raise Malformed("nested too deeply")
        byte = parser.CurrentByteIndex
        at = byte if ascii_only else len(whole[:byte].decode("utf-8", "surrogatepass"))
        opened.append(Tag(name, values, at, tuple(opened)))
        result.append(opened[-1])

    def end(_name: str) -> None:
        opened.pop()

    def refuse(*_arguments: object) -> None:
        raise Malformed("it has a document type, which settings have not")

    parser.StartElementHandler = start
    parser.EndElementHandler = end
    parser.StartDoctypeDeclHandler = refuse
    try:
        parser.Parse(whole, True)
    except expat.ExpatError as error:
        raise Malformed(f"not well-formed: {expat.ErrorString(error.code)}, line {error.lineno}") from None
    return result


def spans_of(text: str, key: list[str], named: str | None) -> list[Span]:
    """``tag[attribute=value]`` chooses the tag, the last word of the key the attribute; ``named``: an element above."""
    chosen = _CHOICE.fullmatch(key[0])
    if chosen is None:
        raise Malformed(f"no such key: {key[0]}")
    spans = []
    for tag in tags(text):
        if tag.name == chosen[1] and tag.attributes.get(chosen[2]) == chosen[3] and tag.attributes.get(key[1]):
            owner = next((item.attributes.get("name") for item in reversed(tag.within) if item.name == named), None)
            for match in _ATTRIBUTE.finditer(text, tag.start):
                if match[1] == key[1]:
                    group = 2 if match[2] is not None else 3
                    spans.append(Span(match.start(group), match.end(group), tag.attributes[key[1]], owner))
                    break
    return spans


def written(value: str) -> str:
    """A text as the value of an attribute."""
    return escape(value, quote=True)
