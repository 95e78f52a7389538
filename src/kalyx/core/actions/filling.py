"""Packages into an environment that exists, or out of it: planned, carried out by its own installer, proved.

The installer is first asked what it would install; the folders that it may
change are copied (``backup``) until it has succeeded; a failure restores them.
The check compares the packages after the change with those before.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from msgspec import Struct

from kalyx.core import signals
from kalyx.core.actions.backup import folders_inside, keep
from kalyx.core.actions.installer import Installer, held, users_packages
from kalyx.core.actions.inventory import broken, foreseen_moves, moves, newly, visible_of
from kalyx.core.actions.proving import proofs, running_in
from kalyx.core.actions.requested import InstallSpec
from kalyx.core.actions.transaction import Transaction
from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import FillAnswer
from kalyx.core.model.records import ChangePlan, Environment, Interpreter, KalyxError, Package, VersionChange
from kalyx.core.text.names import canonical
from kalyx.core.text.nearness import ranked
from kalyx.core.text.versions import change_of
from kalyx.core.text.visible import visible

_TRIED_AT_MOST = 12


class Order(Struct, kw_only=True):
    """What to install into which environment, or with ``remove`` what to remove."""

    interpreter: Interpreter
    environment: Environment
    wants: InstallSpec
    wheels: str | None = None
    remove: bool = False


def plan(machine: Machine, order: Order, tell: Callable[[str], None]) -> tuple[FillAnswer, list[list[str]]]:
    """What would be installed, changed, removed and broken; the commands. Raises KalyxError where not allowed."""
    interpreter, prefix = order.interpreter, order.environment.prefix
    packages = held(machine, interpreter)
    installer = Installer(machine, interpreter, order.wheels)
    _refuse(machine, order, installer, packages)
    folders_inside(machine.reader, prefix, _folders(machine, order.environment))
    answer = FillAnswer(environment=order.environment, interpreter=interpreter)
    if order.remove:
        command = _plan_removal(order, packages, installer, answer)
        going, coming = order.wants.keys, []
    else:
        coming = installer.foresee(order.wants.words, packages, tell)
        answer.moves = foreseen_moves(packages, coming)
        there = visible_of(packages)
        arriving = {canonical(install.name) for install in coming}
        remainder = [there[key] for key in sorted(order.wants.keys - arriving) if key in there]
        answer.seen_below = [package for package in remainder if package.origin not in ("own", "linked")]
        answer.notes += [
            f"{package.name} {package.version} is installed already"
            for package in remainder
            if package not in answer.seen_below
        ]
        command, going = installer.install(order.wants.words), set()
    users = visible_of(users_packages(machine, interpreter))
    answer.notes += [
        f"your own {users[key].name} {users[key].version} in {users[key].location} is imported first"
        for key in (canonical(move.name) for move in answer.moves if move.after is not None)
        if key in users
    ]
    reader = machine.reader.again()
    now = broken(reader, interpreter, packages, [], set())
    answer.broken = newly(now, broken(reader, interpreter, packages, coming, going))
    answer.plan = [ChangePlan(action=_deed(move), path=prefix) for move in answer.moves]
    answer.steps = [machine.line(command)] if answer.moves else []
    return answer, [command] if answer.moves else []


def _deed(move: VersionChange) -> str:
    if move.before is None or move.hides is not None:
        return f"install {move.name} {move.after}"
    if move.after is None:
        return f"remove {move.name} {move.before}"
    return f"{change_of(move.before, move.after)} {move.name} {move.before} to {move.after}"


def _refuse(machine: Machine, order: Order, installer: Installer, packages: list[Package]) -> None:
    prefix, executable = order.environment.prefix, order.interpreter.executable
    keeper = fixes.keeper_of(machine, order.interpreter)
    if keeper is not None:
        what = "take it out" if order.remove else f"add {', '.join(sorted(order.wants.keys)) or 'it'}"
        raise KalyxError(f"{visible(prefix)} is kept by {keeper}: {what} there, or use an environment of your own")
    if installer.version(packages) is None:
        raise KalyxError(f"{visible(prefix)} has no installer of its own; install one with: "
                         f"{machine.line([executable, '-m', 'ensurepip'])}")  # fmt: skip


def _plan_removal(order: Order, packages: list[Package], installer: Installer, answer: FillAnswer) -> list[str]:
    there = visible_of(packages)
    own = {key: package for key, package in there.items() if package.origin in ("own", "linked")}
    there = {**visible_of(users_packages(installer.machine, order.interpreter)), **there}
    for key in sorted(order.wants.keys):
        if key not in there:
            message = f"{visible(key)} is not installed in {visible(order.environment.prefix)}"
            raise KalyxError(message, ranked(key, own))
        if key not in own:
            package = there[key]
            raise KalyxError(f"{package.name} {package.version} is not this environment's own: it comes from"
                             f" {visible(package.location)} ({package.origin})")  # fmt: skip
    chosen = [own[key] for key in sorted(order.wants.keys)]
    answer.moves = [VersionChange(name=package.name, before=package.version, after=None) for package in chosen]
    for item in chosen:
        below = next((p for p in packages if canonical(p.name) == canonical(item.name) and p.hidden_by), None)
        if below is not None:
            answer.notes.append(f"{below.name} {below.version} from {below.location} is imported then")
    return installer.remove([package.name for package in chosen])


def carry_out(
    machine: Machine, order: Order, answer: FillAnswer, commands: list[list[str]], tell: Callable[[str], None]
) -> None:
    """Run the commands, check the result, complete the answer. Raises KalyxError with the reason, after a rollback."""
    before = held(machine, order.interpreter)
    with signals.held():
        with installed(machine, order, commands, tell):
            pass
        tell("checking what was installed")
        _prove(machine, order, before, answer)


@contextmanager
def installed(
    machine: Machine, order: Order, commands: list[list[str]], tell: Callable[[str], None]
) -> Iterator[Transaction]:
    """Run the installer, then the block; where either raises, the environment is rolled back.

    Signals are held in the block, which may roll back by itself. Raises KalyxError with the reason.
    """
    installer, prefix = Installer(machine, order.interpreter, order.wheels), order.environment.prefix
    with signals.held(), Transaction(machine.reader, machine.writer, "fill", prefix) as transaction:
        keep(transaction, prefix, _folders(machine, order.environment))
        try:
            for argv in commands:
                with signals.heeded():
                    installer.run(argv, tell)
            yield transaction
        except KalyxError as error:
            left = transaction.roll_back() or ["the change was rolled back"]
            raise KalyxError("; ".join([error.message, *left])) from None
        transaction.commit()


def _folders(machine: Machine, environment: Environment) -> list[str]:
    """What an installer may change below the prefix, each folder once."""
    reader, prefix = machine.reader, environment.prefix
    names = ("Scripts", "share", "etc", "include") if reader.system == "windows" else ("bin", "share", "etc", "include")
    folders = {reader.real(site): site for site in environment.site_packages if reader.inside(site, prefix)}
    return [*folders.values(), *(reader.join(prefix, name) for name in names)]


def _prove(machine: Machine, order: Order, before: list[Package], answer: FillAnswer) -> None:
    interpreter, reader = order.interpreter, machine.reader.again()
    after = held(machine, interpreter)
    answer.done = True
    answer.moves = moves(before, after)
    back = _undo(order, answer.moves)
    answer.undo, answer.undo_then = (*back, None, None)[:2]
    answer.broken = newly(broken(reader, interpreter, before, [], set()), broken(reader, interpreter, after, [], set()))
    there = visible_of(after)
    if not order.remove:
        answer.lacking = sorted(order.wants.keys - there.keys())
    changed = {canonical(move.name) for move in answer.moves if move.after is not None}
    first = [there[key] for key in sorted(order.wants.keys & there.keys())] if not order.remove else []
    packages = [there[key] for key in sorted(changed - order.wants.keys) if key in there]
    try:
        for package in [*first, *packages][:_TRIED_AT_MOST]:
            with signals.heeded():
                answer.imports += proofs(machine, interpreter, package)
        if len(first) + len(packages) > _TRIED_AT_MOST:
            answer.notes.append(f"the imports of {_TRIED_AT_MOST} of {len(first) + len(packages)} packages were tested")
    except signals.Stopped as stop:
        answer.notes.append("interrupted while the imports were tested: the packages stay installed")
        answer.stopped = stop.number
    if answer.moves:
        answer.restart = running_in(machine, order.environment)


def _undo(order: Order, done: list[VersionChange]) -> list[list[str]]:
    """The calls that undo the change. New packages are removed first, because they may need the present versions."""
    came = [move.name for move in done if move.before is None or move.hides is not None]
    back = [f"{move.name}=={move.before}" for move in done if move.before is not None and move.hides is None]
    words = ["kalyx", "fill", order.environment.target]
    offline = ["--wheels", order.wheels] if order.wheels else []
    return [*([[*words, "--remove", *came]] if came else []), *([[*words, *back, *offline]] if back else [])]
