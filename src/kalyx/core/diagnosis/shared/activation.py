"""The folder that an environment's activation script names."""

from __future__ import annotations

from kalyx.core.machine import Machine
from kalyx.core.system import Reader
from kalyx.core.system.once import once

Spoken = tuple[str, str, int]


def spoken_place(machine: Machine, prefix: str) -> Spoken | None:
    """The folder that the activation lines were written for, the script and the line."""
    return _spoken_place(machine.reader, prefix)


@once
def _spoken_place(reader: Reader, prefix: str) -> Spoken | None:
    if reader.system == "windows":
        script = reader.join(prefix, "Scripts", "activate.bat")
        starts: tuple[str, ...] = ("set VIRTUAL_ENV=", 'set "VIRTUAL_ENV=', "@set VIRTUAL_ENV=", '@set "VIRTUAL_ENV=')
    else:
        script = reader.join(prefix, "bin", "activate")
        starts = ("VIRTUAL_ENV=", "export VIRTUAL_ENV=")
    text = reader.text_or_none(script, 65536) or ""
    if "VIRTUAL_ENV" not in text:
        return None
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip() if "VIRTUAL_ENV" in line else ""
        start = next((start for start in starts if stripped.startswith(start)), None)
        if start is not None:
            value = stripped[len(start) :].strip().strip("\"'")
            if value and "$" not in value and "%" not in value and reader.path.isabs(value):
                return value, script, number
    return None
