"""What a fix found before it was carried out, and how that is put back when it did not mend anything.

Only what can be taken back by a plain step is: a package's former version comes from where the installer gets it, a
file moved goes back to its place, an environment that was not there is removed again, a kernel is put back as it was.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from kalyx.core.actions.installer import run_step
from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Fix, KalyxError
from kalyx.core.model.steps import (
    CreateEnvironment,
    Install,
    Move,
    RegisterKernel,
    RemoveEnvironment,
    Step,
    Uninstall,
)
from kalyx.core.system import Reader
from kalyx.core.text.visible import visible

Tell = Callable[[str], None]


class Before(Struct):
    """The state that one step of a fix is about to change."""

    step: Step
    versions: dict[str, tuple[str, str]] = {}  # canonical name to name and version, of an environment's packages
    was_there: bool = False


def state_before(machine: Machine, fix: Fix) -> list[Before]:
    """What each step of the fix would change, as it is now."""
    states: list[Before] = []
    for step in fix.steps:
        state = Before(step)
        if isinstance(step, (Install, Uninstall)):
            state.versions = _versions(machine, step.python)
        elif isinstance(step, CreateEnvironment):
            moved = any(isinstance(before.step, Move) and before.step.path == step.prefix for before in states)
            state.was_there = machine.reader.exists(step.prefix) and not moved
        states.append(state)
    return states


def undoing(machine: Machine, states: list[Before]) -> tuple[list[Step], list[str]]:
    """The steps that put it back, last step first, on a machine that is read again; and the lines that stay as done."""
    steps: list[Step] = []
    left: list[str] = []
    restored: set[str] = set()
    for state in reversed(states):
        step = state.step
        if isinstance(step, (Install, Uninstall)):
            if step.python not in restored:  # all of its packages are restored at once
                restored.add(step.python)
                steps += _former_versions(machine, step.python, state.versions)
            continue
        # Of a kernel taken over, its former file is kept for the user's own word.
        back = step.inverse() if not state.was_there and not isinstance(step, RegisterKernel) else None
        if back is None and step.command is not None:
            left.append(step.line)
        elif back is not None and _is_done(machine.reader, step, steps):
            steps.append(back)
    return [fixes.step(machine, step) for step in steps], left


def _former_versions(machine: Machine, python: str, before: dict[str, tuple[str, str]]) -> list[Step]:
    """The steps that give an environment's packages the versions they had."""
    now = _versions(machine, python)
    new = [name for key, (name, _) in now.items() if key not in before]
    changed = [
        f"{name}=={version}" for key, (name, version) in before.items() if now.get(key, (name, ""))[1] != version
    ]
    steps: list[Step] = [Uninstall(python=python, names=new)] if new else []
    return [*steps, Install(python=python, requirements=changed, options=["--no-deps"])] if changed else steps


def _is_done(reader: Reader, step: Step, before: list[Step]) -> bool:
    """Whether a step came to be, so that there is something to take back; ``before`` are carried out first."""
    if isinstance(step, Move):
        goes = any(isinstance(item, RemoveEnvironment) and item.prefix == step.path for item in before)
        return (goes or reader.kind(step.path) is None) and reader.kind(step.to) is not None
    return not isinstance(step, CreateEnvironment) or reader.exists(step.prefix)


def put_back(machine: Machine, states: list[Before], tell: Tell) -> list[str]:
    """Put back what a fix changed without success; says what was put back, and what could not be."""
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
    environment = machine.environment_named(
        machine.reader.real(machine.reader.parent(machine.reader.parent(executable)))
    )
    sites = environment.site_packages if environment is not None else []
    return {distribution.key: (distribution.name, distribution.version) for distribution in machine.installed(sites)}
