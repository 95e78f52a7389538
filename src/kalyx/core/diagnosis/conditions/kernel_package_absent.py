"""The module that the kernel runs is missing in its environment, or a part of it.

How to tell: the module behind -m in the kernel's command, and its imports, are searched on the kernel's own sys.path.
Fix: install the kernel package into that environment.

Example:
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath

Not this (the kernel package is there):
    heath has ipykernel 7.0 as ipykernel_launcher.py
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.kernel_module import Lack, lack_of
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.invocation import kernel_of
from kalyx.core.kernels.makers import KERNEL_PACKAGES, USUAL
from kalyx.core.kernels.specs import SPEC_FILE
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Finding, Interpreter, Kernel, Seat


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    interpreter, lack = kernel.interpreter, lack_of(kernel, machine)
    if interpreter is None or lack is None:
        return None
    if lack.is_without_site and kernel.environment is not None:
        return _without_packages(machine, kernel, kernel.environment, lack.runs)
    return _absent(machine, kernel, interpreter, lack)


def _without_packages(machine: Machine, kernel: Kernel, environment: Environment, module: str) -> Finding:
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    message = f"kernel {kernel.id} runs {module}, and its -S leaves out the packages of {environment.name}"
    evidence = [Evidence.at(path, "holds -S")]
    offered = [fixes.register(machine, environment, kernel.id, take_over=True)]
    return Finding.proven("kernel-package-absent", message, evidence, offered)


def _absent(machine: Machine, kernel: Kernel, interpreter: Interpreter, lack: Lack) -> Finding:
    requirement = next((p.distribution for p in KERNEL_PACKAGES if p.module == lack.runs), None)
    where = kernel.environment.name if kernel.environment else interpreter.prefix
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    again = ["--force-reinstall"] if lack.path is not None else []
    message = f"kernel {kernel.id} runs the module {lack.runs}, which {where} does not have"
    evidence = [
        Evidence.at(path, f"runs -m {lack.runs}"),
        Evidence(fact=f"no {lack.module} on its sys.path", source=f"{lack.folders} folders read"),
    ]
    if lack.path is not None:
        message = (
            f"kernel {kernel.id} runs the module {lack.runs}, which imports {lack.module}; {where} does not have that"
        )
        evidence.insert(1, Evidence.at(lack.path, f"imports {lack.module}", lack.line))
    offered = [fixes.install(machine, interpreter, requirement, *again)] if requirement else []
    if offered and kernel.environment is not None and fixes.keeper_of(machine, interpreter) is not None:
        offered = [fixes.register(machine, kernel.environment, kernel.id, take_over=True)]
    return Finding.proven("kernel-package-absent", message, evidence, [*offered, fixes.unregister(machine, kernel)])


def look_behind(seat: Seat, machine: Machine) -> Finding | None:
    """The same for the kernel of a seat: without the package the kernel does not start."""
    kernel = kernel_of(seat, machine)
    return look_at_kernel(kernel, machine) if kernel is not None and seat.interpreter is not None else None


def of_seat(machine: Machine, seat: Seat) -> Finding:
    """The finding that the target has no kernel package, with the fix."""
    assert seat.interpreter is not None and seat.environment is not None
    search = search_path(machine.reader, seat.interpreter, Invocation())
    message = f"{seat.environment.name} has no kernel package, so it cannot be a kernel yet"
    evidence = [
        Evidence(
            fact=f"no {USUAL.module} on its sys.path",
            source=f"{len(search.entries)} folders read",
            path=seat.environment.prefix,
        )
    ]
    offered = [fixes.install(machine, seat.interpreter, USUAL.distribution)]
    return Finding.proven("kernel-package-absent", message, evidence, offered)
