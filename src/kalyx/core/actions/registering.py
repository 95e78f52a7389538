"""Registering an environment as a kernel.

What is registered is the target, never the ``python`` that runs now. The spec
file is written last, in one step. What it replaces is kept until the new kernel
has answered, and restored when the new kernel does not answer.
"""

from __future__ import annotations

import json
from collections.abc import Callable

from msgspec import Struct

from kalyx.core import signals
from kalyx.core.actions.transaction import Transaction
from kalyx.core.actions.unregistering import kept_of_replaced
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.resolver import Resolver
from kalyx.core.interpreters.sitemodules import loaded_modules, needed_modules, settings_of
from kalyx.core.kernels.folders import data_folder, kernel_folders
from kalyx.core.kernels.makers import KERNEL_PACKAGES, KernelPackage
from kalyx.core.kernels.specs import SPEC_FILE, id_from, read_kernel, spec_of, valid_id
from kalyx.core.kernels.startup_file import STARTUP_FILE, content, option_of
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import RehearsalAnswer
from kalyx.core.model.records import ChangePlan, Interpreter, KalyxError, Reach, Seat
from kalyx.core.seats.server import listed_by, runtime_folder
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import FileStat
from kalyx.core.text.names import canonical
from kalyx.core.text.visible import visible

# The names that the kernel spec's format gives to icons.
_ICONS = ("logo-32x32.png", "logo-64x64.png", "logo-svg.svg")


class Order(Struct, kw_only=True):
    """What to register and how; the words of the command."""

    identifier: str | None = None
    label: str | None = None
    reach: Reach = "me"
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
    changes: list[ChangePlan]
    icons: dict[str, bytes] = {}
    startup: bytes | None = None  # of the file that the kernel runs at its start


def kernel_package_in(machine: Machine, interpreter: Interpreter) -> KernelPackage | None:
    """The first kernel package that the interpreter finds when the server starts it, by reading."""
    no_user = bool(machine.server.variables.get("PYTHONNOUSERSITE"))
    search = search_path(machine.reader, interpreter, Invocation(no_user=no_user))
    resolver = Resolver(machine.reader, interpreter, search, machine.reader.folder)
    for kernel_package in KERNEL_PACKAGES:
        if resolver.resolve(kernel_package.module).location is not None:
            return kernel_package
    return None


def plan_registration(machine: Machine, seat: Seat, order: Order, kernel_package: KernelPackage) -> Plan:
    """Plan what is written. Raises KalyxError for what must not be done."""
    interpreter, environment = seat.interpreter, seat.environment
    assert interpreter is not None and environment is not None
    identifier = _identifier(order, environment.name)
    root = machine.servers.registered_in(order.reach, environment.prefix)
    folder = machine.reader.join(root, _name_in(machine.reader, root, identifier))
    _refuse_hidden(machine, seat, order, identifier, root)
    before = _existing(machine, folder, identifier, order)
    was = _replaced(before)
    label = order.label or (was and was[0]) or _label(machine, environment.name, interpreter.version)
    notes = _notes(machine, identifier, folder, environment.key)
    if was is not None:
        kept = "the label is kept" if label == was[0] else f'its label was "{was[0]}"'
        notes.insert(0, f"this replaces the kernel {identifier} that starts {was[1] or 'nothing'}; {kept}")
    variables = dict(order.variables)
    if order.own_path:
        own = machine.reader.parent(interpreter.executable)
        variables["PATH"] = own + machine.reader.path.pathsep + variables.get("PATH", "${PATH}")
    lost = sorted(set(was[2]) - set(variables)) if was is not None else []
    if lost:
        notes.append(f"the replaced file sets {', '.join(lost)}; the new one does not (--variable NAME=VALUE sets one)")
    notes += _site_module_notes(machine, interpreter, variables) + _user_package_notes(machine, interpreter, variables)
    arguments, startup = kernel_package.arguments, None
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
    changes = [ChangePlan(action=verb, path=machine.reader.join(folder, SPEC_FILE))]
    changes += _startup_plan(machine.reader, folder, startup)
    if not machine.reader.is_folder(folder):
        changes.insert(0, ChangePlan(action="create folder", path=folder))
    if kernel_package.stand_in:
        notes.append("the kernel package in it is Kalyx's own small stand-in, made for the demo")
    icons = _icons(machine, interpreter, kernel_package)
    return Plan(identifier, label, folder, text, before, kernel_package, notes, changes, icons, startup)


