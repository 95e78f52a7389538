"""Registering an environment as a kernel, and removing kernels.

What is registered is the target, never the ``python`` that runs now. The spec
file is written last, in one step. What it replaces is kept until the new kernel
has answered, and restored when the new kernel does not answer.
"""

from __future__ import annotations

import base64
import json
import zlib
from collections.abc import Callable
from contextlib import ExitStack

import msgspec
from msgspec import Struct

from kalyx.core import signals
from kalyx.core.actions.transaction import Transaction
from kalyx.core.environments.invocation import Invocation
from kalyx.core.imports.resolver import Resolver
from kalyx.core.interpreters.sitemodules import loaded_modules, needed_modules, settings_of
from kalyx.core.kernels.folders import data_folder, kernel_folders
from kalyx.core.kernels.makers import KERNEL_PACKAGES, KernelPackage
from kalyx.core.kernels.specs import SPEC_FILE, id_from, read_kernel, spec_of, valid_id
from kalyx.core.kernels.startup_file import STARTUP_FILE, content, option_of
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import RehearsalAnswer
from kalyx.core.model.records import ChangePlan, Interpreter, KalyxError, Kernel, Seat
from kalyx.core.seats.server import listed_by, runtime_folder
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_files import believed
from kalyx.core.system.reader import FileStat
from kalyx.core.system.writer import Writer
from kalyx.core.text.names import canonical
from kalyx.core.text.nearness import ranked
from kalyx.core.text.patterns import pattern
from kalyx.core.text.visible import visible

# The names that the kernel spec's format gives to icons.
_ICONS = ("logo-32x32.png", "logo-64x64.png", "logo-svg.svg")
REMOVED_FOLDER = "kalyx-removed"


class Order(Struct, kw_only=True):
    """What to register and how; the words of the command."""

    identifier: str | None = None
    label: str | None = None
    reach: str = "me"
    own_path: bool = False
    variables: dict[str, str] = {}
    take_over: bool = False
    notebook: str | None = None  # the notebook that is to ask for it then, by its path
    asks: list[str] | None = None  # the command that explains the kernel's failing imports; None: it does not explain


class Plan(Struct):
    """The plan of a registration."""

    identifier: str
    label: str
    folder: str
    spec: bytes
    before: bytes | None
    kernel_package: KernelPackage
    notes: list[str]
    deeds: list[ChangePlan]
    icons: dict[str, bytes] = {}
    startup: bytes | None = None  # of the file that the kernel runs at its start


def kernel_package_in(machine: Machine, interpreter: Interpreter) -> KernelPackage | None:
    """The first kernel package that the interpreter's own search path has, by reading."""
    search = machine.search(interpreter, Invocation())
    resolver = Resolver(machine.reader, interpreter, search, machine.reader.folder)
    for kernel_package in KERNEL_PACKAGES:
        if resolver.resolve(kernel_package.module).place is not None:
            return kernel_package
    return None


