"""The forms of settings files that choose an interpreter: a table that ships, and rows of the user's own.

``core/data/editors.json`` describes the fields. A row of the user's own table that does not have this shape is
left out, and a seat says so.
"""

from __future__ import annotations

from functools import cache
from typing import Literal

import msgspec
from msgspec import Struct

from kalyx.core.data import table
from kalyx.core.formats.values import LIMIT, Format
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.once import once

# What a value decides: the Python that runs the code, that a terminal of the editor starts, for which code is checked.
Decides = Literal["run", "terminal", "check", "check version"]
# What a value is: a path of an interpreter, of an environment, of either; a version; the name of an interpreter, which
# another file explains; a command line; a place on another machine.
ChoiceKind = Literal["interpreter", "environment", "either", "version", "name", "command", "elsewhere"]


class ChoiceForm(Struct, forbid_unknown_fields=True):
    """One value that chooses: its path of keys, the part that it governs, the kind of its value.

    ``named``: the key of the name next to it; ``below``: the path of keys of the folder that the value is in.
    """

    key: list[str]
    part: Decides
    kind: ChoiceKind
    named: str | None = None
    below: list[str] = []


class SettingsForm(Struct, forbid_unknown_fields=True):
    """One form of settings file: where such files are, their format, and the values in them that choose.

    ``user``, ``names``: files below the home folder, by system; ``chosen``: the path of keys of the chosen
    configuration's name; ``above``, ``section``: of a checker, which takes one file (``checkers``).
    """

    family: str
    form: str
    format: Format
    choices: list[ChoiceForm]
    files: list[str] = []
    user: dict[str, list[str]] = {}
    names: dict[str, list[str]] = {}
    chosen: list[str] | None = None
    above: Literal["file", "folder"] | None = None
    section: list[str] = []

    def __post_init__(self) -> None:
        """Raises ValueError for a path of keys that has fewer keys than the format needs."""
        keys = [self.chosen or [], *(key for choice in self.choices for key in (choice.key, choice.below))]
        least = {"xml": 2, "text": 0}.get(self.format, 1)
        if not all(choice.key for choice in self.choices) and least or any(key and len(key) < least for key in keys):
            raise ValueError(f"a path of keys of the format {self.format} has {least} keys or more")


class OwnTable(Struct):
    """The user's own table: its file, its rows, and what is wrong with the others, a line each."""

    path: str
    forms: list[SettingsForm] = []
    problems: list[str] = []


@once
def own_table(reader: Reader) -> OwnTable:
    """The table ``kalyx-editors.json`` in the settings folder; empty where there is none."""
    base = reader.variable("APPDATA") if reader.system == "windows" else reader.variable("XDG_CONFIG_HOME")
    result = OwnTable(reader.join(base or reader.join(reader.home, ".config"), "kalyx", "kalyx-editors.json"))
    if not reader.is_file(result.path):
        return result
    try:
        rows = msgspec.json.decode(reader.read_text(result.path, LIMIT), type=_Table).descriptors
    except (Unreadable, msgspec.MsgspecError, RecursionError, UnicodeError) as problem:
        reason = problem.reason if isinstance(problem, Unreadable) else str(problem)
        result.problems.append(f"it cannot be read: {reason}")
        return result
    for number, row in enumerate(rows, 1):
        try:
            result.forms.append(msgspec.convert(row, SettingsForm))
        except msgspec.MsgspecError as problem:
            result.problems.append(f"row {number} is left out: {problem}")
    return result


class _Table(Struct):
    descriptors: list[object]


class _Shipped(Struct, forbid_unknown_fields=True):
    note: str
    programs: list[str]
    descriptors: list[SettingsForm]


@cache
def shipped() -> _Shipped:
    """The table that ships: its forms, and the names of editors' programs."""
    return table("editors", _Shipped)


def settings_forms(reader: Reader) -> list[SettingsForm]:
    """The rows of the user's own table, then those that ship."""
    return [*own_table(reader).forms, *shipped().descriptors]
