"""The package's compiled part was never built: only its source is there.

How to tell: its source is there, and no compiled file of any name.
Fix: install the package, which builds the compiled part or downloads it.

Example:
    heath has hivescale 2.1 whose part fast is there as source in C only
    asked in heath: import hivescale.fast

Not this (there is no source of that name):
    heath has hivescale 2.1
    asked in heath: import hivescale.fast
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import asked_here, namesakes, owned, raised_evidence, reinstall
from kalyx.core.imports.case import Failing
from kalyx.core.imports.lacking import lack_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.project import PROJECT_FILES

_SOURCES = (".pyx", ".c", ".cpp", ".cc", ".cxx", ".f90", ".f", ".rs")

LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    subject = case.missing
    if subject is None:
        lack = lack_of(case)
        subject = f"{lack.module}.{lack.name}" if lack is not None else None
    parent, _, stem = (subject or "").rpartition(".")
    if not parent or namesakes(case):
        return None
    reader, location = machine.reader, case.resolver.resolve(parent).location
    source = next(
        (
            path
            for folder in (location.portions if location is not None else [])
            for ending in _SOURCES
            if reader.is_file(path := reader.join(folder, stem + ending))
        ),
        None,
    )
    if source is None or location is None:
        return None
    evidence = [Evidence.at(source, f"the source of {subject} is here, and nothing built from it")]
    evidence += asked_here(case, str(subject)) or raised_evidence(case)
    owner, root = case.owner(location.path), _project_of(machine, source)
    message = "build the extension: install the project for development"
    development = fixes.for_development(machine, case.interpreter, root, message) if root is not None else []
    if development:
        fix = development[0]
    elif owner is not None:
        evidence.append(owned(owner))
        fix = reinstall(machine, case.interpreter, owner, ", built for this Python")
    else:
        fix = Fix(
            message="build the extension", steps=[fixes.by_hand(f"build {source} with {case.interpreter.executable}")]
        )
    message = f"{subject} is a compiled part that was never built here: only its source is there"
    return Finding.proven("not-built", message, evidence, [fix])


def _project_of(machine: Machine, path: str) -> str | None:
    """The project that a source file is in: the nearest folder above that can be installed."""
    reader, folder = machine.reader, machine.reader.parent(path)
    for _ in range(8):
        if any(reader.is_file(reader.join(folder, name)) for name in PROJECT_FILES[:2]):
            return folder
        if reader.parent(folder) == folder or reader.name(folder) in ("site-packages", "dist-packages"):
            return None
        folder = reader.parent(folder)
    return None
