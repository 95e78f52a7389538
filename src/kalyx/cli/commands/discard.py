"""``kalyx discard``: remove an environment with the kernels that start it."""

from __future__ import annotations

import argparse
import sys

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core import signals
from kalyx.core.actions import discarding
from kalyx.core.model.action_results import DiscardAnswer


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "target", metavar="TARGET", help="the environment to remove: its folder, or a seat that runs it"
    )
    parser.add_argument("--with-own-files", action="store_true", help="also delete files that no package installed")
    changing(parser)


def run(call: Call) -> int:
    machine = call.machine
    prefix = discarding.prefix_of(machine, call.options.target)
    with_own_files = call.options.with_own_files
    leaving = discarding.plan(machine, prefix, own_prefix=sys.prefix, with_own_files=with_own_files)
    if not call.options.dry_run:
        if not call.as_json and not call.options.yes:
            _show(call, leaving.answer)
        if call.may_change(f"Remove {prefix}?"):
            with signals.held():
                with call.progress("removing:") as tell:
                    discarding.carry_out(machine, leaving, tell)
                # The environment is removed: the answer is printed whatever arrives now.
                stopped = signals.over()
            status = _show(call, leaving.answer)
            return 128 + stopped if stopped else status
    return _show(call, leaving.answer)


def _show(call: Call, answer: DiscardAnswer) -> int:
    if call.as_json:
        if answer.done or call.options.dry_run:
            call.print_json(answer)
        return 0
    from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
    from kalyx.cli.render.survey import said_size

    screen = call.screen
    for change in answer.plan:
        done = {"remove": "removed", "remove kernel": "removed"}[change.action]
        word = done if answer.done else "remove"
        what = "the kernel in " if change.action == "remove kernel" else ""
        screen.line((word.ljust(14), BLUE), what, screen.path(change.path))
    if answer.size_bytes is not None:
        freed = "freed" if answer.done else "to be freed"
        screen.line(("space".ljust(14), BLUE), f"{said_size(answer.size_bytes)} {freed}")
    for item in answer.unowned[:10]:
        screen.line(("also removed".ljust(14), ORANGE), screen.shown(item))
    for pointer in answer.pointers:
        screen.line(("points there".ljust(14), ORANGE), screen.shown(pointer))
    for note in answer.notes:
        screen.line(("note".ljust(14), QUIET), screen.shown(note))
    return 0
