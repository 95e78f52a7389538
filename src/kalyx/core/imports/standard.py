"""What the standard library of each Python version has: from a table made by asking interpreters of every version."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from kalyx.core.data import table
from kalyx.core.text.versions import numbers_of


class Availability(Struct, frozen=True):
    """The first and the last version that has something; empty for no bound."""

    first: str
    last: str

    def is_gone(self, version: str) -> bool:
        """Whether the version is later than the last that has it."""
        return bool(self.last) and numbers_of(version)[:2] > numbers_of(self.last)

    def is_newer(self, version: str) -> bool:
        """Whether the version is earlier than the first that has it."""
        return bool(self.first) and numbers_of(version)[:2] < numbers_of(self.first)


def _span(text: object) -> Availability | None:
    if not isinstance(text, str):
        return None
    first, _, last = text.partition("-")
    return Availability(first, last)


def module_span(module: str) -> Availability | None:
    """When a standard module is there; None for one that all have, or that is no standard module."""
    modules = table("standard")["modules"]
    assert isinstance(modules, dict)
    availability = _span(modules.get(module))
    if availability is None and module in instead("modules"):
        return Availability("", "2.7")  # a name that only the table of what took its place knows is one of Python 2
    return availability


def is_standard(module: str, version: str) -> bool:
    """Whether CPython of this version has the module, on any system."""
    span = module_span(module)
    if span is not None:
        return not span.is_gone(version) and not span.is_newer(version)
    always = table("standard")["always"]
    assert isinstance(always, str)
    return module in always.split()


def systems_of(module: str) -> list[str] | None:
    """The systems whose Python has this standard module; None for one that all have, and for every other module."""
    for system, modules in instead("systems").items():
        if module in modules or module.split(".")[0] in modules:
            return ["linux", "macos"] if system == "posix" else [system]
    return None


def name_span(module: str, name: str) -> Availability | None:
    """When a standard module has a name; None where nothing is known of it."""
    names = table("standard")["names"]
    assert isinstance(names, dict)
    return _span(names.get(module, {}).get(name))


def instead(kind: str) -> dict[str, Any]:
    """One part of the table of what took the place of what is gone, or brings what is newer."""
    result = table("instead")[kind]
    assert isinstance(result, dict)
    return result


def instead_of_name(module: str, name: str) -> str | None:
    """What a name of a standard module is called now: ``math.gcd``; None where nothing is known."""
    names = instead("names")
    result = names.get(f"{module}.{name}")
    if result is None and module in names:
        result = f"{names[module]}.{name}"
    return result if isinstance(result, str) else None
