"""The source needs a later Python than this one.

How to tell: a newer Python on this machine compiles the file, and this one does not.
Fix: install a release of the package for this Python, or use the newer Python.

Example:
    heath has hivescale 2.1 whose source needs Python 3.12
    asked in heath: import hivescale

Not this (its source is for Python 2):
    heath has hivescale 2.1 whose source is for Python 2
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared import syntax as _syntax
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding

PRECEDES = {"circular": "a file that does not parse leaves those that ask for it half loaded"}

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    judged = _syntax.judge(case, machine)
    if judged is None or judged.newer is None:
        return None
    return _syntax.finding(case, machine, judged, "syntax-newer", judged.newer)
