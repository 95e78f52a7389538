"""A start-up hook fails or does not end, or PYTHONHOME or PYTHONPATH belongs to another Python.

How to tell: without the variable or the hook the module imports.
Fix: remove the variable, or correct the hook.

Example:
    PYTHONHOME is /nowhere
    asked in heath: import json

Not this (it is set, and the interpreter starts):
    asked in heath: import json
"""

from __future__ import annotations

import re

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.difference import decisive
from kalyx.core.diagnosis.shared.failing import raised_evidence, set_here
from kalyx.core.diagnosis.shared.rerun import without_variables
from kalyx.core.imports.case import Case, Tried
from kalyx.core.imports.experiment import Experiment
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.text.numbers import leading_number
from kalyx.core.text.patterns import pattern

_LINE = pattern(r"Error processing line (?P<line>\d+) of (?P<path>.+?):\n")
_LINE_OF_315 = pattern(r"Error in import line from (?P<path>.+?\.pth): (?P<text>.+)")
_OTHER = pattern(r"python(\d\.\d+)[\\/](?:site|dist)-packages|Python(\d)(\d+)[\\/]Lib", re.IGNORECASE)

LOOKS_AT = "tried"

# Seconds in which an interpreter starts; an import may take longer.
_STARTS_WITHIN = 5.0


def look(case: Tried, machine: Machine) -> Finding | None:
    trial = case.failed
    if machine.runner is None:
        return None
    if not trial.answered and not trial.stack:
        return _does_not_start(case, machine)
    return _path_of_another(case, machine) or _hook_failed(case, machine)


def _does_not_start(case: Tried, machine: Machine) -> Finding | None:
    """Python ended, or waits, before the probe answered: the cause is what must be left out so that it answers."""
    assert machine.runner is not None
    from kalyx.core.interpreters.asking import Who, ask_witness

    waits = case.failed.timed_out
    seconds = min(machine.seconds, _STARTS_WITHIN) if waits else machine.seconds
    with machine.runner.empty_folder() as empty:
        flags = ["-B", *case.invocation.flags]
        who, _ = ask_witness(machine.runner, case.interpreter.executable, flags, ["who"], Who,
                             variables=case.invocation.variables, folder=empty, seconds=seconds)  # fmt: skip
    if who is not None:
        return None  # Python starts; the import ended the process, or did not end
    kinds = ("start-up",) if waits else ("variable", "start-up")  # a variable makes Python end, not wait
    decided = decisive(case, machine, kinds=kinds, good=lambda trial: trial.answered, seconds=seconds)
    silent = f"it gave no answer within {machine.seconds:g} seconds" if waits else "it gave no answer"
    line = next((line for line in case.failed.output.splitlines() if line.strip()), silent)
    if decided is None:
        return None
    if decided.kind == "start-up":
        return _hook(machine, line, decided.items, waits)
    values = [set_here(case, name) for name in decided.items]
    evidence = [
        *(Evidence(fact=value, source="the variables of this seat") for value in values),
        Evidence(fact=line[:300], source="the interpreter's own words"),
        Evidence(fact="without it the interpreter starts", source="tried"),
    ]
    fix = without_variables(machine, case, decided.items)
    if decided.imports:
        fix = fix.was_tried(works=True)
    message = f"the interpreter does not start, because {' and '.join(values)}, which belongs to another Python"
    if not all(name in ("PYTHONHOME", "PYTHONPATH") for name in decided.items):
        message = f"the interpreter does not start, because {' and '.join(values)}"
    return Finding.proven("startup-broken", message, evidence, [fix])


def _hook(machine: Machine, output: str, hooks: list[str], waits: bool) -> Finding:
    several = len(hooks) > 1
    evidence = [
        *(Evidence.at(hook, "Python runs this file at start-up") for hook in hooks),
        Evidence(fact=output[:300], source="the trial" if waits else "the interpreter's own words"),
        Evidence(fact=f"without {'these files' if several else 'this file'} the interpreter starts", source="tried"),
    ]
    fix = fixes.set_aside(machine, hooks, f"rename the start-up file{'s' if several else ''}")
    how = f"do{'' if several else 'es'} not end" if waits else f"fail{'' if several else 's'}"
    message = f"the interpreter does not start: {' and '.join(hooks[:3])} {how}"
    return Finding.proven("startup-broken", message, evidence, [fix])


