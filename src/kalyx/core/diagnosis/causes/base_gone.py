"""The base Python of this environment was removed, or replaced by another version.

How to tell: pyvenv.cfg names a base Python whose files do not exist.
Fix: recreate the environment with a Python that this machine has.

Example:
    the base of heath is /opt/old, which is gone
    asked about heath

Not this (it never had an interpreter):
    heath was begun and not finished
    asked about heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.conditions import condition, packages_of_others, remake, ways_to_recreate
from kalyx.core.environments.reading import View
from kalyx.core.interpreters.reading import NotAnInterpreter, version_in
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.versions import minor_of


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    problem = view.problem
    if view.interpreter is not None and view.environment.kind == "virtual":
        return _older_without_base(view, machine) or _upgraded(view, machine)
    if view.interpreter is not None or problem is None or view.environment.kind == "installation":
        return None
    if "half-made" in {finding.cause for finding in view.environment.findings}:
        return None
    if _is_own_fault(view, problem, machine):
        message = f"its own {machine.reader.name(problem.path)} is {problem.reason}"
        return _finding(view, machine, "no-interpreter", message, problem.reason, problem.path)
    return _finding(view, machine, "base-gone", "the base Python is gone", problem.reason, problem.path)


def _finding(view: View, machine: Machine, cause: str, message: str, fact: str, path: str) -> Finding:
    """What does not start, what the settings say of its base, and how the environment is recreated."""
    settings, evidence = view.settings, [Evidence.at(path, fact)]
    if settings is not None and settings.get("home"):
        home = f"home = {settings.get('home')}"
        evidence.append(Evidence.at(settings.path, home, settings.line("home")))
    return condition(cause, message, evidence, ways_to_recreate(view, machine))


def _older_without_base(view: View, machine: Machine) -> Finding | None:
    """Version 2 starts without its base, from files of the environment's own, and lacks the rest of its library."""
    interpreter = view.interpreter
    if interpreter is None or not interpreter.version.startswith("2.") or machine.reader.system == "windows":
        return None
    base = interpreter.base_prefix
    if interpreter.prefix == base or machine.reader.is_folder(base) or machine.reader.refusal(base) is not None:
        return None
    return _finding(view, machine, "base-gone", "the base Python is gone", NOTHING_THERE, base)


def _is_own_fault(view: View, problem: NotAnInterpreter, machine: Machine) -> bool:
    """Whether the file in the environment itself is what does not start, and leads to nothing else.

    A program that starts the base's (on Windows) or is a copy of it is whole, and the folder that its settings name is
    gone.
    """
    reader = machine.reader
    home = view.settings.get("home") if view.settings is not None else None
    if home and not reader.may_be_there(home):
        return False
    return reader.is_file(problem.path) and reader.same_path(reader.real(problem.path), problem.path)


def _upgraded(view: View, machine: Machine) -> Finding | None:
    """The same path now starts another minor version, which does not see the packages."""
    environment, interpreter = view.environment, view.interpreter
    if interpreter is None:
        return None
    minor = interpreter.minor
    if machine.reader.system == "windows":  # one folder of packages for every version: the settings say for which
        written = version_in(view.settings) if view.settings is not None and not view.settings.problem else None
        if written is None or minor_of(written) == minor:
            return None
        made_for, site = minor_of(written), view.settings.path if view.settings is not None else ""
    else:
        others = packages_of_others(view, machine, minor) if not environment.site_packages else []
        if not others:
            return None
        made_for, site = others[-1]
    evidence = [
        Evidence.at(site, f"it was created for {made_for}"),
        Evidence.at(interpreter.executable, f"it starts {interpreter.version}"),
    ]
    old = [interpreter for interpreter in machine.interpreters if interpreter.minor == made_for]
    if old:
        offered = [remake(view, machine, old[0])]
    else:
        line = f"no Python {made_for} is on this machine; install one, or recreate the environment for {minor}"
        offered = [Fix(message="recreate the environment", steps=[fixes.by_hand(line)])]
    return condition("base-gone", f"its base Python changed from {made_for} on to {minor}", evidence, offered)
