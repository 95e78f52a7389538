"""``kalyx prepare``: a working environment in one step."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from kalyx.cli.commands.register import explaining
from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core import signals
from kalyx.core.actions import preparing, registering
from kalyx.core.actions.kernel_package import could_bring
from kalyx.core.actions.record_reader import Recorded, is_record, read_record
from kalyx.core.actions.requested import required_python, wants
from kalyx.core.environments.reading import read_environment
from kalyx.core.invocation import interpreter_of, refuse_unnamed
from kalyx.core.kernels.makers import to_bring
from kalyx.core.kernels.specs import read_kernel
from kalyx.core.kernels.startup_file import STARTUP_FILE, refuse_without
from kalyx.core.model.action_results import PrepareAnswer, RehearsalAnswer
from kalyx.core.model.records import ChangePlan, Interpreter, KalyxError
from kalyx.core.packages.requirements import satisfies
from kalyx.core.queries.rehearse import rehearse
from kalyx.core.system.own_command import own_command
from kalyx.core.targets import resolve
from kalyx.core.text.versions import minor_of


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("dir", metavar="DIR", help="the folder of the new environment")
    parser.add_argument("--python", metavar="TARGET", help="the base Python (version:3.9, a path)")
    parser.add_argument("--see-base", action="store_true", help="let it use the packages of the base Python too")
    parser.add_argument("--want", action="append", default=[], metavar="REQUIREMENT", help="a package to install")
    parser.add_argument(
        "--from",
        dest="source",
        metavar="FILE",
        help="a record, a requirements file, a project's folder or file, a script with inline dependencies",
    )
    parser.add_argument("--wheels", metavar="DIR", help="install from this folder of wheels, without network")
    parser.add_argument("--point-editor", action="store_true", help="make this folder's editor settings choose it")
    parser.add_argument("--kernel", metavar="LABEL", help="make it a notebook kernel under this label, and rehearse it")
    explaining(parser)
    changing(parser)


def run(call: Call) -> int:
    machine, reader = call.machine, call.machine.reader
    if call.options.explain and call.options.kernel is None:
        raise KalyxError("--explain: name the kernel that explains with --kernel LABEL")
    if call.options.explain:
        refuse_without(to_bring(reader, call.wheels))
    if machine.runner is None:
        raise KalyxError("creating an environment starts its interpreter, and --static starts no program")
    wheels = call.wheels
    source = reader.absolute(call.options.source) if call.options.source else None
    recorded = read_record(reader, source) if source is not None and is_record(reader, source) else None
    order = preparing.Order(
        folder=reader.absolute(call.options.dir),
        base=_base(call, recorded),
        see_base=call.options.see_base or (recorded is not None and recorded.sees_base),
        wants=wants(reader, call.options.want, call.options.source),
        wheels=wheels,
        with_kernel_package=call.options.kernel is not None,
    )
    changes, commands = preparing.plan(machine, order)
    changes += _later(call, order.folder)
    answer = PrepareAnswer(plan=changes, steps=[machine.line(argv) for argv in commands], interpreter=order.base)
    if call.options.dry_run:
        return _show(call, answer)
    if not call.as_json and not call.options.yes:
        _show(call, answer)
    call.may_change(f"Create {order.folder} with Python {order.base.version}?")
    with signals.held(), call.progress("at work:") as tell:
        made = preparing.carry_out(machine, order, commands, tell)
        made.plan = changes
        stopped, is_whole = None, True
        try:
            with signals.heeded():
                is_whole = _finish(call, order, made)
        except signals.Stopped as stop:
            stopped = stop.number
            line = machine.line(["kalyx", "discard", order.folder])
            made.notes.append(
                f"interrupted after the environment was created: it is kept and was not checked; to remove it: {line}"
            )
        signals.over()
    status = _show(call, made)
    return 128 + stopped if stopped else status if is_whole else 1


def _finish(call: Call, order: preparing.Order, made: PrepareAnswer) -> bool:
    """What follows once the environment is there: it is checked, and registered and chosen where that was asked for.

    Returns whether all of that was done. What was refused is a note of the answer: the environment stays.
    """
    fresh = call.reread()
    made.environment = read_environment(fresh.machine.reader, order.folder).environment
    following: list[Callable[[], None]] = [lambda: preparing.check(fresh.machine, order, made)]
    if call.options.kernel is not None:
        following.append(lambda: _kernel(fresh, order.folder, made))
    if call.options.point_editor:
        following.append(lambda: _editor(fresh, order.folder, made))
    is_whole = True
    for follow in following:
        try:
            follow()
        except KalyxError as refusal:
            made.notes.append(refusal.message)
            is_whole = False
    return is_whole


def _later(call: Call, folder: str) -> list[ChangePlan]:
    """The plan of what is written after the environment is complete: the kernel's file, the editor's settings."""
    changes = []
    if call.options.kernel is not None:
        path = registering.file_to_be(call.machine, registering.Order(label=call.options.kernel), folder)
        changes.append(ChangePlan(action="register kernel", path=path))
        if call.options.explain:
            reader = call.machine.reader
            changes.append(ChangePlan(action="write", path=reader.join(reader.parent(path), STARTUP_FILE)))
    if call.options.point_editor:
        from kalyx.core.actions import editor_settings

        changes.append(ChangePlan(action="change settings", path=editor_settings.settings_file(call.machine.reader)))
    return changes


def _startable(call: Call) -> list[Interpreter]:
    """The interpreters that were found and may be started though the user named none."""
    interpreters = call.machine.interpreters
    return [interpreter for interpreter in interpreters if call.machine.objection(interpreter, "machine") is None]


def _recorded_base(call: Call, recorded: Recorded) -> Interpreter:
    """The interpreter that a record was made on: of exactly that version, else of its minor."""
    usable = [interpreter for interpreter in _startable(call) if interpreter.implementation == recorded.implementation]
    exact = [interpreter for interpreter in usable if interpreter.version == recorded.version]
    minor = minor_of(recorded.version)
    near = [interpreter for interpreter in usable if interpreter.minor == minor]
    if exact or near:
        return (exact or near)[0]
    here = ", ".join(dict.fromkeys(interpreter.version for interpreter in usable)) or "none"
    message = f"the record is of Python {recorded.version}; here are: {here}; name another with --python"
    raise KalyxError(message + _bringers(call, minor))


def _base(call: Call, recorded: Recorded | None) -> Interpreter:
    """The base Python: as named, as recorded, else the preferred one that the project file allows."""
    machine = call.machine
    if recorded is not None and call.options.python is None:
        return _recorded_base(call, recorded)
    if call.options.python is not None:
        try:
            seat = resolve(machine, call.options.python)
        except KalyxError as error:
            kind, _, version = call.options.python.partition(":")
            if kind != "version" or not version.replace(".", "").isdigit():
                raise
            raise KalyxError(error.message + _bringers(call, version), error.candidates) from None
        interpreter = interpreter_of(seat, machine)
        refuse_unnamed(seat, machine)
        return interpreter
    asked = required_python(machine.reader, machine.reader.folder)
    own = machine.shell_seat.interpreter
    is_base = own is not None and own.prefix == own.base_prefix
    preferred = [own] if own is not None and is_base and machine.objection(own, "shell") is None else []
    usable = [interpreter for interpreter in [*preferred, *_startable(call)]
              if interpreter.implementation == "cpython" and not interpreter.version.startswith("2.")]  # fmt: skip
    for interpreter in usable:
        if asked is None or satisfies(interpreter.version, asked[0]):
            return interpreter
    here = ", ".join(dict.fromkeys(interpreter.version for interpreter in usable)) or "none"
    wanted = f"{asked[1]} asks for Python {asked[0]}" if asked else "no interpreter here can create environments"
    missing = next((f"3.{minor}" for minor in range(6, 40) if asked and satisfies(f"3.{minor}.99", asked[0])), None)
    raise KalyxError(f"{wanted}; here are: {here}; name another with --python" + _bringers(call, missing or ""))


def _bringers(call: Call, version: str) -> str:
    """Which programs here can install a Python version that is missing, as text for a message; installs nothing."""
    lines = could_bring(call.machine, version) if version else []
    return f"; to install it: {' or '.join(lines)}" if lines else ""


def _kernel(call: Call, folder: str, answer: PrepareAnswer) -> None:
    machine = call.machine
    seat = resolve(machine, folder)
    assert seat.interpreter is not None
    kernel_package = registering.kernel_package_in(machine, seat.interpreter)
    if kernel_package is None:
        answer.notes.append("none of its packages is a kernel package, so no kernel was registered")
        return
    asks = own_command(["explain", "-"]) if call.options.explain and kernel_package.runs_file is not None else None
    if call.options.explain and asks is None:
        answer.notes.append(f"the kernel does not explain: {kernel_package.distribution} runs no file as it starts")
    order = registering.Order(label=call.options.kernel, asks=asks)
    plan = registering.plan_registration(machine, seat, order, kernel_package)

    def rehearsed() -> RehearsalAnswer:
        fresh = call.reread().machine
        return rehearse(fresh, read_kernel(fresh.reader, plan.folder, fresh.server, "me"), [], stays=False)

    answer.rehearsal = registering.register(machine, plan, rehearsed)
    answer.notes += plan.notes
    if not answer.rehearsal.answered:
        answer.notes.append("the kernel gave no answer, so its registration was rolled back")


def _editor(call: Call, folder: str, answer: PrepareAnswer) -> None:
    """The settings that choose an interpreter for this folder now choose this one; where there are none, new ones."""
    from kalyx.core.actions import editor_settings, pointing

    machine = call.machine
    target = resolve(machine, folder)
    file = editor_settings.settings_file(machine.reader)
    change = editor_settings.plan(machine, file, None, target)
    answer.notes += editor_settings.warnings(machine, change, target)
    undo = pointing.carry_out(machine, change, lambda: editor_settings.proof(call.reread().machine, file, target))
    answer.notes.append(f"{file} chooses it now; to undo: {machine.line(undo)}")


def _show(call: Call, answer: PrepareAnswer) -> int:
    ok = not answer.done or (
        all(item.outcome == "imports" for item in answer.imports)
        and not answer.lacking
        and (call.options.kernel is None or (answer.rehearsal is not None and answer.rehearsal.answered))
    )
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.lifecycle import draw_prepare

        draw_prepare(call.screen, call.machine, answer, call.options)
    return 0 if ok else 1
