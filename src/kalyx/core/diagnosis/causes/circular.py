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
from kalyx.core.diagnosis.shared.brought import brought_by
from kalyx.core.diagnosis.shared.failing import owned, raised_evidence
from kalyx.core.diagnosis.shared.loops import loop_of
from kalyx.core.imports.case import Raising
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, ImportAnswer, Interpreter

LOOKS_AT = "raising"


def look(case: Raising, machine: Machine) -> Finding | None:
    loop = loop_of(case)
    if not loop or (len(loop) == 1 and case.resolution.others):
        return None  # a file before another of its name is the cause shadowed
    if len(loop) == 1 and case.owner(loop[0].file) is None:
        return _of_one(machine, case.interpreter, loop[0].file, loop[0].line, raised_evidence(case))
    reader = machine.reader
    names = [reader.name(frame.file) for frame in loop] + [reader.name(loop[0].file)]
    evidence = [Evidence(fact=" → ".join(dict.fromkeys(names)) + f" → {names[-1]}", source="the trial's frames")]
    for frame, following in zip(loop, [*loop[1:], loop[0]], strict=True):
        fact = f"asks for {reader.name(following.file)}"
        evidence.append(Evidence.at(frame.file, fact, frame.line))
    evidence += raised_evidence(case)
    last = loop[-1]
    owner = case.owner(last.file)
    line = f"in {last.file}, move line {last.line} into the function that uses it"
    fix = Fix(message="import it later", steps=[fixes.by_hand(line)], changes=[last.file])
    if owner is not None:
        evidence.append(owned(owner))
        fix = fixes.install(machine, case.interpreter, owner.name, "--upgrade")
        fix = fix.called(f"upgrade {owner.name}: a newer release may import in another order")
    message = f"{names[0]} imports itself while it is still loading, through {names[-2]}"
    return Finding.proven("circular", message, evidence, [fix])


def by_itself(machine: Machine, interpreter: Interpreter, answer: ImportAnswer) -> Finding:
    """A script has the name of the module that it imports, and nothing else answers to that name."""
    location = answer.asked_at[0]
    return _of_one(machine, interpreter, location.path, location.line, [])


def _of_one(machine: Machine, interpreter: Interpreter, path: str, line: int | None, raised: list[Evidence]) -> Finding:
    name = machine.reader.name(path)
    top = name.removesuffix(".py")
    by_hand = fixes.by_hand(f"in {path}, take the import of {top} out: a file cannot import from itself")
    offered = [Fix(message="take the import out", steps=[by_hand], changes=[path])]
    known = brought_by(machine, top)
    if known is not None:
        aside = fixes.rename(machine, path, fixes.free_name(machine, path))
        brings = fixes.install(machine, interpreter, known.name)
        message = f"rename it, and install {known.name}, which provides the {top} that most code means"
        offered.insert(0, Fix(message=message, steps=[*aside.steps, *brings.steps],
                            changes=[*aside.changes, *brings.changes], state=aside.state))  # fmt: skip
    message = f"{name} imports itself: its own name is that of the module it asks for"
    evidence = [Evidence.at(path, f"import {top} finds this very file", line), *raised]
    return Finding.proven("circular", message, evidence, offered)
