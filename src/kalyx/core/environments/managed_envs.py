"""The list of environments that Kalyx itself made, kept in its own state folder: they are found wherever they are.

One JSON list of paths. A damaged or foreign file counts as empty; whatever is listed and is no environment any more
is passed over, and forgotten when the list is written next.
"""

from __future__ import annotations

from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_files import believed, own_folder

_LIMIT = 1024 * 1024
_MOST = 2000


def made_list(reader: Reader) -> str:
    """Where the list is: the user's state folder of the system."""
    return reader.join(own_folder(reader, "state"), "environments.json")


def made_prefixes(reader: Reader) -> list[str]:
    """The folders of the list, as written; there or not."""
    path = made_list(reader)
    if not reader.may_be_there(path):
        return []
    import json

    try:
        document = json.loads(believed(reader, path, _LIMIT))
    except (Unreadable, ValueError, RecursionError):
        return []
    if not isinstance(document, list):
        return []
    usable = [item for item in document if isinstance(item, str) and reader.path.isabs(item) and "\0" not in item]
    return list(reader.first_of(usable, _MOST, path))
