"""Another kernel of the same id lies in a folder that comes first.

Has it:
    kernel heath starts /home/keeper/heath/bin/python
    kernel heath is also registered for the machine
    asked about the second kernel:heath

Only looks like it (ids that differ):
    kernel heath starts /home/keeper/heath/bin/python
    kernel moor is also registered for the machine
    asked about kernel:moor
"""

from __future__ import annotations

from kalyx.core.findings import remedies
from kalyx.core.machine import Machine
from kalyx.core.records import Finding, Kernel, Remedy

YIELDS_TO = ()


def mend(kernel: Kernel, machine: Machine) -> None:
    """Fill in the way out: the kernel that comes first must go, or this one must get another id."""
    for finding in kernel.findings:
        if finding.cause == "hidden" and not finding.remedies:
            words = f"give one of the two another id: rename the folder {kernel.folder}"
            finding.remedies = [Remedy(says="give it an id of its own", steps=[remedies.by_hand(words)])]


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    return None  # found while the folders are listed, in their order