def plan_registration(machine: Machine, seat: Seat, order: Order, kernel_package: KernelPackage) -> Plan:
    """Plan what is written. Raises KalyxError for what must not be done."""
    interpreter, environment = seat.interpreter, seat.environment
    assert interpreter is not None and environment is not None
    identifier = _identifier(order, environment.name)
    root = machine.registered_in(order.reach, environment.prefix)
    folder = machine.reader.join(root, identifier)
    _refuse_hidden(machine, seat, order, identifier, root)
    before = _existing(machine, folder, identifier, order)
    was = _replaced(before)
    label = order.label or (was and was[0]) or _label(machine, environment.name, interpreter.version, folder)
    notes = _notes(machine, identifier, folder, environment.key)
    if was is not None:
        kept = "the label is kept" if label == was[0] else f'its label was "{was[0]}"'
        notes.insert(0, f"this replaces the kernel {identifier} that starts {was[1] or 'nothing'}; {kept}")
    variables = dict(order.variables)
    if order.own_path:
        own = machine.reader.parent(interpreter.executable)
        separator = ";" if machine.reader.system == "windows" else ":"
        variables["PATH"] = own + separator + variables.get("PATH", "${PATH}")
    lost = sorted(set(was[2]) - set(variables)) if was is not None else []
    if lost:
        notes.append(f"the replaced file sets {', '.join(lost)}; the new one does not (--variable NAME=VALUE sets one)")
    notes += _site_module_notes(machine, interpreter, variables) + _user_package_notes(machine, interpreter, variables)
    arguments, startup = list(kernel_package.arguments), None
    if order.asks is not None:
        arguments.append(option_of(kernel_package, machine.reader.join(folder, STARTUP_FILE)))
        startup = content(order.asks, identifier)
    spec: dict[str, object] = {
        "argv": [interpreter.executable, *arguments],
        "display_name": label,
        "language": "python",
        "metadata": {"debugger": kernel_package.debugger},
    }
    if variables:
        spec["env"] = variables
    spec["interrupt_mode"] = "signal"
    text = (json.dumps(spec, indent=1, ensure_ascii=False) + "\n").encode("utf-8")
    verb = "replace" if before is not None else "write"
    deeds = [ChangePlan(deed=verb, path=machine.reader.join(folder, SPEC_FILE))]
    deeds += _startup_plan(machine.reader, folder, startup)
    if not machine.reader.is_folder(folder):
        deeds.insert(0, ChangePlan(deed="create folder", path=folder))
    if kernel_package.stand_in:
        notes.append("the kernel package in it is Kalyx's own small stand-in, made for the demo")
    icons = _icons(machine, interpreter, kernel_package)
    return Plan(identifier, label, folder, text, before, kernel_package, notes, deeds, icons, startup)


def _startup_plan(reader: Reader, folder: str, startup: bytes | None) -> list[ChangePlan]:
    """What is written or removed so that a kernel explains, or does not. Raises KalyxError for a folder or a link."""
    path = reader.join(folder, STARTUP_FILE)
    kind = reader.known_kind(path)
    if kind not in (None, "file"):
        raise KalyxError(f"{visible(path)} is not a file of Kalyx's; move it away")
    if startup is not None:
        return [ChangePlan(deed="write" if kind is None else "replace", path=path)]
    return [ChangePlan(deed="remove", path=path)] if kind is not None else []


def file_to_be(machine: Machine, order: Order, prefix: str) -> str:
    """The kernel file that registering an environment, which need not be there yet, would write."""
    root = machine.registered_in(order.reach, prefix)
    return machine.reader.join(root, _identifier(order, machine.reader.name(prefix)), SPEC_FILE)


def _replaced(before: bytes | None) -> tuple[str, str, list[str]] | None:
    """Label, first word of the command and variables of a kernel file that is to be replaced; None: it is no kernel."""
    try:
        spec = json.loads(before or b"null")
    except (ValueError, RecursionError):
        return None
    if not isinstance(spec, dict) or not isinstance(spec.get("display_name"), str):
        return None
    argv = spec.get("argv")
    first = argv[0] if isinstance(argv, list) and argv and isinstance(argv[0], str) else ""
    variables = spec.get("env")
    return spec["display_name"].strip(), first, [*map(str, variables)] if isinstance(variables, dict) else []


def _icons(machine: Machine, interpreter: Interpreter, kernel_package: KernelPackage) -> dict[str, bytes]:
    """The kernel package's own icons, by file name."""
    reader, icons = machine.reader, {}
    search = machine.search(interpreter, Invocation())
    for entry in search.entries:
        resources = reader.join(entry.entry, canonical(kernel_package.distribution).replace("-", "_"), "resources")
        for name in reader.names(resources) if entry.entry else []:
            if name in _ICONS:
                try:
                    icons[name] = reader.read(reader.join(resources, name), 1024 * 1024)
                except Unreadable:
                    continue
        if icons:
            break
    return icons


