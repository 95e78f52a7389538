"""Carrying out fixes of what was found, as they are printed."""

from __future__ import annotations

from collections.abc import Callable

from kalyx.core.actions.installer import CommandFailed, run_step
from kalyx.core.diagnosis import fixes
from kalyx.core.environments.reading import looks_like_environment
from kalyx.core.interpreters.consent import has_entered, not_to_be_run
from kalyx.core.machine import Machine
from kalyx.core.model.records import ChangePlan, Finding, Fix, ImportAnswer, KalyxError, Seat
from kalyx.core.model.steps import CreateEnvironment, RemakeEnvironment, RemoveEnvironment, Step, UnregisterKernel
from kalyx.core.system import Reader
from kalyx.core.text.visible import visible


def fixes_to_try(answers: list[ImportAnswer]) -> tuple[Finding, list[Fix]] | None:
    """The fixes of the first failure that can be carried out; those that were tried and work come first.

    None where nothing failed. Raises KalyxError where all are to be done by hand.
    """
    failing = [answer for answer in answers if answer.findings]
    if not failing:
        return None
    finding = failing[0].findings[0]
    if not finding.fixes:
        raise KalyxError(f"no fix is known for this: {visible(finding.message)}")
    left = [fix for fix in finding.fixes if fix.tried != "fails"]
    if not left:
        raise KalyxError(f"none of the fixes that were tested works here: {visible(finding.message)}")
    able = [fix for fix in left if fix.steps and all(map(_is_carried_out, fix.steps))]
    works = [fix for fix in able if fix.tried == "works"]
    if works or (able and able[0] is left[0]):
        remainder = [fix for fix in able if fix not in works]
        # A fix that removes something must be the first: the user did not agree to it instead of another.
        return finding, [
            *works,
            *(fix for fix in remainder if fix is left[0] or not any(step.destroys for step in fix.steps)),
        ]
    by_hand = [step.line for step in left[0].steps if not _is_carried_out(step)]
    what = f"{left[0].message}: {'; '.join(by_hand)}" if by_hand else left[0].message
    raise KalyxError(f"the first fix must be done by hand: {visible(what)}")


def _is_carried_out(step: Step) -> bool:
    """Whether Kalyx carries a step out; to run what was asked about another way is for the user to do."""
    return step.changes and step.command is not None


def is_gone(fix: Fix, before: list[ImportAnswer], after: list[ImportAnswer]) -> bool:
    """Whether the first failure is gone: the module imports, or the import fails at something else.

    Where no interpreter started before, an environment that was recreated and starts one is that; so is one that was
    removed.
    """
    if any(isinstance(step, RemoveEnvironment) for step in fix.steps):
        return True
    recreates = any(isinstance(step, (RemakeEnvironment, CreateEnvironment)) for step in fix.steps)
    for was in before:
        if was.findings:
            now = next((answer for answer in after if answer.statement == was.statement), None)
            if now is None or now.outcome == "imports":
                return True
            if was.error is None:
                return recreates and now.error is not None
            return now.error is not None and now.error.text != was.error.text
    return True


def removes_the_seat(fix: Fix) -> bool:
    """Whether a fix removes the environment or the kernel that was asked about, so that nothing can be asked there."""
    return any(isinstance(step, (RemoveEnvironment, UnregisterKernel)) for step in fix.steps)


def plan_of(fix: Fix) -> list[ChangePlan]:
    """The plan: each line, and the paths that it changes."""
    lines = [step.line for step in fix.steps]
    return [ChangePlan(action=f"run {line}", path=", ".join(fix.changes)) for line in lines]


def carry_out(
    machine: Machine,
    fix: Fix,
    seat: Seat,
    tell: Callable[[str], None],
    keep: Callable[[Step], None] = lambda step: None,
) -> None:
    """Run its steps in order, and ``keep`` before each. Raises KalyxError with the reason of the first that fails."""
    own = _asked_about(machine.reader, seat)
    for step in fix.steps:
        assert step.command is not None
        tell(step.line)
        _refuse_what_is_not_the_users(machine, step, own)
        keep(step)
        try:
            run_step(machine, step, tell)
        except CommandFailed as failed:
            if step.command[0] != "kalyx":
                raise
            raise KalyxError(f"{visible(step.line)}: {failed.reason}{failed.whole}") from None


def _asked_about(reader: Reader, seat: Seat) -> set[str]:
    """What a seat runs; of a path that starts nothing the environment that the user named by it."""
    if seat.interpreter is not None:
        return {seat.interpreter.executable, seat.interpreter.prefix}
    if seat.seat == "path" and seat.source is not None:
        return {seat.source, reader.parent(reader.parent(seat.source))}
    return set()


def _refuse_what_is_not_the_users(machine: Machine, step: Step, own: set[str]) -> None:
    """Check a step right before it is carried out: only what is the user's own may be moved, removed or started.

    ``own``: what the user named, or the seat asked about runs.
    """
    reader = machine.reader
    for path in [path for path in step.places() if reader.path.isabs(path)]:
        # A fix may start another environment; one that is only below the current folder is not started for that.
        if path not in own and not_to_be_run(reader, path) is not None:
            prefix = path if looks_like_environment(reader, path) else reader.parent(reader.parent(path))
            if prefix not in own and looks_like_environment(reader, prefix) and not has_entered(reader, prefix):
                message = "may have come with the current folder, and you did not name it; if you trust it, run"
                raise KalyxError(f"{visible(prefix)} {message}: {visible(step.line)}")
    for path in step.moved():
        whose = fixes.not_the_users_own(machine, path) if reader.may_be_there(path) else None
        if whose is not None:
            raise KalyxError(f"{visible(path)} belongs to {visible(whose)}: nothing was done")
