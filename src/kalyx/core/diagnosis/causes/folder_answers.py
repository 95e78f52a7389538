"""A plain folder without __init__ answers as a namespace package, so the import "works" and has nothing in it.

How to tell: the folder that answers has no code of its own, and a real copy comes later on sys.path or is elsewhere.
Fix: rename the folder, or start in another folder; install the package that is meant.

Example:
    the folder has a folder hivescale without code in it
    asked in heath: import hivescale

Not this (the folder holds modules, as a namespace package does):
    the folder has a folder hivescale with modules in it
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import brought_by
from kalyx.core.diagnosis.shared.failing import raised_evidence
from kalyx.core.imports.case import Case
from kalyx.core.imports.resolver import Location
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding
from kalyx.core.packages.metadata import Installed
from kalyx.core.system import Reader

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    location = _plain_folder(case)
    if location is None:
        return None
    reader, top = machine.reader, case.module.split(".")[0]
    inner = reader.join(location.path, top)
    doubled = reader.is_file(reader.join(inner, "__init__.py"))
    code = [name for name in reader.names(location.path) if name.endswith((".py", ".so", ".pyd"))]
    code = [name for name in code if name not in ("setup.py", "conftest.py", "manage.py")]
    if not doubled and reader.inside(reader.folder, location.path):
        return None  # the user stands in it: it is the project's own folder, and no package was meant to be there
    folders = [
        name
        for name in reader.names(location.path)
        if reader.is_folder(reader.join(location.path, name)) and name.isidentifier()
    ]
    is_project = any(reader.is_file(reader.join(location.path, name)) for name in ("setup.py", "pyproject.toml"))
    if (
        not doubled
        and not is_project
        and (code or (folders and case.raised is None and _has_code(machine, location.path, folders)))
    ):
        return None
    evidence = [Evidence.at(location.path, f"{top} is this plain folder, without __init__")]
    if doubled:
        evidence.append(Evidence.at(inner, f"the package itself lies one folder further down: {top}"))
    evidence += raised_evidence(case)
    is_left = location.entry in case.sites
    known = brought_by(machine, top)
    if known is not None:
        evidence.append(Evidence(fact=f"the package {known.name} provides {top}", source=known.source, path=known.path))
    offered = [fixes.rename(machine, location.path, fixes.free_name(machine, location.path))]
    if is_left:
        offered = [fixes.unknown_here(top)]
    if doubled and is_project:
        message = "install the project for development"
        offered = fixes.for_development(machine, case.interpreter, location.path, message) + offered
    elif known is not None and _installed_here(case, machine, known.name) is None:
        offered = [fixes.install(machine, case.interpreter, known.name)]
    message = f"only the plain folder {location.path} answers to {top}"
    if is_left:
        message = f"of {top} only the folder {location.path} is left, without code"
    return Finding.proven("folder-answers", f"{message}: the import works and finds nothing in it", evidence, offered)


def _plain_folder(case: Case) -> Location | None:
    """The namespace portion that answers to the top-level name: in front, or without any code among the packages."""
    location = case.resolver.resolve(case.module.split(".")[0]).location
    if location is None or location.kind != "namespace" or len(location.portions) != 1:
        return None
    if case.raised is not None and case.missing is not None and not case.missing_is_asked:
        return None
    fronts = [entry for number, entry in enumerate(case.search.entries) if entry.put_by == "variable" or number == 0]
    if location.entry in [entry.entry or case.resolver.folder for entry in fronts]:
        return location
    return location if location.entry in case.sites and not _holds_code(case.resolver.reader, location.path) else None


def _holds_code(reader: Reader, folder: str, depth: int = 4) -> bool:
    """Whether an import can find anything in a folder or below."""
    for name in reader.listing(folder):
        path = reader.join(folder, name)
        if name.endswith((".py", ".pyi", ".pyc", ".so", ".pyd")):
            return True
        if name != "__pycache__" and reader.is_folder(path) and (depth == 0 or _holds_code(reader, path, depth - 1)):
            return True
    return False


def _has_code(machine: Machine, path: str, folders: list[str]) -> bool:
    return any(
        name.endswith((".py", ".so", ".pyd"))
        for folder in folders
        for name in machine.reader.names(machine.reader.join(path, folder))
    )


def _installed_here(case: Case, machine: Machine, name: str) -> Installed | None:
    return next(
        (distribution for distribution in machine.installed(case.sites) if distribution.name.lower() == name.lower()),
        None,
    )
