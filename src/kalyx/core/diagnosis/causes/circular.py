"""The module imports itself while it is still loading.

How to tell: the traceback passes through the same module twice while it is half loaded.
Fix: move the import into the function that needs it, or the shared name into a third module.

Example:
    heath has hivescale 2.1 whose two modules ask for each other
    asked in heath: import hivescale

Not this (the name was never there):
    heath has hivescale 2.1
    asked in heath: from hivescale import old_weights
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import owned, raised_evidence
from kalyx.core.diagnosis.shared.loops import loop_of
from kalyx.core.imports.case import Raising
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix

LOOKS_AT = "raising"


def look(case: Raising, machine: Machine) -> Finding | None:
    loop = loop_of(case)
    if not loop:
        return None
    reader = machine.reader
    names = [reader.name(frame.file) for frame in loop] + [reader.name(loop[0].file)]
    evidence = [Evidence(fact=" → ".join(dict.fromkeys(names)) + f" → {names[-1]}", source="the trial's frames")]
    for frame, following in zip(loop, [*loop[1:], loop[0]], strict=True):
        fact = f"asks for {reader.name(following.file)}"
        evidence.append(Evidence(fact=fact, source=frame.file, path=frame.file, line=frame.line))
    evidence += raised_evidence(case)
    last = loop[-1]
    owner = case.owner(last.file)
    if owner is not None:
        evidence.append(owned(owner))
        mend = fixes.install(machine, case.interpreter, owner.name, "--upgrade")
        mend.message = f"upgrade {owner.name}: a newer release may import in another order"
        mends = [mend]
    else:
        line = f"in {last.file}, move line {last.line} into the function that uses it"
        mends = [Fix(message="import it later", steps=[fixes.by_hand(line)], changes=[last.file])]
    return Finding(
        cause="circular",
        certainty="proven",
        message=f"{names[0]} imports itself while it is still loading, through {reader.name(last.file)}",
        evidence=evidence,
        fixes=mends,
    )
