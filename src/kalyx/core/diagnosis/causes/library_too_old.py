"""A shared library is found but is too old: it lacks a symbol version that the compiled part needs.

How to tell: the compiled part asks for a symbol version that the library here does not list.
Fix: install a release that was built for this system, or use a newer system.

Example:
    heath has hivescale 2.1 whose compiled part needs a newer libhoney.so.1
    asked in heath: import hivescale

Not this (the library is not there at all):
    heath has hivescale 2.1 whose compiled part needs libhoney.so.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import owned, reinstall
from kalyx.core.formats.headers import read_header
from kalyx.core.imports.case import Case, Tried
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import satisfies
from kalyx.core.text.numbers import leading_number
from kalyx.core.text.patterns import pattern
from kalyx.core.text.versions import numbers_of

_SAYS = pattern(r"(?<![^\s:'\"])([^\s:'\"]+): version [`']([^'\n]+)' not found \(required by ([^)\n]+)\)")
_SYMBOL = pattern(r"undefined symbol: (\w+), version (\w[\w.]*)")
_FLOOR = pattern(r"manylinux_(\d+)_(\d+)_")

LOOKS_AT = "tried"


def look(case: Tried, machine: Machine) -> Finding | None:
    trial = case.failed
    match = _SAYS.search(trial.words)
    if match is None:
        return None
    version = match[2]
    library, needer = (str(machine.reader.path.normpath(item)) for item in (match[1], match[3]))
    family = version.rpartition("_")[0]
    gives = [give for give in read_header(machine.reader, library).gives if give.rpartition("_")[0] == family]
    newest = max(gives, key=numbers_of, default=None)
    owner, of_library = case.owner(needer), case.owner(library)
    evidence = [
        Evidence.at(needer, f"it asks {machine.reader.name(library)} for {version}"),
        Evidence.at(library, f"the newest it has is {newest}" if newest else f"it lacks {version}"),
    ]
    if owner is not None:
        evidence.append(owned(owner))
    message = f"{machine.reader.name(library)} is too old for {machine.reader.name(needer)}: asked for {version}" + (
        f", present {newest}" if newest else ""
    )
    return Finding.proven("library-too-old", message, evidence, _ways_out(case, machine, newest, owner, of_library))


def of_text(text: str, machine: Machine) -> Finding | None:
    """The same of an error's text alone, where the compiled module is not here."""
    match = _SAYS.search(text)
    if match is None:
        return None
    library, needer = (machine.reader.name(item) for item in (match[1], match[3]))
    step = fixes.by_hand(f"install a release of the package of {needer} that was built for older systems")
    message = f"{library} is too old for {needer}: asked for {match[2]}"
    offered = [Fix(message="install a build for older systems", steps=[step], state="may-help")]
    return Finding.likely("library-too-old", message, [Evidence(fact=text[:200], source="the text given")], offered)


def _ways_out(
    case: Case, machine: Machine, newest: str | None, owner: Installed | None, of_library: Installed | None
) -> list[Fix]:
    if of_library is not None and of_library is not owner and (owner is None or of_library.key != owner.key):
        fix = fixes.install(machine, case.interpreter, of_library.name, "--upgrade")
        fix = fix.called(f"upgrade {of_library.name}, which provides the library")
        return [fix]
    if owner is None:
        line = "build it on this system, or on one whose libraries are not newer"
        return [Fix(message="build the package on this system", steps=[fixes.by_hand(line)])]
    floors = [(leading_number(a), leading_number(b)) for tag in owner.tags for a, b in _FLOOR.findall(tag)]
    own = tuple(numbers_of(newest)[:2]) if newest is not None and newest.startswith("GLIBC_") else None
    again = reinstall(machine, case.interpreter, owner)
    older = fixes.install(machine, case.interpreter, f"{owner.name}<{owner.version}")
    older = older.called(f"an older {owner.name}, built for older systems")
    # A build that says it needs a newer system was put here past the installer, which would have taken another one.
    forced = own is not None and bool(floors) and min(floors) > own
    return [again, older] if forced or not _is_release(owner) else [older, again]


def _is_release(owner: Installed) -> bool:
    return satisfies(owner.version, ">=0")
