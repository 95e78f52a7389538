"""TOML settings (TOML 1.0): read by the standard reader, edited by the one that keeps a file's form.

Where a value stands is found by that second one too: with another value in its place, the texts differ there only.
"""

from __future__ import annotations

import os.path
import sys
from typing import Any

from kalyx.core.formats.spot import Malformed, Spot


def read(text: str) -> dict[str, Any]:
    """The tables of a file. Raises Malformed with the reason."""
    if sys.version_info >= (3, 11):
        import tomllib
    else:
        import tomli as tomllib
    try:
        return tomllib.loads(text.removeprefix("\ufeff"))
    except RecursionError:
        raise Malformed("nested too deeply") from None
    except ValueError as error:
        raise Malformed(str(error).split("\n")[0][:200]) from None


def spots(text: str, key: list[str]) -> list[Spot]:
    """The text, or list of texts, at a path of keys; none where it is not."""
    value: object = read(text)
    for word in key:
        value = value.get(word) if isinstance(value, dict) else None
    words = (value,) if isinstance(value, str) else tuple(value) if isinstance(value, list) else ()
    if not words or not all(isinstance(word, str) for word in words) or not words[0]:
        return []
    start, end = _place(text, key)
    return [Spot(start, end, words[0], None, words if isinstance(value, list) else ())]


def with_value(text: str, key: list[str], value: str) -> str:
    """The text with this value at the path of keys, which is there; everything else to the letter as it was."""
    import tomlkit

    mark = text[:1] == "\ufeff"
    document = tomlkit.parse(text[mark:])
    table: Any = document
    for word in key[:-1]:
        table = table[word]
    old = table[key[-1]]
    if isinstance(old, list):
        table, last = old, 0
        old = old[0]
    else:
        last = key[-1]  # type: ignore[assignment]
    new = tomlkit.string(value, literal=old.as_string().startswith("'") and "'" not in value and value.isprintable())
    table[last] = new
    return text[:mark] + tomlkit.dumps(document)


def _place(text: str, key: list[str]) -> tuple[int, int]:
    another = next(character for character in map(chr, range(0x2E3A, 0x30000)) if character not in text)
    other = with_value(text, key, another)
    # Both begin with the same quotation mark, which belongs to the value.
    same = len(os.path.commonprefix([text, other])) - 1
    rest = len(os.path.commonprefix([text[same:][::-1], other[same:][::-1]])) - 1
    return same, len(text) - rest
