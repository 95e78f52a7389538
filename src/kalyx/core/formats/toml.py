"""TOML settings (TOML 1.0): read by the standard reader, edited by a package that keeps the file's form.

The position of a value is found by that package too: with another value, the two texts differ only there.
"""

from __future__ import annotations

import sys
from functools import lru_cache
from typing import Any

from kalyx.core.formats.span import Malformed, Span
from kalyx.core.text.nested import nested

# The standard reader's work grows with the square of a key's parts.
_DEEP = 100
LIMIT = 1024 * 1024
# Above this only the line is looked for: the reader that keeps the form takes its time.
_PLACED = 64 * 1024


def _parts_of_key(line: str) -> int:
    """How many words with points between them stand before a line's first equals sign."""
    key = line.partition("=")[0]
    return sum(1 for part in key.split(".") if part.strip()) if key.count(".") > _DEEP else 0


@lru_cache(maxsize=8)
def read(text: str) -> dict[str, object]:
    """The tables of a file. Raises Malformed with the reason."""
    if sys.version_info >= (3, 11):
        import tomllib
    else:
        import tomli as tomllib
    if len(text) > LIMIT:
        raise Malformed(f"larger than {LIMIT // 1024} KiB")
    if any(_parts_of_key(line) > _DEEP for line in text.splitlines()):
        raise Malformed("nested too deeply")
    try:
        return tomllib.loads(text.removeprefix("\ufeff"))
    except RecursionError:
        raise Malformed("nested too deeply") from None
    except ValueError as error:
        raise Malformed(str(error).split("\n")[0][:200]) from None


def spans_of(text: str, key: list[str]) -> list[Span]:
    """The text, or list of texts, at a path of keys; none where it is not."""
    value = nested(read(text), *key)
    words = (value,) if isinstance(value, str) else tuple(value) if isinstance(value, list) else ()
    if not words or not all(isinstance(word, str) for word in words) or not words[0]:
        return []
    start, end = _place(text, key)
    return [Span(start, end, words[0], None, words if isinstance(value, list) else ())]


def with_value(text: str, key: list[str], value: str) -> str:
    """The text with this value at the path of keys, which is there; everything else to the letter as it was."""
    import tomlkit

    mark = text[:1] == "\ufeff"
    document = tomlkit.parse(text[mark:])
    table: Any = document
    last: str | int = key[-1]
    for word in key[:-1]:
        table = table[word]
    if isinstance(table[last], list):
        table, last = table[last], 0
    old = table[last]
    new = tomlkit.string(value, literal=old.as_string().startswith("'") and "'" not in value and value.isprintable())
    table[last] = new
    return text[:mark] + tomlkit.dumps(document)


def _by_line(text: str, key: list[str]) -> tuple[int, int]:
    """The line that begins with the key, below its table's head."""
    at, table = 0, ""
    for line in text.splitlines(keepends=True):
        words = line.strip().replace('"', "").replace("'", "").replace(" ", "")
        if words.startswith("["):
            table = words.partition("#")[0].strip("[]")
        elif (f"{table}." if table else "") + words.partition("=")[0] == ".".join(key):
            return at, at + len(line.rstrip())
        at += len(line)
    return 0, 0


def _place(text: str, key: list[str]) -> tuple[int, int]:
    if len(text) > _PLACED:
        return _by_line(text, key)
    another = next(character for character in map(chr, range(0x2E3A, 0x30000)) if character not in text)
    other = with_value(text, key, another)
    # Both begin with the same quotation mark, which belongs to the value.
    same = _alike(text, other) - 1
    remainder = _alike(text[same:][::-1], other[same:][::-1]) - 1
    return same, len(text) - remainder


def _alike(first: str, other: str) -> int:
    """How many characters two texts have in common at their beginning."""
    return next(
        (at for at, pair in enumerate(zip(first, other, strict=False)) if pair[0] != pair[1]),
        min(len(first), len(other)),
    )
