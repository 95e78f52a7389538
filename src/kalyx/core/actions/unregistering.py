"""Removing kernels, and restoring what was removed or replaced.

A kernel that goes is kept, in a folder that no server looks in, for one ``unregister --undo``; so are the files of one
that another kernel of the same id replaced.
"""

from __future__ import annotations

import base64
import zlib
from contextlib import ExitStack

import msgspec
from msgspec import Struct

from kalyx.core import signals
from kalyx.core.actions.transaction import Transaction
from kalyx.core.kernels.folders import data_folder
from kalyx.core.kernels.specs import SPEC_FILE, read_kernel, valid_id
from kalyx.core.kernels.startup_file import STARTUP_FILE
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError, Kernel
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_files import believed
from kalyx.core.text.nearness import ranked
from kalyx.core.text.patterns import pattern
from kalyx.core.text.visible import visible

REMOVED_FOLDER = "kalyx-removed"
_WAS = ".was"
# A kept kernel's note: its id, the sum of its folder's path, when it was removed; before 0.3 without the last.
_NOTE_NAME = pattern(r"(.+)\.[0-9a-f]{8}(?:\.[0-9]{8}-[0-9]{6}-[0-9]{6})?\.(?:json|was)")


class _Note(Struct):
    """What is kept of a kernel that was removed or replaced: its folder; of a replaced one its files, in base64.

    ``startup`` is that of the file that it ran at its start, empty where it had none.
    """

    folder: str
    spec: str = ""
    times: tuple[int, int] | None = None
    startup: str = ""


def kept_of_replaced(
    machine: Machine, folder: str, spec: bytes, times: tuple[int, int] | None, startup: bytes | None
) -> tuple[str, bytes]:
    """Where a kernel that another replaces is kept for an undo, and what is kept of it: its files."""
    texts = [base64.b64encode(content or b"").decode("ascii") for content in (spec, startup)]
    note = _Note(folder, texts[0], times, texts[1])
    return remembered_folder(machine, folder) + _WAS, msgspec.json.encode(note)


def removable(machine: Machine, word: str) -> Kernel:
    """The kernel to remove, by its id or by the folder of its file.

    Raises KalyxError for what Kalyx may not remove, and for an id that several kernels have: which of them is meant,
    the one that a server takes or the one that was registered, is the user's to say.
    """
    reader = machine.reader
    if machine.reader.has_separator(word):
        folder = reader.absolute(word)
        if reader.name(reader.parent(folder)) != "kernels":
            raise KalyxError(f"{visible(folder)} is not a kernel's folder: those lie in a folder called kernels")
        kernel = read_kernel(reader, folder, machine.server)
    else:
        kernel = _by_id(machine, word)
    if reader.kind(kernel.folder) == "link":
        raise KalyxError(f"{kernel.folder} is a link to {reader.real(kernel.folder)}; remove the link yourself")
    refusal = reader.refusal(reader.join(kernel.folder, SPEC_FILE))
    if refusal is not None:
        raise KalyxError(f"{kernel.folder} may not be looked at ({refusal}); Kalyx leaves it alone")
    if not reader.may_be_there(reader.join(kernel.folder, SPEC_FILE)):
        raise KalyxError(f"{kernel.folder} holds no {SPEC_FILE}; Kalyx leaves it alone")
    return kernel


def _by_id(machine: Machine, identifier: str) -> Kernel:
    if not valid_id(identifier):
        raise KalyxError(f"{identifier!r} is not a kernel id")
    kernels = [kernel for kernel in machine.kernels if kernel.id == identifier.lower()]
    if not kernels:
        known = [kernel.id for kernel in machine.kernels]
        raise KalyxError(f"no kernel {identifier!r} is registered", ranked(identifier, known))
    if len(kernels) > 1:
        folders = [kernel.folder for kernel in kernels]
        raise KalyxError(f"{len(kernels)} kernels have the id {identifier!r}; name one by its folder", folders)
    return kernels[0]


def remembered_folder(machine: Machine, kernel_folder: str) -> str:
    """Where a removed kernel is kept for one ``--undo``: not in a folder that servers look in.

    Named by its id and its folder, so that two of one id do not take each other's place.
    """
    data = data_folder(machine.reader, machine.reader.variables)[0]
    mark = zlib.crc32(kernel_folder.encode("utf-8", "surrogateescape"))
    name = f"{machine.reader.name(kernel_folder).lower()}.{mark:08x}"
    return machine.reader.join(data, REMOVED_FOLDER, name)


