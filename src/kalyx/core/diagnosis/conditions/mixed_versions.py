"""It holds packages for one Python version and starts another.

How to tell: the library folders in the prefix are compared with the version that it starts.
Fix: make the environment anew with the Python that it is to have.

Example:
    heath holds packages for 3.9 beside its own
    asked about heath

Not this (an empty folder of another version is left):
    heath holds an empty folder for 3.9
    asked about heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.conditions import condition, packages_of_others, remove
from kalyx.core.environments.reading import View
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    reader, environment, interpreter = machine.reader, view.environment, view.interpreter
    if interpreter is None or reader.system == "windows" or environment.kind == "installation":
        return None
    minor = interpreter.minor
    others = packages_of_others(machine, environment.prefix, minor)
    if not others or not environment.site_packages:
        return None
    numbers = ", ".join(number for number, _ in others)
    evidence = [Evidence(fact=f"packages for {number}", source=site, path=site) for number, site in others]
    evidence.append(
        Evidence(fact=f"starts {interpreter.version}", source=interpreter.executable, path=interpreter.executable)
    )
    line = f"install what is needed for {minor}: {machine.line([interpreter.executable, '-m', 'pip', 'install'])} NAME"
    mends = [
        Fix(message=f"install the packages for Python {minor}", steps=[fixes.by_hand(line)]),
        remove(view, machine),
    ]
    message = f"it starts {interpreter.version} and holds packages for {numbers}, which that version does not see"
    return condition("mixed-versions", message, evidence, mends)
