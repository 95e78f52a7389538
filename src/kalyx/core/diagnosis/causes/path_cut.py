"""The folder that holds the module is not on sys.path when Python is started in this way.

How to tell: with that folder on sys.path the module imports.
Fix: start Python so that the folder is searched, or install the project for development.

Example:
    the folder above the script's has combs.py
    asked in heath: import combs

Not this (the file is not there either):
    asked in heath: import combs
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.rerun import with_folder, without_flags, without_variables
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.case import Case, Missing
from kalyx.core.imports.experiment import Experiment
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding

_PROJECT = ("pyproject.toml", "setup.py", "setup.cfg", ".git")

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    missing = case.missing
    if "." in missing and case.resolver.resolve(missing.split(".")[0]).location is not None:
        return None
    searched = {entry.entry or case.resolver.folder for entry in case.search.entries}
    for cut in _left_out(case, machine):
        location = case.resolver.in_folder(cut.folder, missing) if cut.folder not in searched else None
        if location is not None and case.resolver.has_code(location):
            case.propose("path-cut", Experiment(f"with {cut.folder} on the path", put=(cut.folder,)))
            return _finding(case, machine, missing, cut, location.path)
    return None


class _Cut(Struct):
    """A folder that is left out, and why in words; the flag or the variable that does it."""

    folder: str
    reason: str
    flag: str | None = None
    variable: str | None = None


def _left_out(case: Case, machine: Machine) -> list[_Cut]:
    """Folders that Python searches when it is started in another way, and what excludes them here."""
    reader, invocation, stand = machine.reader, case.invocation, case.resolver.folder
    result: list[_Cut] = []
    if invocation.keeps_first_away and invocation.first is not None:
        flag = "-I" if invocation.isolated else "-P"
        folder = reader.within(invocation.first) if invocation.first else stand
        result.append(_Cut(folder, f"the flag {flag} leaves the program's folder out", flag=flag))
    elif invocation.variables.get("PYTHONSAFEPATH"):
        reason = "PYTHONSAFEPATH leaves the program's folder out"
        result.append(_Cut(stand, reason, variable="PYTHONSAFEPATH"))
    if invocation.ignore_variables or invocation.isolated:
        plain = search_path(reader, case.interpreter, Invocation(variables=invocation.variables))
        cut = [entry.entry for entry in plain.entries if entry.put_by == "variable"]
        flag = "-I" if invocation.isolated else "-E"
        result += [_Cut(entry, f"the flag {flag} leaves PYTHONPATH out", flag=flag) for entry in cut]
    if invocation.first is not None and invocation.first != stand:
        result.append(_Cut(stand, "only the script's own folder is searched, not the current folder"))
    library = case.interpreter.library
    if case.search.entries and library not in case.folders:
        result.append(_Cut(library, "the folder of the standard library was taken off sys.path"))
    source = case.seat.source
    if source is not None and source.endswith((".py", ".ipynb")):
        result.append(_Cut(reader.parent(source), "the folder of the file is not the one it runs in"))
    return result + _of_the_project(machine, stand)


def _of_the_project(machine: Machine, stand: str) -> list[_Cut]:
    """The folders from the current one up to the project's root: code that is started in the root finds them."""
    reader, result, folder = machine.reader, list[_Cut](), stand
    for _ in range(4):
        source = reader.join(folder, "src")
        marks = [name for name in _PROJECT if reader.is_there(reader.join(folder, name))]
        # Where a file describes the project, the cause project-not-installed says more.
        if reader.is_folder(source) and marks in ([], [".git"]):
            result.append(_Cut(source, "the sources' folder of the project is not searched by itself"))
        if marks:
            break
        upper = reader.parent(folder)
        if upper in (folder, reader.home) or reader.same_path(folder, reader.home):
            break
        folder = upper
        result.append(_Cut(folder, "only the folder of what runs is searched, not those above it"))
    return result


def _finding(case: Case, machine: Machine, missing: str, cut: _Cut, path: str) -> Finding:
    reader, folder = machine.reader, cut.folder
    # Without such a flag the folder is searched anyway, and with the flag PYTHONPATH says nothing.
    result = [with_folder(machine, case, folder)] if cut.flag not in ("-E", "-I") else []
    root = reader.parent(folder) if reader.name(folder) == "src" else folder
    if any(reader.is_file(reader.join(root, name)) for name in _PROJECT[:2]):
        result += fixes.for_development(machine, case.interpreter, root, "install the project for development")
    if cut.flag is not None:
        result.insert(0, without_flags(machine, case, [cut.flag]))
    elif cut.variable is not None:
        result.insert(0, without_variables(machine, case, [cut.variable]))
    message = f"{missing} is in {folder}, which is not on the path here: {cut.reason}"
    evidence = [
        Evidence.at(path, f"{missing} is here"),
        Evidence(fact=cut.reason, source=f"{len(case.search.entries)} entries searched"),
    ]
    return Finding.proven("path-cut", message, evidence, result)
