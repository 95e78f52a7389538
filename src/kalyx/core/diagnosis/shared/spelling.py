"""Which module that is here a word is a letter or two away from."""

from __future__ import annotations

from kalyx.core.imports.case import Case
from kalyx.core.imports.resolver import Location
from kalyx.core.text.nearness import distance


def nearest(case: Case, missing: str) -> tuple[str, Location, int] | None:
    """The nearest module in whole, where it is, and how many letters off (0: only case or underscores differ)."""
    parent, _, word = missing.rpartition(".")
    names = _submodules(case, parent) if parent else case.resolver.top_level_names()
    # Two letters of a short word are a third of it: that is another word.
    limit = 2 if len(word) >= 8 else 1 if len(word) >= 4 else 0
    flat = word.lower().replace("_", "").replace("-", "")
    ranked = []
    for name in names:
        if name == word or (name.startswith("_") and not word.startswith("_")):
            continue
        same_but_form = name.lower().replace("_", "") == flat
        far = 0 if same_but_form else distance(word.lower(), name.lower(), limit)
        # Two letters off in a word whose beginning differs too is another word.
        if far <= limit and (far < 2 or name[:1].lower() == word[:1].lower()):
            ranked.append((far, name))
    for far, name in sorted(ranked):
        full = f"{parent}.{name}" if parent else name
        location = case.resolver.resolve(full).location
        if location is not None and (parent or location.kind != "namespace"):
            return full, location, far
    return None


def is_standard(case: Case, location: Location) -> bool:
    """Whether a module is one of the standard library: its name says nothing of what somebody installs."""
    return location.kind == "builtin" or location.entry in case.standard


def written(case: Case, full: str) -> str:
    """The statement that was asked about with the name put right; of anything else, a plain import of it."""
    statement = case.wanted.statement
    return statement.replace(case.missing, full, 1) if case.missing in statement.split() else f"import {full}"


def _submodules(case: Case, parent: str) -> set[str]:
    """The names that answer below a package."""
    location = case.resolver.resolve(parent).location
    submodules: set[str] = set()
    for portion in location.portions if location is not None else []:
        for name in case.resolver.reader.names(portion):
            stem = name.split(".")[0]
            is_folder = case.resolver.reader.is_folder(case.resolver.reader.join(portion, name))
            if stem.isidentifier() and (is_folder or name.endswith((".py", ".so", ".pyd"))):
                submodules.add(stem)
    return submodules - {"__init__", "__pycache__"}
