"""From a question to an answer: read, try, explain."""

from __future__ import annotations

from collections.abc import Callable

from kalyx.core.facts import Distribution, ErrorText, Finding, ImportAnswer, Seat
from kalyx.core.findings import catalogue
from kalyx.core.imports.case import Case
from kalyx.core.imports.names import Wanted
from kalyx.core.imports.resolver import Resolver
from kalyx.core.imports.trial import try_import
from kalyx.core.imports.ways import kernel_of, search_of, way_of
from kalyx.core.machine import Machine
from kalyx.core.packages.metadata import Installed


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

    ``named``: the user named the target; only then is an interpreter asked
    whose real file lies inside the folder examined. ``command``: the command
    line it was run by, whose flags and program decide the path.
    """

    def name_it() -> None:
        """Looking at the other environments only gives this one the name that tells it from them."""
        if seat.environment is not None:
            known = machine.environment_named(seat.environment.key)
            seat.environment.name = known.name if known is not None else seat.environment.name

    answer = ImportAnswer(statement=wanted.statement, module=wanted.module, outcome="undetermined")
    kernel = kernel_of(seat, machine)
    case = Case(seat=seat, wanted=wanted, kernel=kernel, interpreter=seat.interpreter, environment=seat.environment)
    if seat.interpreter is None:
        name_it()
        answer.outcome = "fails"
        answer.findings = catalogue.explain(case, machine)
        return answer
    way = way_of(seat, machine, command)
    case.way = way
    case.search = search_of(seat, machine, named=named, command=command)
    folder = seat.folder or machine.facts.folder
    case.resolver = Resolver(machine.facts, seat.interpreter, case.search, folder)

    def read() -> None:
        assert case.resolver is not None
        name_it()
        case.resolution = case.resolver.resolve(wanted.module)

    refusal = _may_not_ask(machine, seat, named)
    if refusal is None and machine.runner is not None:
        if watch is not None:
            watch(f"{seat.interpreter.executable} imports {wanted.module}")
        case.trial = try_import(
            machine.runner,
            seat.interpreter.executable,
            wanted.module,
            wanted.names,
            first=way.first if any(e.origin == way.first_origin for e in case.search.entries[:1]) else None,
            flags=way.flags,
            variables=way.variables,
            folder=folder,
            seconds=machine.seconds,
            begun=read,
        )
    if case.resolution is None:
        read()
    _fill(answer, case, machine)
    if refusal is not None and case.trial is None:
        answer.outcome = "undetermined"
        answer.findings.append(Finding(cause="not-asked", certainty="proven", says=refusal))
    return answer


def _may_not_ask(machine: Machine, seat: Seat, named: bool) -> str | None:
    """Why the interpreter may not be started, or None: a folder's own program is not run just for standing in it."""
    assert seat.interpreter is not None
    real = seat.interpreter.real_executable
    if named or not machine.facts.inside(real, machine.facts.real(machine.facts.folder)):
        return None
    return (
        f"{real} lies in the folder you stand in and you did not name it, so it was not started;"
        f" name it with --in {seat.interpreter.executable}"
    )


def _fill(answer: ImportAnswer, case: Case, machine: Machine) -> None:
    place = case.resolution.place if case.resolution is not None else None
    trial = case.trial
    if trial is None:
        answer.outcome = "imports" if place is not None and place.kind == "builtin" else "undetermined"
        if case.missing is not None and not (case.search and case.search.unknown):
            answer.outcome = "fails"
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
