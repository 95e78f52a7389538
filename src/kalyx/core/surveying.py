"""The survey as an answer: everything found, judged, named and tied to its kernels."""

from __future__ import annotations

from collections.abc import Iterable

from kalyx.core.facts import SurveyAnswer
from kalyx.core.findings import catalogue
from kalyx.core.machine import Machine
from kalyx.core.survey import found_environments, make_names_unique


def survey(machine: Machine, under: Iterable[str]) -> SurveyAnswer:
    """Every interpreter and environment, each with its condition."""
    unread = machine.unread
    named = [kernel.environment.prefix for kernel in machine.kernels if kernel.environment]
    named += [part.environment.prefix for part in machine.shell_seat.parts if part.environment]
    pairs = found_environments(machine.facts, machine.interpreters, under, named, unread)
    environments = [catalogue.judge_environment(view, machine) for view, _ in pairs]
    make_names_unique(machine.facts, environments)
    by_key = {environment.key: environment for environment in environments}
    for kernel in machine.kernels:
        if kernel.environment is not None and kernel.environment.key in by_key:
            by_key[kernel.environment.key].kernels.append(kernel.key)
    return SurveyAnswer(interpreters=machine.interpreters, environments=environments, unread=unread)
