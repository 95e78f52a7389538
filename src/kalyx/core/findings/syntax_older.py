"""Its source is for Python 2 or an old Python 3.

Has it:
    heath has hivescale 2.1 whose source is for Python 2
    asked in heath: import hivescale

Only looks like it (its source needs a later Python):
    heath has hivescale 2.1 whose source needs Python 3.12
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.facts import Finding
from kalyx.core.findings import syntax_newer
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine

YIELDS_TO = ("damaged", "shadowed", "name-misleads", "syntax-newer", "other-build", "other-platform", "unmet", "gutted")


def look(case: Case, machine: Machine) -> Finding | None:
    judged = syntax_newer.judge(case, machine)
    if judged is None or judged.newer is not None or judged.older is None:
        return None
    return syntax_newer.finding(case, machine, judged, "syntax-older", judged.older)
