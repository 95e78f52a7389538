"""Records of any type with made-up values, the same for the same seed: what is drawn of them shows each form it can take."""

from __future__ import annotations

import random
import types
from typing import Any, Literal, Union, get_args, get_origin

from msgspec import Struct, structs

from kalyx.core.model import steps
from tests.made import HOME

PATHS = (
    HOME, f"{HOME}/heath", f"{HOME}/heath/bin/python", f"{HOME}/orchard", "/usr/bin/python3.11", "/srv/moor/weights.ipynb", f"{HOME}/spring/weigh.py",
    "/srv/" + "a_folder_with_a_long_name/" * 4 + "lib/python3.11/site-packages/hive/__init__.py", f"{HOME}/蜂蜜/bin/python", "/srv/moor/two\nlines", "relative/hive.py",
)  # fmt: skip
NAMES = ("heath", "orchard", "hive", "nectar-flow", "combs", "蜂蜜の重さ", "a-name-that-is-longer-than-what-a-column-has-room-for-on-any-screen", "moor\x1b[31m")
TEXTS = (
    "hive is not installed", f"{HOME}/heath/bin/python starts nothing", "the shell's PATH names orchard first, and the kernel starts heath, so that what is installed from the one is not found by the other",
    "no such file", f"read from {HOME}/spring/weigh.py", "a" * 90, "the notebook server in heath", "蜂蜜 は ない " * 6, "two\nlines",
)  # fmt: skip
VERSIONS = ("3.11.7", "3.9.18", "2.0", "1.0.post1", "3.13", "12.345.678.dev0+local")
CAUSES = ("answers", "twin", "not-installed", "in-version-control", "shadowed", "not-asked")
_ENDS_OF_PATHS = ("path", "prefix", "executable", "folder", "location", "entry", "found_at", "hidden_by", "hides", "library", "source", "notebook", "key", "links", "stays", "compiled", "nearest")
_BY_NAME = {"version": VERSIONS, "before": VERSIONS, "after": VERSIONS, "found": VERSIONS, "python": VERSIONS, "requires_python": (">=3.9", "<3"), "cause": CAUSES, "line": ("python -m pip install hive", "kalyx why hive"),
            "condition": ("sound", "base-gone", "version-differs"), "conditions": CAUSES, "abi_flags": ("", "t", "td", "d"), "implementation": ("cpython", "cpython", "pypy"), "language": ("python", "python", "", "R"),
            "action": ("remove", "remove kernel", "write", "an action in many words that no column of the plan has room for at all"), "role": ("python", "python3", "installer", "checker"), "fact": (*TEXTS, "not read: may not be read"), "label": (*NAMES, "a record", "")}  # fmt: skip
# Lists that are never empty where their record is made.
_FILLED = {"imports", "asked_at", "seats"}
_STEPS = (steps.Install, steps.Move, steps.ManualStep)


class MadeUp:
    """Makes values by their types, and texts by the names of their fields.

    ``most``: the items of a list, ``many`` those of each list of the first record; ``given``: the values that a field may have.
    """

    def __init__(self, seed: int, most: int = 3, many: int = 0, **given: Any) -> None:
        self._chance, self._most, self._many, self._given = random.Random(seed), most, many, given

    def one(self, kind: Any, name: str = "", depth: int = 0) -> Any:
        chance, origin = self._chance, get_origin(kind)
        if isinstance(kind, type) and issubclass(kind, steps.StepBase):
            line = chance.choice(_BY_NAME["line"])
            before = chance.choice(("", "edit the file, then: ", "close the editor "))
            if kind is steps.ManualStep:
                return steps.ManualStep(line=before + line, typed=chance.choice((line, None)))
        if isinstance(kind, type) and issubclass(kind, Struct):
            return self._record(kind, depth)
        if origin is Literal:
            return chance.choice(get_args(kind))
        if origin in (Union, types.UnionType):
            kinds = [item for item in get_args(kind) if item is not type(None)]
            if len(kinds) < len(get_args(kind)) and chance.random() < 0.3:
                return None
            kinds = [item for item in kinds if item in _STEPS] or kinds
            return self.one(chance.choice(kinds), name, depth)
        if origin is list:
            return [self.one(get_args(kind)[0], name, depth + 1) for _ in range(self._count(depth) or name in _FILLED)]
        if origin is dict:
            return {self.one(str, "name"): self.one(get_args(kind)[1], name) for _ in range(self._count(depth))}
        return {bool: lambda: chance.random() < 0.5, int: lambda: chance.choice((0, 1, 2, 7, 1500, 3_400_000)), float: lambda: chance.choice((0.25, 12.0)), str: lambda: self._text(name)}[kind]()

    def _record(self, kind: type, depth: int) -> Any:
        values = {}
        for field in structs.fields(kind):
            if field.name != "schema":
                given = self._given.get(field.name)
                values[field.name] = self.one(field.type, field.name, depth) if given is None else self._chance.choice(given)
        return kind(**values)

    def _count(self, depth: int) -> int:
        if depth == 0 and self._many:
            return self._many
        return self._chance.randrange(max(2, self._most + 1 - depth))

    def _text(self, name: str) -> str:
        if name in _BY_NAME:
            return self._chance.choice(_BY_NAME[name])
        if name.endswith(_ENDS_OF_PATHS):
            return self._chance.choice(PATHS)
        return self._chance.choice(NAMES if name in ("name", "id", "word", "module", "modules", "missing", "other", "kernels", "installer", "chain", "asked_by", "requirement", "statement", "lacking", "group") else TEXTS)
