"""A file or folder in the script's folder, or on PYTHONPATH, has the module's name and comes first on sys.path.

How to tell: with the file's folder searched last, the module imports.
Fix: rename your own file.

Example:
    the folder has statistics.py that lacks what is asked for
    asked in heath: from statistics import mean

Not this (the folder's file has a name of its own):
    the folder has weights.py
    asked in heath: from statistics import mean
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.rerun import without_entries
from kalyx.core.imports.case import Case, Failing
from kalyx.core.imports.experiment import Experiment
from kalyx.core.imports.resolver import Location, Resolution
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, ImportAnswer
from kalyx.core.model.steps import Move

LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    if case.trial is not None and case.trial.imports:
        return None
    if case.trial is None and case.missing is None:
        return None
    for name in _suspects(case):
        resolution = case.resolver.resolve(name)
        if resolution.location is not None and _is_in_the_way(case, resolution):
            finding = _finding(case, machine, name, resolution.location, resolution.others)
            hidden = _meant(case, resolution.others)
            message = f"with {hidden.entry} searched before {resolution.location.entry or 'the folder'}"
            case.propose("shadowed", Experiment(message, front=(hidden.entry,)))
            return finding
    return None


def by_itself(answer: ImportAnswer, machine: Machine) -> Finding:
    """A script has the name of the module that it imports, and so imports itself."""
    path = answer.found_at or ""
    message = f"{machine.reader.name(path)} imports itself: it has the name of the module that is meant"
    evidence = [
        Evidence.at(path, f"{answer.statement} finds this very file"),
        Evidence.at(answer.hides[0], f"the {answer.module} that is meant comes later on sys.path"),
    ]
    return Finding.proven("shadowed", message, evidence, [fixes.rename(machine, path, fixes.free_name(machine, path))])


def _suspects(case: Case) -> list[str]:
    """Top-level names in the failure: asked for, named by the error, or in its frames."""
    names = [case.module.split(".")[0]]
    raised = case.raised
    if raised is not None:
        for word in (raised.name, case.missing):
            if word:
                names.append(word.split(".")[0])
        for frame in raised.frames:
            stem = frame.file.replace("\\", "/").rpartition("/")[2].removesuffix(".py")
            names.append(stem)
        # An attribute that a standard module always has is missing from a file of its name.
        names += _spoken(case)
    return [name for name in dict.fromkeys(names) if name.isidentifier()]


def _spoken(case: Case) -> list[str]:
    """The text of the error, and the line that imports: older versions do not name the module."""
    assert case.raised is not None
    text = case.raised.text
    if text.startswith("cannot import name"):
        text += " " + case.asking_line().replace(",", " ")
    for character in "'\".":
        text = text.replace(character, " ")
    return [word for word in text.split() if word.isidentifier()]


def _origins(case: Case) -> dict[str, str]:
    """Entries that the program or a variable put in, with their origin."""
    front = {}
    for position, entry in enumerate(case.search.entries):
        if entry.put_by in ("variable", "program") or (position == 0 and entry.put_by != "library"):
            front[entry.entry or case.resolver.folder] = entry.origin
    return front


def _is_in_the_way(case: Case, resolution: Resolution) -> bool:
    location = resolution.location
    assert location is not None
    if location.entry not in _origins(case) or location.kind == "builtin":
        return False
    others = [other for other in resolution.others if other.kind != "namespace" and other.entry != location.entry]
    if not others:
        return False
    # The failure must pass through the file, name it, or be that the file lacks something.
    raised = case.raised
    top = location.module
    if raised is None:
        return case.module.split(".")[0] == top
    if any(frame.file == location.path for frame in raised.frames):
        return True
    return top in _spoken(case) or location.path in raised.text


def _meant(case: Case, others: list[Location]) -> Location:
    """The module that the user wants: the first that no such file at the front provides."""
    fronts = _origins(case)
    usable = [other for other in others if other.kind != "namespace"]
    return next((other for other in usable if other.entry not in fronts), usable[0])


def _finding(case: Case, machine: Machine, name: str, location: Location, others: list[Location]) -> Finding:
    origin = _origins(case)[location.entry]
    hidden = _meant(case, others)
    whole = machine.reader.parent(location.path) if location.kind == "package" else location.path
    evidence = [
        Evidence.at(location.path, f"import {name} finds this file first ({origin})"),
        Evidence.at(hidden.path, f"the {name} that is meant comes later on sys.path"),
    ]
    if case.raised is not None:
        evidence.append(Evidence(fact=f"{case.raised.type}: {case.raised.text[:160]}", source="the trial"))
    if origin == "PYTHONPATH":
        entries = [entry for entry in case.search.entries if entry.entry == location.entry]
        aside = fixes.rename(machine, whole, fixes.free_name(machine, whole))
        without = without_entries(machine, case, entries[:1])
        # A file that is not the user's own is not renamed: the fix removes the variable.
        offered = [aside, without] if aside.steps[0].command is not None else [without]
    else:
        offered = [fixes.rename(machine, whole, fixes.free_name(machine, whole))]
    between = [other for other in others[: others.index(hidden)] if other.kind != "namespace"]
    for other in between:  # each file that hides the module must be renamed
        path = machine.reader.parent(other.path) if other.kind == "package" else other.path
        evidence.append(Evidence.at(path, f"and this one stands before the {name} that is meant"))
        if isinstance(offered[0].steps[0], Move):
            more = fixes.rename(machine, path, fixes.free_name(machine, path))
            offered[0] = offered[0].and_also(more)
    return Finding(
        cause="shadowed",
        certainty="proven" if case.trial is not None else "likely",
        message=f"{machine.reader.join(location.entry, machine.reader.name(whole))} is imported instead of the module"
        " of that name: its folder is earlier on sys.path",
        evidence=evidence,
        fixes=offered,
    )
