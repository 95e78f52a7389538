"""Two kernels in the list start the same environment.

How to tell: the two commands are followed to the environments that they start.
Fix: remove the kernel that no notebook uses.

Example:
    kernel heath starts /home/keeper/heath/bin/python
    kernel moor starts /home/keeper/heath/bin/python
    asked about kernel:moor

Not this (the same base, two environments):
    kernel heath starts /home/keeper/heath/bin/python
    kernel orchard starts /home/keeper/orchard/bin/python
    asked about kernel:orchard
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.kernels.specs import SPEC_FILE
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Kernel


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    if kernel.environment is None or {"hidden", "name-misleads"} & set(kernel.conditions):
        return None
    for other in machine.kernels:
        if other.folder == kernel.folder or other.environment is None or "hidden" in other.conditions:
            continue
        same = other.environment.key == kernel.environment.key and other.env == kernel.env
        if same and other.command[1:] == kernel.command[1:] and other.language == kernel.language:
            path = machine.reader.join(other.folder, SPEC_FILE)
            own = machine.reader.join(kernel.folder, SPEC_FILE)
            # Removing one of the two is enough; both findings name the kernel that is listed later.
            order = [listed.folder for listed in machine.kernels]
            later = max(kernel, other, key=lambda item: order.index(item.folder))
            message = f"kernel {other.id} starts the same environment, {kernel.environment.name}"
            evidence = [
                Evidence.at(path, f"{other.id} starts {other.command[0]}"),
                Evidence.at(own, f"{kernel.id} starts {kernel.command[0]}"),
            ]
            return Finding.proven("twin", message, evidence, [fixes.unregister(machine, later)])
    return None
