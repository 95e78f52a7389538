"""The user's own code that is here and not on the path: whether a folder holds it, and running it so."""

from __future__ import annotations

from kalyx.core.findings import remedies
from kalyx.core.imports.case import Case
from kalyx.core.imports.resolver import Place
from kalyx.core.machine import Machine
from kalyx.core.records import Remedy


def has_code(machine: Machine, place: Place) -> bool:
    """A file, or a folder with code of its own."""
    if place.kind != "namespace":
        return True
    return any(name.endswith(".py") for portion in place.portions for name in machine.facts.names(portion))


def run_with(machine: Machine, case: Case, folder: str) -> Remedy:
    """Run it once with a folder searched, nothing changed for others."""
    says = "run it with that folder searched"
    if machine.facts.system == "windows":
        return Remedy(says=says, steps=[remedies.by_hand(f"set PYTHONPATH={folder}")])
    kept = machine.facts.variable("PYTHONPATH")
    value = f"{folder}:{kept}" if kept else folder
    argv = ["env", f"PYTHONPATH={value}", case.interpreter.executable, "-c", case.wanted.statement]
    return Remedy(says=says, steps=[remedies.command(machine, argv)])
