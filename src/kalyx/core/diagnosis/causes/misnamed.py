"""The imported name is a distribution's name; its module has another name.

How to tell: metadata has the name as a distribution's name, and lists the module that it provides.
Fix: import the module by its own name.

Example:
    heath has pollen-kit 1.0 as pollenkit
    asked in heath: import pollen_kit

Not this (the module has the distribution's name):
    orchard has pollenkit 1.0
    asked in heath: import pollenkit
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import distributions_named, is_well_known, modules_of_listed, table_modules
from kalyx.core.imports.case import Case, Missing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    missing = case.missing
    if "." in missing or not case.missing_is_asked:
        return None
    here = [(i, e) for i, e in distributions_named(machine, missing) if i.site in case.sites]
    everywhere = here or distributions_named(machine, missing)
    for installed, environment in everywhere:
        modules = [name for name in installed.modules if not name.startswith("_")]
        if not modules or missing in modules:
            continue
        fact = f"{installed.name} {installed.version} in {environment.name} provides {', '.join(modules[:4])}"
        evidence = [Evidence.at(installed.path, fact)]
        return _finding(case, machine, installed.name, modules[0], evidence, bool(here))
    # A listed distribution of this name installs a module of the same name too.
    listed = [] if is_well_known(missing) else [name for name in modules_of_listed(missing) if not name.startswith("_")]
    if listed:
        evidence = [Evidence(fact=f"{missing} provides {listed[0]}", source="Kalyx's table of well-known names")]
        return _finding(case, machine, table_modules()[listed[0]], listed[0], evidence, False)
    return None


def _finding(
    case: Case, machine: Machine, distribution: str, module: str, evidence: list[Evidence], is_here: bool
) -> Finding:
    write = fixes.write(f"import {module}")
    offered = [Fix(message="import the module by its own name", steps=[write])]
    if not is_here:
        first = fixes.install(machine, case.interpreter, distribution)
        first = first.called("install it, and import the module by its own name")
        offered = [first.with_steps(*first.steps, write)]
    message = f"{case.missing} is the name of a distribution; the module in it is called {module}"
    return Finding.proven("misnamed", message, evidence, offered)
