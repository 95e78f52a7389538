"""Metadata says that the package is installed, and the files that the metadata lists do not exist.

How to tell: RECORD lists files that do not exist.
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
from kalyx.core.diagnosis.shared.failing import reinstall
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import Install, Move
from kalyx.core.packages.metadata import Installed
from kalyx.core.text.names import canonical

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    subject = _subject(case)
    if subject is None:
        return _data_file_gone(case, machine)
    installed = machine.distribution_of_module(subject, case.sites)
    if installed is None:
        return _set_aside(case, machine, subject)
    lost = lost_files(machine, installed, subject.split(".")[0])
    if not lost:
        return None
    return _finding(case, machine, installed, lost)


def _finding(case: Case, machine: Machine, installed: Installed, lost: list[str]) -> Finding:
    first = machine.reader.join(installed.site, *lost[0].split("/"))
    record = machine.reader.join(installed.path, "RECORD" if installed.is_wheel else "installed-files.txt")
    are = "is" if len(lost) == 1 else "are"
    message = f"{installed.name} {installed.version} counts as installed, but {len(lost)} of its files {are} gone"
    evidence = [
        Evidence.at(installed.path, f"{installed.name} {installed.version}: metadata is here"),
        Evidence(fact=f"its record lists {lost[0]}, which is not there", source=f"nothing at {first}", path=record),
    ]
    return Finding.proven("gutted", message, evidence, [reinstall(machine, case.interpreter, installed)])


def _data_file_gone(case: Case, machine: Machine) -> Finding | None:
    """Code opens a file of a package that its record lists, and the file is not there."""
    raised = case.raised
    path = raised.file if raised is not None and raised.type == "FileNotFoundError" else None
    if path is None or not machine.reader.path.isabs(path) or machine.reader.exists(path):
        return None
    path = str(machine.reader.path.normpath(path))
    owner = case.owner(path)
    if owner is None:
        return None
    return _finding(case, machine, owner, [machine.reader.path.relpath(path, owner.site).replace("\\", "/")])


def _set_aside(case: Case, machine: Machine, subject: str) -> Finding | None:
    """An installer moves what it replaces to a name that begins with "~"; one that is stopped then leaves that name."""
    reader, top = machine.reader, subject.split(".")[0]
    for site in case.sites:
        for name in reader.names(site):
            if not _stands_for(name.removesuffix(".py"), top):
                continue
            path = reader.join(site, name)
            record = _record_set_aside(machine, site, top)
            fix = fixes.unknown_here(top)  # the module's name need not be the distribution's
            if record is not None:
                fix = _back(case, machine, record)
            message = f"an installer that was stopped left {top} as {name}, under which nothing imports it"
            evidence = [Evidence.at(path, f"{top} has the name {name} here")]
            return Finding.proven("gutted", message, evidence, [fix])
    return None


def _stands_for(name: str, first: str) -> bool:
    """Whether an installer gave this name to something that is called ``first``: as long, and another beginning."""
    left = name.lstrip("-~.=%0123456789")
    return name.startswith("~") and len(name) == len(first) and bool(left) and first.endswith(left)


def _record_set_aside(machine: Machine, site: str, top: str) -> Installed | None:
    """The metadata that was set aside with a module, where its own name or its record says so."""
    for name in machine.reader.names(site):
        if name.startswith("~") and name.endswith(".dist-info"):
            record = Installed(machine.reader, site, name)
            files = record.files or []
            if canonical(record.name) == canonical(top) or any(file.split("/")[0] == top for file in files):
                return record
    return None


def _back(case: Case, machine: Machine, record: Installed) -> Fix:
    """Everything gets its own name again, then the same version is installed.

    An installer that reads the metadata under both names takes the package for one that is not installed.
    """
    reader, site = machine.reader, record.site
    requirement = f"{record.name}=={record.stem_version}"
    fix = fixes.install(machine, case.interpreter, requirement)
    tops = dict.fromkeys(file.split("/")[0] for file in record.files or [])
    aside = {top: name for top in tops for name in reader.names(site) if _stands_for(name, top)}
    paths = {reader.join(site, name): reader.join(site, top) for top, name in aside.items()}
    movable = isinstance(fix.steps[-1], Install) and record.entry in aside.values()
    movable = movable and all(not reader.may_be_there(to) for to in paths.values())
    if not movable or any(fixes.not_the_users_own(machine, path) is not None for path in paths):
        return fix.called("install it again")
    fix = fixes.install(machine, case.interpreter, requirement, "--force-reinstall", "--no-deps")
    moves = (fixes.step(machine, Move(path=path, to=to)) for path, to in paths.items())
    message = "give its files their names again, and reinstall the same version"
    return fix.called(message).with_steps(*moves, *fix.steps)


def _subject(case: Case) -> str | None:
    """The module whose files may be gone: the missing one, or one that only an empty folder answers to."""
    if case.missing is not None:
        return case.missing
    if case.raised is not None and case.raised.import_error and case.raised.name:
        return case.raised.name
    location = case.resolution.location
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