def _identifier(order: Order, name: str) -> str:
    if order.identifier is not None:
        if not valid_id(order.identifier):
            raise KalyxError(
                f"{order.identifier!r} is not a kernel id: the letters a to z, digits, '.', '_' and '-' are allowed"
            )
        return order.identifier.lower()
    return id_from(name)


def _refuse_hidden(machine: Machine, seat: Seat, order: Order, identifier: str, root: str) -> None:
    """Raise KalyxError where the server that answers would go on starting another kernel of this id."""
    before = machine.kernel_before(identifier, root)
    if before is None or order.reach == "env" or seat.environment is None:
        return
    starts = f", which starts {before.interpreter.executable}" if before.interpreter is not None else ""
    raise KalyxError(
        f"{machine.server.said_as} would still start its own {identifier} ({visible(before.folder)}{starts});"
        f" give another id: --id {machine.free_id(seat.environment.name)}"
    )


def _existing(machine: Machine, folder: str, identifier: str, order: Order) -> bytes | None:
    """The spec file that is there now. Raises KalyxError unless it may be replaced."""
    reader = machine.reader
    kind = reader.known_kind(folder)
    if kind is None:
        return None
    if kind == "link":
        raise KalyxError(f"{folder} is a link to {reader.real(folder)}; Kalyx does not write through it")
    if kind != "folder":
        raise KalyxError(f"{folder} exists and is not a kernel folder")
    spec = reader.join(folder, SPEC_FILE)
    if reader.known_kind(spec) is None:
        return None
    if not order.take_over:
        there = read_kernel(reader, folder, machine.server)
        runs = there.environment.name if there.environment else there.reason or "nothing that starts"
        raise KalyxError(
            f"kernel {identifier} is registered already ({runs}, {spec});"
            " give another --id, or --take-over to replace it"
        )
    try:
        return reader.read(spec, 1024 * 1024)
    except Unreadable as problem:
        raise KalyxError(f"{spec}: {problem.reason}; it is not replaced") from None


def _label(machine: Machine, name: str, version: str, folder: str) -> str:
    """A label that tells this environment and version apart from the others in the list."""
    label = f"{name} (Python {version})"
    taken = {kernel.label for kernel in machine.kernels if kernel.folder != folder}
    number = 2
    while label in taken:
        label = f"{name} (Python {version}, {number})"
        number += 1
    return label


def _notes(machine: Machine, identifier: str, folder: str, key: str) -> list[str]:
    notes = []
    folders = machine.kernel_folders
    root = machine.reader.parent(folder)
    if root not in folders:
        notes.append(f"{machine.server.said_as} does not look in {root}")
    for kernel in machine.kernels:
        if kernel.folder == folder:
            continue
        if kernel.id == identifier:
            order = folders.index(root) if root in folders else len(folders)
            theirs = machine.reader.parent(kernel.folder)
            how = "hides" if theirs not in folders or order < folders.index(theirs) else "is hidden by"
            notes.append(f"it {how} another kernel {identifier} in {kernel.folder}")
        elif kernel.environment is not None and kernel.environment.key == key:
            notes.append(f"the same environment is registered already as {kernel.id} ({kernel.label})")
    return notes


def _site_module_notes(machine: Machine, interpreter: Interpreter, variables: dict[str, str]) -> list[str]:
    """Site modules that the interpreter needs: what the loaded ones set for its libraries is carried in the spec."""
    reader = machine.reader
    needed = needed_modules(reader, interpreter.base_prefix)
    loaded = {module.name for module in loaded_modules(reader)}
    notes = []
    for module in needed:
        if module.name not in loaded:
            continue
        for setting in settings_of(reader, module):
            if setting.variable == "LD_LIBRARY_PATH" and setting.adds and setting.variable not in variables:
                variables[setting.variable] = setting.value + ":${LD_LIBRARY_PATH}"
                notes.append(f"{setting.variable} of the site module {module.name} is carried in the spec")
        if "LD_LIBRARY_PATH" not in variables:
            notes.append(f"its interpreter comes from the site module {module.name}, which is loaded now")
    if needed and not any(module.name in loaded for module in needed):
        notes.append(f"its interpreter comes from the site module {needed[0].name}, which is not loaded now;"
                     f" where it cannot start, load that before the notebook server starts")  # fmt: skip
    return notes


