"""The list of environments that Kalyx itself made, kept in its own state folder: they are found wherever they lie.

One JSON list of paths. A damaged or foreign file counts as empty; whatever is listed and is no environment any more
is passed over, and forgotten when the list is written next.
"""

from __future__ import annotations

from kalyx.core.doors import Facts

_LIMIT = 1024 * 1024
_MOST = 2000


def made_list(facts: Facts) -> str:
    """Where the list lies: the user's state folder of the system (XDG Base Directory Specification)."""
    if facts.system == "windows":
        base = facts.variable("LOCALAPPDATA") or facts.join(facts.home, "AppData", "Local")
    elif facts.system == "macos":
        base = facts.join(facts.home, "Library", "Application Support")
    else:
        base = facts.variable("XDG_STATE_HOME") or facts.join(facts.home, ".local", "state")
    return facts.join(base, "kalyx", "environments.json")


def made_prefixes(facts: Facts) -> list[str]:
    """The folders of the list, as written; there or not."""
    text = facts.text_or_none(made_list(facts), _LIMIT)
    if not text:
        return []
    import json

    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        return []
    if not isinstance(found, list):
        return []
    return [one for one in found if isinstance(one, str) and facts.path.isabs(one) and "\0" not in one][:_MOST]
