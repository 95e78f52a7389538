"""The path names no program that starts, or a link whose target is gone.

How to tell: the path is followed link by link to where it ends.
Fix: name a path that exists: register the kernel again, change the editor's setting, or recreate the environment.

Example:
    kernel hives starts /home/keeper/orchrad/bin/python
    asked in kernel:hives: import hivescale

Not this (it starts, and lacks the module):
    kernel hives starts /home/keeper/heath/bin/python
    asked in kernel:hives: import hivescale
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from kalyx.core.diagnosis import fixes
from kalyx.core.kernels.specs import SPEC_FILE, argv_line
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Kernel, Seat
from kalyx.core.system.reasons import NOTHING_THERE

if TYPE_CHECKING:
    from kalyx.core.imports.case import DeadSeat

SUPPRESSED_BY_OTHERS = True


def look_at_dead(case: DeadSeat, machine: Machine) -> Finding | None:
    if case.kernel is not None:
        return look_at_kernel(case.kernel, machine)
    source = case.seat.source or case.program or case.seat.name
    if case.seat.undecided:
        return None  # what it starts is not known
    from kalyx.core.system.nearest_path import nearest_existing

    near = nearest_existing(machine.reader, source) if machine.reader.path.isabs(source) else None
    offered = []
    if near is not None:
        offered.append(Fix(message="use the nearest path that exists", steps=[fixes.by_hand(f"use {near}")]))
    else:
        step = fixes.by_hand("choose from the list of", "kalyx survey")
        offered.append(Fix(message="name another interpreter", steps=[step]))
    message = f"{case.seat.name} starts no interpreter: {case.seat.reason}"
    evidence = [Evidence.at(source, case.seat.reason or "no interpreter")]
    return Finding.proven("interpreter-gone", message, evidence, offered)


def look_at_seat(seat: Seat, machine: Machine) -> Finding | None:
    """A settings file that names an interpreter that is not there."""
    if seat.seat != "editor" or seat.source is None or not seat.parts or seat.parts[0].path is None:
        return None
    path = seat.parts[0].path
    if seat.interpreter is not None or machine.reader.exists(path):
        return None
    evidence = [
        Evidence.at(seat.source, f'"{seat.parts[0].word}"', seat.line),
        Evidence.at(path, NOTHING_THERE),
    ]
    where = f"{seat.source}, line {seat.line}" if seat.line else seat.source
    step = fixes.by_hand(f"in {where}, write the path of an interpreter that kalyx survey lists")
    offered = [Fix(message="name an interpreter that exists", steps=[step], changes=[seat.source])]
    if seat.nearest is not None:
        step = fixes.by_hand(f"write {seat.nearest} in {where}")
        offered.insert(0, Fix(message="use the nearest path that exists", steps=[step], changes=[seat.source]))
    return Finding.proven("interpreter-gone", f"the editor's {seat.name} names nothing: {path}", evidence, offered)


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    if kernel.interpreter is not None or not kernel.argv or kernel.reason is None:
        return None
    if kernel.language not in ("", "python") or kernel.undecided:
        return None
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    first = kernel.command[0]
    evidence = [
        Evidence.at(path, f'starts "{kernel.argv[0]}"', argv_line(machine.reader, kernel)),
        Evidence(fact=kernel.reason, source=first, path=first if machine.reader.path.isabs(first) else None),
    ]
    offered = []
    from kalyx.core.system.nearest_path import nearest_existing

    near = nearest_existing(machine.reader, first) if machine.reader.path.isabs(first) else None
    if near is not None:
        prefix = machine.reader.parent(machine.reader.parent(near))
        environment = machine.environments.at(prefix)
        evidence.append(Evidence.at(near, "the nearest path that is there"))
        if environment is not None and environment.executable:
            offered.append(fixes.register(machine, environment, kernel.id, take_over=True))
    offered.append(fixes.unregister(machine, kernel))
    return Finding.proven("interpreter-gone", f"kernel {kernel.id} starts nothing: {kernel.reason}", evidence, offered)