def _user_package_notes(machine: Machine, interpreter: Interpreter, variables: dict[str, str]) -> list[str]:
    """A note that the user's own packages are on sys.path too, with the option that leaves them out."""
    if "PYTHONNOUSERSITE" in variables:
        return []
    search = machine.search(interpreter, Invocation(variables=machine.reader.variables))
    mine = [entry.entry for entry in search.entries if entry.origin == "user" and machine.installed([entry.entry])]
    if not mine:
        return []
    return [f"the user's own packages in {mine[0]} reach into it; --variable PYTHONNOUSERSITE=1 keeps them out"]


def _is_an_environments(machine: Machine, folder: str) -> bool:
    """Whether a kernel's folder is that of an environment (reach ``env``), which only its own servers look in."""
    return machine.reader.parent(machine.reader.parent(folder)).replace("\\", "/").endswith("/share/jupyter") and not (
        machine.reader.inside(folder, data_folder(machine.reader, machine.reader.variables)[0])
    )


def server_notes(machine: Machine, identifier: str, folder: str) -> list[str]:
    """What the notebook servers that run now say of the kernel: it is listed, another of that name, or none.

    Asked are those of this user's own variables, and the one that answers here, whatever its variables are.
    """
    notes = []
    own = read_kernel(machine.reader, folder, machine.server)
    runtime, answering = runtime_folder(machine.reader), machine.serving
    for server in machine.servers:
        if machine.reader.parent(server.path) != runtime and (answering is None or answering[0] is not server):
            continue
        where = f"the notebook server in {server.folder} (port {server.port}, process {server.pid})"
        try:
            listed = listed_by(server, machine.ask_server)
        except Unreadable as problem:
            notes.append(f"{where} could not be asked: {problem.reason}")
            continue
        if identifier not in listed:
            looks = ", ".join(folder.path for folder in kernel_folders(machine.reader, server.server)[:3])
            if _is_an_environments(machine, folder):
                cure = "register it with --reach me, or stop that server and start one from the environment itself"
            else:
                cure = "stop it and start it from this shell, whose variables lead there"
            notes.append(f"{where} does not list {identifier}: it looks in {looks}; {cure}")
        elif (own.argv, own.label) != ((spec := spec_of(listed[identifier])).argv, spec.display_name):
            program = spec.argv[0] if spec.argv else "nothing"
            notes.append(f"{where} lists another {identifier}, which starts {program}: choose another --id")
        else:
            notes.append(f"{where} lists it: reload its page")
    return notes


def register(machine: Machine, plan: Plan, writer: Writer, rehearsed: Callable[[], RehearsalAnswer]) -> RehearsalAnswer:
    """Write the kernel, rehearse it, and keep it only where it answered; else roll back.

    The icons are written last, and only those that the folder lacks then: another registration of the same kernel may
    be at work, and this one takes back none that the other counts on.

    A signal that arrives before the kernel has answered rolls back and ends the run.
    """
    reader, spec = machine.reader, machine.reader.join(plan.folder, SPEC_FILE)
    with signals.held(), Transaction(reader, writer) as transaction:
        startup = reader.join(plan.folder, STARTUP_FILE)
        started = _content_of(reader.again(), startup)
        if plan.before is not None:
            status = reader.again().status(spec)
            times = (status.modified_ns, status.modified_ns) if isinstance(status, FileStat) else None
            note = _Note(plan.folder, _as_text(plan.before), times, _as_text(started))
            kept = remembered_folder(machine, plan.folder) + _WAS
            transaction.write(kept, msgspec.json.encode(note), mode=0o600)
        if plan.startup is not None:
            transaction.write(startup, plan.startup)
        elif started is not None:
            transaction.remove_file(startup)
        if plan.before is None:
            transaction.write(spec, plan.spec, new=True)
        else:
            transaction.write(spec, plan.spec, over=plan.before)
        with signals.heeded():
            answer = rehearsed()
        if answer.done or answer.answered:
            answer.done = True
            answer.undo = ["kalyx", "unregister", plan.folder, *(["--undo"] if plan.before is not None else [])]
            for name, content in plan.icons.items():
                _add(transaction, reader.join(plan.folder, name), content)
            transaction.commit()
        else:
            answer.notes += transaction.roll_back() or ["what was there before was put back"]
    return answer


