"""The package is in this prefix, or among the user's own packages, in the folder of another Python version.

How to tell: the module is in the folder of another minor version below this prefix, and not in this version's folder.
Fix: install the package for the Python that runs, or run the Python that the package was installed for.

Example:
    heath holds hivescale 2.1 for 3.9 beside its own
    asked in heath: import hivescale

Not this (it is in another prefix):
    orchard has hivescale 2.1
    asked in heath: import hivescale
"""

from __future__ import annotations

import re

from kalyx.core.diagnosis.shared.brought import installing
from kalyx.core.environments.searchpath import user_site
from kalyx.core.imports.case import Case, Missing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding
from kalyx.core.packages.metadata import owner_of

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    missing, interpreter = case.missing, case.interpreter
    own = interpreter.minor
    reader = machine.reader
    for version, folder in _folders(case, machine):
        if version == own or not reader.is_folder(folder):
            continue
        location = case.resolver.in_folder(folder, missing)
        if location is None or location.kind == "namespace":
            continue
        owner = owner_of(reader, [folder], location.path)
        evidence = [
            Evidence.at(location.path, f"{missing} is in the folder of Python {version}"),
            Evidence.at(interpreter.executable, f"this interpreter is {interpreter.version}"),
        ]
        message = f"{missing} is installed here for Python {version}, and this is {own}"
        return Finding.proven("other-minor", message, evidence, [installing(machine, interpreter, missing, owner)])
    return None


def _folders(case: Case, machine: Machine) -> list[tuple[str, str]]:
    """The package folders of other versions: in this prefix, and of the user; with their versions, the newest first."""
    reader, folders = machine.reader, []
    prefix = case.environment.prefix if case.environment is not None else case.interpreter.prefix
    roots: list[tuple[str, tuple[str, ...]]] = [
        (reader.join(prefix, name), ("site-packages", "dist-packages")) for name in ("lib", "lib64", "local/lib")
    ]
    own = user_site(reader, case.interpreter, case.invocation.variables)
    if reader.system == "linux" and prefix == case.interpreter.base_prefix:
        roots.append((reader.parent(reader.parent(own)), ("site-packages",)))
    for root, names in roots:
        for name in reader.names(root):
            match = re.fullmatch(r"python(\d\.\d+)", name)
            if match is not None:
                folders += [(match[1], reader.join(root, name, inner)) for inner in names]
    return sorted(folders, key=lambda pair: [int(part) for part in pair[0].split(".")], reverse=True)
