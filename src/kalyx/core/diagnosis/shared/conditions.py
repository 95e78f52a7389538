"""What the conditions of environments share: the finding record, and recreating an environment."""

from __future__ import annotations

from itertools import count, islice
from typing import TYPE_CHECKING

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.reading import BROUGHT_ALONG, BROUGHT_MODULES, View, all_sites
from kalyx.core.interpreters.reading import SETTINGS_NAME, version_in
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Interpreter
from kalyx.core.model.steps import CreateEnvironment, Move, RemakeEnvironment, RemoveEnvironment, RemoveFiles, Step
from kalyx.core.text.names import is_distribution_name
from kalyx.core.text.numbers import are_numbers
from kalyx.core.text.versions import minor_of

if TYPE_CHECKING:
    from kalyx.core.packages.metadata import Installed

_NO_MODULES = {"README", "README.txt"}

# More names than a user would read before pasting the line.
_MOST = 20


def condition(cause: str, message: str, evidence: list[Evidence], offered: list[Fix]) -> Finding:
    """A condition as a finding: what was read leaves no other way, so it is proven."""
    return Finding.proven(cause, message, evidence, offered)


def same_minor(view: View, machine: Machine) -> Interpreter | None:
    """An installation on this machine of the version that the environment was made for; its own base before others."""
    minor, base = minor_of(view.environment.version or ""), view.environment.base_prefix
    able = [interpreter for interpreter in machine.interpreters if minor and interpreter.minor == minor]
    able.sort(key=lambda interpreter: interpreter.prefix != base)
    ready = [interpreter for interpreter in able if fixes.lacks_to_create(machine, interpreter) is None]
    return next(iter([*ready, *able]), None)


def remake(view: View, machine: Machine, base: Interpreter) -> Fix:
    """Recreate the environment in place: its links to the base and its settings are written again, its packages stay.

    A folder in the place of its ``python`` or its settings file is moved aside.
    """
    reader, prefix = machine.reader, view.environment.prefix
    folder = reader.join(prefix, "bin")
    steps: list[Step] = list(fixes.before_creating(machine, base) or [])
    if reader.system != "windows":
        broken = view.problem.path if view.problem is not None else None
        named = [reader.join(folder, name) for name in reader.names(folder) if name.startswith("python")]
        dead = [path for path in named if reader.kind(path) == "link" or (path == broken and reader.is_file(path))]
        if dead:
            steps.append(fixes.step(machine, RemoveFiles(paths=dead)))
        for path in (broken, reader.join(prefix, SETTINGS_NAME)):
            if path is not None and reader.kind(path) == "folder":
                aside = next(
                    name for name in (f"{path}-{number}" for number in count(1)) if not reader.may_be_there(name)
                )
                steps.append(fixes.step(machine, Move(path=path, to=aside)))
    steps.append(fixes.step(machine, RemakeEnvironment(python=base.executable, prefix=prefix, options=["--upgrade"])))
    return Fix(
        message=f"use the base Python in {base.prefix} ({base.version}); the packages stay",
        steps=steps,
        changes=[prefix],
    )


def ways_to_recreate(view: View, machine: Machine) -> list[Fix]:
    """In place where a Python of its version is here; else with another Python, and by installing that version."""
    base = same_minor(view, machine)
    if base is not None and base.version.startswith("3."):
        return [remake(view, machine, base)]
    version = view.environment.version or "of its version"
    line = f"no Python {version} is on this machine; install that version, or recreate the environment"
    if base is not None:
        line = f"Python {base.version} creates no environments by itself: recreate this one with a newer Python"
    by_hand = Fix(message="recreate the environment", steps=[fixes.by_hand(line)])
    made = _recreated(view, machine)
    return [made, by_hand] if made is not None else [by_hand]


def starts_nothing(view: View) -> bool:
    """Whether a virtual environment certainly starts nothing: what is refused, or only running tells, may start."""
    is_dead = view.problem is None or view.problem.dead
    return view.environment.kind == "virtual" and view.interpreter is None and is_dead


def packages_in(view: View, machine: Machine) -> list[Installed]:
    """The packages of an environment, also of one that starts nothing, without those that every environment has."""
    sites = view.environment.site_packages or all_sites(machine.reader, view.environment.prefix)
    return [distribution for distribution in machine.installed(sites) if distribution.key not in BROUGHT_ALONG]


