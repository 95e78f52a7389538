"""A standard module that only a later Python version has.

Has it:
    heath runs Python 3.9
    asked in heath: import tomllib

Only looks like it (no version has it):
    heath runs Python 3.9
    asked in heath: import tomlbook
"""

from __future__ import annotations

from kalyx.core.facts import Finding
from kalyx.core.findings import stdlib_gone
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine

YIELDS_TO = ("name-misleads", "shadowed", "syntax-newer", "startup-broken", "unmet")


def look(case: Case, machine: Machine) -> Finding | None:
    found = stdlib_gone.missing_standard(case)
    if found is None or case.interpreter is None:
        return None
    module, span = found
    if not span.is_newer(case.interpreter.version):
        return None
    return stdlib_gone.finding(case, machine, module, span, "stdlib-newer")
