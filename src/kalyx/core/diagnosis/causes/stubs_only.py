"""Only the package's type stubs are installed: they describe it for a type checker and hold no code.

How to tell: the folder that is found holds only stub files (.pyi).
Fix: install the package itself too.

Example:
    heath has the stubs of hivescale
    orchard has hivescale 2.1
    asked in heath: import hivescale

Not this (there are no stubs either):
    orchard has hivescale 2.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import brought_by
from kalyx.core.diagnosis.shared.failing import owned
from kalyx.core.imports.case import Failing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding

LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    reader = machine.reader
    top = (case.missing or case.module).split(".")[0]
    location = case.resolver.resolve(top).location
    if location is not None and location.kind != "namespace":
        return None
    # A stub package (PEP 561), or a folder of the module's name that has only stubs.
    folders = [reader.join(site, top + "-stubs") for site in case.sites]
    folders += location.portions if location is not None else []
    folder = next((folder for folder in folders if _holds_only_stubs(machine, folder)), None)
    if folder is None:
        return None
    evidence = [Evidence.at(folder, f"it holds stubs of {top}, and no code")]
    owner = next(
        (
            distribution
            for distribution in machine.installed(case.sites)
            if any(_is_of(file, reader.name(folder)) for file in distribution.files or ())
        ),
        None,
    )
    if owner is not None:
        evidence.append(owned(owner))
    known = brought_by(machine, top, case.environment.key if case.environment is not None else None)
    if known is not None:
        evidence.append(Evidence(fact=f"the package {known.name} provides {top}", source=known.source, path=known.path))
        fix = fixes.install(machine, case.interpreter, known.name)
    else:
        fix = fixes.unknown_here(top)
    message = f"of {top} only type stubs are installed here{f' ({owner.name})' if owner else ''}: they hold no code"
    return Finding.proven("stubs-only", message, evidence, [fix])


def _is_of(file: str, folder: str) -> bool:
    return file.replace("\\", "/").startswith(folder + "/")


def _holds_only_stubs(machine: Machine, folder: str) -> bool:
    names = machine.reader.names(folder)
    return any(name.endswith(".pyi") for name in names) and not any(
        name.endswith((".py", ".pyc", ".so", ".pyd")) for name in names
    )
