"""Files that ship with Kalyx: small tables that can be extended without code, and the probe."""

from __future__ import annotations

import os
from functools import cache

from msgspec.json import decode

_HERE = os.path.dirname(os.path.abspath(__file__))

PROBE_PATH = os.path.join(os.path.dirname(_HERE), "probe.py")


@cache
def table(name: str) -> dict[str, object]:
    """The table ``name``.json of this folder."""
    with open(os.path.join(_HERE, name + ".json"), "rb") as file:
        return decode(file.read(), type=dict[str, object])
