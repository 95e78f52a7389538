"""Which candidate it is: the experiments of those that can be taken away, in order, until one is proven.

What a header, a link or a file leaves no other way for needs none. A candidate whose experiment makes the import work,
or fail at something else, comes before those only read; one whose experiment changes nothing falls behind them.
"""

from __future__ import annotations

from kalyx.core.imports.case import Case
from kalyx.core.imports.conducting import conduct
from kalyx.core.imports.experiment import Experiment
from kalyx.core.interpreters.consent import not_to_be_run
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Tried

_AT_MOST = 4
_SECONDS = 30.0  # for all of one import's


def proven_first(findings: list[Finding], case: Case, machine: Machine) -> list[Finding]:
    """The same findings: what was proven by trying first, what was refuted last; and how certain each is by now."""
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
                break  # it needs no other proof, and stands before the rest
            continue
        if not may or machine.runner is None or len(refuted) >= _AT_MOST or spent > _SECONDS:
            finding.certainty = "likely" if finding.certainty == "proven" else finding.certainty
            before.append(finding)
            continue
        if experiment not in known:
            known[experiment] = conduct(case, experiment, machine.runner, machine.seconds)
            spent += known[experiment].seconds
        tried = known[experiment]
        finding.experiments.append(tried)
        if tried.outcome in ("imports", "fails otherwise"):
            finding.certainty = "proven"
            finding.evidence.append(_as_evidence(experiment, tried))
            ahead = [finding, *before] if experiment.leads else [*before, finding]
            return [*ahead, *_as_read(left, case), *refuted]
        if experiment.refutes:
            finding.certainty = "possible"
            refuted.append(finding)
        else:
            finding.certainty = "likely" if finding.certainty == "proven" else finding.certainty
            before.append(finding)
    return [*before, *_as_read(left, case), *refuted]


def _as_read(findings: list[Finding], case: Case) -> list[Finding]:
    """Those that were not tried: what nobody tried to refute, and could have, is not proven."""
    for finding in findings:
        if case.proposed(finding.cause) is not None and finding.certainty == "proven":
            finding.certainty = "likely"
    return findings


def _as_evidence(experiment: Experiment, tried: Tried) -> Evidence:
    came = "it imports" if tried.outcome == "imports" else "it comes further, and fails at something else"
    return Evidence(fact=f"{experiment.message} {came}", source="tried")
