"""The module is in the base Python, whose packages this environment does not use.

How to tell: the base Python has the module, and pyvenv.cfg excludes the base's packages.
Fix: install the package into the environment itself.

Example:
    base has hivescale 2.1
    asked in heath: import hivescale

Not this (another environment has it, the base has not):
    orchard has hivescale 2.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import installing
from kalyx.core.environments.found import base_interpreter
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.reading import view_of
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.case import Missing
from kalyx.core.imports.experiment import Experiment
from kalyx.core.imports.resolver import Resolver
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import owner_of

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    interpreter, missing = case.interpreter, case.missing
    if interpreter.prefix == interpreter.base_prefix:
        return None
    view = view_of(machine.reader, interpreter)
    if view.settings is None or view.settings.sees_base:
        return None
    base = base_interpreter(machine.reader, interpreter)
    if base is None:
        return None
    search = search_path(machine.reader, base, Invocation(no_user=True))
    resolver = Resolver(machine.reader, base, search, case.seat.folder or machine.reader.folder)
    location = resolver.resolve(missing).location
    if location is None or location.kind == "namespace" or location.entry not in search.site_packages:
        return None  # a standard module is not hidden by this
    owner = owner_of(machine.reader, search.site_packages, location.path)
    line = view.settings.line("include-system-site-packages")
    switch = f"to see all of the base's packages: write include-system-site-packages = true in {view.settings.path}"
    case.propose("base-hidden", Experiment(f"with the base's {location.entry} on the path", put=(location.entry,)))
    message = f"{missing} is in the base Python ({base.prefix}), whose packages {view.environment.name} does not use"
    evidence = [
        Evidence.at(location.path, f"{missing} is in the base"),
        Evidence.at(
            view.settings.path,
            "include-system-site-packages = " + (view.settings.get("include-system-site-packages") or "false"),
            line,
        ),
    ]
    offered = [
        installing(machine, interpreter, missing, owner),
        Fix(message="let the environment use the base Python's packages", steps=[fixes.by_hand(switch)]),
    ]
    return Finding.proven("base-hidden", message, evidence, offered)
