"""The environment was moved or copied; its scripts and links still point to the old place.

How to tell: its scripts and activation scripts name another folder than the one that they are in.
Fix: move it back, or recreate it where it is.

Example:
    heath was moved here from /home/keeper/old/heath
    asked about heath

Not this (a link leads to it under another name):
    heath is reached by the link /home/keeper/moor
    asked about heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.activation import spoken_place
from kalyx.core.diagnosis.shared.conditions import condition
from kalyx.core.environments.found import base_interpreter
from kalyx.core.environments.reading import View
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import Install, Move, RemakeEnvironment, Step
from kalyx.core.packages.metadata import COMMANDS, entry_points
from kalyx.core.text.names import is_requirement

_AGAIN = ["--force-reinstall", "--no-deps"]


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    reader, environment = machine.reader, view.environment
    if view.interpreter is None or environment.kind != "virtual":
        return None
    spoken = spoken_place(machine, environment.prefix)
    if spoken is None:
        return None
    path, script, line = spoken
    if reader.same_path(reader.real(path), environment.key):
        return None
    # Recreating the environment in place writes the scripts again and keeps the packages.
    keep = ["--system-site-packages"] if environment.sees_base else []
    base, options = base_interpreter(reader, view.interpreter), ["--without-pip", *keep]
    renew: list[Step] = []
    if base is not None:
        remake = RemakeEnvironment(python=base.real_executable, prefix=environment.prefix, options=options)
        renew.append(fixes.step(machine, remake))
    with_commands = [
        distribution
        for distribution in machine.installed(environment.site_packages)
        if entry_points(reader, distribution.path, *COMMANDS)  # an installer writes the environment's path into them
    ]
    lines = [
        f"{distribution.name}=={distribution.version}"
        for distribution in with_commands
        if is_requirement(f"{distribution.name}=={distribution.version}")
    ]
    if lines and renew:
        again = Install(python=view.interpreter.executable, requirements=lines, options=_AGAIN)
        renew.append(fixes.step(machine, again))
    offered = []
    if renew:
        offered.append(Fix(message="rewrite its scripts for the new place", steps=renew, changes=[environment.prefix]))
    if not reader.exists(path):
        back = fixes.step(machine, Move(path=environment.prefix, to=path))
        offered.append(Fix(message="move it back", steps=[back], changes=[path]))
    return condition(
        "moved",
        f"it was moved or copied: its scripts still point to {path}",
        [Evidence.at(script, f"points to {path}", line)],
        offered,
    )
