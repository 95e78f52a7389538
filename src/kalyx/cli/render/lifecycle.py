"""Environments being made: the plan, and what came of it."""

from __future__ import annotations

import argparse

from kalyx.cli.render.colours import BLUE, ORANGE
from kalyx.cli.render.kernels import draw_rehearsal
from kalyx.cli.render.screen import Screen
from kalyx.cli.render.stories import WORDS
from kalyx.core.facts import PrepareAnswer
from kalyx.core.machine import Machine
from kalyx.core.text import visible


def draw_prepare(screen: Screen, machine: Machine, answer: PrepareAnswer, options: argparse.Namespace) -> None:
    """The plan of a dry run; or the environment, its packages, its imports, its kernel."""
    if not answer.done:
        for deed in answer.plan:
            screen.line((f"will {visible(deed.deed)}", BLUE), "  ", screen.path(deed.path))
        for step in answer.steps:
            screen.line("   ", (visible(step), "bold"))
        screen.line("nothing was changed: this was a dry run")
        return
    environment = answer.environment
    if environment is not None:
        screen.line(
            ("made", BLUE), f"  {visible(environment.name)}, {environment.version}  ", screen.path(environment.prefix)
        )
    for package in answer.packages:
        screen.line("   ", f"{visible(package.name)} {visible(package.version or '')}")
    for one in answer.imports:
        word, colour = WORDS[one.outcome]
        said = f"  {one.error.type}: {visible(one.error.text)}" if one.error else ""
        screen.line("   ", (visible(one.statement), "bold"), "  ", (word, colour), said)
    for note in answer.notes:
        screen.line("   ", ("note  ", ORANGE), screen.shown(note))
    if answer.rehearsal is not None:
        screen.blank()
        draw_rehearsal(screen, answer.rehearsal, options.verbose)
    if environment is not None:
        screen.blank()
        screen.line("   to enter it: ", (machine.line(["kalyx", "enter", environment.prefix]), "bold"))
