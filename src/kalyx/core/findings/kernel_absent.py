"""The notebook asks for a kernel that is not registered here.

Has it:
    a notebook asks for kernel meadow, and there is none
    asked about the notebook

Only looks like it (the kernel is there, and starts nothing):
    kernel meadow starts /home/keeper/gone/bin/python
    a notebook asks for kernel meadow
    asked about the notebook
"""

from __future__ import annotations

from kalyx.core.facts import Environment, Evidence, Finding, Seat
from kalyx.core.findings import remedies
from kalyx.core.kernels.specs import valid_id
from kalyx.core.machine import Machine
from kalyx.core.seats.notebook import read_notebook

YIELDS_TO = ()


def look_at_seat(seat: Seat, machine: Machine) -> Finding | None:
    if seat.seat != "notebook" or seat.via is None or seat.source is None:
        return None
    wanted = seat.via.removeprefix("kernel:")
    if machine.kernel_by_id(wanted) is not None:
        return None
    notebook = read_notebook(machine.facts, seat.source)
    evidence = [
        Evidence(fact=f"asks for kernel {wanted}", source=seat.source, path=seat.source, line=notebook.line),
        Evidence(
            fact=f"{len(machine.kernels)} kernels are registered: "
            + (", ".join(kernel.id for kernel in machine.kernels[:6]) or "none"),
            source=machine.server.said_as,
        ),
    ]
    environment = _fitting(wanted, machine)
    mends = []
    if environment is not None and valid_id(wanted):
        mends.append(remedies.register(machine, environment, wanted, take_over=False))
    return Finding(
        cause="kernel-absent",
        certainty="proven",
        says=f"{seat.name} asks for kernel {wanted}, which is not registered here",
        evidence=evidence,
        remedies=mends,
    )


def _fitting(wanted: str, machine: Machine) -> Environment | None:
    """The environment of that name, else the shell's own."""
    for environment in machine.environments:
        if environment.name == wanted and environment.executable:
            return environment
    own = machine.shell_seat.environment
    return own if own is not None and own.executable else None
