"""Making a notebook ask for a kernel: only that metadata changes, and the former value is kept for one undo.

``editor_settings.py`` changes and restores settings files in the same way.

The notebook format's documentation names the place: ``metadata.kernelspec``
with ``name``, ``display_name`` and ``language``.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Callable

import msgspec
from msgspec import Struct

from kalyx.core.actions.transaction import Transaction
from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.kernel_module import could_answer
from kalyx.core.formats.editing import Edit, Member, apply, last, members, past_blanks, put_object, set_members
from kalyx.core.invocation import interpreter_of, kernel_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import ChangePlan, KalyxError, Kernel, Seat
from kalyx.core.seats.answering import live_of
from kalyx.core.seats.notebook import ENDING
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_files import believed, own_folder
from kalyx.core.system.reader import FileStat
from kalyx.core.text.visible import visible

_LIMIT = 64 * 1024 * 1024
_NOTE_LIMIT = 4 * 1024 * 1024


class Pointing(Struct):
    """The plan of a change: the file, its new content, and the edits that undo the change."""

    path: str
    before: bytes
    after: bytes
    back: list[Edit]
    was: str | None
    plan: list[ChangePlan]
    is_new: bool = False  # there was no such file before
    goes: bool = False  # the undo removes the file
    times: tuple[int, int] | None = None  # the file's times after an undo, in nanoseconds


class _Note(Struct):
    """What undoes a change: the file, the digest of its content after the change, the edits, its times before."""

    path: str
    after: str
    back: list[tuple[int, int, str]]
    new: bool = False
    times: tuple[int, int] | None = None


def kernel_for(machine: Machine, seat: Seat) -> Kernel:
    """The registered kernel that a target means. Raises KalyxError where none starts it."""
    kernel = kernel_of(seat, machine)
    if kernel is not None:
        return kernel
    interpreter_of(seat, machine)
    assert seat.environment is not None
    usable = [kernel for kernel in machine.kernels if "hidden" not in kernel.conditions]
    kernels = [
        kernel for kernel in usable if kernel.environment is not None and kernel.environment.key == seat.environment.key
    ]
    own = [kernel for kernel in kernels if kernel.argv and kernel.argv[0] not in ("python", "python3")]
    if not kernels:
        first = fixes.register_anew(machine, seat.environment, notebook=None).steps
        lines = "; then: ".join(step.line for step in first)
        raise KalyxError(f"no kernel starts {seat.environment.prefix}; register it first: {lines}")
    return min(own or kernels, key=lambda kernel: not could_answer(kernel, machine))


def plan(machine: Machine, path: str, kernel: Kernel) -> Pointing:
    """What would change in the notebook. Raises KalyxError for a file that must not or cannot be changed."""
    before = read_for_change(machine.reader, path)
    text = before.decode("utf-8")
    wanted = {"display_name": kernel.label, "language": kernel.language or "python", "name": kernel.id}
    try:
        start = past_blanks(text, 1 if text[:1] == "\ufeff" else 0)
        top = members(text, start)
        metadata = last(top, "metadata")
        if metadata is None:
            raise ValueError("it has no metadata")
        edits, was = _edits(text, metadata, wanted)
        after, back = apply(text, edits)
        json.loads(after.lstrip("\ufeff"))
    except (ValueError, RecursionError) as error:
        raise KalyxError(f"{visible(path)}: not a notebook ({error}); it was not changed") from None
    action = f"ask for {kernel.id} instead of {was or 'no kernel'}"
    if was == kernel.id:
        action = f"give the kernel {was} its label, {kernel.label}"
    plan = [ChangePlan(action=action, path=path)] if edits else []
    return Pointing(path, before, after.encode("utf-8"), back, was, plan)


def _edits(text: str, metadata: Member, wanted: dict[str, str]) -> tuple[list[Edit], str | None]:
    spec = last(members(text, metadata.start), "kernelspec")
    if spec is None:
        return [put_object(text, metadata, "kernelspec", wanted)], None
    value = json.loads(text[spec.start : spec.end])
    if not isinstance(value, dict):
        raise ValueError("its kernelspec is not an object")
    was = value.get("name")
    return set_members(text, spec, wanted), was if isinstance(was, str) else None


def read_for_change(reader: Reader, path: str) -> bytes:
    """The bytes of a file that is to be changed. Raises KalyxError for one that may not or cannot be."""
    if reader.kind(path) == "link":
        raise KalyxError(f"{visible(path)} is a link to {visible(reader.real(path))}; name that file itself")
    try:
        raw = reader.read_whole(path, _LIMIT)
    except Unreadable as problem:
        raise KalyxError(f"{visible(path)}: {problem.reason}; it was not changed") from None
    status = reader.status(path)
    if isinstance(status, FileStat) and not status.mode & 0o222:
        raise KalyxError(f"{visible(path)} is read-only; it was not changed")
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        raise KalyxError(f"{visible(path)}: not UTF-8; it was not changed") from None
    return raw


def carry_out(machine: Machine, pointing: Pointing, proof: Callable[[], object] = lambda: None) -> list[str]:
    """Make the change; returns the call that undoes it. What the undo needs is written first.

    ``proof`` raises KalyxError where the change does not have its effect: the change is rolled back then.
    """
    status = None if pointing.is_new else machine.reader.again().status(pointing.path)
    note = _Note(
        path=pointing.path,
        after=hashlib.sha256(pointing.after).hexdigest(),
        back=[(edit.start, edit.end, base64.b64encode(edit.text.encode()).decode()) for edit in pointing.back],
        new=pointing.is_new,
        times=(status.modified_ns, status.modified_ns) if isinstance(status, FileStat) else None,
    )
    kept = _kept(machine.reader, pointing.path)
    with Transaction(machine.reader, machine.writer) as transaction:
        transaction.write(kept, msgspec.json.encode(note), mode=0o600)
        if pointing.goes:
            transaction.remove_file(pointing.path)
        elif pointing.is_new:
            transaction.write(pointing.path, pointing.after, new=True)
        else:
            transaction.write(pointing.path, pointing.after, over=pointing.before, times=pointing.times)
        try:
            proof()
        except KalyxError as refusal:
            raise KalyxError(f"{refusal.message}; the change was rolled back") from None
        transaction.commit()
    kind = "notebook" if pointing.path.endswith(ENDING) else "editor"
    return ["kalyx", "point", f"{kind}:{pointing.path}", "--undo"]


def open_notes(machine: Machine, path: str, kernel: Kernel) -> list[str]:
    """Notes for a notebook that is open now: its running kernel stays the former one."""
    live = live_of(machine.reader, machine.servers.lives, path)
    if live is None:
        return []
    runs = f"it is open, and process {live.process.pid} runs for it"
    if live.spec == kernel.id:
        return [f"{runs} as it was started: restart its kernel"]
    return [f"{runs}, of kernel {live.spec or 'unknown'}: choose the kernel {visible(kernel.label)} in its page"]


def plan_undo(machine: Machine, path: str) -> Pointing:
    """Plan the undo of the last change. Raises KalyxError where there is none, or the file was changed since."""
    reader = machine.reader
    before = read_for_change(reader, path)
    try:
        note = msgspec.json.decode(believed(reader, _kept(reader, path), _NOTE_LIMIT), type=_Note)
        edits = [Edit(start, end, base64.b64decode(text).decode()) for start, end, text in note.back]
    except (Unreadable, msgspec.MsgspecError, ValueError, RecursionError):
        raise KalyxError(f"{visible(path)}: Kalyx keeps no change of it") from None
    if note.path != path or note.after != hashlib.sha256(before).hexdigest():
        raise KalyxError(f"{visible(path)} was changed since; point it again instead")
    if note.new:
        plan = [ChangePlan(action="remove the file that was made", path=path)]
        return Pointing(path, before, b"", [], None, plan, goes=True)
    if not all(0 <= edit.start <= edit.end for edit in edits):
        raise KalyxError(f"{visible(path)}: the copy kept of its last change is damaged")
    after, back = apply(before.decode("utf-8"), edits)
    plan = [ChangePlan(action="put back what was there before", path=path)]
    return Pointing(path, before, after.encode("utf-8"), back, None, plan, times=note.times)


def _kept(reader: Reader, path: str) -> str:
    """The file with what undoes a change, in the user's data folder."""
    name = hashlib.sha256(path.encode("utf-8", "surrogateescape")).hexdigest()[:24] + ".json"
    return reader.join(own_folder(reader, "data"), "pointed", name)
