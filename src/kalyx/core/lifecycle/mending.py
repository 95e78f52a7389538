"""Carrying out the first remedy of what was found, as it is printed."""

from __future__ import annotations

import sys
from collections.abc import Callable

from kalyx.core.facts import ChangePlan, Finding, ImportAnswer, KalyxError, Remedy
from kalyx.core.lifecycle.installer import run_to_end
from kalyx.core.machine import Machine
from kalyx.core.text import visible


def first_remedy(answers: list[ImportAnswer]) -> tuple[Finding, Remedy] | None:
    """The first remedy of the first failure; None where nothing failed. Raises KalyxError for one to do by hand."""
    failing = [one for one in answers if one.findings]
    if not failing:
        return None
    finding = failing[0].findings[0]
    if not finding.remedies:
        raise KalyxError(f"no remedy is known for this: {visible(finding.says)}")
    remedy = finding.remedies[0]
    by_hand = [step.line for step in remedy.steps if step.command is None]
    if by_hand or not remedy.steps:
        raise KalyxError(f"the first remedy is to be done by hand: {visible('; '.join(by_hand) or remedy.says)}")
    return finding, remedy


def plan_of(remedy: Remedy) -> list[ChangePlan]:
    """What carrying it out would touch."""
    lines = [step.line for step in remedy.steps]
    return [ChangePlan(deed=f"run {line}", path=", ".join(remedy.touches)) for line in lines]


def carry_out(machine: Machine, remedy: Remedy, tell: Callable[[str], None]) -> None:
    """Run its steps in order. Raises KalyxError with the reason of the first that fails."""
    for step in remedy.steps:
        assert step.command is not None
        tell(step.line)
        own = step.command[0] == "kalyx"
        words = [sys.executable, "-m", *step.command, "--yes"] if own else step.command
        run_to_end(machine, words, tell)
