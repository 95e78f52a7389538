"""The line that undoes a fix, where a fix has one step and one line undoes that."""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.diagnosis.fixes import step
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding, Fix, KalyxError
from kalyx.core.model.steps import Install, RegisterKernel, Uninstall, UnregisterKernel
from kalyx.core.text.names import canonical

_PLAIN = {"--upgrade", "--no-deps"}


def with_undo(finding: Finding, machine: Machine) -> Finding:
    """The finding, with the undo line of each of its fixes."""
    return replace(finding, fixes=[_with_undo(fix, machine) for fix in finding.fixes])


def _with_undo(fix: Fix, machine: Machine) -> Fix:
    """The fix with its undo line; none where it has several steps, or where its effect is not known beforehand."""
    if fix.undo is not None or len(fix.steps) != 1 or fix.steps[0].command is None:
        return fix
    made = fix.steps[0]
    back = made.inverse()
    if isinstance(made, Install):
        back = _of_installing(made, machine)
    elif isinstance(made, RegisterKernel) and back is not None:
        back = of_registering(made, machine)
    written = step(machine, back) if back is not None else None
    return replace(fix, undo=written.line) if written is not None and written.command is not None else fix


def of_registering(made: RegisterKernel, machine: Machine) -> UnregisterKernel | None:
    """The step that undoes a registration, asked before it: a kernel of that id is replaced in the user's folder alone.

    Where another folder has a kernel of that id, only the folder tells which is meant. None where the server looks in
    no folder of the user's own.
    """
    try:
        root = machine.servers.registered_in("me", made.prefix)
    except KalyxError:
        return None
    folders = [kernel.folder for kernel in machine.kernels if kernel.id == made.identifier.lower()]
    own = [folder for folder in folders if machine.reader.same_path(machine.reader.parent(folder), root)]
    folder = machine.reader.join(root, made.identifier.lower())
    return UnregisterKernel(kernel=folder if folders and not own else made.identifier, restore=bool(own))


def _of_installing(made: Install, machine: Machine) -> Install | Uninstall | None:
    """The step back to the former versions, or to none; None where only some were installed, or for an extra."""
    from kalyx.core.packages.requirements import name_of

    names = [name_of(word) for word in made.requirements]
    plain = set(made.options) <= _PLAIN and not any("[" in word for word in made.requirements)
    environment = machine.environments.at(made.python)
    if environment is None or not names or None in names or not plain:
        return None
    there = {distribution.key: distribution for distribution in machine.installed(environment.site_packages)}
    known = [there.get(canonical(name)) for name in names if name is not None]
    if all(distribution is None for distribution in known):
        return Uninstall(python=made.python, names=[name for name in names if name is not None])
    if any(distribution is None for distribution in known):
        return None
    versions = [f"{distribution.name}=={distribution.version}" for distribution in known if distribution is not None]
    return Install(python=made.python, requirements=versions, options=["--no-deps"])
