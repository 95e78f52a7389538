"""Another kernel with the same id is in a folder that is searched first.

How to tell: two kernel folders hold the same id, and the search order decides.
Fix: remove one of the two, or register yours under another id.

Example:
    kernel heath starts /home/keeper/heath/bin/python
    kernel heath is also registered for the machine
    asked about the second kernel:heath

Not this (ids that differ):
    kernel heath starts /home/keeper/heath/bin/python
    kernel moor is also registered for the machine
    asked about kernel:moor
"""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding, Fix, Kernel


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    """The finding; listing the kernel folders in their order has found the condition."""
    for finding in kernel.findings:
        if finding.cause == "hidden" and not finding.fixes:
            words = f"give one of the two another id: rename the folder {kernel.folder}"
            return replace(finding, fixes=[Fix(message="register it under another id", steps=[fixes.by_hand(words)])])
    return None
