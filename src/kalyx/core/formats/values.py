"""Readers of settings files, one a format: each gives the texts at a path of keys, with their lines.

Bounded and forgiving: comments, trailing commas, a byte-order mark, duplicate
keys (the last counts) and wrong types are the everyday of such files. TOML and
INI are read by their own readers; of the others the values are where ``spots``
finds them.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.formats.spots import Malformed, spots

LIMIT = 4 * 1024 * 1024


class Value(Struct, frozen=True):
    """A text or a list of words, the line it stands on, and the name of what it belongs to."""

    text: str
    line: int | None = None
    named: str | None = None
    words: tuple[str, ...] = ()


def values(form: str, text: str, key: list[str], named: str | None, below: list[str] | None) -> Iterator[Value]:
    """Every text at ``key`` in a file of this format. Raises Malformed with the reason."""

    def whole(value: str, folder: object) -> str:
        return f"{folder.rstrip('/')}/{value}" if isinstance(folder, str) else value

    found = spots(form, text, key, named)
    lines = [text.count("\n", 0, spot.start) + 1 for spot in found]
    if form in ("toml", "ini"):
        read = _parsed(form, text)
        value = _under(read, key)
        if isinstance(value, str) and value:
            yield Value(whole(value, _under(read, below)), lines[-1] if lines else None)
        return
    folders = spots(form, text, below, None) if below else []
    for spot, line in zip(found, lines, strict=True):
        if spot.value:
            yield Value(whole(spot.value, folders[-1].value if folders else None), line, spot.named, spot.words)


def _under(read: object, key: list[str] | None) -> object:
    """What stands at a path of keys; None where nothing does."""
    for word in key or ():
        read = read.get(word) if isinstance(read, dict) else None
    return read if key else None


def _parsed(form: str, text: str) -> object:
    try:
        if form == "toml":
            import sys

            if sys.version_info >= (3, 11):
                import tomllib
            else:
                import tomli as tomllib
            return tomllib.loads(text.lstrip("\ufeff"))
        import configparser

        parser = configparser.ConfigParser(interpolation=None, strict=False)
        parser.read_string(text.lstrip("\ufeff"))
        return {name: dict(section) for name, section in parser.items()}
    except RecursionError:
        raise Malformed("nested too deeply") from None
    except Exception as error:
        # The two readers have an error of their own each; both say where.
        raise Malformed(str(error).split("\n")[0][:200] or type(error).__name__) from None
