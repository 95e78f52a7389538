"""The notebook asks for a kernel that is not registered here.

How to tell: the notebook's own metadata names an id that no kernel folder has.
Fix: register the environment under that id, or point the notebook to a kernel that is there.

Example:
    a notebook asks for kernel meadow, and there is none
    asked about the notebook

Not this (the kernel is there, and starts nothing):
    kernel meadow starts /home/keeper/gone/bin/python
    a notebook asks for kernel meadow
    asked about the notebook
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.holders import of_project
from kalyx.core.diagnosis.shared.kernel_module import could_answer
from kalyx.core.kernels.specs import valid_id
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Finding, Fix, FixState, Kernel, Seat
from kalyx.core.model.steps import Point
from kalyx.core.seats.notebook import read_notebook
from kalyx.core.system import Reader
from kalyx.core.system.once import once
from kalyx.core.text.versions import pair_of

if TYPE_CHECKING:
    from kalyx.core.imports.case import DeadSeat


def look_at_dead(case: DeadSeat, machine: Machine) -> Finding | None:
    return look_at_seat(case.seat, machine, case.wanted.module)


def look_at_seat(seat: Seat, machine: Machine, asked: str | None = None) -> Finding | None:
    """``asked``: the module that is asked about, which a kernel should have too."""
    if seat.seat != "notebook" or seat.kernel is None or seat.source is None:
        return None
    wanted = seat.kernel
    if machine.kernel_by_id(wanted) is not None:
        return None
    notebook = read_notebook(machine.reader, seat.source)
    evidence = [
        Evidence.at(seat.source, f"asks for kernel {wanted}", notebook.line),
        Evidence(
            fact=_registered([kernel.id for kernel in machine.kernels]),
            source=machine.server.said_as,
        ),
    ]
    environment = _fitting(wanted, machine.reader.parent(seat.source), machine)
    offered = []
    nearest = _nearest(seat.source, notebook.language, notebook.language_version, machine, asked)
    if nearest is not None:
        kernel, lacks = nearest
        step = fixes.step(machine, Point(seat=f"notebook:{seat.source}", target=f"kernel:{kernel.id}"))
        has = f"{asked}, and all that the notebook imports" if asked is not None else "all that the notebook imports"
        lacking = f"; {', '.join(lacks[:4])} is missing there" if lacks else f", which has {has}"
        message = f"let the notebook use kernel {kernel.id}, the nearest that is registered{lacking}"
        state: FixState = "may-help" if asked in lacks else "certain"
        offered.append(Fix(message=message, steps=[step], changes=[seat.source], state=state))
    if environment is not None and valid_id(wanted):
        renewed = fixes.register(machine, environment, wanted, take_over=False, notebook=seat.source)
        # An environment of exactly that name is meant; any other is a guess and is offered second.
        offered.insert(0 if environment.name == wanted else len(offered), renewed)
    message = f"{seat.name} asks for kernel {wanted}, which is not registered here"
    return Finding.proven("kernel-absent", message, evidence, offered)


def _nearest(
    path: str, language: str | None, version: str | None, machine: Machine, asked: str | None
) -> tuple[Kernel, list[str]] | None:
    """The kernel that fits best: by how many of the imports it has, then by the language's version."""
    from kalyx.core.imports.sources import modules_of_notebook

    beside = _stems_in(machine.reader, machine.reader.parent(path))
    modules = [name for name in modules_of_notebook(machine.reader, path) if name not in beside]
    modules += [asked] if asked is not None and asked not in modules else []
    return _ranked_first(machine.reader, machine, tuple(modules), language, version)


@once
def _stems_in(reader: Reader, folder: str) -> set[str]:
    return {name.removesuffix(".py") for name in reader.names(folder)}


@once  # notebooks that ask for the same have the same answer
def _ranked_first(
    reader: Reader, machine: Machine, modules: tuple[str, ...], language: str | None, version: str | None
) -> tuple[Kernel, list[str]] | None:
    ranked = []
    for number, kernel in enumerate(machine.kernels):
        if kernel.interpreter is None or kernel.environment is None or not could_answer(kernel, machine):
            continue
        if (language or "python") != (kernel.language or "python"):
            continue
        resolver = machine.resolver(kernel.environment)
        lacks = [name for name in modules if resolver is None or resolver.resolve(name).location is None]
        far = 0 if version is None else _apart(version, kernel.interpreter.version)
        ranked.append((len(lacks), far, number, kernel, lacks))
    if not ranked:
        return None
    _, _, _, kernel, lacks = min(ranked, key=lambda row: row[:3])
    return kernel, lacks


def _apart(version: str, other: str) -> int:
    """How far two versions are from each other, in minors; another major is far away, ``3`` is as near to each 3."""
    (major, minor), (other_major, other_minor) = pair_of(version), pair_of(other)
    minors = abs(minor - other_minor) if "." in version and "." in other else 0
    return abs(major - other_major) * 100 + minors


def _fitting(wanted: str, folder: str, machine: Machine) -> Environment | None:
    """The environment of that name, else that of the notebook's project, else the shell's own."""
    named = [environment for environment in machine.environments.known if environment.name == wanted]
    own = (of_project(machine, folder), machine.shell_seat.environment)
    named += [environment for environment in own if environment is not None]
    return next((environment for environment in named if environment.executable), None)


def _registered(identifiers: list[str]) -> str:
    """How many kernels are registered, with the first ids."""
    if len(identifiers) < 2:
        return f"only kernel {identifiers[0]} is registered" if identifiers else "no kernel is registered"
    return f"{len(identifiers)} kernels are registered: {', '.join(identifiers[:6])}"
