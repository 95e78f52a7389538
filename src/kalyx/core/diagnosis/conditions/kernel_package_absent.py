"""The module that the kernel runs is not in the environment it starts.

How to tell: the module behind -m in the kernel's command is looked for on the kernel's own path.
Fix: install the kernel package into that environment.

Example:
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath

Not this (the kernel package is there):
    heath has ipykernel 7.0 as ipykernel_launcher
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.invocation import Invocation
from kalyx.core.imports.resolver import Resolver
from kalyx.core.invocation import kernel_of
from kalyx.core.kernels.makers import KERNEL_PACKAGES, USUAL, module_run_by
from kalyx.core.kernels.specs import SPEC_FILE, kernel_variables
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Kernel, Seat


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    module = module_run_by(kernel.argv)
    interpreter = kernel.interpreter
    if module is None or interpreter is None:
        return None
    way = Invocation(variables=kernel_variables(kernel, machine.server))
    search = machine.search(interpreter, way)
    if search.unknown:
        return None  # code on the path may bring it: only a rehearsal can tell
    resolution = Resolver(machine.reader, interpreter, search, machine.reader.folder).resolve(module)
    if resolution.place is not None or machine.reader.refused_within(interpreter.prefix, interpreter.base_prefix):
        return None
    distribution = next((p.distribution for p in KERNEL_PACKAGES if p.module == module), None)
    where = kernel.environment.name if kernel.environment else interpreter.prefix
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    requirement = distribution or (USUAL.distribution if module == USUAL.module else None)
    mends = [fixes.install(machine, interpreter, requirement)] if requirement else []
    return Finding(
        cause="kernel-package-absent",
        certainty="proven",
        message=f"kernel {kernel.id} runs the module {module}, which {where} does not have",
        evidence=[
            Evidence(fact=f"runs -m {module}", source=path, path=path),
            Evidence(fact=f"no {module} on its sys.path", source=f"{len(search.entries)} folders read"),
        ],
        fixes=[*mends, fixes.unregister(machine, kernel)],
    )


def look_behind(seat: Seat, machine: Machine) -> Finding | None:
    """The same of the kernel that a seat stands for: without the package the kernel does not start."""
    kernel = kernel_of(seat, machine)
    return look_at_kernel(kernel, machine) if kernel is not None and seat.interpreter is not None else None


def of_seat(machine: Machine, seat: Seat) -> Finding:
    """That the target has no kernel package, with the way to bring it."""
    assert seat.interpreter is not None and seat.environment is not None
    search = machine.search(seat.interpreter, Invocation())
    return Finding(
        cause="kernel-package-absent",
        certainty="proven",
        message=f"{seat.environment.name} has no kernel package, so it cannot be a kernel yet",
        evidence=[
            Evidence(
                fact=f"no {USUAL.module} on its sys.path",
                source=f"{len(search.entries)} folders read",
                path=seat.environment.prefix,
            )
        ],
        fixes=[fixes.install(machine, seat.interpreter, USUAL.distribution)],
    )