def _path_of_another(case: Case, machine: Machine) -> Finding | None:
    """The failure passes through packages of another Python version that PYTHONPATH puts first."""
    own = case.interpreter.minor
    frames = [frame.file for frame in case.raised.frames] if case.raised is not None else []
    answering = [case.resolution.location] if case.resolution.location is not None else case.resolution.parents
    places = [location.path for location in answering]
    without = Experiment("without PYTHONPATH", without=("PYTHONPATH",))
    for entry in case.search.entries:
        if entry.put_by == "variable" and fixes.is_standard_library(machine.reader, entry.entry):
            if any(machine.reader.inside(path, entry.entry) for path in frames + places):
                case.propose("startup-broken", without)
                return _library_of_another(case, machine, entry.entry)
        match = _OTHER.search(entry.entry) if entry.put_by == "variable" else None
        version = ".".join(part for part in match.groups() if part) if match is not None else own
        if version == own or not any(machine.reader.inside(path, entry.entry) for path in frames + places):
            continue
        case.propose("startup-broken", without)
        evidence = [Evidence.at(entry.entry, f"PYTHONPATH adds packages of Python {version}; this is {own}")]
        evidence += raised_evidence(case)
        fix = without_variables(machine, case, ["PYTHONPATH"])
        message = f"PYTHONPATH belongs to Python {version}: its packages come first, and this is {own}"
        return Finding.proven("startup-broken", message, evidence, [fix])
    return None


def _library_of_another(case: Case, machine: Machine, folder: str) -> Finding:
    """The standard library of another Python is on PYTHONPATH: the fix removes the variable."""
    evidence = [
        Evidence.at(folder, "PYTHONPATH adds the standard library of another Python"),
        *raised_evidence(case),
    ]
    fix = without_variables(machine, case, ["PYTHONPATH"])
    message = f"PYTHONPATH names a standard library, {folder}, which comes before this interpreter's own"
    return Finding.proven("startup-broken", message, evidence, [fix])


def _number_of(lines: list[str], text: str) -> int:
    """The number of the line with this text, counted from 1; 0 where no line has it."""
    return next((number for number, line in enumerate(lines, 1) if line.strip() == text.strip()), 0)


def _hook_failed(case: Case, machine: Machine) -> Finding | None:
    """A line of a path file that failed at start, where that line would have provided what is missing."""
    assert case.trial is not None
    missing = case.missing
    reader, output = machine.reader, case.trial.output
    numbered = _LINE.search(output)
    match = numbered or _LINE_OF_315.search(output)
    path = match["path"] if match is not None else ""
    if missing is None or match is None or not reader.is_file(path):
        return None
    lines = (reader.text_or_none(path, 65536) or "").splitlines()
    number = leading_number(numbered["line"]) if numbered is not None else _number_of(lines, match["text"])
    line = lines[number - 1].strip() if 0 < number <= len(lines) else ""
    top = missing.split(".")[0]
    # The line fails, and before 3.15 Python skips the lines after it in the same file.
    later = [
        reader.join(reader.parent(path), line.strip())
        for line in (lines[number:] if numbered is not None else ())
        if line.strip() and "\0" not in line
    ]
    taken = next((folder for folder in later if case.resolver.in_folder(folder, missing) is not None), None)
    if taken is None and top not in line and "path" not in line and top not in machine.reader.name(path):
        return None
    remainder = output[match.end() :]
    text = next(
        (line.strip() for line in remainder.splitlines() if re.match(r"\s*\w+(?:Error|Exception)\b", line)), "it fails"
    )
    evidence = [
        Evidence.at(path, line[:200], number),
        Evidence(fact=f"it fails at start: {text[:200]}", source="the interpreter's own words"),
    ]
    steps = [fixes.by_hand(f"correct line {number} of {path}")]
    owner = next(
        (
            distribution
            for distribution in machine.installed(case.sites)
            if distribution.is_wheel and machine.reader.name(path) in (distribution.files or ())
        ),
        None,
    )
    offered = [Fix(message="correct the line", steps=steps, changes=[path])]
    if owner is not None:
        from kalyx.core.diagnosis.shared.failing import reinstall

        offered.insert(0, reinstall(machine, case.interpreter, owner))
    if taken is not None:
        evidence.append(
            Evidence(fact=f"the lines after it are left out; one adds the folder of {missing}", source=taken)
        )
        case.propose("startup-broken", Experiment(f"with {taken} on the path", put=(taken,)))
    brings = (
        "and Python skips the lines after it, which would have added" if taken is not None else "and would have added"
    )
    message = f"a line that runs at start fails, {brings} {missing}: {path}, line {number}"
    return Finding.likely("startup-broken", message, evidence, offered)
