"""The state before each step of a fix, and the steps that restore that state when the fix did not help.

Packages get their former versions from where the installer gets them, a moved file gets its former path, an environment
that the fix created is removed, a kernel is restored. What other steps did is named, and stays.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec import Struct

from kalyx.core.actions.installer import run_step
from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.undo import of_registering
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.model.steps import (
    CreateEnvironment,
    Install,
    Move,
    Point,
    RegisterKernel,
    RemoveEnvironment,
    Step,
    Uninstall,
    UnregisterKernel,
)
from kalyx.core.system import Reader
from kalyx.core.text.visible import visible

Tell = Callable[[str], None]


class Before(Struct):
    """The state that one step of a fix is about to change."""

    step: Step
    versions: dict[str, tuple[str, str]] = {}  # canonical name to name and version, of an environment's packages
    was_there: bool = False
    kernel: str = ""  # what is registered under the id that a step registers
    back: UnregisterKernel | None = None  # the step that undoes a registration


def state_before(machine: Machine, step: Step) -> Before:
    """What a step is about to change, after the steps before it were carried out."""
    if isinstance(step, (Install, Uninstall)):
        return Before(step, versions=_versions(machine, step.python))
    if isinstance(step, RegisterKernel):
        python = _python_of(machine, step)
        versions = _versions(machine, python) if python is not None and step.bring_package else {}
        return Before(
            step, versions=versions, kernel=_registered(machine, step.identifier), back=of_registering(step, machine)
        )
    return Before(step, was_there=isinstance(step, CreateEnvironment) and machine.reader.exists(step.prefix))


def undoing(machine: Machine, states: list[Before]) -> tuple[list[Step], list[str]]:
    """The steps that restore the state, last step first, on a machine that is read again; and the lines not undone."""
    steps: list[Step] = []
    left: list[str] = []
    after: dict[str, dict[str, tuple[str, str]]] = {}  # by interpreter: the packages after the step that is looked at
    for number, state in reversed(list(enumerate(states))):
        step = state.step
        if isinstance(step, (Install, Uninstall)):
            earlier = states[number - 1].step if number else None
            now = after.setdefault(step.python, _versions(machine, step.python))
            if not isinstance(earlier, (Install, Uninstall)) or earlier.python != step.python:
                steps += _former_versions(step.python, state.versions, now)  # of both, where two follow each other
                after[step.python] = state.versions
            continue
        if isinstance(step, RegisterKernel):
            steps += _unregistered(machine, step, state)
            continue
        back = step.inverse() if not state.was_there else None
        if back is None and step.command is not None:
            left.append(step.line)
        elif back is not None and _is_done(machine.reader, step, steps):
            steps.append(back)
    return [fixes.step(machine, step) for step in steps], left


def _unregistered(machine: Machine, step: RegisterKernel, state: Before) -> Iterator[Step]:
    """The steps that undo a registration: of the notebook's kernel, of the kernel, and of what came with it."""
    if _registered(machine, step.identifier) != state.kernel:
        if step.notebook is not None:
            yield Point(seat=f"notebook:{step.notebook}")
        # The former file of a replaced kernel is kept for unregister --undo.
        yield state.back or UnregisterKernel(kernel=step.identifier, restore=bool(state.kernel))
    python = _python_of(machine, step)
    if python is not None and step.bring_package:
        yield from _former_versions(python, state.versions, _versions(machine, python))


def _registered(machine: Machine, identifier: str) -> str:
    """The kernel of an id as its file says; empty where there is none."""
    kernel = next((kernel for kernel in machine.kernels if kernel.id == identifier), None)
    return "" if kernel is None else repr((kernel.folder, kernel.argv, kernel.label, kernel.env))


def _python_of(machine: Machine, step: RegisterKernel) -> str | None:
    environment = machine.environments.at(step.target or step.prefix)
    return environment.executable if environment is not None else None


def _former_versions(
    python: str, before: dict[str, tuple[str, str]], now: dict[str, tuple[str, str]]
) -> Iterator[Step]:
    """The steps that give an environment's packages the versions they had."""
    new = [name for key, (name, _) in now.items() if key not in before]
    changed = [
        f"{name}=={version}" for key, (name, version) in before.items() if now.get(key, (name, ""))[1] != version
    ]
    if new:
        yield Uninstall(python=python, names=new)
    if changed:
        yield Install(python=python, requirements=changed, options=["--no-deps"])


def _is_done(reader: Reader, step: Step, before: list[Step]) -> bool:
    """Whether a step took effect, so that there is something to undo; ``before`` are carried out first."""
    if isinstance(step, Move):
        goes = any(isinstance(item, RemoveEnvironment) and item.prefix == step.path for item in before)
        returns = any(isinstance(item, Install) for item in before)  # which an installer replaced or removed since
        return (goes or not reader.may_be_there(step.path)) and (returns or reader.may_be_there(step.to))
    return not isinstance(step, CreateEnvironment) or reader.exists(step.prefix)


def put_back(machine: Machine, states: list[Before], tell: Tell) -> list[str]:
    """Undo a fix that did not help; returns what was undone and what was not, in words."""
    steps, left = undoing(machine, states)
    messages = [f"not undone: what {line} did" for line in left]
    for step in steps:
        if step.command is None:
            messages.append(f"not undone: {visible(step.line)}")
            continue
        tell(step.line)
        try:
            run_step(machine, step, tell)
            messages.append(f"undone: {step.line}")
        except KalyxError as refusal:
            messages.append(f"not undone ({visible(str(refusal))}); to do it by hand: {step.line}")
    return messages


def _versions(machine: Machine, executable: str) -> dict[str, tuple[str, str]]:
    environment = machine.environments.at(executable)
    sites = environment.site_packages if environment is not None else []
    return {distribution.key: (distribution.name, distribution.version) for distribution in machine.installed(sites)}
