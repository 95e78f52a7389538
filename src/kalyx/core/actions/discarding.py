"""Removing an environment with the kernels that start it, after everything was checked that forbids the removal.

The folder is locked first; the lock is removed last, just after the settings
file. A run that is stopped in between leaves a folder that the survey calls
half-made, and a second call finishes the removal. Links are removed, never
followed; nothing outside the folder is touched but the kernels.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from kalyx.core import signals
from kalyx.core.actions import managed_envs, unregistering
from kalyx.core.actions.transaction import Transaction
from kalyx.core.environments.journal import LOCKS
from kalyx.core.environments.managed_envs import made_prefixes
from kalyx.core.environments.reading import looks_like_environment, read_environment
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import DiscardAnswer
from kalyx.core.model.records import ChangePlan, KalyxError, Kernel
from kalyx.core.packages.unowned import left_by, users_files
from kalyx.core.seats.editor import editor_seats
from kalyx.core.seats.notebook import notebooks_below, read_notebook
from kalyx.core.system import Reader, claims
from kalyx.core.targets import resolve_to_change
from kalyx.core.text.command_line import behind_python_or_none
from kalyx.core.text.redaction import shown_command
from kalyx.core.text.visible import visible


class Leaving(Struct):
    """The plan of a removal."""

    prefix: str
    kernels: list[Kernel]
    answer: DiscardAnswer


def prefix_of(machine: Machine, text: str) -> str:
    """The folder that a target means. Raises KalyxError for what is no environment, with what it is."""
    reader = machine.reader
    path = reader.absolute(text)
    if ":" not in text[:12] and reader.kind(path) == "link" and reader.is_folder(path):
        raise KalyxError(f"{visible(path)} is a link to {visible(reader.real(path))}; name that folder itself")
    if reader.is_folder(path) and (looks_like_environment(reader, path) or _is_marked(reader, path)):
        return path
    if reader.is_folder(path) and not reader.names(path) and not reader.refused_within(path):
        line = machine.line(["rmdir", path])
        raise KalyxError(f"{visible(path)} is an empty folder that nothing shows to have been an environment: {line}")
    seat = resolve_to_change(machine, text)
    if seat.environment is None:
        raise KalyxError(f"{visible(text)} is not an environment: {visible(seat.reason or 'it starts nothing')}")
    return seat.environment.prefix


def _is_marked(reader: Reader, folder: str) -> bool:
    """Half made, or half removed: also an empty folder that an interrupted removal left."""
    if not reader.names(folder) and reader.real(folder) in made_prefixes(reader):
        return True
    return left_by(reader, folder) is not None


def plan(machine: Machine, prefix: str, *, own_prefix: str, with_own_files: bool) -> Leaving:
    """Plan the removal. Raises KalyxError with the reason that forbids it."""
    reader = machine.reader
    prefix = reader.real(prefix)
    view = read_environment(reader, prefix)
    environment = view.environment
    if environment.kind == "installation" and not _is_marked(reader, prefix):
        raise KalyxError(
            f"{visible(prefix)} is an installation of Python, not an environment; Kalyx does not remove installations"
        )
    if reader.same_path(reader.real(own_prefix), prefix):
        raise KalyxError(f"Kalyx itself runs in {visible(prefix)}; remove it with a Kalyx that is installed elsewhere")
    for upper in (reader.home, reader.folder):
        if reader.inside(reader.real(upper), prefix):
            raise KalyxError(
                f"{visible(prefix)} holds the current folder or the home folder; change to another folder first"
            )
    _refuse_what_is_in_use(machine, prefix)
    _refuse_a_base_of_others(machine, prefix)
    obstacle = machine.writer.obstacle(prefix)
    if obstacle is not None:
        raise KalyxError(f"{visible(obstacle)}; nothing of {visible(prefix)} was removed")
    unowned = list(users_files(reader, view))
    if unowned and not with_own_files:
        shown = ", ".join(visible(item) for item in unowned[:4]) + (
            f" and {len(unowned) - 4} more" if len(unowned) > 4 else ""
        )
        raise KalyxError(
            f"{visible(prefix)} holds files that no package installed: {shown}; move them out, or add --with-own-files",
        )
    starting = [kernel for kernel in machine.kernels if _starts(machine, kernel, prefix)]
    names = {kernel.folder: _name(reader, kernel) for kernel in starting if not reader.inside(kernel.folder, prefix)}
    kernels = [kernel for kernel in starting if names.get(kernel.folder) is None]
    for kernel in kernels:
        if (held := machine.writer.obstacle(kernel.folder)) is not None:
            raise KalyxError(f"kernel {kernel.id} starts {visible(prefix)} and cannot be removed: {visible(held)};"
                             " nothing was removed")  # fmt: skip
    size, _ = reader.usage(prefix)
    answer = DiscardAnswer(prefix=prefix, size_bytes=size, unowned=unowned, kernels=[kernel.id for kernel in kernels])
    answer.plan = [ChangePlan(action="remove kernel", path=kernel.folder) for kernel in kernels]
    answer.plan.append(ChangePlan(action="remove", path=prefix))
    answer.pointers = _pointers(machine, prefix, kernels)
    answer.notes.append("removing an environment is final: Kalyx keeps no copy, and it cannot be undone")
    answer.notes += [
        f'kernel {kernel.id} stays: it starts "{name}", which is another Python when {prefix} is removed'
        for kernel in starting
        if (name := names.get(kernel.folder)) is not None
    ]
    entered = reader.variable("VIRTUAL_ENV")
    if entered and reader.same_path(reader.real(entered), prefix):
        answer.notes.append("this shell has entered it: leave it with deactivate")
    return Leaving(prefix, kernels, answer)


def _starts(machine: Machine, kernel: Kernel, prefix: str) -> bool:
    """Whether a kernel starts this environment, or names a file in it though that starts no more."""
    reader = machine.reader
    if kernel.environment is not None:
        return reader.same_path(kernel.environment.key, prefix)
    word = kernel.command[0] if kernel.command else ""
    return reader.path.isabs(word) and reader.inside(word, prefix)


def _name(reader: Reader, kernel: Kernel) -> str | None:
    """The name by which a kernel's command starts its interpreter, which PATH or the server finds; None for a path."""
    behind = behind_python_or_none(kernel.argv) if reader.path.dirname(kernel.argv[0]) else None
    word = behind.program if behind is not None else kernel.argv[0]
    return None if reader.path.dirname(word) or "PATH" in kernel.env else word


