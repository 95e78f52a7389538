"""Carrying out the first remedy of what was found, as it is printed."""

from __future__ import annotations

from collections.abc import Callable

from kalyx.core.deeds.installer import run_to_end
from kalyx.core.doors.own import own_command
from kalyx.core.environments.reading import looks_like_environment
from kalyx.core.findings import remedies
from kalyx.core.interpreters.consent import has_entered, lies_in_tree
from kalyx.core.machine import Machine
from kalyx.core.records import ChangePlan, Finding, ImportAnswer, KalyxError, Remedy, Seat
from kalyx.core.words.visible import visible


def first_remedy(answers: list[ImportAnswer]) -> tuple[Finding, Remedy] | None:
    """Of the first failure the first remedy that was tried and works, else one that does not fail.

    None where nothing failed. Raises KalyxError for one to do by hand.
    """
    failing = [one for one in answers if one.findings]
    if not failing:
        return None
    finding = failing[0].findings[0]
    if not finding.remedies:
        raise KalyxError(f"no remedy is known for this: {visible(finding.says)}")
    able = [one for one in finding.remedies if one.steps and all(step.command is not None for step in one.steps)]
    works = [one for one in able if one.tried == "works"]
    left = [one for one in finding.remedies if one.tried != "fails"]
    if not left:
        raise KalyxError(f"no remedy that is known works here, as far as it was tried: {visible(finding.says)}")
    remedy = (works or left)[0]
    by_hand = [step.line for step in remedy.steps if step.command is None]
    if by_hand or not remedy.steps:
        raise KalyxError(f"the first remedy is to be done by hand: {visible('; '.join(by_hand) or remedy.says)}")
    return finding, remedy


def plan_of(remedy: Remedy) -> list[ChangePlan]:
    """What carrying it out would touch."""
    lines = [step.line for step in remedy.steps]
    return [ChangePlan(deed=f"run {line}", path=", ".join(remedy.touches)) for line in lines]


def carry_out(machine: Machine, remedy: Remedy, seat: Seat, tell: Callable[[str], None]) -> None:
    """Run its steps in order. Raises KalyxError with the reason of the first that fails."""
    own = (seat.interpreter.executable, seat.interpreter.prefix) if seat.interpreter is not None else ()
    for step in remedy.steps:
        assert step.command is not None
        tell(step.line)
        words = own_command([*step.command[1:], "--yes"]) if step.command[0] == "kalyx" else step.command
        _not_past_what_is_kept(machine, step.command, own)
        run_to_end(machine, words, tell)


def _not_past_what_is_kept(machine: Machine, argv: list[str], own: tuple[str, ...]) -> None:
    """Looked at once more, right before it is done: nothing that is not the user's own is moved, removed or started.

    ``own``: what the user named, or the seat asked about runs.
    """
    for word in argv:
        # A remedy may lead to another environment: one that only lies in the folder stood in is not started for that.
        if machine.facts.path.isabs(word) and word not in own and lies_in_tree(machine.facts, word) is not None:
            prefix = word if argv[0] == "kalyx" else machine.facts.parent(machine.facts.parent(word))
            if looks_like_environment(machine.facts, prefix) and not has_entered(machine.facts, prefix):
                says = "lies in the folder you stand in, and you did not name it; do this by hand if you trust it"
                raise KalyxError(f"{visible(prefix)} {says}: {visible(machine.line(argv))}")
    if argv[0] in ("rm", "mv"):
        links = machine.facts.kind
        for path in [word for word in argv[1:] if machine.facts.path.isabs(word) and links(word) is not None]:
            whose = remedies.not_the_users_own(machine, path)
            if whose is not None:
                raise KalyxError(f"{visible(path)} belongs to {visible(whose)}: nothing was done")
