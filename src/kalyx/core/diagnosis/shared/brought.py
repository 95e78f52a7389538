"""Which distribution provides a module: by the metadata in all known environments, then by a small table."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

from msgspec import Struct

from kalyx.core.data import table
from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Fix, Interpreter
from kalyx.core.packages.removals import requirement_with
from kalyx.core.text.names import canonical

if TYPE_CHECKING:
    from kalyx.core.packages.metadata import Installed


class Brought(Struct):
    """A distribution that provides a module, and the source of that."""

    name: str
    version: str | None
    source: str
    path: str | None


class _Table(Struct, forbid_unknown_fields=True):
    about: str
    modules: dict[str, str]
    same: list[str]


@cache
def _known() -> _Table:
    return table("distributions", _Table)


def table_modules() -> dict[str, str]:
    """Module to distribution, where the names differ."""
    return _known().modules


def brought_by(machine: Machine, module: str, apart: str | None = None) -> Brought | None:
    """The distribution that provides a module, by this machine's metadata or the table; else None.

    ``apart``: the key of an environment that is not searched.
    """
    top = module.split(".")[0]
    part = listed_part(module)
    if part is not None:
        return part
    for environment in machine.environments.everywhere:
        if environment.key == apart:
            continue
        resolver = machine.resolver(environment)
        if resolver is not None and resolver.resolve(top).location is None:
            continue  # no record of an environment has a module that its sys.path does not have
        installed = machine.distribution_of_module(top, environment.site_packages)
        if installed is not None:
            return Brought(installed.name, installed.version, f"metadata in {environment.name}", installed.path)
    listed = table_modules().get(top)
    if listed:
        return Brought(listed, None, "Kalyx's table of well-known names", None)
    if top in _known().same:
        return Brought(top, None, "Kalyx's table of well-known names", None)
    return None


def installing(
    machine: Machine, interpreter: Interpreter, module: str, owner: Installed | None, *, exact: bool = False
) -> Fix:
    """Install what provides a module that is elsewhere: its owner there (``exact``: the same version), else what
    metadata or the table names; no name is guessed."""
    if owner is not None:
        line = f"{owner.name}=={owner.version}" if exact else requirement_with(module, owner.name)
        return fixes.install(machine, interpreter, line)
    known = brought_by(machine, module)
    return fixes.install(machine, interpreter, known.name) if known is not None else fixes.unknown_here(module)


def listed_part(module: str) -> Brought | None:
    """The distribution of a part of a namespace that many fill, by the table; None for what is no such part."""
    words = module.split(".")
    for count in range(len(words), 1, -1):
        name = table_modules().get(".".join(words[:count]))
        if name is not None:
            return Brought(name, None, "Kalyx's table of well-known names", None)
    return None


def distributions_named(machine: Machine, word: str) -> list[tuple[Installed, Environment]]:
    """Every installed distribution of this name, and where."""
    key = canonical(word)
    result = []
    for environment in machine.environments.everywhere:
        for installed in machine.installed(environment.site_packages):
            if installed.key == key or (installed.key.startswith(key[:3]) and canonical(installed.name) == key):
                result.append((installed, environment))
    return result


def is_well_known(module: str) -> bool:
    """Whether a table that ships knows a module of this name."""
    top = module.split(".")[0]
    return top in table_modules() or top in _known().same


def modules_of_listed(word: str) -> list[str]:
    """The modules that the table gives for a distribution's name."""
    key = canonical(word)
    return [module for module, name in table_modules().items() if canonical(name) == key]
