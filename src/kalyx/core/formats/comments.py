"""Turning JSON with comments and trailing commas into plain JSON of the same length."""

from __future__ import annotations


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
            for position in range(at, end):
                if out[position] not in "\r\n":
                    out[position] = " "
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
