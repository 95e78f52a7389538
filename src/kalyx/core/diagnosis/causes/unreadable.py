"""This user may not read the file or folder, or its settings file cannot be read.

How to tell: the system denies access; that does not mean that the file is missing.
Fix: get the permission to read it from its owner.

Example:
    heath may not be read
    asked about heath

Not this (it can be read, and is empty):
    heath was begun and not finished
    asked about heath
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.conditions import condition, remake, same_minor
from kalyx.core.environments.reading import View
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import MakeReadable
from kalyx.core.system import Unreadable
from kalyx.core.system.reader import FileStat
from kalyx.core.text.patterns import pattern

if TYPE_CHECKING:
    from kalyx.core.imports.case import Case, DeadSeat

_FOR_ALL = 0o005  # read and enter, for everybody
# What Windows says of a library that it finds and does not load (system errors 5, 225, 577, 1260, 4551; 362 to 404),
# and what to do. In other languages of the system these sentences are not recognised.
_BLOCKED = [
    (pattern(r"DLL load failed[^:]*: (.*(?:blocked|virus|digital signature|Access is denied).*)"),
     "ask who administers this machine to allow {path}"),
    (pattern(r"DLL load failed[^:]*: (.*[Cc]loud.*)"),
     "keep {folder} on this device (a program synchronises the folder), or create the environment in another folder"),
]  # fmt: skip

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    """A file or folder of the module that this process may not read: the interpreter often says something else."""
    reader = machine.reader
    if (blocked := _blocked(case, machine)) is not None:
        return blocked
    for path in _places(case):
        if not reader.may_be_there(path) or reader.may_read(path) or reader.is_dangling(path):
            continue
        status, mode = reader.status(path), ""
        if isinstance(status, FileStat):
            mode = f": owner {status.owner}, mode {status.mode:o}, and this is user {reader.user}"
        evidence = [Evidence.at(path, f"it may not be read{mode}")]
        from kalyx.core.diagnosis.shared.failing import raised_evidence

        evidence += raised_evidence(case)
        message = f"{path} may not be read by this user, so {case.missing or case.module} is not found or not loaded"
        mine = isinstance(status, FileStat) and status.owner == reader.user and reader.system != "windows"
        allow = fixes.step(machine, MakeReadable(path=path))
        offered = (
            [Fix(message="give yourself the right to read it", steps=[allow], changes=[path])]
            if mine
            else [_ask_owner(path)]
        )
        return condition("unreadable", message, evidence, offered)
    return None


def _blocked(case: Case, machine: Machine) -> Finding | None:
    """A compiled file that Windows finds and refuses to load."""
    raised, reader = case.raised, machine.reader
    if raised is None or raised.path is None or reader.system != "windows":
        return None
    for form, remedy in _BLOCKED:
        match = form.search(raised.text)
        if match is not None:
            line = remedy.format(path=raised.path, folder=reader.parent(raised.path))
            evidence = [
                Evidence(fact=f"{raised.type}: {raised.text[:300]}", source="the trial"),
                Evidence.at(raised.path, "the file that Windows refuses"),
            ]
            message = f"Windows does not load {reader.name(raised.path)}: {match[1].strip().rstrip('.')}"
            allow = Fix(message="allow the file", steps=[fixes.by_hand(line)])
            return condition("unreadable", message, evidence, [allow])
    return None


def look_at_dead(case: DeadSeat, machine: Machine) -> Finding | None:
    """This user may not read the program that the seat starts; that does not mean that the program is gone."""
    source = case.source
    if source is None or not machine.reader.path.isabs(source):
        return None
    refusal = machine.reader.refusal(source)
    if refusal is None:
        return None
    evidence = [Evidence.at(source, refusal + _owned_by(machine, source))]
    message = f"{case.seat.name} starts {source}, which this user may not look at"
    return condition("unreadable", message, evidence, [_ask_owner(source)])


def _places(case: Case) -> list[str]:
    """The paths at which the missing or failing module may be, on each entry, and the paths that the error names.

    Of a module that imports as a namespace package its folders, whose content may be unreadable.
    """
    if case.trial is not None and case.trial.imports:
        return list(case.trial.folders or []) if case.trial.file is None else []
    reader, result = case.resolver.reader, []
    raised = case.raised
    if raised is not None:
        result += [path for path in (raised.path, raised.file) if path]
    module = case.missing or case.module
    resolution = case.resolver.resolve(module)
    places = [*resolution.parents, *([resolution.location] if resolution.location is not None else [])]
    result += [path for location in places for path in (location.path, *location.portions)]
    entries = [entry.entry or case.resolver.folder for entry in case.search.entries if entry.exists]
    top = module.split(".")[0]
    for entry in entries:
        result += [
            entry,
            reader.join(entry, top),
            reader.join(entry, top + ".py"),
            reader.join(entry, top, "__init__.py"),
        ]
    return list(dict.fromkeys(result))


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    reader, prefix, settings = machine.reader, view.environment.prefix, view.settings
    try:
        reader.listing(prefix)
    except Unreadable as problem:
        status = reader.status(prefix)
        mode = f" (owner {status.owner}, mode {status.mode:o})" if isinstance(status, FileStat) else ""
        evidence = [Evidence.at(prefix, problem.reason + mode)]
        return condition("unreadable", f"it cannot be read: {problem.reason}", evidence, [_ask_owner(prefix)])
    if settings is not None and settings.problem is not None:
        evidence = [Evidence.at(settings.path, settings.problem)]
        message = f"its settings file cannot be read: {settings.problem}"
        base = same_minor(view, machine) if reader.may_read(settings.path) else None
        fix = remake(view, machine, base) if base is not None else _ask_owner(settings.path)
        return condition("unreadable", message, evidence, [fix])
    # Of the base only what was needed counts: system folders hold much that not every user may read.
    home = settings.get("home") if settings is not None else None
    below = [view.environment.base_prefix, reader.parent(home) if home else None] if view.interpreter is None else []
    refused = reader.refused_within(prefix, *below)
    if refused is None and view.problem is not None and view.problem.refused:
        refused = view.problem.path, view.problem.reason
    refused = refused or _shut_site(view, machine)
    if refused is None:
        return None
    path, reason = refused
    evidence = [Evidence.at(path, reason + _owned_by(machine, path))]
    message = f"this user may not read all of it ({path}: {reason}), so nobody knows whether it is sound"
    return condition("unreadable", message, evidence, [_ask_owner(path)])


def _shut_site(view: View, machine: Machine) -> tuple[str, str] | None:
    """A site folder that this user may not list; the system is asked only where the folder is not readable for all."""
    reader = machine.reader
    for site in view.environment.site_packages if reader.system != "windows" else []:
        status = reader.status(site)
        if isinstance(status, FileStat) and status.mode & _FOR_ALL != _FOR_ALL and not reader.may_read(site):
            return site, "permission denied"
    return None


def _owned_by(machine: Machine, path: str) -> str:
    """Who the nearest folder belongs to that may be looked at."""
    reader = machine.reader
    while True:
        status = reader.status(path)
        if isinstance(status, FileStat):
            return f" (owner {status.owner}, mode {status.mode:o})"
        if reader.parent(path) == path:
            return ""
        path = reader.parent(path)


def _ask_owner(path: str) -> Fix:
    return Fix(message="make it readable", steps=[fixes.by_hand(f"look at {path}: its owner can let you read it")])
