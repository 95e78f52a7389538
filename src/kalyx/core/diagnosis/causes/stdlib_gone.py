"""A standard module removed or renamed by this Python version (Python 2 names too).

How to tell: the name stands in the table of standard modules with the version that took it away, and nothing else on
the path has it.
Fix: the module that took its place; of code that is not your own a release that knows this Python, else an older
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
