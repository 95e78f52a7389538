"""A value inside what a standard reader makes of JSON or TOML, which may have any shape."""

from __future__ import annotations


def nested(value: object, *keys: str) -> object:
    """The value at a path of keys; None where it is not, or where something on the way is no table."""
    for key in keys:
        value = value.get(key) if isinstance(value, dict) else None
    return value
