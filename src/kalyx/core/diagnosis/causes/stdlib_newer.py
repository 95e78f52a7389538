"""Only a later Python version has this standard module.

How to tell: the table of standard modules lists the name with a first version newer than this Python.
Fix: install its backport if one exists, or use a newer Python.

Example:
    heath runs Python 3.9
    asked in heath: import tomllib

Not this (no version has it):
    heath runs Python 3.9
    asked in heath: import tomlbook
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared.standard import finding, missing_standard
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    result = missing_standard(case)
    if result is None:
        return None
    module, span = result
    if not span.is_newer(case.interpreter.version):
        return None
    return finding(case, machine, module, span, "stdlib-newer")
