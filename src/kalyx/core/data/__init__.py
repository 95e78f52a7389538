"""Files that ship with Kalyx: small tables that can be extended without code, and the probe."""

from __future__ import annotations

import os
from typing import TypeVar

from msgspec.json import decode

Shape = TypeVar("Shape")

_HERE = os.path.dirname(os.path.abspath(__file__))

PROBE_PATH = os.path.join(os.path.dirname(_HERE), "probe.py")


def table(name: str, shape: type[Shape]) -> Shape:
    """The table ``name``.json of this folder, as a record. Raises ValidationError for a row of another shape."""
    with open(os.path.join(_HERE, name + ".json"), "rb") as file:
        return decode(file.read(), type=shape)
