"""Keeping the list of the environments that Kalyx made."""

from __future__ import annotations

import json

from kalyx.core.environments.managed_envs import made_list, made_prefixes
from kalyx.core.environments.reading import looks_like_environment
from kalyx.core.records import KalyxError
from kalyx.core.system import Facts
from kalyx.core.system.writer import Change


def remember(facts: Facts, prefix: str, change: Change) -> None:
    """Put an environment on the list; those that are none any more go from it."""
    _write(facts.again(), [*_still(facts.again(), prefix), prefix], change)


def forget(facts: Facts, prefix: str, change: Change) -> None:
    """Take a removed environment from the list."""
    if prefix in made_prefixes(facts.again()):
        _write(facts.again(), _still(facts.again(), prefix), change)


def _still(facts: Facts, apart: str) -> list[str]:
    return [one for one in made_prefixes(facts) if one != apart and looks_like_environment(facts, one)]


def _write(facts: Facts, prefixes: list[str], change: Change) -> None:
    path = made_list(facts)
    try:
        change.folder(facts.parent(path), private=True)
        change.write(path, json.dumps(prefixes, indent=1).encode("utf-8", "surrogatepass"), mode=0o600)
    except (KalyxError, UnicodeEncodeError):
        pass  # a list for finding things again: what was done is done without it
