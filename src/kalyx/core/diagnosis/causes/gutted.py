"""Metadata says that it is installed, and the files it lists are not there.

How to tell: the record lists files, and they are not there.
Fix: install the same version again.

Example:
    heath has hivescale 2.1 without its files
    asked in heath: import hivescale

Not this (it was never installed here):
    orchard has hivescale 2.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding
from kalyx.core.packages.metadata import Installed

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    subject = _subject(case)
    if subject is None:
        return None
    installed = machine.distribution_of_module(subject, case.sites)
    if installed is None:
        return None
    lost = lost_files(machine, installed, subject.split(".")[0])
    if not lost:
        return None
    first = machine.reader.join(installed.site, *lost[0].split("/"))
    record = machine.reader.join(installed.path, "RECORD" if installed.is_wheel else "installed-files.txt")
    requirement = f"{installed.name}=={installed.version}"
    mend = fixes.install(machine, case.interpreter, requirement, "--force-reinstall", "--no-deps")
    mend.message = "reinstall the same version"
    return Finding(
        cause="gutted",
        certainty="proven",
        message=f"{installed.name} {installed.version} counts as installed, but {len(lost)} of its files are gone",
        evidence=[
            Evidence(fact=f"{installed.name} {installed.version}: metadata is here", source=installed.path,
                     path=installed.path),
            Evidence(fact=f"its record lists {lost[0]}, which is not there", source=f"nothing at {first}", path=record),
        ],
        fixes=[mend],
    )  # fmt: skip


def _subject(case: Case) -> str | None:
    """The module whose files may be gone: the missing one, or one that only an empty folder answers to."""
    if case.missing is not None:
        return case.missing
    if case.raised is not None and case.raised.import_error and case.raised.name:
        return case.raised.name
    location = case.resolution.place
    if location is not None and location.kind == "namespace":
        return case.module
    return None


def lost_files(machine: Machine, installed: Installed, top: str) -> list[str]:
    """Importable files of a top-level module that the record lists and that are not there."""
    reader = machine.reader
    result = []
    for file in installed.files or []:
        first = file.split("/")[0]
        if (first == top or first.split(".")[0] == top) and file.endswith((".py", ".so", ".pyd")):
            if not reader.exists(reader.join(installed.site, *file.split("/"))):
                result.append(file)
    return result
