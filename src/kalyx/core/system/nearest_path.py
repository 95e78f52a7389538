"""The paths nearest to one that does not exist: one wrong character is the commonest case."""

from __future__ import annotations

from kalyx.core.system.reader import Reader
from kalyx.core.text.nearness import distance

_MOST = 200_000  # letters compared for one suggestion


def near_paths(reader: Reader, path: str) -> list[str]:
    """Paths that differ by a letter or two in the first component that is not there, nearest first."""
    below: list[str] = []
    upper, name = reader.parent(path), reader.name(path)
    while reader.parent(upper) != upper and not reader.is_folder(upper):
        below.insert(0, name)
        upper, name = reader.parent(upper), reader.name(upper)
    others = reader.names(upper)
    if len(others) * len(name) > _MOST:
        return []  # a suggestion is not worth the time
    ranked = sorted((distance(name, other, 2), other) for other in others)
    return [reader.join(upper, other, *below) for far, other in ranked if far <= 2][:5]


def nearest_existing(reader: Reader, path: str) -> str | None:
    """The nearest path that exists; None where the path itself does, or none is near."""
    if reader.may_be_there(path):
        return None
    return next((near for near in near_paths(reader, path) if reader.exists(near)), None)
