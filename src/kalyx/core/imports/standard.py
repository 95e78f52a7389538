"""What the standard library of each Python version has: from a table made by asking interpreters of every version."""

from __future__ import annotations

from functools import cache
from typing import Annotated

from msgspec import Meta, Struct

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


# The first and the last version, with a hyphen between them.
_Span = Annotated[str, Meta(pattern=r"^(\d\.\d+)?-(\d\.\d+)?$")]


class _Standard(Struct, forbid_unknown_fields=True):
    versions: list[str]
    modules: dict[str, _Span]
    names: dict[str, dict[str, _Span]]
    always: str


class Substitute(Struct, forbid_unknown_fields=True):
    """What takes the place of a module: a distribution that provides the module, what to write instead."""

    install: str | None = None
    write: str | None = None


class Piece(Struct, forbid_unknown_fields=True):
    """A part of the standard library that is packaged or built apart, by the packages of systems.

    ``of``: the modules that need the part; ``source``: what Debian calls the package that a build needs.
    """

    of: list[str] = []
    debian: str | None = None
    fedora: str | None = None
    brew: str | None = None
    source: str | None = None


class Instead(Struct, forbid_unknown_fields=True):
    """The table ``instead.json``, which says what each of its fields is."""

    about: str
    systems: dict[str, list[str]]
    ported: dict[str, str]
    modules: dict[str, Substitute]
    names: dict[str, str]
    since: dict[str, Substitute]
    parts: dict[str, Piece]


@cache
def _standard() -> _Standard:
    return table("standard", _Standard)


@cache
def instead() -> Instead:
    """What took the place of what is gone, or brings what is newer."""
    return table("instead", Instead)


def _span(text: str | None) -> Availability | None:
    if text is None:
        return None
    first, _, last = text.partition("-")
    return Availability(first, last)


def module_span(module: str) -> Availability | None:
    """When a standard module is there; None for one that all have, or that is no standard module."""
    availability = _span(_standard().modules.get(module))
    if availability is None and module in instead().modules:
        return Availability("", "2.7")  # a name that only the table of what took its place knows is one of Python 2
    return availability


def is_standard(module: str, version: str) -> bool:
    """Whether CPython of this version has the module, on any system."""
    span = module_span(module)
    if span is not None:
        return not span.is_gone(version) and not span.is_newer(version)
    return module in _standard().always.split()


def systems_of(module: str) -> list[str] | None:
    """The systems whose Python has this standard module; None for one that all have, and for every other module."""
    for system, modules in instead().systems.items():
        if module in modules or module.split(".")[0] in modules:
            return ["linux", "macos"] if system == "posix" else [system]
    return None


def name_span(module: str, name: str) -> Availability | None:
    """When a standard module has a name; None where nothing is known of it."""
    return _span(_standard().names.get(module, {}).get(name))


def instead_of_name(module: str, name: str) -> str | None:
    """What a name of a standard module is called now: ``math.gcd``; None where nothing is known."""
    names = instead().names
    moved = f"{names[module]}.{name}" if module in names else None
    return names.get(f"{module}.{name}", moved)
