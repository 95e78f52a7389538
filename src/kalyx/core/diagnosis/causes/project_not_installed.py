"""The module is this project's own code, and nothing puts the folder that holds it on sys.path.

How to tell: the project's own files say that they build the module, and its folder is not on sys.path.
Fix: install the project for development: pip install -e.

Example:
    the folder's project has combs.py in its src folder
    asked in heath: import combs

Not this (no project's file says that the folder above is one):
    the folder above the script's has combs.py
    asked in heath: import combs
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.rerun import with_folder
from kalyx.core.imports.case import Missing
from kalyx.core.imports.experiment import Experiment
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding
from kalyx.core.packages.project import PROJECT_FILES

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    reader, missing = machine.reader, case.missing
    if "." in missing and case.resolver.resolve(missing.split(".")[0]).location is not None:
        return None
    searched = {entry.entry or case.resolver.folder for entry in case.search.entries}
    folder = case.resolver.folder
    if case.invocation.keeps_first_away and case.invocation.first is not None:
        searched.add(reader.within(case.invocation.first or folder))  # but for the flag it would be: path-cut says so
    for _ in range(6):
        marks = [name for name in PROJECT_FILES if reader.is_file(reader.join(folder, name))]
        if marks:
            for holds in (folder, reader.join(folder, "src")):
                location = case.resolver.in_folder(holds, missing) if holds not in searched else None
                if location is not None and case.resolver.has_code(location):
                    case.propose("project-not-installed", Experiment(f"with {holds} on the path", put=(holds,)))
                    return _finding(case, machine, (folder, marks[0]), holds, location.path)
            return None
        above = reader.parent(folder)
        if above in (folder, reader.home):
            return None
        folder = above
    return None


def _finding(case: Missing, machine: Machine, root: tuple[str, str], holds: str, path: str) -> Finding:
    reader, (folder, mark) = machine.reader, root
    result = []
    if mark != "setup.cfg":
        message = "install the project for development, so that its code is found from everywhere"
        result += fixes.for_development(machine, case.interpreter, folder, message)
    result.append(with_folder(machine, case, holds))
    message = f"{case.missing} is this project's own code, in {holds}, and nothing puts that folder on the path here"
    evidence = [
        Evidence.at(path, f"{case.missing} is here"),
        Evidence.at(reader.join(folder, mark), "the project's own file"),
    ]
    return Finding.proven("project-not-installed", message, evidence, result)
