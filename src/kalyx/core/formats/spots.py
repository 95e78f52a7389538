"""Where a value stands in a settings file, to the character, in each format: to be read, or changed alone.

JSON with comments is searched in a copy whose comments are blanks, so that
every place is the same in the original.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from html import escape, unescape

from msgspec import Struct

from kalyx.core.formats.editing import members, past_blanks


class Malformed(Exception):
    """A settings file that cannot be read, with the reason."""


def without_comments(text: str) -> str:
    """JSON with comments and trailing commas as JSON, every character in its place (blanks stand for what is gone)."""
    out = list(text)
    at, size, comma = 0, len(text), -1
    if text[:1] == "\ufeff":
        out[0], at = " ", 1
    while at < size:
        character = text[at]
        if character == '"':
            at += 1
            while at < size and text[at] != '"':
                at += 2 if text[at] == "\\" else 1
            at, comma = at + 1, -1
            continue
        if text.startswith("//", at) or text.startswith("/*", at):
            if text[at + 1] == "/":
                end = text.find("\n", at)
            else:
                end = text.find("*/", at)
                end = end + 2 if end >= 0 else end
            end = size if end < 0 else end
            for place in range(at, end):
                if out[place] not in "\r\n":
                    out[place] = " "
            at = end
            continue
        if character == ",":
            comma = at
        elif character in "]}":
            if comma >= 0:
                out[comma] = " "
            comma = -1
        elif character not in " \t\r\n":
            comma = -1
        at += 1
    return "".join(out)


TAG = r"<(/?)([\w.-]+)((?:\s+[\w.:-]+\s*=\s*(?:\"[^\"]*\"|'[^']*'))*)\s*(/?)>"
ATTRIBUTE = r"([\w.:-]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')"


class Spot(Struct, frozen=True):
    """A value's place (its quotes included where it has them), the value, and the name of what it belongs to.

    ``words``: all of a list, of which the value is the first.
    """

    start: int
    end: int
    value: str
    named: str | None = None
    words: tuple[str, ...] = ()


def spots(form: str, text: str, key: list[str], named: str | None) -> list[Spot]:
    """Every place of a text at ``key``. Raises Malformed for what cannot be read."""
    if form in ("json", "jsonc"):
        plain = without_comments(text)
        try:
            json.loads(plain)
            return list(_in_json(plain, past_blanks(plain, 0), key, named, None))
        except (ValueError, RecursionError) as error:
            raise Malformed(str(error)) from None
    finders = {"xml": _in_xml, "toml": _in_sections, "ini": _in_sections, "lisp": _in_lisp, "text": _in_text}
    return list(finders[form](text, key, named))


def _in_json(text: str, at: int, key: list[str], named: str | None, owner: str | None) -> Iterator[Spot]:
    if not key:
        value, end = json.JSONDecoder().raw_decode(text, at)
        if isinstance(value, str):
            yield Spot(at, end, value, owner)
        elif isinstance(value, list) and value and all(isinstance(word, str) for word in value):
            first = past_blanks(text, at + 1)
            word, end = json.JSONDecoder().raw_decode(text, first)
            yield Spot(first, end, word, owner, tuple(value))
        return
    if text[at] == "{":
        found = members(text, at)
        own = next((one for one in reversed(found) if one.key == named), None) if named else None
        if own is not None:
            said = json.loads(text[own.start : own.end])
            owner = said if isinstance(said, str) else owner
        wanted = found if key[0] == "*" else [one for one in reversed(found) if one.key == key[0]][:1]
        for one in wanted:
            yield from _in_json(text, one.start, key[1:], named, owner)
    elif text[at] == "[" and key[0] == "*":
        at = past_blanks(text, at + 1)
        while text[at] != "]":
            yield from _in_json(text, at, key[1:], named, owner)
            _, at = json.JSONDecoder().raw_decode(text, at)
            at = past_blanks(text, at)
            at = past_blanks(text, at + 1) if text[at] == "," else at


def _in_xml(text: str, key: list[str], named: str | None) -> Iterator[Spot]:
    """Attributes of tags: ``tag[attribute=value]`` chooses the tag, the last word the attribute.

    No parser for entities or external parts is asked: such files need none, and hostile ones use them.
    """
    chosen = re.fullmatch(r"([\w.-]+)\[([\w.-]+)=(.*)\]", key[0])
    if chosen is None:
        raise Malformed(f"no such key: {key[0]}")
    opened: list[tuple[str, str | None]] = []
    for match in re.finditer(TAG, text):
        closing, tag, _, alone = match.groups()
        if closing:
            while opened and opened.pop()[0] != tag:
                pass
            continue
        places = {one[1]: one for one in re.finditer(ATTRIBUTE, text[: match.end(3)][match.start(3) :])}
        said = {name: unescape(one[2] if one[2] is not None else one[3]) for name, one in places.items()}
        if tag == chosen[1] and said.get(chosen[2]) == chosen[3] and said.get(key[1]):
            one = places[key[1]]
            group = 2 if one[2] is not None else 3
            owner = next((name for kind, name in reversed(opened) if kind == named), None)
            yield Spot(match.start(3) + one.start(group), match.start(3) + one.end(group), said[key[1]], owner)
        if not alone:
            opened.append((tag, said.get("name")))


def _in_sections(text: str, key: list[str], named: str | None) -> Iterator[Spot]:
    """``key = value`` below its section's head, as TOML and INI files have it."""
    section, at = "", 0
    wanted = ".".join(key[:-1])
    for line in text.splitlines(keepends=True):
        head = re.match(r"\s*\[+([^\]]+)\]+", line)
        if head is not None:
            section = head[1].strip().replace('"', "").replace(" ", "")
        value = re.match(rf"\s*{re.escape(key[-1])}\s*[=:]\s*(\"[^\"\r\n]*\"|'[^'\r\n]*'|[^#;\r\n]*[^#;\s])", line)
        if value is not None and section == wanted:
            yield Spot(at + value.start(1), at + value.end(1), value[1].strip("\"'"))
        at += len(line)


def _in_lisp(text: str, key: list[str], named: str | None) -> Iterator[Spot]:
    for match in re.finditer(
        r"\(?" + re.escape(key[-1]) + r'\s+(?:\.\s+)?("(?:[^"\\]|\\.)*")', _without_lisp_comments(text)
    ):
        value = match[1][1:-1].replace('\\"', '"').replace("\\\\", "\\")
        yield Spot(match.start(1), match.end(1), value)


def _in_text(text: str, key: list[str], named: str | None) -> Iterator[Spot]:
    at = 0
    for line in text.splitlines(keepends=True):
        word = line.split("#")[0].strip()
        if word:
            start = at + line.index(word)
            yield Spot(start, start + len(word), word)
            return
        at += len(line)


def written(form: str, before: str, value: str) -> str:
    """A value as this format writes it, quoted as what stood there before."""
    if form in ("json", "jsonc"):
        return json.dumps(value, ensure_ascii=False)
    if form == "xml":
        return escape(value, quote=True)
    if form == "lisp":
        return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
    if form == "toml":
        return f"'{value}'" if before.startswith("'") and "'" not in value else json.dumps(value, ensure_ascii=False)
    return value


def _without_lisp_comments(text: str) -> str:
    return re.sub(r'("(?:[^"\\]|\\.)*")|;[^\n]*', lambda match: match[1] or " " * len(match[0]), text)
