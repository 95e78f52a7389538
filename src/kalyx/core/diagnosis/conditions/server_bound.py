"""The kernel means a different interpreter under each notebook server.

How to tell: the kernel's command begins with a bare name, which each server looks up on its own PATH.
Fix: register the kernel again, which writes the full path.

Example:
    kernel python3 starts python3
    asked about kernel:python3

Not this (it names its interpreter by the full path):
    kernel python3 starts /home/keeper/heath/bin/python
    asked about kernel:python3
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.kernels.specs import SPEC_FILE, argv_line
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Kernel
from kalyx.core.text.numbers import are_numbers


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    if not kernel.argv or machine.reader.path.dirname(kernel.argv[0]):
        return None
    word = kernel.argv[0]
    if word != "python" and not (word.startswith("python") and are_numbers(word[6:])):
        return None
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    evidence = [Evidence.at(path, f'starts the bare word "{word}"', argv_line(machine.reader, kernel))]
    if kernel.interpreter is not None:
        here = kernel.interpreter.executable
        text = f"under the server seen here ({machine.server.said_as}) it is {here}"
        evidence.append(Evidence.at(here, text))
    offered = []
    if kernel.environment is not None and kernel.environment.kind != "installation":
        own = machine.free_id(kernel.environment.name)
        step = fixes.step(machine, fixes.registering(machine, kernel.environment, own))
        offered.append(Fix(message="register the environment under an id of its own", steps=[step]))
    message = f"kernel {kernel.id} means the interpreter of whichever notebook server runs"
    return Finding.proven("server-bound", message, evidence, offered)