def _refuse_what_is_in_use(machine: Machine, prefix: str) -> None:
    reader = machine.reader
    for lock in LOCKS.values():
        working = claims.worker(reader, reader.join(prefix, lock))
        if working is not None:
            raise KalyxError(f"{visible(prefix)}: process {working} is changing it now")
    for pid in reader.processes():
        if pid == reader.pid:
            continue
        process = reader.process(pid)
        if process is None:
            continue
        words = [word for word in process.command[:2] if reader.path.isabs(word)]
        stands = process.folder is not None and reader.inside(process.folder, prefix)
        runs = any(reader.inside(word, prefix) for word in words)
        has_open = any(reader.inside(path, prefix) for path in reader.opened_by(pid))
        if stands or runs or has_open or any(reader.inside(path, prefix) for path in reader.loaded_by(pid)):
            opened = "has a file of it open" if has_open else "runs from it"
            how = "has its current folder in it" if stands and not runs else opened
            name = shown_command(process.command) or process.name
            raise KalyxError(f"{visible(prefix)} is in use: process {pid} ({visible(name)}) {how}; end that first")


def _refuse_a_base_of_others(machine: Machine, prefix: str) -> None:
    reader, others = machine.reader, []
    for environment in machine.environments.everywhere:
        if environment.key == prefix or reader.inside(environment.key, prefix):
            continue
        base = reader.real(environment.base_prefix) if environment.base_prefix else None
        hops = reader.hops(environment.executable) if environment.executable else []
        if base == prefix or any(reader.inside(hop, prefix) for hop in hops[1:]):
            others.append(environment.prefix)
    if others:
        named = ", ".join(visible(other) for other in others[:6])
        raise KalyxError(f"{visible(prefix)} is the base Python of other environments: {named}")


