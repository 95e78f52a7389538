"""The other environments that have the missing module, and the fixes that use them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.reading import read_environment
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Fix, Seat
from kalyx.core.model.steps import RunWith
from kalyx.core.packages.metadata import owner_of
from kalyx.core.packages.project import environment_of_project
from kalyx.core.packages.removals import requirement_with
from kalyx.core.system.once import once

if TYPE_CHECKING:  # conditions of a seat need these functions where no import is asked about
    from kalyx.core.imports.case import Missing
    from kalyx.core.imports.resolver import Location, Resolver


def called(seat: Seat) -> str:
    """The name of a seat in a sentence."""
    return "the shell" if seat.seat == "shell" else f"{seat.seat} {seat.name}"


def of_project(machine: Machine, folder: str) -> Environment | None:
    """The environment of its own that a folder's project has, under its name; None where it has none."""
    prefix = environment_of_project(machine.reader, folder)
    if prefix is None:
        return None
    known = machine.environments.at(prefix)
    return known or read_environment(machine.reader, prefix).environment


@once
def holders(case: Missing, machine: Machine) -> list[tuple[Environment, Location]]:
    """The other environments in which the missing module is found, and where."""
    own, result = case.environment, []
    if own is None:
        return []
    for environment in machine.environments.everywhere:
        if environment.key == own.key:
            continue
        resolver = machine.resolver(environment)
        if resolver is None:
            continue
        location = resolver.resolve(case.missing).location
        if location is not None and location.kind not in ("namespace", "builtin") and _is_installed(resolver, location):
            result.append((environment, location))
    # The environment's own copy before one that it sees in its base.
    result.sort(key=lambda pair: not machine.reader.inside(pair[1].path, pair[0].prefix))
    return result


def _is_installed(resolver: Resolver, location: Location) -> bool:
    """Whether the module is in a site folder; standard modules of other versions have causes of their own."""
    sites = resolver.search.site_packages
    return any(location.entry == site or location.path.startswith(site) for site in sites) or location.entry not in {
        entry.entry for entry in resolver.search.entries if entry.put_by == "library"
    }


def proof(case: Missing, machine: Machine, environment: Environment, location: Location) -> tuple[list[Evidence], str]:
    """Evidence of where the other copy is and that this sys.path has none; and the name to install."""
    missing = case.missing
    owner = owner_of(machine.reader, environment.site_packages, location.path)
    if owner is None:
        owner = machine.distribution_of_module(missing, environment.site_packages)
    what = f"{owner.name} {owner.version}" if owner else missing
    seen = [
        Evidence.at(location.path, f"{what} is in {environment.name}"),
        Evidence(
            fact=f"{missing} is in none of the folders on {case.here}'s sys.path",
            source=f"{len(case.search.entries)} folders read",
        ),
    ]
    return seen, requirement_with(missing, owner.name) if owner else ""


def propose(case: Missing, machine: Machine, cause: str, environment: Environment, location: Location) -> None:
    """Propose the experiment that imports from there, where both have the same minor version of Python."""
    if environment.minor == case.interpreter.minor and location.entry in environment.site_packages:
        from kalyx.core.imports.experiment import Experiment

        message = f"with {environment.name}'s packages on the path"
        case.propose(cause, Experiment(message, put=(location.entry,), refutes=False))


def ways_out(case: Missing, machine: Machine, environment: Environment, requirement: str) -> list[Fix]:
    """The fixes: install it here, or use the environment that has it (first where PEP 668 forbids to install)."""
    result = [fixes.install(machine, case.interpreter, requirement)] if requirement else []
    use = _use(case, machine, environment)
    if use is not None:
        is_base = case.interpreter.prefix == case.interpreter.base_prefix
        is_kept = is_base and fixes.keeper_of(machine, case.interpreter) is not None
        result.insert(0 if is_kept else len(result), use)
    return result


def _use(case: Missing, machine: Machine, environment: Environment) -> Fix | None:
    """The fix that makes this seat use the environment that has the package; None where that starts nothing."""
    name = environment.name
    if case.seat.seat in ("kernel", "notebook"):
        return fixes.run_notebook_on(machine, environment, case.notebook)
    if environment.executable is None:
        return None
    if case.seat.seat == "shell" and not case.runs:
        step = fixes.activate(machine, environment.prefix)
        return Fix(message=f"activate {name}, which has the package", steps=[step])
    step = fixes.step(machine, RunWith(words=[environment.executable, *case.runs], same_words=True))
    return Fix(message=f"run it with the Python of {name}, which has the package", steps=[step])
