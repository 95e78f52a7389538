"""Shell lines in this kernel's notebooks reach another interpreter than the kernel's own.

How to tell: the first python on the PATH that the kernel gives to its shell lines is looked up.
Fix: register the kernel again with its environment first on PATH (--own-path).

Example:
    PATH finds python in orchard and pip in orchard
    heath has ipykernel 7.0 as ipykernel_launcher.py
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath

Not this (PATH leads to the kernel's own environment):
    PATH finds python in heath and pip in heath
    heath has ipykernel 7.0 as ipykernel_launcher.py
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.reading import environment_of
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.kernels.specs import SPEC_FILE, kernel_variables
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Kernel


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    if kernel.environment is None or kernel.interpreter is None or "kernel-package-absent" in kernel.conditions:
        return None  # a kernel that does not start runs no shell line
    path_value = kernel_variables(kernel, machine.server).get("PATH", "")
    result = next(machine.reader.lookup("python", path_value), None)
    runs = interpreter_at(machine.reader, result)
    if result is None or runs is None:
        return None
    reached = environment_of(machine.reader, runs)
    if reached.key == kernel.environment.key:
        return None
    spec = machine.reader.join(kernel.folder, SPEC_FILE)
    message = f"a shell line (!python, !pip) in a notebook on {kernel.id} reaches {reached.name}"
    evidence = [
        Evidence.at(result, "python on the kernel's PATH"),
        Evidence.at(spec, f"the kernel itself runs {kernel.environment.name}"),
    ]
    fix = fixes.register(machine, kernel.environment, kernel.id, take_over=True, own_path=True)
    fix = fix.called("put the environment first on the kernel's PATH, so !python and !pip use it")
    return Finding.likely("shell-elsewhere", message, evidence, [fix])
