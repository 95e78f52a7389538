"""From a question to an answer: read, try, explain."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from msgspec.structs import replace

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import SearchPath, as_it_is_now
from kalyx.core.imports.case import Case, DeadSeat
from kalyx.core.imports.names import ImportStatement
from kalyx.core.imports.resolver import Resolution, Resolver
from kalyx.core.imports.trial import Trial, try_import
from kalyx.core.invocation import Question, command_given, invocation_of, kernel_of, named_by, search_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Distribution, ErrorText, Finding, ImportAnswer, Interpreter, Kernel, Seat
from kalyx.core.packages.metadata import Installed
from kalyx.core.system.reader import NOT_HERE

if TYPE_CHECKING:
    from kalyx.core.system.runner import Runner


def why_import(
    machine: Machine,
    seat: Seat,
    wanted: ImportStatement,
    question: Question,
) -> ImportAnswer:
    """Whether the import works in this seat, from where, or why not; an import that fails has at least one finding."""
    answer = _answered(machine, seat, wanted, question)
    if answer.outcome == "fails" and not answer.findings:
        reported = (
            f"{answer.error.type}: {answer.error.text}" if answer.error is not None else answer.output or seat.reason
        )
        message = (
            f"{wanted.statement} fails, and no cause that Kalyx knows says why: {reported or 'nothing was written'}"
        )
        answer.findings = [Finding(cause="raises", certainty="possible", message=message[:500])]
    return answer


def _answered(machine: Machine, seat: Seat, wanted: ImportStatement, question: Question) -> ImportAnswer:
    answer = ImportAnswer(statement=wanted.statement, module=wanted.module, outcome="undetermined")
    kernel = kernel_of(seat, machine)
    interpreter = seat.interpreter
    if interpreter is None:
        answer.findings, answer.not_judged = catalogue.explain(DeadSeat(seat, wanted, kernel), machine)
        if not answer.findings and kernel is not None:
            answer.findings = list(kernel.findings)  # a kernel's file that starts nothing has its own
        answer.outcome = "undetermined" if seat.undecided else "fails"
        if seat.undecided and not answer.findings:
            message = f"{seat.name} could not be read: {seat.reason}"
            answer.findings = [Finding(cause="not-asked", certainty="proven", message=message)]
        return answer
    machine.environments.add(seat.environment)
    case, refusal = _case(machine, seat, interpreter, wanted, kernel, question)
    if question.command is None and question.script is not None:
        case.runs = (question.script,)
    _fill(answer, case, machine)
    if refusal is not None and case.trial is None:
        answer.outcome = "undetermined"
        if NOT_HERE in refusal:
            answer.findings = []  # what a capture does not hold proves nothing
        answer.findings.append(Finding(cause="not-asked", certainty="proven", message=refusal))
    return answer


def as_asked(machine: Machine, seat: Seat, question: Question) -> Seat:
    """The seat with the search path by which ``why_import`` looks for a module there."""
    if seat.interpreter is None:
        return seat
    return replace(seat, search_path=_search(machine, seat, question).entries)


def _search(machine: Machine, seat: Seat, question: Question) -> SearchPath:
    search, state = search_of(seat, machine, question), question.state
    return as_it_is_now(machine.reader, search, state.path) if state is not None else search


def tried_case(machine: Machine, seat: Seat, wanted: ImportStatement, question: Question) -> Case | None:
    """The import read and tried once more, for what explains it further; None where nothing may be started."""
    if seat.interpreter is None:
        return None
    case, _ = _case(machine, seat, seat.interpreter, wanted, kernel_of(seat, machine), question)
    return case if case.trial is not None else None


def _case(
    machine: Machine,
    seat: Seat,
    interpreter: Interpreter,
    wanted: ImportStatement,
    kernel: Kernel | None,
    question: Question,
) -> tuple[Case, str | None]:
    """The import read and, where it may be, tried, side by side; with what speaks against trying it."""
    invocation = invocation_of(seat, machine, question.command)
    search = _search(machine, seat, question)
    seat = replace(seat, search_path=search.entries)
    if question.state is not None:
        invocation.variables, invocation.first = question.state.variables, None
        invocation.changes = ("clear=", *(f"last={entry}" for entry in question.state.path))
    resolver = Resolver(machine.reader, interpreter, search, seat.folder or machine.reader.folder)
    read: list[tuple[Seat, Resolution]] = []

    def reading() -> None:
        """It need not wait for the trial, nor the trial for it."""
        resolution = resolver.resolve(wanted.module)
        if resolution.location is None or resolution.others:
            catalogue.ready()  # it looks as though it fails: what explains that is made ready while the trial runs
        read.append((machine.environments.named_seat(seat), resolution))
        if resolution.location is None and machine.runner is not None:
            _ = machine.environments.everywhere

    refusal = machine.objection(interpreter, named_by(seat, machine, question.named))
    trial = None
    if refusal is None and machine.runner is not None:
        trial = _try(machine.runner, interpreter, wanted, invocation, search, resolver.folder, machine.seconds, reading)
        if not trial.answered and trial.problem is not None and NOT_HERE in trial.problem:
            trial = None
            refusal = (
                f"{wanted.statement} was not tried there: {NOT_HERE}; kalyx capture FILE --why {wanted.module} tries it"
            )
    if not read:
        reading()
    named_seat, resolution = read[0]
    environment = named_seat.environment
    case = Case(named_seat, wanted, interpreter, invocation, search, resolver, resolution, environment, trial, kernel)
    if machine.runner is None and resolution.location is not None and refusal is None:
        from kalyx.core.imports.compiling import refused_source

        refused = refused_source(machine.reader, interpreter, resolution)
        case.trial = Trial(answered=True, chain=[refused]) if refused is not None else None
    if question.command is not None:
        case.runs = tuple(command_given(machine.reader, question.command).words)
    return case, refusal


def _try(
    runner: Runner,
    interpreter: Interpreter,
    wanted: ImportStatement,
    invocation: Invocation,
    search: SearchPath,
    folder: str,
    seconds: float,
    begun: Callable[[], None],
) -> Trial:
    return try_import(
        runner,
        interpreter.executable,
        wanted.module,
        wanted.names,
        first=invocation.first if search.has_program else None,
        changes=invocation.changes,
        flags=invocation.flags,
        variables=invocation.variables,
        folder=folder,
        seconds=seconds,
        begun=begun,
    )


def _fill(answer: ImportAnswer, case: Case, machine: Machine) -> None:
    location = case.resolution.location
    trial = case.trial
    if trial is None:
        answer.outcome = "imports" if location is not None and location.kind == "builtin" else "undetermined"
        known = not case.search.unknown
        if case.missing is not None and known:
            answer.outcome = "fails"
        elif location is not None and known and location.kind in ("module", "package") and not case.wanted.names:
            answer.outcome = "imports"  # found where the interpreter would find it; what its code does was not tried
        answer.found_at = location.path if location is not None else None
    else:
        answer.seconds = trial.seconds or None
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
    if answer.outcome == "imports":
        answer.hides = [other.path for other in case.resolution.others]
    if answer.outcome == "fails" or (location is not None and location.kind == "namespace"):
        answer.findings, answer.not_judged = catalogue.explain(case, machine)
    elif answer.outcome == "imports" and _may_be_stale(case):
        stale = catalogue.module_of("stale-in-memory").look(case, machine)
        answer.findings = [stale] if stale is not None else []


def _may_be_stale(case: Case) -> bool:
    """What runs may hold what a fresh start would not."""
    return case.seat.seat in ("kernel", "notebook", "process")


def _development_owner(case: Case, machine: Machine, path: str) -> Installed | None:
    """A development install has its files outside the site folders: its metadata names the module."""
    if any(machine.reader.inside(path, prefix) for prefix in case.sites):
        return None
    if any(machine.reader.inside(path, entry) for entry in case.standard) or path.startswith("("):
        return None
    first = case.search.entries[0].entry if case.search.entries else None
    if first is not None and machine.reader.inside(path, first or machine.reader.folder):
        return None
    return machine.distribution_of_module(case.module, case.sites)
