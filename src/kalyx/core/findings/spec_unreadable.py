"""The kernel file cannot be used: not JSON, or it lacks the command to start.

Has it:
    kernel heath has a file that is no JSON
    asked about kernel:heath

Only looks like it (readable, and starts nothing):
    kernel heath starts /home/keeper/gone/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from kalyx.core.facts import Finding, Kernel
from kalyx.core.findings import remedies
from kalyx.core.kernels.specs import valid_id
from kalyx.core.machine import Machine

YIELDS_TO = ()


def mend(kernel: Kernel, machine: Machine) -> None:
    """Fill in the way out: remove it, since what it was to start cannot be known."""
    for finding in kernel.findings:
        if finding.cause == "spec-unreadable" and not finding.remedies and valid_id(kernel.id):
            finding.remedies = [remedies.unregister(machine, kernel.id)]


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    return None  # found while the file is read
