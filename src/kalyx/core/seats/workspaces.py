"""The folders that one editor workspace opens together."""

from __future__ import annotations

import json

from msgspec import Struct

from kalyx.core.formats.values import LIMIT
from kalyx.core.system import Reader
from kalyx.core.text.nested import nested

ENDING = ".code-workspace"
_AT_MOST = 50


class Opened(Struct):
    """A folder of a workspace: what the editor calls it, and where it is."""

    name: str
    path: str


def opened_in(reader: Reader, folder: str) -> list[tuple[str, list[Opened]]]:
    """Each workspace file of a folder, with the folders that it opens; one that cannot be read opens none."""
    files = [reader.join(folder, name) for name in reader.names(folder) if name.endswith(ENDING)]
    return [(path, _folders(reader, path)) for path in files if reader.is_file(path)]


def _folders(reader: Reader, path: str) -> list[Opened]:
    from kalyx.core.formats.comments import without_comments

    try:
        document = json.loads(without_comments(reader.text_or_none(path, LIMIT) or ""))
    except (ValueError, RecursionError):
        return []
    listed = nested(document, "folders")
    folders = []
    for item in reader.first_of(listed, _AT_MOST, path) if isinstance(listed, list) else []:
        written = nested(item, "path")
        if isinstance(written, str) and written and "\0" not in written:
            location = str(reader.path.normpath(reader.join(reader.parent(path), written)))
            name = item.get("name")
            folders.append(Opened(name if isinstance(name, str) and name else reader.name(location), location))
    return folders
