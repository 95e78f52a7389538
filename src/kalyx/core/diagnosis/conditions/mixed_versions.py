"""The environment holds packages for another Python version, or its python and python3 start two versions.

How to tell: the library folders in the prefix, and its python and python3, are compared with the version it starts.
Fix: recreate the environment with the Python that you want.

Example:
    heath holds packages for 3.9 beside its own
    asked about heath

Not this (an empty folder of another version is left):
    heath holds an empty folder for 3.9
    asked about heath
"""

from __future__ import annotations

from itertools import islice

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.conditions import condition, packages_of_others, remake, remove, same_minor
from kalyx.core.environments.reading import View, executables_of
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import installed_in

_INSTALLERS = {"pip", "setuptools", "wheel"}
_AT_MOST = 20  # packages that a line of a fix names


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    reader, environment, interpreter = machine.reader, view.environment, view.interpreter
    if interpreter is None or reader.system == "windows" or environment.kind == "installation":
        return None
    minor = interpreter.minor
    others = packages_of_others(view, machine, minor)
    other = _another_by_name(view, machine)
    if other is not None:
        return other
    if not others or not environment.site_packages:
        return None
    numbers = ", ".join(number for number, _ in others)
    evidence = [Evidence.at(site, f"packages for {number}") for number, site in others]
    evidence.append(Evidence.at(interpreter.executable, f"starts {interpreter.version}"))
    names = sorted({package.name for _, site in others for package in installed_in(reader, site)} - _INSTALLERS)
    if 0 < len(names) <= _AT_MOST:
        fix = fixes.install_all(machine, interpreter, names)
    else:
        step = fixes.by_hand("", f"{machine.line([interpreter.executable, '-m', 'pip', 'install'])} NAME")
        fix = Fix(message="", steps=[step])
    message = f"install the packages for Python {minor}"
    offered = [fix.called(message), remove(view, machine).called("remove the environment")]
    message = f"it starts {interpreter.version} and holds packages for {numbers}, which that version does not see"
    return condition("mixed-versions", message, evidence, offered)


def _another_by_name(view: View, machine: Machine) -> Finding | None:
    """Its ``python`` and its ``python3`` start two versions, of which one does not see its packages."""
    reader, interpreter = machine.reader, view.interpreter
    if interpreter is None or reader.kind(interpreter.executable) != "link":
        return None  # a copy of the interpreter, no link: its version is its own
    if not view.environment.site_packages:
        return None  # its packages are of the other version, which the cause base-gone reports
    for executable in islice(executables_of(reader, view.environment.prefix), 2):
        if not reader.may_be_there(executable) or reader.same_path(
            reader.real(executable), interpreter.real_executable
        ):
            continue
        other = interpreter_at(reader, executable)
        if other is None or other.minor == interpreter.minor:
            continue
        evidence = [Evidence.at(started.executable, f"starts {started.version}") for started in (interpreter, other)]
        base = same_minor(view, machine)
        offered = [remake(view, machine, base)] if base is not None else [remove(view, machine)]
        name = reader.name(interpreter.executable)
        message = f"its {name} starts {interpreter.version}, and its {reader.name(executable)} starts {other.version}"
        return condition("mixed-versions", message, evidence, offered)
    return None
