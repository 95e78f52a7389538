"""The standard module was removed or renamed in this Python version (also names of Python 2).

How to tell: the table of standard modules lists the name with the version that removed it, and nothing else on
sys.path has it.
Fix: use the module that replaced it; for a package, install a release that supports this Python, or use an older
Python.

Example:
    asked in heath: import urllib2

Not this (this version has it):
    asked in heath: import distutils
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
    if not span.is_gone(case.interpreter.version):
        return None
    return finding(case, machine, module, span, "stdlib-gone")
