"""The kernel file cannot be used: not JSON, or it lacks the command to start.

How to tell: the file is read by the notebook server's rules.
Fix: recreate the kernel file: register the environment under the same id.

Example:
    kernel heath has a file that is no JSON
    asked about kernel:heath

Not this (readable, and starts nothing):
    kernel heath starts /home/keeper/gone/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.diagnosis import fixes
from kalyx.core.kernels.specs import valid_id
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding, Fix, Kernel


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    """The finding; reading the kernel file has found the condition. The fix removes the kernel.

    None where this user may not read the file.
    """
    refused = machine.reader.refused_within(kernel.folder)
    for finding in kernel.findings:
        if finding.cause == "spec-unreadable" and not finding.fixes and valid_id(kernel.id):
            line = f"look at {refused[0]}: its owner can let you read it" if refused else ""
            fix = Fix(message="make it readable", steps=[fixes.by_hand(line)])
            return replace(finding, fixes=[fix if refused else fixes.unregister(machine, kernel)])
    return None
