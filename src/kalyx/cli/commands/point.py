"""``kalyx point``: make an editor, a run configuration or a notebook use an environment."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core import signals
from kalyx.core.actions import pointing
from kalyx.core.model.action_results import PointAnswer
from kalyx.core.model.records import KalyxError
from kalyx.core.seats.notebook import ENDING, notebook_seat, read_notebook
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.targets import resolve
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    seat = "what to change: notebook:FILE, editor (this folder's settings), editor:FILE, editor:FILE#NAME (of several)"
    parser.add_argument("seat", metavar="SEAT", help=seat)
    parser.add_argument("target", nargs="?", metavar="TARGET", help="the kernel or the environment it is to use")
    parser.add_argument("--undo", action="store_true", help="put back what was there before")
    changing(parser)


def run(call: Call) -> int:
    text = call.options.seat
    if not call.options.undo and call.options.target is None:
        raise KalyxError("name the kernel or the environment it is to use")
    if text.startswith("notebook:") or text.endswith(ENDING):
        return _point_notebook(call)
    if text == "editor" or text.startswith("editor:"):
        return _point_editor(call)
    raise KalyxError(
        f"{visible(text)!r}: point changes settings and notebooks; write editor, editor:FILE or notebook:FILE"
    )


def _point_notebook(call: Call) -> int:
    machine = call.machine
    path = _notebook(call)
    if call.options.undo:
        change = pointing.plan_undo(machine, path)
    else:
        kernel = pointing.kernel_for(machine, resolve(machine, call.options.target))
        if kernel.interpreter is None and kernel.language in ("", "python"):
            raise KalyxError(f"kernel {kernel.id} starts nothing ({kernel.reason}); the notebook was not changed")
        change = pointing.plan(machine, path, kernel)
    answer = PointAnswer(plan=change.plan, path=path, was=change.was)
    if _carried_out(call, change, answer, "it asks for that kernel already"):
        _prove(call, answer, path)
    return _show(call, answer)


def _point_editor(call: Call) -> int:
    from kalyx.core.actions import editor_settings

    machine = call.machine
    path, named = _settings(call)
    if call.options.undo:
        change = pointing.plan_undo(machine, path)
        answer = PointAnswer(plan=change.plan, path=path)
        _carried_out(call, change, answer, "")
        return _show(call, answer)
    target = resolve(machine, call.options.target)
    change = editor_settings.plan(machine, path, named, target)
    answer = PointAnswer(
        plan=change.plan, path=path, was=change.was, notes=editor_settings.warnings(machine, change, target)
    )

    def proof() -> None:
        answer.seat = editor_settings.proof(call.reread().machine, path, target)

    if _carried_out(call, change, answer, "it chooses that already", proof):
        answer.notes.append(
            "an open editor reads the file when the folder is opened again;"
            " running programs keep their interpreter until restarted"
        )
    return _show(call, answer)


def _carried_out(
    call: Call,
    change: pointing.Pointing,
    answer: PointAnswer,
    already: str,
    proof: Callable[[], object] = lambda: None,
) -> bool:
    """Show the change, ask, and make it; returns whether it was made. Its inverse is kept for ``--undo``."""
    if change.after == change.before and not change.goes:
        answer.done, answer.notes = True, [already]
        return False
    if call.options.dry_run:
        return False
    if not call.as_json and not call.options.yes:
        _show(call, answer)
    call.may_change(f"Change {change.path}?")
    with signals.held():
        undo = pointing.carry_out(call.machine, change, proof)
        signals.over()  # it is changed: the answer with its undo line is printed whatever arrives now
    answer.undo = None if call.options.undo and change.goes else undo
    answer.done = True
    return not change.goes


def _settings(call: Call) -> tuple[str, str | None]:
    """The settings file that a word means, and the name of one of several configurations in it."""
    reader = call.machine.reader
    word = call.options.seat.removeprefix("editor").removeprefix(":")
    if word:
        file, _, named = word.partition("#")
        return reader.absolute(file), named or None
    from kalyx.core.seats.editor import editor_seats

    own = [
        seat
        for seat in editor_seats(reader, reader.folder)
        if seat.source and reader.inside(seat.source, reader.folder)
    ]
    if not own:
        raise KalyxError("no settings file in this folder chooses an interpreter; name the one to make: editor:FILE")
    return str(own[0].source), None


def _notebook(call: Call) -> str:
    path = call.machine.reader.absolute(call.options.seat.removeprefix("notebook:"))
    if not call.machine.reader.may_be_there(path):
        raise KalyxError(f"{visible(path)}: {NOTHING_THERE}")
    return str(path)


def _prove(call: Call, answer: PointAnswer, path: str) -> None:
    """Read again which kernel the notebook asks for and what that starts; note which processes still run as before."""
    fresh = call.reread().machine
    notebook = read_notebook(fresh.reader, path)
    kernel = fresh.kernel_by_id(notebook.kernel or "")
    answer.seat, answer.seen_by = notebook_seat(fresh.reader, notebook, kernel, fresh.server), fresh.server.answers
    if kernel is not None:
        answer.notes += pointing.open_notes(fresh, path, kernel)


def _show(call: Call, answer: PointAnswer) -> int:
    if call.as_json:
        call.print_json(answer)
        return 0
    from kalyx.cli.render.colours import BLUE, QUIET
    from kalyx.cli.render.stories import place_of

    screen = call.screen
    for change in answer.plan:
        word = "changed" if answer.done else "change"
        screen.line((word.ljust(14), BLUE), screen.path(change.path))
        to = "to " if change.path.endswith(ENDING) else ""
        screen.line("".ljust(14), to + screen.shown(change.action))
    if answer.seat is not None:
        screen.line(("now runs".ljust(14), BLUE), place_of(screen, answer.seat))
    if answer.seen_by:
        screen.line(("server".ljust(14), QUIET), screen.shown(answer.seen_by))
    for note in answer.notes:
        screen.line(("note".ljust(14), QUIET), screen.shown(note))
    if answer.undo:
        screen.line(("to undo".ljust(14), BLUE), (call.machine.line(answer.undo), "bold"))
    return 0