def held_in(view: View, machine: Machine) -> list[tuple[str, str]]:
    """The packages of an environment, else the modules that no package brought, each with its folder."""
    packages = [(distribution.name, distribution.site) for distribution in packages_in(view, machine)]
    sites = view.environment.site_packages or all_sites(machine.reader, view.environment.prefix)
    names = [
        (name, site)
        for site in sites
        for name in machine.reader.names(site)
        if name not in BROUGHT_MODULES | _NO_MODULES
    ]
    return packages or [(name, site) for name, site in names if name.partition(".")[0].isidentifier()]


def _recreated(view: View, machine: Machine) -> Fix | None:
    """Move the environment aside and create another at its path, with a Python of this machine and the same requests.

    For an environment whose Python version is not on this machine, so that its packages cannot be used. The path stays,
    so kernels and settings still start it. None where its requests are not known, or where it cannot be created.
    """
    reader, prefix, made_for = machine.reader, view.environment.prefix, minor_of(view.environment.version or "")
    if not made_for or reader.system == "windows":
        return None
    asked = _asked_for(machine, packages_in(view, machine))
    own = [
        interpreter
        for interpreter in machine.interpreters
        if interpreter.prefix == interpreter.base_prefix and interpreter.implementation == "cpython"
    ]
    able = [interpreter for interpreter in own if fixes.before_creating(machine, interpreter) is not None]
    able = [interpreter for interpreter in able if fixes.lacks_to_create(machine, interpreter) is None] or able
    if not asked or not able:
        return None
    aside = f"{prefix}-{made_for}"
    if reader.may_be_there(aside):
        return None
    from kalyx.core.text.versions import numbers_of

    later = [interpreter for interpreter in able if numbers_of(interpreter.version) > numbers_of(made_for)]
    base = later[-1] if later else able[0]
    steps = [
        *(fixes.before_creating(machine, base) or []),
        fixes.step(machine, Move(path=prefix, to=aside)),
        fixes.step(machine, CreateEnvironment(prefix=prefix, python=base.executable, requirements=asked)),
    ]
    message = f"recreate it with {base.prefix} ({base.version}); the old environment is kept"
    return Fix(message=message, steps=steps, changes=[prefix, aside])


def _asked_for(machine: Machine, installed: list[Installed]) -> list[str]:
    """The distributions that were requested, by the installer's mark (REQUESTED); else those that no other requires."""
    marked = [
        distribution
        for distribution in installed
        if machine.reader.is_file(machine.reader.join(distribution.path, "REQUESTED"))
    ]
    from kalyx.core.packages.requirements import speaks_of

    chosen = marked or [
        distribution for distribution in installed if not any(speaks_of(other, distribution.key) for other in installed)
    ]
    names = sorted({distribution.name for distribution in chosen if is_distribution_name(distribution.name)})
    return names if len(names) <= _MOST else []


def remove(view: View, machine: Machine) -> Fix:
    """Remove what is left of an environment with ``kalyx discard``, which refuses where files of the user's own are."""
    from kalyx.core.packages.unowned import users_files  # few environments are to be removed

    prefix = view.environment.prefix
    step = fixes.step(machine, RemoveEnvironment(prefix=prefix))
    own = list(islice(users_files(machine.reader, view), 4))
    if own:
        named = ", ".join(own[:3]) + (" and more" if len(own) > 3 else "")
        step = fixes.by_hand(f"move your own files out of {prefix} ({named}), then", step.line)
    return Fix(message="remove what is left of the environment", steps=[step], changes=[prefix])


def packages_of_others(view: View, machine: Machine, minor: str) -> list[tuple[str, str]]:
    """Other versions that have packages in this environment, or that it was made for: the version, its site folder."""
    reader = machine.reader
    library = reader.join(view.environment.prefix, "lib")
    made_for = minor_of((view.settings and version_in(view.settings)) or "")
    packages = []
    for name in reader.names(library):
        number = name.removeprefix("python").rstrip("t")
        if not name.startswith("python") or number == minor or not are_numbers(number) or "." not in number:
            continue
        site = reader.join(library, name, "site-packages")
        is_own = number == made_for and reader.is_folder(site)
        if is_own or any(entry.endswith((".dist-info", ".egg-info")) for entry in reader.names(site)):
            packages.append((number, site))
    return packages
