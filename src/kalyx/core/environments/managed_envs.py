"""The list of environments that Kalyx itself made, kept in its own state folder: they are found wherever they lie.

One JSON list of paths. A damaged or foreign file counts as empty; whatever is listed and is no environment any more
is passed over, and forgotten when the list is written next.
"""

from __future__ import annotations

from kalyx.core.system import Facts, Unreadable
from kalyx.core.system.own_files import believed, own_folder

_LIMIT = 1024 * 1024
_MOST = 2000


def made_list(facts: Facts) -> str:
    """Where the list lies: the user's state folder of the system."""
    return facts.join(own_folder(facts, "state"), "environments.json")


def made_prefixes(facts: Facts) -> list[str]:
    """The folders of the list, as written; there or not."""
    path = made_list(facts)
    if facts.kind(path) is None:
        return []
    import json

    try:
        found = json.loads(believed(facts, path, _LIMIT))
    except (Unreadable, ValueError, RecursionError):
        return []
    if not isinstance(found, list):
        return []
    usable = [one for one in found if isinstance(one, str) and facts.path.isabs(one) and "\0" not in one]
    return list(facts.first_of(usable, _MOST, path))