def _content_of(reader: Reader, path: str) -> bytes | None:
    """What a file holds, None where none is there. Raises KalyxError."""
    try:
        return reader.read(path, 1024 * 1024) if reader.kind(path) == "file" else None
    except Unreadable as problem:
        raise KalyxError(f"{visible(path)}: {problem.reason}; nothing was changed") from None


def _as_text(content: bytes | None) -> str:
    return base64.b64encode(content or b"").decode("ascii")


def _add(transaction: Transaction, path: str, content: bytes) -> None:
    """Write a file where none of this name lies, also none that appears this moment."""
    try:
        if transaction.reader.again().kind(path) is None:
            transaction.write(path, content, new=True)
    except KalyxError:
        if transaction.reader.again().kind(path) is None:
            raise


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


# -- removing -----------------------------------------------------------------


def removable(machine: Machine, word: str) -> Kernel:
    """The kernel to remove, by its id or by the folder of its file.

    Raises KalyxError for what Kalyx may not remove, and for an id that several kernels have: which of them is meant,
    the one that a server takes or the one that was registered, is the user's to say.
    """
    reader = machine.reader
    if _is_folder_word(machine, word):
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
    if reader.kind(reader.join(kernel.folder, SPEC_FILE)) is None:
        raise KalyxError(f"{kernel.folder} holds no {SPEC_FILE}; Kalyx leaves it alone")
    return kernel


def _is_folder_word(machine: Machine, word: str) -> bool:
    return "/" in word or (machine.reader.system == "windows" and "\\" in word)


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
            if reader.again().kind(reader.join(kernel.folder, SPEC_FILE)) is None:
                raise KalyxError(f"{visible(kernel.folder)} is gone already: it was removed meanwhile")
            kept = f"{remembered_folder(machine, kernel.folder)}.{writer.stamp()}"
            transaction.write(kept + ".json", msgspec.json.encode(_Note(kernel.folder)), mode=0o600)
            transaction.move(kernel.folder, kept)
    return ["kalyx", "unregister", *(kernel.folder for kernel in kernels), "--undo"]


def forget_older(machine: Machine, folder: str, writer: Writer) -> None:
    """Of several kept kernels of one folder only the one that was removed last stays. What is refused stays too."""
    for path in _kept_of(machine, folder)[:-1]:
        try:
            writer.remove_file(path)
            writer.remove_folder(path.removesuffix(".json"))
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
    if _is_folder_word(machine, word):
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
    if reader.kind(path) is None:
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
    if reader.kind(folder) is not None and _is_of(reader, was, folder):
        return was
    kept = _kept_of(machine, folder)
    if not kept:
        raise KalyxError(f"no removed kernel of {visible(folder)} is kept")
    path = kept[-1].removesuffix(".json")
    if reader.kind(folder) is not None:
        raise KalyxError(f"{visible(folder)} exists again; the removed kernel stays in {path}")
    return path


def restore(machine: Machine, folders: list[str], writer: Writer) -> None:
    """Put back kernels that were removed, or replaced, all or none. Raises KalyxError as ``restorable``."""
    reader = machine.reader
    with signals.held(), Transaction(reader, writer) as transaction:
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
