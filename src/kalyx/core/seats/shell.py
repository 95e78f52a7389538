"""The shell seat: what ``python``, ``python3`` and the installer are on this PATH."""

from __future__ import annotations

from collections.abc import Mapping

from kalyx.core.doors import Facts
from kalyx.core.records import Part, Seat
from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.making import seat_from, starting, starting_script
from kalyx.core.words.secrets import shown_variables

WORDS = [("python", "python"), ("python3", "python3"), ("installer", "pip"), ("installer", "pip3")]

# What activation sets, and what it claims to be on.
ACTIVATION = ("VIRTUAL_ENV", "CONDA_PREFIX")

# Variables that reach into every interpreter started from here.
REACHING = ("PYTHONPATH", "PYTHONHOME", "PYTHONNOUSERSITE", "PYTHONSAFEPATH", "PYTHONUSERBASE", *ACTIVATION)


# What a seat's record shows of its variables: those that decide what Python does. The rest may be secret.
_TELLING = {"PATH", "LD_LIBRARY_PATH", "DYLD_LIBRARY_PATH", "MODULEPATH", "LOADEDMODULES", *ACTIVATION}


def telling(variables: Mapping[str, str]) -> dict[str, str | None]:
    """The variables that a record may show, of a process or a kernel; what is not documented is named without value."""
    shown = {name: value for name, value in variables.items() if name.upper() in _TELLING or name.startswith("PYTHON")}
    return shown_variables(shown)


def read_shell(facts: Facts, shell: ShellFound) -> Seat:
    """The shell as a seat; its own interpreter is that of ``python``, else of ``python3``."""
    parts = [read_part(facts, role, word, shell.name) for role, word in WORDS]
    parts = [part for part in parts if part.path is not None or part.word in ("python", "python3", "pip")]
    main = next((part for part in parts if part.role.startswith("python") and part.path is not None), parts[0])
    seat = seat_from("shell", shell.name, main, facts.folder, parts)
    seat.variables = {name: facts.variable(name) for name in REACHING}
    return seat


def read_part(facts: Facts, role: str, word: str, shell: str) -> Part:
    """What one word starts on this PATH, hop by hop."""
    current_first = facts.system == "windows" and shell == "cmd"
    path = next(facts.lookup(word, current_first=current_first), None)
    if path is None:
        return Part(role=role, word=word, reason=f"no {word} on PATH")
    return starting_script(facts, path, role, word) if role == "installer" else starting(facts, path, role, word)
