"""``kalyx register``: make an environment a notebook kernel, then rehearse it."""

from __future__ import annotations

import argparse

from msgspec import Struct

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core import signals
from kalyx.core.actions import filling, pointing, registering
from kalyx.core.actions.registering import Order, Plan
from kalyx.core.actions.requested import wants
from kalyx.core.diagnosis.conditions import kernel_package_absent
from kalyx.core.invocation import interpreter_of, refuse_unnamed
from kalyx.core.kernels.makers import KernelPackage, to_bring
from kalyx.core.kernels.specs import read_kernel, valid_id
from kalyx.core.model.action_results import FillAnswer, RehearsalAnswer
from kalyx.core.model.records import ChangePlan, Finding, KalyxError, Seat
from kalyx.core.queries.rehearse import rehearse
from kalyx.core.system.own_command import own_command
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("target", metavar="TARGET", help="the environment or interpreter to register")
    parser.add_argument("--id", metavar="ID", help="the kernel's id (from the environment's name)")
    parser.add_argument("--label", metavar="TEXT", help="the kernel's name in the server's list")
    parser.add_argument(
        "--reach",
        choices=("me", "env", "machine"),
        default="me",
        help="me: this user; env: servers started from the environment; machine: everyone",
    )
    parser.add_argument(
        "--own-path",
        action="store_true",
        help="put the environment first on the kernel's PATH, so !python and !pip use it",
    )
    parser.add_argument(
        "--variable", action="append", default=[], metavar="NAME=VALUE", help="a variable for the kernel"
    )
    parser.add_argument(
        "--bring-package", action="store_true", help="install a kernel package if the environment has none"
    )
    parser.add_argument("--wheels", metavar="DIR", help="install it from this folder of wheels, without network")
    parser.add_argument(
        "--notebook", metavar="FILE", help="make this notebook use the kernel, once the kernel has answered"
    )
    explaining(parser)
    parser.add_argument("--take-over", action="store_true", help="replace the kernel that has this id now")
    changing(parser)


def explaining(parser: argparse.ArgumentParser) -> None:
    """The option of a command that registers a kernel."""
    parser.add_argument(
        "--explain",
        action="store_true",
        help="make the kernel show Kalyx's answer below a cell that an import ended",
    )


def run(call: Call) -> int:
    if call.options.id is not None and not valid_id(call.options.id):
        raise KalyxError(f"{call.options.id!r} is not a kernel id: letters, digits, '-', '_' and '.' make one")
    seat = call.target_to_change(call.options.target)
    interpreter = interpreter_of(seat, call.machine, so="it can be no kernel")
    assert seat.environment is not None
    refuse_unnamed(seat, call.machine)
    kernel_package = registering.kernel_package_in(call.machine, interpreter)
    bringing = None
    if kernel_package is None and call.options.bring_package:
        bringing = _plan_kernel_package(call, seat)
        kernel_package = bringing.kernel_package
    if kernel_package is None:
        return _show(call, _refused(seat, kernel_package_absent.of_seat(call.machine, seat)))
    order = _order(call)
    if order.notebook is not None:
        pointing.read_for_change(call.machine.reader, order.notebook)  # refused before anything is changed
    plan = registering.plan_registration(call.machine, seat, order, kernel_package)
    if bringing is not None:
        plan.changes[:0] = bringing.answer.plan
    if order.notebook is not None:
        plan.changes.append(ChangePlan(action=f"ask for kernel {plan.identifier}", path=order.notebook))
    if call.options.dry_run:
        return _show(call, RehearsalAnswer(schema="kalyx.register/2", kernel=None, plan=plan.changes, notes=plan.notes))
    if not call.as_json and not call.options.yes:
        from kalyx.cli.render.kernels import draw_plan

        draw_plan(call.screen, plan.changes, plan.notes)
    call.may_change(f"Register {seat.environment.name} as {plan.identifier}?")
    with signals.held():
        answer = _carry_out(call, plan) if bringing is None else _bring_first(call, bringing, plan)
        if answer.done:
            # The kernel is registered: the answer with its undo line is printed whatever arrives now.
            answer.stopped = signals.over()
    if answer.done and not answer.stopped:
        if order.notebook is not None:
            answer.notes += _let_ask(call, order.notebook, plan)
        answer.notes += registering.server_notes(call.reread().machine, plan.identifier, plan.folder)
    status = _show(call, answer)
    return 128 + answer.stopped if answer.stopped else status


