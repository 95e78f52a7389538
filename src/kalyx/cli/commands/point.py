"""``kalyx point``: make a notebook use an environment."""

from __future__ import annotations

import argparse

from kalyx.cli.calls import Call
from kalyx.cli.start import changing
from kalyx.core.doors.change import LiveChange
from kalyx.core.facts import KalyxError, PointAnswer
from kalyx.core.lifecycle import pointing
from kalyx.core.seats.notebook import ENDING
from kalyx.core.seats.running import live_kernels
from kalyx.core.targets import resolve, seat_of_notebook
from kalyx.core.text import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("seat", metavar="SEAT", help="the notebook to change: notebook:FILE or a path to it")
    parser.add_argument("target", nargs="?", metavar="TARGET", help="the kernel or the environment it is to use")
    parser.add_argument("--undo", action="store_true", help="put back what it asked for before")
    changing(parser)


def run(call: Call) -> int:
    machine = call.machine
    path = _notebook(call)
    if call.options.undo:
        change = pointing.plan_undo(machine, path)
    else:
        if call.options.target is None:
            raise KalyxError("name the kernel or the environment it is to use")
        kernel = pointing.kernel_for(machine, resolve(machine, call.options.target))
        if kernel.interpreter is None and kernel.language in ("", "python"):
            raise KalyxError(f"kernel {kernel.id} starts nothing ({kernel.reason}); the notebook was not changed")
        change = pointing.plan(machine, path, kernel)
    answer = PointAnswer(plan=change.deeds, path=path, was=change.was)
    if change.after == change.before:
        answer.done, answer.notes = True, ["it asks for that kernel already"]
    elif not call.options.dry_run:
        if not call.as_json and not call.options.yes:
            _show(call, answer)
        call.may_change(change.deeds, f"Change {path}?")
        answer.undo = pointing.carry_out(machine, change, LiveChange())
        answer.done = True
        _prove(call, answer, path)
    return _show(call, answer)


def _notebook(call: Call) -> str:
    text = call.options.seat
    path = text.removeprefix("notebook:")
    if not text.startswith("notebook:") and not text.endswith(ENDING):
        raise KalyxError(f"{visible(text)!r}: point changes notebooks; write notebook:FILE")
    path = call.machine.facts.absolute(path)
    if call.machine.facts.kind(path) is None:
        raise KalyxError(f"{visible(path)}: there is no such notebook")
    return str(path)


def _prove(call: Call, answer: PointAnswer, path: str) -> None:
    """Read anew what it asks for and what that starts; say what still runs with what it was."""
    fresh = Call(call.options).machine
    answer.seat = seat_of_notebook(fresh, path)
    for live in live_kernels(fresh.facts, fresh.servers, fresh.ask_server, []):
        if live.notebook == path:
            answer.notes.append(f"it is open, and process {live.process.pid} still runs for it: reload the page, "
                                "then restart its kernel")  # fmt: skip


def _show(call: Call, answer: PointAnswer) -> int:
    if call.as_json:
        call.print_json(answer)
        return 0
    from kalyx.cli.render.colours import BLUE, QUIET
    from kalyx.cli.render.stories import place_of

    screen = call.screen
    for deed in answer.plan:
        word = "changed" if answer.done else "would change" if call.options.dry_run else "will change"
        screen.line((word.ljust(14), BLUE), screen.path(deed.path))
        screen.line("".ljust(14), "to " + visible(deed.deed))
    if answer.seat is not None:
        screen.line(("now runs".ljust(14), BLUE), place_of(screen, answer.seat))
    for note in answer.notes:
        screen.line(("note".ljust(14), QUIET), screen.shown(note))
    if answer.undo:
        screen.line(("to undo".ljust(14), BLUE), (call.machine.line(answer.undo), "bold"))
    return 0
