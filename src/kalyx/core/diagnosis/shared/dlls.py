"""Which DLL a compiled module of Windows lacks: its loader says only that one of them was not found.

Searched as Python loads an extension module since 3.8: the module's own folder, the folder of the program, the
system's folder, and folders that a package adds (``os.add_dll_directory``); never ``PATH`` (docs.python.org,
``os.add_dll_directory``; Microsoft, "Dynamic-link library search order").
"""

from __future__ import annotations

from kalyx.core.formats.headers import read_header
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.text.patterns import pattern

# API sets, which the system maps to libraries, and the extension API sets.
_VIRTUAL = ("api-ms-", "ext-ms-")
_READ = 300
_PYTHON = pattern(r"python(\d)(\d+)(?:_d)?\.dll")


def missing_dll(case: Case, machine: Machine, paths: list[str]) -> tuple[str, str] | None:
    """The first DLL that one of these files, or a DLL that it loads, lacks, and the file that needs it; else None."""
    reader = machine.reader
    if reader.system != "windows":
        return None
    seen: set[str] = set()
    pending = [(path, reader.parent(path)) for path in paths]
    while pending and len(seen) < _READ:
        path, own = pending.pop(0)
        for library in read_header(reader, path).needed:
            name = library.lower()
            if name in seen or name.startswith(_VIRTUAL):
                continue
            seen.add(name)
            found_at = _path_of(case, machine, library, own)
            if found_at is None:
                return library, path
            if not reader.inside(found_at, _system(machine)):
                pending.append((found_at, own))
    return None


def python_of(case: Case, machine: Machine, paths: list[str]) -> tuple[str, str] | None:
    """The version of the Python whose DLL one of these files needs, and the file; None for the one that runs."""
    for path in paths if machine.reader.system == "windows" else []:
        for library in read_header(machine.reader, path).needed:
            version = _PYTHON.fullmatch(library.lower())
            if version is not None and ".".join(version.groups()) != case.interpreter.minor:
                return ".".join(version.groups()), path
    return None


def _system(machine: Machine) -> str:
    return machine.reader.join(machine.reader.variable("SYSTEMROOT") or "C:\\Windows", "System32")


def _path_of(case: Case, machine: Machine, library: str, own: str) -> str | None:
    """The path of a DLL in the folders that are searched; those that packages add count as searched."""
    reader = machine.reader
    folders = [own, case.interpreter.base_prefix, reader.join(case.interpreter.base_prefix, "DLLs"), _system(machine)]
    folders += [reader.join(site, name) for site in case.sites for name in reader.names(site) if name.endswith(".libs")]
    paths = [reader.join(folder, library) for folder in folders]
    # A folder that this user may not list may have it.
    return next((path for path in paths if reader.is_file(path) or reader.refusal(path) is not None), None)
