"""The kernel is named after an environment that it does not run.

How to tell: the label names an environment that is here, and the command starts another.
Fix: register the intended environment under that id.

Example:
    orchard has hivescale 2.1
    kernel orchard-spring starts /home/keeper/heath/bin/python
    asked in kernel:orchard-spring: import hivescale

Not this (the kernel is named after what it runs):
    orchard has hivescale 2.1
    kernel heath-spring starts /home/keeper/heath/bin/python
    asked in kernel:heath-spring: import hivescale
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec.structs import replace

from kalyx.core.diagnosis import fixes
from kalyx.core.kernels.specs import SPEC_FILE, argv_line
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Finding, Fix, Kernel
from kalyx.core.text.nearness import words_of

if TYPE_CHECKING:
    from kalyx.core.imports.case import Missing

# Words too common to be an environment's name in a label.
_COMMON = {"venv", "env", "python", "kernel", "base", "default", "test", "main", "conda", "root", "local", "project"}

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    from kalyx.core.diagnosis.shared.holders import holders, proof  # not for a kernel that is only listed

    kernel = case.kernel
    if kernel is None:
        return None
    named = named_after(kernel, machine)
    if named is None:
        return None
    has_it = {environment.key: location for environment, location in holders(case, machine)}
    if named.key not in has_it:
        return None
    finding = _finding(kernel, named, machine)
    seen, requirement = proof(case, machine, named, has_it[named.key])
    runs = kernel.environment.name if kernel.environment else "nothing"
    message = f"kernel {kernel.id} is named after {named.name} but runs {runs}; {case.missing} is in {named.name}"
    installs = [fixes.install(machine, case.interpreter, requirement)] if requirement else []
    evidence, offered = [*finding.evidence, *seen], [*finding.fixes, *installs]
    return replace(finding, message=message, evidence=evidence, fixes=offered)


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    named = named_after(kernel, machine)
    return _finding(kernel, named, machine) if named is not None else None


def named_after(kernel: Kernel, machine: Machine) -> Environment | None:
    """The known environment whose name the kernel's id or label carries, where it runs another one."""
    runs = kernel.environment
    if runs is None:
        return None
    words = words_of(kernel.id) + words_of(kernel.label)
    own = words_of(runs.called or runs.name)
    if own and _carries(words, own):
        return None
    for environment in machine.environments.known:
        if environment.key == runs.key or environment.kind == "installation":
            continue
        name = words_of(environment.called or environment.name)
        if name and not (len(name) == 1 and (name[0] in _COMMON or len(name[0]) < 3)) and _carries(words, name):
            return environment
    return None


def _carries(words: list[str], name: list[str]) -> bool:
    return any(words[at : at + len(name)] == name for at in range(len(words) - len(name) + 1))


def _finding(kernel: Kernel, named: Environment, machine: Machine) -> Finding:
    reader = machine.reader
    path = reader.join(kernel.folder, SPEC_FILE)
    runs = kernel.environment.name if kernel.environment else "nothing"
    evidence = [
        Evidence.at(path, f"{kernel.id} starts {kernel.argv[0]}", argv_line(reader, kernel)),
        Evidence.at(named.prefix, f"an environment called {named.name} is here"),
    ]
    if kernel.label != kernel.id:
        evidence.insert(1, Evidence.at(path, f'its label is "{kernel.label}"'))
    offered: list[Fix] = []
    if named.executable:
        offered.append(fixes.register(machine, named, kernel.id, take_over=True))
    message = f"kernel {kernel.id} is named after {named.name} and runs {runs}"
    return Finding.proven("name-misleads", message, evidence, offered)
