"""``kalyx unregister``: remove kernels, saying what stays."""

from __future__ import annotations

import argparse

from kalyx.cli.context import Call
from kalyx.cli.render.colours import BLUE
from kalyx.cli.render.survey import said_size
from kalyx.cli.start import changing
from kalyx.core import signals
from kalyx.core.actions import unregistering
from kalyx.core.actions.transaction import Transaction
from kalyx.core.model.action_results import UnregisterAnswer
from kalyx.core.model.records import ChangePlan, Kernel


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("ids", nargs="+", metavar="ID", help="the kernels to remove, by id or by folder")
    parser.add_argument("--undo", action="store_true", help="restore what was removed or replaced last under this id")
    changing(parser)


def run(call: Call) -> int:
    ids = [identifier.removeprefix("kernel:") for identifier in call.options.ids]
    if call.options.undo:
        return _undo(call, ids)
    kernels = [unregistering.removable(call.machine, identifier) for identifier in dict.fromkeys(ids)]
    plan = [ChangePlan(action="remove", path=kernel.folder) for kernel in kernels]
    answer = UnregisterAnswer(plan=plan, stays=list(dict.fromkeys(_stays(call, kernel) for kernel in kernels)))
    if call.options.dry_run:
        return _show(call, answer)
    if not call.as_json and not call.options.yes:
        _show(call, answer)
    call.may_change("Remove " + ", ".join(kernel.id for kernel in kernels) + "?")
    with signals.held():
        with Transaction(call.machine.reader, call.machine.writer) as transaction:
            answer.undo = unregistering.remove(call.machine, kernels, transaction)
            transaction.commit()
        for kernel in kernels:
            unregistering.forget_older(call.machine, kernel.folder)
        answer.done = True
        signals.over()
    return _show(call, answer)


def _stays(call: Call, kernel: Kernel) -> str:
    if kernel.environment is None and kernel.undecided:
        return f"what {kernel.id} starts is not known ({kernel.reason})"
    if kernel.environment is None:
        return f"{kernel.id} starts an interpreter that does not exist ({kernel.reason or 'its file cannot be used'})"
    where = f"the environment {kernel.environment.name} stays in {kernel.environment.prefix}"
    if kernel.environment.kind == "installation":
        return where
    size, _ = call.machine.reader.usage(kernel.environment.prefix)
    return f"{where} ({said_size(size)})"


def _undo(call: Call, ids: list[str]) -> int:
    folders = [unregistering.removed_folder(call.machine, item) for item in dict.fromkeys(ids)]
    kept = [unregistering.restorable(call.machine, folder) for folder in folders]
    answer = UnregisterAnswer(plan=[ChangePlan(action="put back", path=item) for item in kept])
    if not call.options.dry_run:
        if not call.as_json and not call.options.yes:
            _show(call, answer)
        call.may_change("Put back " + ", ".join(ids) + "?")
        with signals.held():
            unregistering.restore(call.machine, folders)
            signals.over()
        answer.stays = [f"it was restored in {folder}" for folder in folders]
        answer.done = True
    return _show(call, answer)


def _show(call: Call, answer: UnregisterAnswer) -> int:
    if call.as_json:
        call.print_json(answer)
        return 0
    screen = call.screen
    for change in answer.plan:
        done = {"remove": "removed", "put back": "taken from"}.get(change.action, change.action)
        word = done if answer.done else change.action
        screen.line((word.ljust(16), BLUE), screen.path(change.path))
    for text in answer.stays:
        screen.line(("".ljust(16)), screen.shown(text))
    if answer.undo:
        screen.line(("to undo".ljust(16), BLUE), (call.machine.line(answer.undo), "bold"))
    return 0
