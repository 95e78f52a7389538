"""It holds packages for one Python version and starts another.

Has it:
    heath holds packages for 3.9 beside its own
    asked about heath

Only looks like it (an empty folder of another version is left):
    heath holds an empty folder for 3.9
    asked about heath
"""

from __future__ import annotations

from kalyx.core.environments.reading import View
from kalyx.core.findings import remedies
from kalyx.core.findings._conditions import condition, remove
from kalyx.core.machine import Machine
from kalyx.core.records import Evidence, Finding, Remedy

YIELDS_TO = ("half-made", "base-gone", "moved", "unreadable")


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    facts, environment, interpreter = machine.facts, view.environment, view.interpreter
    if interpreter is None or facts.system == "windows" or environment.kind == "installation":
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
    mends = [Remedy(says=f"fill it for {minor}", steps=[remedies.by_hand(line)]), remove(view, machine)]
    says = f"it starts {interpreter.version} and holds packages for {numbers}, which that version does not see"
    return condition("mixed-versions", says, evidence, mends)


def packages_of_others(machine: Machine, prefix: str, minor: str) -> list[tuple[str, str]]:
    """Other versions that have packages in this prefix: the version and its site folder."""
    facts = machine.facts
    library = facts.join(prefix, "lib")
    found = []
    for name in facts.names(library):
        number = name.removeprefix("python").rstrip("t")
        if (
            not name.startswith("python")
            or number == minor
            or not number.replace(".", "").isdigit()
            or "." not in number
        ):
            continue
        site = facts.join(library, name, "site-packages")
        if any(entry.endswith((".dist-info", ".egg-info")) for entry in facts.names(site)):
            found.append((number, site))
    return found
