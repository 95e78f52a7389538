"""Readers of settings files, one a format: each gives the texts at a path of keys, with their lines.

Bounded and forgiving: comments, trailing commas, a byte-order mark, duplicate
keys (the last counts) and wrong types are the everyday of such files.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

from msgspec import Struct

LIMIT = 4 * 1024 * 1024


class Value(Struct, frozen=True):
    """A text or a list of words, the line it stands on, and the name of what it belongs to."""

    text: str
    line: int | None = None
    named: str | None = None
    words: tuple[str, ...] = ()


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


def values(form: str, text: str, key: list[str], named: str | None, below: list[str] | None) -> Iterator[Value]:
    """Every text at ``key`` in a file of this format. Raises Malformed with the reason."""
    if form in ("jsonc", "json", "toml", "ini"):
        whole = _parsed(form, text)
        folder = next((one for one, _ in _at(whole, below, None) if isinstance(one, str)), None) if below else None
        for found, owner in _at(whole, key, named):
            yield from _value(found, owner, text, key, folder)
    elif form == "xml":
        yield from _xml(text, key, named)
    elif form == "lisp":
        for match in re.finditer(
            r"\(?" + re.escape(key[-1]) + r'\s+(?:\.\s+)?"((?:[^"\\]|\\.)*)"', _without_lisp_comments(text)
        ):
            yield Value(match[1].replace('\\"', '"').replace("\\\\", "\\"), text.count("\n", 0, match.start(1)) + 1)
    elif form == "text":
        for number, line in enumerate(text.splitlines(), 1):
            word = line.split("#")[0].strip()
            if word:
                yield Value(word, number)
                return


def _parsed(form: str, text: str) -> object:
    try:
        if form == "toml":
            import sys

            if sys.version_info >= (3, 11):
                import tomllib
            else:
                import tomli as tomllib
            return tomllib.loads(text.lstrip("\ufeff"))
        if form == "ini":
            import configparser

            parser = configparser.ConfigParser(interpolation=None, strict=False)
            parser.read_string(text.lstrip("\ufeff"))
            return {name: dict(section) for name, section in parser.items()}
        return json.loads(without_comments(text))
    except RecursionError:
        raise Malformed("nested too deeply") from None
    except Exception as error:
        # The three readers have an error of their own each; all of them say where.
        raise Malformed(str(error).split("\n")[0][:200] or type(error).__name__) from None


def _at(
    whole: object, key: list[str] | None, named: str | None, owner: str | None = None
) -> Iterator[tuple[object, str | None]]:
    if not key:
        yield whole, owner
        return
    if isinstance(whole, dict):
        own = whole.get(named) if named else None
        owner = own if isinstance(own, str) else owner
        if key[0] == "*":
            for inner in whole.values():
                yield from _at(inner, key[1:], named, owner)
        elif key[0] in whole:
            yield from _at(whole[key[0]], key[1:], named, owner)
    elif isinstance(whole, list) and key[0] == "*":
        for inner in whole[:1000]:
            yield from _at(inner, key[1:], named, owner)


def _value(found: object, owner: str | None, text: str, key: list[str], folder: str | None) -> Iterator[Value]:
    if isinstance(found, str) and found:
        line = _line(text, key[-1], found)
        yield Value(f"{folder.rstrip('/')}/{found}" if folder else found, line, owner)
    elif isinstance(found, list) and found and all(isinstance(word, str) for word in found):
        yield Value(found[0], _line(text, key[-1], found[0]), owner, tuple(found))


def _line(text: str, key: str, value: str) -> int | None:
    """The line where the value stands: after its key if that is named, else the first that has it."""
    written = json.dumps(value)[1:-1]
    start = max(text.find(f'"{key}"'), 0) if key != "*" else 0
    for needle in (written, value):
        at = text.find(needle, start)
        if at >= 0:
            return text.count("\n", 0, at) + 1
    return None


TAG = r"<(/?)([\w.-]+)((?:\s+[\w.:-]+\s*=\s*(?:\"[^\"]*\"|'[^']*'))*)\s*(/?)>"
ATTRIBUTE = r"([\w.:-]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')"


def _xml(text: str, key: list[str], named: str | None) -> Iterator[Value]:
    """Attributes of tags: ``tag[attribute=value]`` chooses the tag, the last word the attribute.

    No parser for entities or external parts is asked: such files need none, and hostile ones use them.
    """
    from html import unescape

    chosen = re.fullmatch(r"([\w.-]+)\[([\w.-]+)=(.*)\]", key[0])
    if chosen is None:
        raise Malformed(f"no such key: {key[0]}")
    opened: list[tuple[str, dict[str, str]]] = []
    for match in re.finditer(TAG, text):
        closing, tag, rest, alone = match.groups()
        if closing:
            while opened and opened.pop()[0] != tag:
                pass
            continue
        attributes = {
            one[1]: unescape(one[2] if one[2] is not None else one[3]) for one in re.finditer(ATTRIBUTE, rest)
        }
        if tag == chosen[1] and attributes.get(chosen[2]) == chosen[3] and attributes.get(key[1]):
            owner = next((about.get("name") for name, about in reversed(opened) if name == named), None)
            line = text.count("\n", 0, match.start()) + 1
            yield Value(attributes[key[1]], line, owner)
        if not alone:
            opened.append((tag, attributes))


def _without_lisp_comments(text: str) -> str:
    return re.sub(r'("(?:[^"\\]|\\.)*")|;[^\n]*', lambda match: match[1] or " " * len(match[0]), text)
