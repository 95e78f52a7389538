"""The source is for Python 2 or an old Python 3.

How to tell: an older Python on this machine compiles the file, or the statement is one of Python 2.
Fix: install a release for this Python; in your own file, rewrite the line.

Example:
    heath has hivescale 2.1 whose source is for Python 2
    asked in heath: import hivescale

Not this (its source needs a later Python):
    heath has hivescale 2.1 whose source needs Python 3.12
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared import syntax as _syntax
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    judged = _syntax.judge(case, machine)
    if judged is None or judged.newer is not None or judged.older is None:
        return None
    return _syntax.finding(case, machine, judged, "syntax-older", judged.older)
