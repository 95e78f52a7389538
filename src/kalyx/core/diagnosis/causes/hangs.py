"""The import does not end within the time limit.

How to tell: the trial import did not end within the limit, and was stopped.
Fix: run with faulthandler to see where the import waits; if it is only slow, give a longer --timeout.

Example:
    heath has hivescale 2.1 that never ends its import
    asked in heath: import hivescale

Not this (it raises at once):
    heath has hivescale 2.1 that raises on import
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.imports.case import Tried, is_in_a_file
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix

LOOKS_AT = "tried"


def look(case: Tried, machine: Machine) -> Finding | None:
    trial = case.failed
    if not trial.timed_out:
        return None
    evidence = [Evidence(fact=f"no answer within {machine.seconds:g} seconds", source="the trial")]
    own = [frame for frame in trial.stack if is_in_a_file(frame)]
    for frame in own[:3]:
        fact = f"it waits in {frame.function}" if frame is own[0] else f"called from {frame.function}"
        evidence.append(Evidence.at(frame.file, fact, frame.line))
    line = machine.line([case.command[0], "-X", "faulthandler", *case.command[1:]])
    message = f"importing {case.module} did not end within {machine.seconds:g} seconds"
    offered = [Fix(message="see where it waits", steps=[fixes.by_hand("run this, and interrupt the run", line)])]
    return Finding.proven("hangs", message, evidence, offered)