def _pointers(machine: Machine, prefix: str, kernels: list[Kernel]) -> list[str]:
    """What would name a missing environment: settings of this folder, notebooks here, next to it and in the home."""
    reader, pointers = machine.reader, []
    for seat in editor_seats(reader, reader.folder):
        word = seat.parts[0].path or seat.parts[0].word if seat.parts else ""
        inside = reader.path.isabs(word) and (reader.inside(word, prefix) or reader.inside(reader.real(word), prefix))
        if seat.source and (inside or (seat.environment is not None and seat.environment.key == prefix)):
            line = machine.line(["kalyx", "point", f"editor:{seat.source}", "TARGET"])
            where = f" (line {seat.line})" if seat.line is not None else ""
            pointers.append(f"{visible(seat.source)}{where} chooses it: {line}")
    ids = {kernel.id for kernel in kernels}
    places = [reader.folder, reader.parent(prefix), reader.home]
    for path in notebooks_below(reader, places) if ids else []:
        asks = read_notebook(reader, path).kernel
        if asks and asks.lower() in ids:
            line = machine.line(["kalyx", "point", f"notebook:{path}", "TARGET"])
            pointers.append(f"{visible(path)} asks for the kernel {asks}: {line}")
    return pointers


def carry_out(machine: Machine, leaving: Leaving, tell: Callable[[str], None]) -> None:
    """Remove it: lock it, then the kernels, then what is inside, the settings file and the lock last.

    A signal that arrives once it is locked takes effect when all is removed. Raises KalyxError that says what was done
    and what was not; where nothing of the environment was removed, the kernels are put back.
    """
    reader, writer, prefix = machine.reader, machine.writer, leaving.prefix
    with signals.held(), Transaction(reader, writer, "discard", prefix) as transaction:
        was_listed = prefix in made_prefixes(reader)
        stopped = transaction.lock()
        managed_envs.remember(reader, prefix, writer)  # the list names the folder until the removal is complete
        try:
            if leaving.kernels:
                tell("kernels " + ", ".join(kernel.id for kernel in leaving.kernels))
                unregistering.remove(machine, leaving.kernels, transaction)
            obstacle = writer.obstacle(prefix)
            if obstacle is not None:
                raise KalyxError(f"{visible(obstacle)}; nothing of {visible(prefix)} was removed")
        except KalyxError:
            if stopped is None and not was_listed:
                managed_envs.forget(reader, prefix, writer)
            raise
        transaction.settle()
        _remove_all(machine, leaving, tell)
        managed_envs.forget(reader, prefix, writer)
        transaction.end()
        leaving.answer.done = True


def _remove_all(machine: Machine, leaving: Leaving, tell: Callable[[str], None]) -> None:
    """Remove what is in the folder, the settings file and the mark last. Raises KalyxError that says what is left."""
    reader, writer, prefix = machine.reader, machine.writer, leaving.prefix
    last = ("pyvenv.cfg", LOCKS["discard"])
    names = reader.again().names(prefix)
    try:
        for name in sorted(names, key=lambda entry: (last.index(entry) + 1 if entry in last else 0, entry)):
            tell(name)
            item = reader.join(prefix, name)
            (writer.remove_folder if reader.again().kind(item) == "folder" else writer.remove_file)(item)
    except KalyxError as refusal:
        message = f"{refusal.message}; {visible(prefix)} is half removed; to remove the rest: "
        message += machine.line(["kalyx", "discard", prefix])
        if leaving.kernels:
            back = ["kalyx", "unregister", *(kernel.folder for kernel in leaving.kernels), "--undo"]
            message += f"; its kernels are removed; to restore them: {machine.line(back)}"
        raise KalyxError(message) from None
    writer.remove_empty_folder(prefix)
