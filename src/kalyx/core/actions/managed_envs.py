"""Keeping the list of the environments that Kalyx made."""

from __future__ import annotations

import json

from kalyx.core.environments.managed_envs import made_list, made_prefixes
from kalyx.core.environments.reading import looks_like_environment
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader
from kalyx.core.system.writer import Writer


def remember(reader: Reader, prefix: str, writer: Writer) -> None:
    """Add an environment to the list; entries that are no longer environments are removed."""
    _write(reader.again(), [*_still(reader.again(), prefix), prefix], writer)


def forget(reader: Reader, prefix: str, writer: Writer) -> None:
    """Remove a removed environment from the list."""
    if prefix in made_prefixes(reader.again()):
        _write(reader.again(), _still(reader.again(), prefix), writer)


def _still(reader: Reader, apart: str) -> list[str]:
    return [prefix for prefix in made_prefixes(reader) if prefix != apart and looks_like_environment(reader, prefix)]


def _write(reader: Reader, prefixes: list[str], writer: Writer) -> None:
    path = made_list(reader)
    try:
        writer.folder(reader.parent(path), private=True)
        writer.write(path, json.dumps(prefixes, indent=1).encode("utf-8", "surrogatepass"), mode=0o600)
    except (KalyxError, UnicodeEncodeError):
        pass  # the list only helps to find environments: the change itself does not need it
