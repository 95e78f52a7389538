"""A kernel's command does not name the connection file, so a server cannot reach what the command starts.

How to tell: no word of argv in the kernel file holds {connection_file}, which servers replace by the file's path.
Fix: register the environment under the same id, or add the words to the kernel file.

Example:
    kernel heath starts /home/keeper/heath/bin/python without a connection file
    asked about kernel:heath

Not this (the command names the file):
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.kernels.specs import CONNECTION_FILE, SPEC_FILE, argv_line, names_connection_file
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Kernel


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    """By the notebook protocol's "Kernel specs" a server fills in this word; nothing else tells a kernel the file."""
    if names_connection_file(kernel) or kernel.language not in ("", "python"):
        return None
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    line = f'in {path}, add "-f", "{CONNECTION_FILE}" at the end of argv'
    offered = [Fix(message="let the command name the file", steps=[fixes.by_hand(line)], state="may-help")]
    if kernel.environment is not None:
        offered.insert(0, fixes.register(machine, kernel.environment, kernel.id, take_over=True))
    message = f"the command of kernel {kernel.id} does not name the connection file: no server can reach the kernel"
    evidence = [Evidence.at(path, f"argv without {CONNECTION_FILE}", argv_line(machine.reader, kernel))]
    return Finding.proven("no-connection-file", message, evidence, offered)
