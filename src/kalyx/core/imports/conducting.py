"""Carrying out an experiment: the import is tried again with a change, and both results are compared."""

from __future__ import annotations

from kalyx.core.imports.case import Case
from kalyx.core.imports.experiment import Experiment
from kalyx.core.imports.trial import Trial, missing_name, try_import
from kalyx.core.model.records import TrialOutcome, Tried
from kalyx.core.system.runner import Runner


def conduct(case: Case, experiment: Experiment, runner: Runner, seconds: float) -> Tried:
    """Try the import with the change; returns the outcome."""
    trial = try_with(case, experiment, runner, seconds)
    return Tried(changed=experiment.message, outcome=outcome_of(case, trial), seconds=round(trial.seconds, 3))


def try_with(case: Case, experiment: Experiment, runner: Runner, seconds: float) -> Trial:
    """Try the import with the change."""
    invocation = case.invocation
    variables = {name: value for name, value in invocation.variables.items() if name not in experiment.without}
    flags = [flag for flag in invocation.flags if flag not in experiment.flags_out]
    keeps_away = {"-I", "-P"} & set(flags) or variables.get("PYTHONSAFEPATH")
    let_in = not keeps_away and bool(experiment.flags_out or "PYTHONSAFEPATH" in experiment.without)
    first = invocation.first if case.search.has_program or let_in else None
    if first is not None and experiment.folder is not None:
        first = case.resolver.reader.join(case.resolver.folder, first)  # the same folder, from wherever it runs
    return try_import(
        runner,
        case.interpreter.executable,
        case.wanted.module,
        case.wanted.names,
        first=first,
        changes=(*invocation.changes, *experiment.changes),
        flags=(*flags, *experiment.flags_in),
        variables=variables | dict(experiment.given),
        folder=experiment.folder or case.resolver.folder,
        seconds=seconds,
    )


def outcome_of(case: Case, trial: Trial) -> TrialOutcome:
    """The outcome, compared with the first trial."""
    if not trial.answered:
        return "gives no answer"
    if trial.imports:
        return "imports"
    before, after = case.raised, trial.root
    if before is None or after is None:
        return "fails otherwise"
    gone = missing_name(after)
    if gone is not None and gone != missing_name(before) and (case.module + ".").startswith(gone + "."):
        return "finds nothing"  # what was left out was the only module of that name
    # Paths in the message may differ between trials; the missing name and the kind of failure are compared.
    alike = before.type == after.type and missing_name(before) == missing_name(after)
    if alike and missing_name(before) is None:
        alike = (
            before.text == after.text
            or [frame.file for frame in before.frames][-1:] == [frame.file for frame in after.frames][-1:]
        )
    return "fails alike" if alike else "fails otherwise"
