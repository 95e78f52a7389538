"""How Kalyx starts itself again: isolated, and by the path of its own files.

``-m kalyx`` would take what is in the current folder or on PYTHONPATH under that name; a command on PATH might be
another one.
"""

from __future__ import annotations

import os
import sys

_PACKAGE = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
ENTRY = os.path.join(_PACKAGE, "cli", "entry.py")


def own_command(words: list[str]) -> list[str]:
    """The command line that runs this very Kalyx with these words, whatever the folder and the variables are."""
    return [sys.executable, "-I", ENTRY, own_path(), *words]


def own_file(*names: str) -> str:
    """The path of a file of this very Kalyx."""
    return os.path.join(_PACKAGE, *names)


def own_path() -> str:
    """The entries of the search path that Kalyx and what it needs are found by; the current folder is none of them."""
    kept = [os.path.dirname(_PACKAGE)]
    given = {os.path.abspath(entry) for entry in os.environ.get("PYTHONPATH", "").split(os.pathsep) if entry}
    for entry in sys.path:
        if entry and os.path.isabs(entry) and entry not in kept and entry not in given:
            if os.path.basename(os.path.normpath(entry)) in ("site-packages", "dist-packages"):
                kept.append(entry)
    return os.pathsep.join(kept)
