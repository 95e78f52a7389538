"""Shell lines in this kernel's notebooks reach another interpreter than the kernel's own.

How to tell: the first python on the PATH that the kernel gives to its shell lines is looked up.
Fix: register the kernel again with its environment first on PATH (--own-path).

Example:
    PATH finds python in orchard and pip in orchard
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath

Not this (PATH leads to the kernel's own environment):
    PATH finds python in heath and pip in heath
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.reading import environment_of
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.kernels.specs import SPEC_FILE, kernel_variables
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Kernel


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    if kernel.environment is None or kernel.interpreter is None:
        return None
    path_value = kernel_variables(kernel, machine.server).get("PATH", "")
    result = next(machine.reader.lookup("python", path_value), None)
    runs = interpreter_at(machine.reader, result)
    if result is None or runs is None:
        return None
    reached = environment_of(machine.reader, runs)
    if reached.key == kernel.environment.key:
        return None
    spec = machine.reader.join(kernel.folder, SPEC_FILE)
    made = fixes.registering(machine, kernel.environment, kernel.id)
    made.own_path, made.take_over, made.explain, made.bring_package = True, True, kernel.explains, False
    message = f"a shell line (!python, !pip) in a notebook on {kernel.id} reaches {reached.name}"
    evidence = [
        Evidence.at(result, "python on the kernel's PATH"),
        Evidence.at(spec, f"the kernel itself runs {kernel.environment.name}"),
    ]
    offered = [
        Fix(
            message="put the environment first on the kernel's PATH, so !python and !pip use it",
            steps=[fixes.step(machine, made)],
        )
    ]
    return Finding.likely("shell-elsewhere", message, evidence, offered)