def _startup_plan(reader: Reader, folder: str, startup: bytes | None) -> list[ChangePlan]:
    """What is written or removed so that a kernel explains, or does not. Raises KalyxError for a folder or a link."""
    path = reader.join(folder, STARTUP_FILE)
    kind = reader.known_kind(path)
    if kind not in (None, "file"):
        raise KalyxError(f"{visible(path)} is not a file of Kalyx's; move it away")
    if startup is not None:
        return [ChangePlan(action="write" if kind is None else "replace", path=path)]
    return [ChangePlan(action="remove", path=path)] if kind is not None else []


def file_to_be(machine: Machine, order: Order, prefix: str) -> str:
    """The kernel file that registering an environment, which need not be there yet, would write."""
    root = machine.servers.registered_in(order.reach, prefix)
    identifier = _identifier(order, machine.reader.name(prefix))
    return machine.reader.join(root, _name_in(machine.reader, root, identifier), SPEC_FILE)


def _name_in(reader: Reader, root: str, identifier: str) -> str:
    """The name of a kernel's folder: servers ignore the case of ids, so that of another case is meant."""
    return next((name for name in reader.names(root) if name.lower() == identifier), identifier)


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
    search = search_path(machine.reader, interpreter, Invocation())
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


def _label(machine: Machine, name: str, version: str) -> str:
    """A label that tells this environment and version apart from the others in the list."""
    label = f"{name} (Python {version})"
    taken = {kernel.label for kernel in machine.kernels}
    number = 2
    while label in taken:
        label = f"{name} (Python {version}, {number})"
        number += 1
    return label


def _notes(machine: Machine, identifier: str, folder: str, key: str) -> list[str]:
    notes = []
    folders = machine.servers.kernel_folders
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
    search = search_path(machine.reader, interpreter, Invocation(variables=machine.reader.variables))
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
    runtime, answering = runtime_folder(machine.reader), machine.servers.serving
    for server in machine.servers.running:
        if machine.reader.parent(server.path) != runtime and (answering is None or answering[0] is not server):
            continue
        where = f"the notebook server in {server.folder} (port {server.port}, process {server.pid})"
        try:
            listed = listed_by(server, machine.servers.ask)
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


def register(machine: Machine, plan: Plan, rehearsed: Callable[[], RehearsalAnswer]) -> RehearsalAnswer:
    """Write the kernel, rehearse it, and keep it only where it answered; else roll back.

    The icons are written last, and only those that the folder lacks then: another registration of the same kernel may
    be at work, and this one takes back none that the other counts on.

    A signal that arrives before the kernel has answered rolls back and ends the run.
    """
    reader, spec = machine.reader, machine.reader.join(plan.folder, SPEC_FILE)
    with signals.held(), Transaction(reader, machine.writer) as transaction:
        startup = reader.join(plan.folder, STARTUP_FILE)
        started = _content_of(reader.again(), startup)
        if plan.before is not None:
            status = reader.again().status(spec)
            times = (status.modified_ns, status.modified_ns) if isinstance(status, FileStat) else None
            kept, note = kept_of_replaced(machine, plan.folder, plan.before, times, started)
            transaction.write(kept, note, mode=0o600)
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
            answer.notes += transaction.roll_back() or ["the change was rolled back"]
    return answer


def _content_of(reader: Reader, path: str) -> bytes | None:
    """What a file holds, None where none is there. Raises KalyxError."""
    try:
        return reader.read(path, 1024 * 1024) if reader.known_kind(path) == "file" else None
    except Unreadable as problem:
        raise KalyxError(f"{visible(path)}: {problem.reason}; nothing was changed") from None


def _add(transaction: Transaction, path: str, content: bytes) -> None:
    """Write a file where none of this name is, also none that appears this moment."""
    try:
        if not transaction.reader.again().may_be_there(path):
            transaction.write(path, content, new=True)
    except KalyxError:
        if not transaction.reader.again().may_be_there(path):
            raise
