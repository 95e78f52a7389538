"""The interpreter process ends while it imports the module.

How to tell: the process of the trial import ended by a signal or a status of its own.
Fix: run with faulthandler to see which package crashes; install a release of that package for this Python.

Example:
    heath has hivescale 2.1 that kills its interpreter
    asked in heath: import hivescale

Not this (it raises, and the interpreter lives):
    heath has hivescale 2.1 that raises on import
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import reinstall
from kalyx.core.imports.case import Case, Tried, is_in_a_file
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.text.numbers import exit_status

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "tried"


def look(case: Tried, machine: Machine) -> Finding | None:
    trial = case.failed
    if trial.answered or trial.timed_out:
        return None
    status = exit_status(trial.status, machine.reader.system)
    how = f"ended by {trial.signal}" if trial.signal else f"ended with status {status}"
    if trial.problem:
        how = trial.problem
    lines = [line for line in trial.output.splitlines() if line.strip()]
    evidence = [Evidence(fact=f"the interpreter {how} and gave no answer", source="the trial")]
    if lines and not trial.stack:
        evidence.append(Evidence(fact=lines[-1][:300], source="its last words on standard error"))
    location = case.resolution.location
    stood = next((frame for frame in trial.stack if is_in_a_file(frame)), None)
    if stood is not None:
        evidence.append(Evidence.at(stood.file, "it died here", stood.line))
    owner = case.owner(stood.file) if stood is not None else None
    owner = owner or (case.owner(location.path) if location is not None else None)
    if owner is not None:
        fix = reinstall(machine, case.interpreter, owner)
    else:
        fix = Fix(message="look at its last output", steps=[fixes.by_hand("", _line(case, machine))])
    return Finding.proven("crashes", f"the interpreter dies while importing {case.module}", evidence, [fix])


def _line(case: Case, machine: Machine) -> str:
    return machine.line([case.command[0], "-X", "faulthandler", *case.command[1:]])
