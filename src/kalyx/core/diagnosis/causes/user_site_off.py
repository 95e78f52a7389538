"""The module is among the user's own packages, which this interpreter does not search.

How to tell: the module is in the user's own packages, and a flag, a variable or the environment excludes these.
Fix: install the package into the environment, or start without the flag.

Example:
    the user has hivescale 2.1
    asked in heath: import hivescale

Not this (another environment has it):
    orchard has hivescale 2.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared.brought import installing
from kalyx.core.diagnosis.shared.rerun import without_flags, without_variables
from kalyx.core.environments.searchpath import is_switched_on, user_site
from kalyx.core.imports.case import Case, Missing
from kalyx.core.imports.experiment import Experiment
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import owner_of

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    missing, interpreter, invocation = case.missing, case.interpreter, case.invocation
    reader = machine.reader
    folder = user_site(reader, interpreter, invocation.variables)
    if folder in case.sites or not reader.is_folder(folder):
        return None
    location = case.resolver.in_folder(folder, missing)
    if location is None or location.kind == "namespace":
        return None
    owner = owner_of(reader, [folder], location.path)
    reason, source, offered = _reason(case, machine)
    install = installing(machine, interpreter, missing, owner, exact=True)
    case.propose("user-site-off", Experiment(f"with {folder} on the path", put=(folder,)))
    message = f"{missing} is among your own packages, which this interpreter does not search: {reason}"
    evidence = [
        Evidence.at(location.path, f"{missing} is in your own packages"),
        Evidence(fact=reason, source=source, path=source if reader.is_file(source) else None),
    ]
    offered = [*offered, install] if owner is not None else offered or [install]
    return Finding.proven("user-site-off", message, evidence, offered)


def _reason(case: Case, machine: Machine) -> tuple[str, str, list[Fix]]:
    """What excludes the user's packages, where that is written, and the smallest change that includes them again."""
    assert case.environment is not None
    reader, invocation, interpreter = machine.reader, case.invocation, case.interpreter
    if interpreter.prefix != interpreter.base_prefix and not case.environment.sees_base:
        settings = reader.join(case.environment.prefix, "pyvenv.cfg")
        return "a virtual environment sees only its own", settings, []
    value = invocation.variables.get("PYTHONNOUSERSITE")
    if value and is_switched_on(value, interpreter):
        fix = without_variables(machine, case, ["PYTHONNOUSERSITE"])
        return f"PYTHONNOUSERSITE is {value}", "the variables of this seat", [fix]
    flag = next((word for word in ("-I", "-s", "-S") if word in invocation.flags), None)
    if flag is not None:
        fix = without_flags(machine, case, [flag])
        return f"the flag {flag} leaves them out", "the command line", [fix]
    return "they are not on its path", interpreter.executable, []
