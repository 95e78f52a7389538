"""The user's own code that is here and not on the path: whether a folder holds it, and running it so."""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.imports.case import Case
from kalyx.core.imports.resolver import Place
from kalyx.core.kernels.specs import valid_id
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Fix, Kernel
from kalyx.core.model.steps import RunWith


def has_code(machine: Machine, place: Place) -> bool:
    """A file, or a folder with code of its own."""
    if place.kind != "namespace":
        return True
    return any(name.endswith(".py") for portion in place.portions for name in machine.reader.names(portion))


def run_with(machine: Machine, case: Case, folder: str) -> Fix:
    """Run it once with a folder searched, nothing changed for others; a kernel is registered with it."""
    if case.kernel is not None and case.environment is not None and valid_id(case.kernel.id):
        return _kernel_with(machine, case.kernel, case.environment, folder)
    message = "run it with that folder searched"
    kept = machine.reader.variable("PYTHONPATH")
    value = machine.reader.path.pathsep.join([folder, *([kept] if kept else [])])
    step = fixes.step(machine, RunWith(words=case.command, variables={"PYTHONPATH": value}))
    return Fix(message=message, steps=[step])


def _kernel_with(machine: Machine, kernel: Kernel, environment: Environment, folder: str) -> Fix:
    """The notebook's kernel, registered to search a folder: a notebook is not run by a line of its own."""
    own = kernel.env.get("PYTHONPATH")
    made = fixes.registering(machine, environment, kernel.id)
    made.take_over, made.explain = True, kernel.explains
    made.variables = {"PYTHONPATH": machine.reader.path.pathsep.join([folder, *([own] if own else [])])}
    message = f"let the kernel {kernel.id} search that folder; then restart it"
    return Fix(message=message, steps=[fixes.step(machine, made)], changes=[kernel.folder])
