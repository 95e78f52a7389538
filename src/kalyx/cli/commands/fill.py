"""``kalyx fill``: add packages to an environment that exists, or take them out."""

from __future__ import annotations

import argparse

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core import signals
from kalyx.core.actions import filling
from kalyx.core.actions.backup import left_over, restore
from kalyx.core.actions.requested import wants
from kalyx.core.invocation import interpreter_of, refuse_unnamed
from kalyx.core.model.action_results import FillAnswer
from kalyx.core.model.records import KalyxError, VersionChange


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("target", metavar="TARGET", help="the environment to fill")
    parser.add_argument("requirement", nargs="*", metavar="REQUIREMENT", help="a package (nectarflow, nectarflow>=1.2)")
    parser.add_argument(
        "--from",
        dest="source",
        metavar="FILE",
        help="a requirements file, a pyproject.toml, a project's folder, or a script with inline dependencies",
    )
    parser.add_argument("--wheels", metavar="DIR", help="install from this folder of wheels, without network")
    parser.add_argument("--remove", action="store_true", help="remove these packages")
    parser.add_argument("--repair", action="store_true", help="roll back an interrupted fill")
    changing(parser)


def run(call: Call) -> int:
    machine, reader = call.machine, call.machine.reader
    if machine.runner is None:
        raise KalyxError("filling an environment starts its installer, and --static starts no program")
    wheels = call.wheels
    wanted = wants(reader, call.options.requirement, call.options.source)
    if not wanted.words and not call.options.repair:
        raise KalyxError("name at least one requirement, or a file of them with --from")
    seat = call.target_to_change(call.options.target)
    interpreter = interpreter_of(seat, machine)
    assert seat.environment is not None
    refuse_unnamed(seat, machine)
    notes = _put_back_first(call, seat.environment.prefix)
    if call.options.repair or (notes and call.options.dry_run):
        notes = notes or ["no fill was interrupted here: there is nothing to roll back"]
        answer = FillAnswer(environment=seat.environment, interpreter=interpreter, notes=notes)
        answer.done = not call.options.dry_run
        return _show(call, answer)
    order = filling.Order(
        interpreter=interpreter,
        environment=seat.environment,
        wants=wanted,
        wheels=wheels,
        remove=call.options.remove,
    )
    with call.progress("at work:") as tell:
        answer, commands = filling.plan(machine, order, tell)
    answer.notes += notes
    if not commands:
        answer.done = not call.options.dry_run
        return _show(call, answer)
    if not call.as_json:
        from kalyx.cli.render.lifecycle import draw_fill_plan

        draw_fill_plan(call.screen, answer)
    if not call.may_change(f"Go on in {seat.environment.prefix}?"):
        return _show(call, answer)
    planned = answer.moves
    with signals.held():
        with call.progress("at work:") as tell:
            filling.carry_out(machine, order, answer, commands, tell)
        # It is done: the answer with its undo line is printed whatever arrives now.
        answer.stopped = signals.over() or answer.stopped
    status = _show(call, answer, planned)
    return 128 + answer.stopped if answer.stopped else status


def _put_back_first(call: Call, prefix: str) -> list[str]:
    """Clear what a stopped run left, before anything is planned on it."""
    reader = call.machine.reader
    result = left_over(reader, prefix)
    if result != "unfinished":
        if result and not call.options.dry_run:
            restore(reader, prefix, call.machine.writer)
        return []
    if not call.may_change(f"A fill of {prefix} was interrupted. Roll it back first?"):
        then = "" if call.options.repair else ", and what is asked for is planned after that"
        return [f"a fill was interrupted here; it is rolled back first{then}"]
    restore(reader, prefix, call.machine.writer)
    return ["a fill was interrupted here; it was rolled back first"]


def _show(call: Call, answer: FillAnswer, planned: list[VersionChange] | None = None) -> int:
    failed = any(item.outcome == "fails" for item in answer.imports)
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.lifecycle import draw_fill

        draw_fill(call.screen, call.machine, answer, planned)
    return 1 if answer.done and (answer.broken or failed or answer.lacking) else 0
