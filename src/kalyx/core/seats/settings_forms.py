"""The forms of settings files that choose an interpreter: a table that ships, and rows of the user's own.

``core/data/editors.json`` describes the fields. A row of the user's own table that does not have this shape is skipped.
"""

from __future__ import annotations

from typing import Literal

import msgspec
from msgspec import Struct

from kalyx.core.data import table
from kalyx.core.formats.values import FORMS, LIMIT
from kalyx.core.system import Reader, Unreadable


class ChoiceForm(Struct):
    """One value that chooses: its path of keys, the part that it governs, the kind of its value.

    ``named``: the key of the name next to it; ``below``: the path of keys of the folder that the value is in.
    """

    key: list[str]
    part: str
    kind: str
    named: str | None = None
    below: list[str] = []


class SettingsForm(Struct):
    """One form of settings file: where such files are, their format, and the values in them that choose.

    ``user``, ``names``: files below the home folder, by system; ``chosen``: the path of keys of the chosen
    configuration's name; ``above``, ``section``: of a checker, which takes one file (``checkers``).
    """

    family: str
    form: str
    format: str
    choices: list[ChoiceForm]
    files: list[str] = []
    user: dict[str, list[str]] = {}
    names: dict[str, list[str]] = {}
    chosen: list[str] | None = None
    above: Literal["file", "folder"] | None = None
    section: list[str] = []

    @property
    def is_usable(self) -> bool:
        """Whether its format is known, and each path of keys has as many keys as the format needs."""
        keys = [choice.key for choice in self.choices] + ([self.chosen] if self.chosen is not None else [])
        keys += [choice.below for choice in self.choices if choice.below]
        return self.format in FORMS and all(len(key) >= {"xml": 2, "text": 0}.get(self.format, 1) for key in keys)


def settings_forms(reader: Reader) -> list[SettingsForm]:
    """The rows of the user's own table, then those that ship."""
    base = reader.variable("APPDATA") if reader.system == "windows" else reader.variable("XDG_CONFIG_HOME")
    path = reader.join(base or reader.join(reader.home, ".config"), "kalyx", "kalyx-editors.json")
    rows: object = []
    if reader.is_file(path):
        try:
            rows = msgspec.json.decode(reader.read_text(path, LIMIT), type=dict[str, object]).get("descriptors")
        except (Unreadable, msgspec.MsgspecError, RecursionError, UnicodeError):
            rows = []
    rows = rows if isinstance(rows, list) else []
    own = [form for row in rows if (form := _form_of(row)) is not None and form.is_usable]
    return [*own, *msgspec.convert(table("editors")["descriptors"], list[SettingsForm])]


def _form_of(row: object) -> SettingsForm | None:
    try:
        return msgspec.convert(row, SettingsForm)
    except msgspec.MsgspecError:
        return None