def _let_ask(call: Call, notebook: str, plan: Plan) -> list[str]:
    """Make the notebook ask for the kernel that was registered; returns the notes about that."""
    machine = call.reread().machine
    kernel = read_kernel(machine.reader, plan.folder, machine.server, call.options.reach)
    try:
        change = pointing.plan(machine, notebook, kernel)
        if change.after == change.before:
            return [f"{notebook} asks for {plan.identifier} already"]
        undo = pointing.carry_out(machine, change)
    except KalyxError as refusal:  # the kernel answered, and stays
        return [f"the notebook was not changed: {refusal.message}"]
    return [f"{notebook} asks for {plan.identifier} now; to undo that: {machine.line(undo)}",
            *pointing.open_notes(machine, notebook, kernel)]  # fmt: skip


class _Bringing(Struct):
    """A kernel package that is to be installed first."""

    kernel_package: KernelPackage
    order: filling.Order
    answer: FillAnswer
    commands: list[list[str]]


def _plan_kernel_package(call: Call, seat: Seat) -> _Bringing:
    """Plan the installation of a kernel package. Raises KalyxError where that is impossible or not allowed."""
    machine, reader = call.machine, call.machine.reader
    assert seat.interpreter is not None and seat.environment is not None
    if machine.runner is None:
        raise KalyxError(
            "installing a kernel package starts the environment's installer, and --static starts no program"
        )
    wheels = call.wheels
    kernel_package = to_bring(reader, wheels)
    order = filling.Order(
        interpreter=seat.interpreter,
        environment=seat.environment,
        wants=wants(reader, [kernel_package.distribution], None),
        wheels=wheels,
    )
    with call.progress("at work:") as tell:
        answer, commands = filling.plan(machine, order, tell)
    return _Bringing(kernel_package, order, answer, commands)


def _bring_first(call: Call, bringing: _Bringing, plan: Plan) -> RehearsalAnswer:
    """Install the kernel package, then register: both stay, or neither."""
    with (
        call.progress("at work:") as tell,
        filling.installed(call.machine, bringing.order, bringing.commands, tell) as transaction,
    ):
        answer = _carry_out(call, plan)
        if not answer.done:
            answer.notes += transaction.roll_back() or ["the packages that were installed for this were removed again"]
    if answer.done:
        brought = [move.name for move in bringing.answer.moves if move.before is None]
        answer.undo_packages = ["kalyx", "fill", bringing.order.environment.target, "--remove", *brought]
    return answer


def _order(call: Call) -> Order:
    variables = {}
    for pair in call.options.variable:
        name, equals, value = pair.partition("=")
        if not equals or not name or "\0" in pair:
            raise KalyxError(f"--variable {pair!r}: write NAME=VALUE")
        variables[name] = value
    options = call.options
    if options.label is not None and not options.label.strip():
        raise KalyxError("--label: give a text; an empty label names no kernel")
    return Order(
        identifier=options.id,
        label=options.label,
        reach=options.reach,
        own_path=options.own_path,
        variables=variables,
        take_over=options.take_over,
        notebook=_notebook_named(call),
        asks=own_command(["explain", "-"]) if options.explain else None,
    )


def _notebook_named(call: Call) -> str | None:
    """The path of the notebook that is to ask for the kernel. Raises KalyxError where none is there."""
    named = call.options.notebook
    if named is None:
        return None
    path = call.machine.reader.absolute(named.removeprefix("notebook:"))
    if not call.machine.reader.may_be_there(path):
        raise KalyxError(f"{visible(path)}: {NOTHING_THERE}")
    return path


def _refused(seat: Seat, finding: Finding) -> RehearsalAnswer:
    return RehearsalAnswer(schema="kalyx.register/2", kernel=None, findings=[finding], interpreter=seat.interpreter)


def _carry_out(call: Call, plan: Plan) -> RehearsalAnswer:
    """Write the kernel and rehearse it; where the kernel gives no answer, the change is rolled back."""

    def rehearsed() -> RehearsalAnswer:
        fresh = call.reread().machine  # what was read before the change is outdated
        kernel = read_kernel(fresh.reader, plan.folder, fresh.server, call.options.reach)
        if call.machine.runner is None:
            return RehearsalAnswer(schema="kalyx.register/2", kernel=kernel, done=True)
        return rehearse(fresh, kernel, [], schema="kalyx.register/2", stays=False)

    answer = registering.register(call.machine, plan, rehearsed)
    answer.plan, answer.notes = plan.changes, [*plan.notes, *answer.notes]
    return answer


def _show(call: Call, answer: RehearsalAnswer) -> int:
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.kernels import draw_registration

        draw_registration(call.screen, answer, call.options)
    return 0 if call.options.dry_run and not answer.findings else 0 if answer.done else 1
