"""Two copies can be reached and the wrong one comes first (own over base, user over base, path over all).

How to tell: both copies are on the path; with the other one first it imports.
Fix: remove the copy that is not wanted, or take its folder off the path.

Example:
    heath sees its base and has hivescale 1.0, and the base has hivescale 2.1 with frames
    asked in heath: import hivescale.frames

Not this (there is one copy only):
    heath has hivescale 1.0
    asked in heath: import hivescale.frames
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import raised_evidence
from kalyx.core.diagnosis.shared.rerun import without_entries
from kalyx.core.imports.case import Case, Failing
from kalyx.core.imports.experiment import Experiment
from kalyx.core.imports.lacking import lack_of
from kalyx.core.imports.resolver import Location
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import Uninstall
from kalyx.core.packages.metadata import Installed, owner_of

LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    subject, name = _subject(case)
    if subject is None:
        return None
    top = subject.split(".")[0]
    resolution = case.resolver.resolve(top)
    first = resolution.location
    if first is None or first.kind == "namespace":
        return None
    for other in resolution.others:
        if other.kind == "namespace" or other.entry == first.entry or not _has(case, machine, other, subject, name):
            continue
        distribution = owner_of(machine.reader, [first.entry], first.path)
        two = owner_of(machine.reader, [other.entry], other.path)
        # Two different modules with the same name: the first hides the other, and is no older copy.
        if (
            two is None
            or (distribution is not None and distribution.key != two.key)
            or (distribution is None and not _is_copy(case, machine, first, other))
        ):
            continue
        message = f"with {other.entry} searched before {first.entry}"
        case.propose("older-wins", Experiment(message, front=(other.entry,)))
        return _finding(
            case, machine, subject if name is None else f"{subject}.{name}", (first, distribution), (other, two)
        )
    return None


def _subject(case: Case) -> tuple[str | None, str | None]:
    """The module, and the name in it, that the copy in front lacks."""
    lack = lack_of(case)
    if lack is not None:
        return lack.module, lack.name
    return (case.missing, None) if case.missing and "." in case.missing else (None, None)


def _is_copy(case: Case, machine: Machine, first: Location, other: Location) -> bool:
    """Whether what PYTHONPATH puts in front is another copy of a package: it has files of the same names."""
    of_path = any(entry.entry == first.entry and entry.put_by == "variable" for entry in case.search.entries)
    if not of_path or first.kind != "package" or other.kind != "package":
        return False
    both = [
        set(machine.reader.names(location.portions[0])) - {"__pycache__", "__init__.py"} for location in (first, other)
    ]
    return bool(both[0] & both[1])


def _has(case: Case, machine: Machine, other: Location, subject: str, name: str | None) -> bool:
    """Whether the later copy has what is asked for: the module, or a source that holds the name."""
    location = case.resolver.in_folder(other.entry, subject)
    if location is None or location.kind == "namespace":
        return False
    if name is None:
        return True
    inner = case.resolver.in_folder(other.entry, f"{subject}.{name}")
    return inner is not None or name in (machine.reader.text_or_none(location.path) or "")


def _finding(
    case: Case,
    machine: Machine,
    lacks: str,
    front: tuple[Location, Installed | None],
    behind: tuple[Location, Installed],
) -> Finding:
    (first, distribution), (other, two) = front, behind
    what = f"{distribution.name} {distribution.version}" if distribution is not None else f"a copy of {two.name}"
    evidence = [
        Evidence.at(first.path, f"{what} comes first, and has no {lacks}"),
        Evidence.at(other.path, f"{two.name} {two.version} comes later, and has it"),
    ]
    evidence += raised_evidence(case)
    entries = [entry for entry in case.search.entries if entry.entry == first.entry]
    origin = entries[0].origin if entries else ""
    if origin == "PYTHONPATH":
        offered = [without_entries(machine, case, entries[:1])]
    else:
        line = f"{two.name}=={two.version}"
        again = fixes.install(machine, case.interpreter, line).called(f"have {two.version} in front too")
        away = Fix(
            message="remove the copy that comes first",
            changes=[first.entry],
            steps=[fixes.step(machine, Uninstall(python=case.interpreter.executable, names=[two.name]))],
        )
        offered = [away, again] if origin == "user" else [again, away]
    message = f"{what} in {first.entry} comes before {two.name} {two.version}, which has {lacks}"
    return Finding.proven("older-wins", message, evidence, offered)
