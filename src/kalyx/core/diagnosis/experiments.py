"""Which candidate is the cause: the experiments of the candidates are carried out in order, until one is proven.

A cause that a header, a link or a file proves needs no experiment. A candidate whose experiment makes the import work,
or fail at something else, comes before those only read; one whose experiment changes nothing comes after them.
"""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.imports.case import Case
from kalyx.core.imports.conducting import conduct, try_with
from kalyx.core.imports.experiment import Experiment
from kalyx.core.imports.names import parse_wanted
from kalyx.core.interpreters.consent import not_to_be_run
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, KalyxError, Tried
from kalyx.core.model.steps import RunWith, RunWithout, WriteImport

_AT_MOST = 4
_FOR_NOTHING = 6.0  # seconds for trying fixes that change nothing
_SECONDS = 30.0  # for all fixes of one import


def proven_first(findings: list[Finding], case: Case, machine: Machine) -> list[Finding]:
    """The findings, those proven by a trial first, those refuted last, each with its certainty."""
    may = machine.runner is not None and case.trial is not None and case.trial.answered
    before: list[Finding] = []
    refuted: list[Finding] = []
    left, spent = list(findings), 0.0
    known: dict[Experiment, Tried] = {}  # two causes may propose the same
    while left:
        finding = left.pop(0)
        experiment = case.proposed(finding.cause)
        if experiment is not None and not_to_be_run(machine.reader, *experiment.put) is not None:
            experiment = None
        if experiment is None:
            before.append(finding)
            if finding.certainty == "proven":
                break  # this finding needs no other proof and is shown first
            continue
        if not may or machine.runner is None or len(refuted) >= _AT_MOST or spent > _SECONDS:
            before.append(_as_likely(finding))
            continue
        if experiment not in known:
            known[experiment] = conduct(case, experiment, machine.runner, machine.seconds)
            spent += known[experiment].seconds
        tried = known[experiment]
        finding = replace(finding, experiments=[*finding.experiments, tried])
        if tried.helped:
            evidence = [*finding.evidence, _as_evidence(experiment, tried)]
            finding = replace(finding, certainty="proven", evidence=evidence)
            ahead = [finding, *before] if experiment.leads else [*before, finding]
            return [*ahead, *_as_read(left, case), *refuted]
        if experiment.refutes:
            refuted.append(replace(finding, certainty="possible"))
        else:
            before.append(_as_likely(finding))
    return [*before, *_as_read(left, case), *refuted]


def tested_for_nothing(finding: Finding, case: Case, machine: Machine) -> Finding:
    """The finding; those of its fixes tried that change nothing and start nothing but the seat's own interpreter.

    Those are another way to write the import, and the same command with other variables or without a flag.
    """
    runner, spent, tested = machine.runner, 0.0, list[Fix]()
    if runner is None or case.trial is None or (not case.trial.answered and case.trial.problem):
        return finding
    for fix in finding.fixes:
        attempt = _attempt_of(fix, case, machine) if fix.tried is None and spent < _FOR_NOTHING else None
        trial = try_with(*attempt, runner, machine.seconds) if attempt is not None else None
        spent += trial.seconds if trial is not None else 0.0
        # What could not be started was not tried.
        tested.append(fix.was_tried(trial.imports) if trial is not None and trial.problem is None else fix)
    return replace(finding, fixes=tested)


def _attempt_of(fix: Fix, case: Case, machine: Machine) -> tuple[Case, Experiment] | None:
    """The case and what is changed about it, for a fix of one step; None where more than a start would be needed."""
    step = fix.steps[0] if len(fix.steps) == 1 else None
    if isinstance(step, WriteImport):
        try:
            (wanted,) = parse_wanted(step.statement)
        except (KalyxError, ValueError):
            return None
        return replace(case, wanted=wanted), Experiment("written so")
    if isinstance(step, RunWithout):
        return case, Experiment("without a flag", flags_out=(step.flag,), without=(step.flag,))
    if isinstance(step, RunWith) and not step.same_words and step.words[:1] == case.command[:1]:
        given = {name: value for name, value in step.variables.items() if value is not None}
        entries = given.get("PYTHONPATH", "").split(machine.reader.path.pathsep)
        if not_to_be_run(machine.reader, *filter(None, entries)) is None:
            without = tuple(name for name, value in step.variables.items() if value is None)
            out = tuple(flag for flag in case.invocation.flags if flag not in case.flags_of(step.words))
            return case, Experiment("as typed", without=without, given=tuple(given.items()), flags_out=out)
    return None


def _as_read(findings: list[Finding], case: Case) -> list[Finding]:
    """Findings without a trial: a finding that a trial could have refuted does not count as proven."""
    return [_as_likely(finding) if case.proposed(finding.cause) is not None else finding for finding in findings]


def _as_likely(finding: Finding) -> Finding:
    return replace(finding, certainty="likely") if finding.certainty == "proven" else finding


def _as_evidence(experiment: Experiment, tried: Tried) -> Evidence:
    came = "it imports" if tried.outcome == "imports" else "it comes further, and fails at something else"
    return Evidence(fact=f"{experiment.message} {came}", source="tried")
