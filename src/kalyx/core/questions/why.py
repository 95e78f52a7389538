"""From a question to an answer: read, try, explain."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from kalyx.core.findings import catalogue
from kalyx.core.imports.case import Case
from kalyx.core.imports.names import Wanted
from kalyx.core.imports.resolver import Resolver
from kalyx.core.imports.trial import Trial, try_import
from kalyx.core.interpreters.consent import objection
from kalyx.core.machine import Machine
from kalyx.core.packages.metadata import Installed
from kalyx.core.records import Distribution, ErrorText, Finding, ImportAnswer, Seat
from kalyx.core.ways import kernel_of, named_by, search_of, way_of

if TYPE_CHECKING:
    from kalyx.core.doors.runner import LiveRunner


def why_import(
    machine: Machine,
    seat: Seat,
    wanted: Wanted,
    *,
    named: bool,
    command: str | None = None,
    watch: Callable[[str], None] | None = None,
) -> ImportAnswer:
    """Whether the import works in this seat, where from, or why not.

    ``named``: the user named the target; else ``consent`` says whether its interpreter may be started. ``command``:
    the command line it was run by, whose flags and program decide the path.
    """
    answer = ImportAnswer(statement=wanted.statement, module=wanted.module, outcome="undetermined")
    kernel = kernel_of(seat, machine)
    case = Case(seat=seat, wanted=wanted, kernel=kernel, interpreter=seat.interpreter, environment=seat.environment)
    if seat.interpreter is None:
        _name(seat, machine)
        answer.findings = catalogue.explain(case, machine)
        answer.outcome = "undetermined" if seat.undecided else "fails"
        if seat.undecided and not answer.findings:
            says = f"{seat.name} could not be read: {seat.reason}"
            answer.findings = [Finding(cause="not-asked", certainty="proven", says=says)]
        return answer
    case.way = way_of(seat, machine, command)
    case.search = search_of(seat, machine, named=named, command=command)
    case.resolver = Resolver(machine.facts, seat.interpreter, case.search, seat.folder or machine.facts.folder)
    refusal = objection(machine.facts, seat.interpreter, named_by(seat, machine, named))
    if refusal is None and machine.runner is not None:
        if watch is not None:
            watch(f"{seat.interpreter.executable} imports {wanted.module}")
        case.trial = _try(case, machine, machine.runner)
    if case.resolution is None:
        _read(case, machine)
    _fill(answer, case, machine)
    if refusal is not None and case.trial is None:
        answer.outcome = "undetermined"
        answer.findings.append(Finding(cause="not-asked", certainty="proven", says=refusal))
    return answer


def _name(seat: Seat, machine: Machine) -> None:
    """Give the environment the name that tells it from the others here, which are looked at only for that."""
    if seat.environment is not None:
        known = machine.environment_named(seat.environment.key)
        seat.environment.name = known.name if known is not None else seat.environment.name


def _read(case: Case, machine: Machine) -> None:
    """What reading finds: it need not wait for the trial, nor the trial for it."""
    assert case.resolver is not None
    _name(case.seat, machine)
    case.resolution = case.resolver.resolve(case.module)


def _try(case: Case, machine: Machine, runner: LiveRunner) -> Trial:
    assert case.way is not None and case.search is not None and case.resolver is not None
    assert case.interpreter is not None
    way, begins = case.way, [entry.origin for entry in case.search.entries[:1]]
    return try_import(
        runner,
        case.interpreter.executable,
        case.module,
        case.wanted.names,
        first=way.first if way.first_origin in begins else None,
        flags=way.flags,
        variables=way.variables,
        folder=case.resolver.folder,
        seconds=machine.seconds,
        begun=lambda: _read(case, machine),
    )


def _fill(answer: ImportAnswer, case: Case, machine: Machine) -> None:
    place = case.resolution.place if case.resolution is not None else None
    trial = case.trial
    if trial is None:
        answer.outcome = "imports" if place is not None and place.kind == "builtin" else "undetermined"
        known = case.search is not None and not case.search.unknown
        if case.missing is not None and known:
            answer.outcome = "fails"
        elif place is not None and known and place.kind in ("module", "package") and not case.wanted.names:
            answer.outcome = "imports"  # found where the interpreter would find it; what its code does was not tried
        answer.found_at = place.path if place is not None else None
    else:
        answer.seconds = trial.seconds
        answer.output = trial.output or None
        answer.outcome = "imports" if trial.imports else "fails"
        if trial.imports:
            answer.found_at = trial.file or (trial.folders[0] if trial.folders else "(built in)")
        elif case.raised is not None:
            answer.error = ErrorText(type=case.raised.type, text=case.raised.text)
    if answer.found_at:
        owner = case.owner(answer.found_at)
        if owner is None and answer.outcome == "imports":
            owner = _development_owner(case, machine, answer.found_at)
        if owner is not None:
            answer.distribution = Distribution(name=owner.name, version=owner.version)
    if case.resolution is not None and answer.outcome == "imports":
        answer.hides = [other.path for other in case.resolution.others]
    if answer.outcome == "fails" or (place is not None and place.kind == "namespace"):
        answer.findings = catalogue.explain(case, machine)
    elif answer.outcome == "imports" and _may_be_stale(case):
        stale = catalogue.module_of("stale-in-memory").look(case, machine)
        answer.findings = [stale] if stale is not None else []


def _may_be_stale(case: Case) -> bool:
    """A kernel that runs may hold what a fresh start would not."""
    return case.seat.seat in ("kernel", "notebook")


def _development_owner(case: Case, machine: Machine, path: str) -> Installed | None:
    """A development install has its files outside the site folders: its metadata names the module."""
    if any(machine.facts.inside(path, prefix) for prefix in case.sites):
        return None
    standard = [e.entry for e in case.search.entries if e.origin.startswith("the standard")] if case.search else []
    if any(machine.facts.inside(path, entry) for entry in standard) or path.startswith("("):
        return None
    first = case.search.entries[0].entry if case.search and case.search.entries else None
    if first is not None and machine.facts.inside(path, first or machine.facts.folder):
        return None
    return machine.distribution_of_module(case.module, case.sites)
