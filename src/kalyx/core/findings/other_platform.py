"""Its compiled part is for another operating system, processor or C library.

Has it:
    heath has hivescale 2.1 whose compiled part is for Windows
    asked in heath: import hivescale._core

Only looks like it (the compiled part is for another Python version):
    heath has hivescale 2.1 whose compiled part is for Python 3.8
    asked in heath: import hivescale._core
"""

from __future__ import annotations

from kalyx.core.binaries.fitting import foreign
from kalyx.core.facts import Evidence, Finding, Remedy
from kalyx.core.findings import remedies
from kalyx.core.findings._failing import built_for, compiled_of, reinstall
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine

YIELDS_TO = ("damaged", "name-misleads")


def look(case: Case, machine: Machine) -> Finding | None:
    interpreter = case.interpreter
    if interpreter is None or (case.trial is not None and case.trial.imports):
        return None
    for path in compiled_of(case):
        reason = foreign(machine.facts, interpreter, path)
        if reason is None:
            continue
        evidence = [Evidence(fact=f"its header says it is {reason}", source=path, path=path)]
        owner = case.owner(path)
        evidence += built_for(machine, owner)
        mend = Remedy(says="build it for this system", steps=[remedies.by_hand(f"build {path} on this system")])
        return Finding(
            cause="other-platform",
            certainty="proven",
            says=f"{machine.facts.name(path)} is {reason}",
            evidence=evidence,
            remedies=[
                reinstall(machine, interpreter, owner, ", the build for this Python and this system")
                if owner is not None
                else mend
            ],
        )
    return None