def remove(machine: Machine, kernels: list[Kernel], transaction: Transaction) -> list[str]:
    """Remove kernels, keeping each for an undo; returns the command that puts them back.

    Raises KalyxError where one is gone already: somebody else removed it meanwhile, and keeps it.
    """
    reader, writer = machine.reader, transaction.writer
    roots = sorted({reader.parent(kernel.folder) for kernel in kernels})
    with ExitStack() as locks:
        for root in roots:
            locks.enter_context(writer.alone(root))
        for kernel in kernels:
            if not reader.again().may_be_there(reader.join(kernel.folder, SPEC_FILE)):
                raise KalyxError(f"{visible(kernel.folder)} is gone already: it was removed meanwhile")
            kept = f"{remembered_folder(machine, kernel.folder)}.{writer.stamp()}"
            transaction.write(kept + ".json", msgspec.json.encode(_Note(kernel.folder)), mode=0o600)
            transaction.move(kernel.folder, kept)
    return ["kalyx", "unregister", *(kernel.folder for kernel in kernels), "--undo"]


def forget_older(machine: Machine, folder: str) -> None:
    """Of several kept kernels of one folder only the one that was removed last stays. What is refused stays too."""
    for path in _kept_of(machine, folder)[:-1]:
        try:
            machine.writer.remove_file(path)
            machine.writer.remove_folder(path.removesuffix(".json"))
        except KalyxError:
            continue


def _kept_of(machine: Machine, folder: str) -> list[str]:
    """The notes of the kernels removed from a folder that are kept, the last one last."""
    reader, base = machine.reader.again(), remembered_folder(machine, folder)
    upper = reader.parent(base)
    names = [
        name for name in reader.names(upper) if name.startswith(reader.name(base) + ".") and name.endswith(".json")
    ]
    paths = [
        reader.join(upper, name) for name in sorted(names, key=lambda folder_name: (len(folder_name), folder_name))
    ]
    return [path for path in paths if _is_of(reader, path, folder) and reader.is_folder(path.removesuffix(".json"))]


def _is_of(reader: Reader, path: str, folder: str) -> bool:
    note = _noted(reader, path)
    return note is not None and note.folder == folder


def removed_folder(machine: Machine, word: str) -> str:
    """The folder that a removed kernel was in, by its id or that folder. Raises KalyxError."""
    reader = machine.reader
    if machine.reader.has_separator(word):
        return reader.absolute(word)
    if not valid_id(word):
        raise KalyxError(f"{word!r} is not a kernel id")
    upper = reader.parent(remembered_folder(machine, reader.join(reader.home, word)))
    result: list[str] = []
    for name in reader.names(upper):
        match = _NOTE_NAME.fullmatch(name)
        if match is not None and match[1] == word.lower():
            note = _noted(reader, reader.join(upper, name))
            result += [note.folder] if note is not None and note.folder not in result else []
    if not result:
        raise KalyxError(f"no removed kernel {word!r} is kept")
    if len(result) > 1:
        raise KalyxError(f"{len(result)} removed kernels have the id {word!r}; name one by its folder", result)
    return result[0]


def _noted(reader: Reader, path: str) -> _Note | None:
    if not reader.may_be_there(path):
        return None
    try:
        note = msgspec.json.decode(believed(reader, path, 8 * 1024 * 1024), type=_Note)
    except (Unreadable, msgspec.MsgspecError, RecursionError):
        return None
    is_kernels = reader.path.isabs(note.folder) and reader.name(reader.parent(note.folder)) == "kernels"
    return note if is_kernels and ".." not in note.folder.replace("\\", "/").split("/") else None


def restorable(machine: Machine, folder: str) -> str:
    """Where what was removed from a kernel's folder, or replaced in it, is kept. Raises KalyxError where none is."""
    reader = machine.reader.again()
    was = remembered_folder(machine, folder) + _WAS
    if reader.may_be_there(folder) and _is_of(reader, was, folder):
        return was
    kept = _kept_of(machine, folder)
    if not kept:
        raise KalyxError(f"no removed kernel of {visible(folder)} is kept")
    path = kept[-1].removesuffix(".json")
    if reader.may_be_there(folder):
        raise KalyxError(f"{visible(folder)} exists again; the removed kernel stays in {path}")
    return path


def restore(machine: Machine, folders: list[str]) -> None:
    """Put back kernels that were removed, or replaced, all or none. Raises KalyxError as ``restorable``."""
    reader = machine.reader
    with signals.held(), Transaction(reader, machine.writer) as transaction:
        for folder in folders:
            kept = restorable(machine, folder)
            if kept.endswith(_WAS):
                note = _noted(reader.again(), kept)
                assert note is not None
                try:
                    spec = base64.b64decode(note.spec, validate=True)
                    startup = base64.b64decode(note.startup, validate=True)
                except ValueError:
                    raise KalyxError(f"{visible(kept)} is damaged; nothing was restored") from None
                path = reader.join(folder, STARTUP_FILE)
                if startup:
                    transaction.write(path, startup)
                elif reader.again().kind(path) == "file":
                    transaction.remove_file(path)
                transaction.write(reader.join(folder, SPEC_FILE), spec, times=note.times)
                transaction.remove_file(kept)
            else:
                transaction.move(kept, folder)
                transaction.remove_file(kept + ".json")
        transaction.commit()
