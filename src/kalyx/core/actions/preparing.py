"""A working environment in one step: created in its final place, filled and checked.

The folder is locked first and unlocked last. A run that fails clears the
folder; a run that was killed leaves a locked folder, which the survey calls
half-made and the next run clears. What is outside the folder (the kernel) is
written last, when the environment is complete.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from kalyx.core import signals
from kalyx.core.actions import managed_envs
from kalyx.core.actions.installer import executable_in, held, install_command, made_in, run_to_end
from kalyx.core.actions.inventory import moves, visible_of
from kalyx.core.actions.proving import proofs
from kalyx.core.actions.requested import InstallSpec
from kalyx.core.actions.transaction import Transaction
from kalyx.core.diagnosis import fixes
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.journal import LOCKS, record_of
from kalyx.core.environments.searchpath import search_path
from kalyx.core.kernels.makers import KERNEL_PACKAGES, to_bring
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import PrepareAnswer
from kalyx.core.model.records import ChangePlan, Interpreter, KalyxError, Package
from kalyx.core.packages.contents import contents
from kalyx.core.packages.unowned import MAKERS_NAMES
from kalyx.core.system import Unreadable, claims
from kalyx.core.text.names import canonical
from kalyx.core.text.visible import visible

IGNORE_ALL = b"# written by kalyx: the environment stays out of version control\n*\n"


class Order(Struct, kw_only=True):
    """What to prepare."""

    folder: str
    base: Interpreter
    see_base: bool = False
    wants: InstallSpec
    wheels: str | None = None
    with_kernel_package: bool = False


def plan(machine: Machine, order: Order) -> tuple[list[ChangePlan], list[list[str]]]:
    """The paths that would change, and the commands. Raises KalyxError for what must not be done."""
    _refuse_what_is_there(machine, order.folder)
    _refuse_base(machine, order.base)
    changes = [ChangePlan(action="create environment", path=order.folder)]
    flags = ["--system-site-packages"] if order.see_base else []
    commands = [[order.base.executable, "-m", "venv", *flags, order.folder]]
    python = executable_in(machine.reader, order.folder)
    machine.let_through(python)  # Kalyx makes it
    words = list(order.wants.words)
    if order.with_kernel_package and not order.wants.keys & {
        canonical(kernel_package.distribution) for kernel_package in KERNEL_PACKAGES
    }:
        words.append(to_bring(machine.reader, order.wheels).distribution)
    if words:
        commands.append(install_command(python, order.wheels, machine.seconds, words))
        changes.append(ChangePlan(action="install " + " ".join(words), path=order.folder))
    return changes, commands


_LONGEST_PROGRAM = 259  # MAX_PATH without its last sign ("Maximum Path Length Limitation")


def _refuse_what_is_there(machine: Machine, folder: str) -> None:
    reader = machine.reader
    program = reader.join(folder, "Scripts", "python.exe")
    if reader.system == "windows" and len(program) > _LONGEST_PROGRAM:
        what = f"its python.exe would have a path of {len(program)} characters, and Windows starts none above"
        raise KalyxError(f"{visible(folder)}: {what} {_LONGEST_PROGRAM}; choose a shorter folder")
    kind = reader.known_kind(folder)
    if kind is None:
        upper = reader.parent(folder)
        while reader.known_kind(upper) is None and reader.parent(upper) != upper:
            upper = reader.parent(upper)
        if not reader.is_folder(upper):
            raise KalyxError(f"{visible(upper)} is not a folder; nothing can be created below it")
        return
    if kind != "folder":
        raise KalyxError(f"{visible(folder)} exists and is not a folder")
    try:
        names = list(reader.listing(folder))
    except Unreadable as problem:
        raise KalyxError(f"{visible(folder)}: {problem.reason}") from None
    mark = reader.join(folder, LOCKS["prepare"])
    working = claims.worker(reader, mark)
    if working is not None:
        raise KalyxError(f"{visible(folder)} is being created now by process {working}")
    record = record_of(reader, folder, "prepare")
    if names and (record is None or record.is_settled):
        if record is None and LOCKS["prepare"] in names:
            raise KalyxError(f"{visible(mark)} was not written by Kalyx here; the folder is left as it is")
        what = "is an environment already" if "pyvenv.cfg" in names else "exists and is not empty"
        raise KalyxError(f"{visible(folder)} {what}; name a new folder")
    own = [name for name in names if name not in MAKERS_NAMES]
    if own:
        shown = visible(reader.join(folder, sorted(own)[0]))
        raise KalyxError(f"{shown} was not created by the interrupted run in {visible(folder)}; move it away first")


def _refuse_base(machine: Machine, base: Interpreter) -> None:
    """Refuse an interpreter that cannot create environments by its standard module, and say what to do."""
    if base.version.startswith("2."):
        raise KalyxError(f"Python {base.version} has no standard means to create environments; choose 3.6 or newer")
    module = fixes.lacks_to_create(machine, base)
    if module is not None:
        first = fixes.before_creating(machine, base)
        line = first[0].line if first else "reinstall that Python, or name another with --python"
        raise KalyxError(f"{base.executable} lacks the standard module {module}; {line}")


def carry_out(machine: Machine, order: Order, commands: list[list[str]], tell: Callable[[str], None]) -> PrepareAnswer:
    """Create, fill and check. On any failure the folder is cleared. Raises KalyxError with the reason."""
    reader, writer, folder = machine.reader, machine.writer, order.folder
    before: list[Package] = []
    with signals.held(), Transaction(reader, writer, "prepare", folder) as transaction:
        transaction.folder(folder)
        transaction.lock()
        transaction.empty()
        for argv in commands:
            tell(" ".join(argv[1:4]))
            with signals.heeded():
                run_to_end(machine, argv, tell)
            before = before or held(machine, made_in(reader.again(), folder))
        if not reader.again().is_file(reader.join(folder, ".gitignore")):
            writer.write(reader.join(folder, ".gitignore"), IGNORE_ALL)
        transaction.commit()
        managed_envs.remember(reader, reader.real(folder), writer)
    after = held(machine, made_in(reader.again(), folder))
    steps = [machine.line(argv) for argv in commands]
    return PrepareAnswer(done=True, undo=None, steps=steps, moves=moves(before, after))


def check(machine: Machine, order: Order, answer: PrepareAnswer) -> None:
    """Compare what was requested with what is there: packages by their metadata, and a trial import of each module."""
    reader = machine.reader
    interpreter = made_in(reader, order.folder)
    answer.interpreter = interpreter
    search = search_path(reader, interpreter, Invocation(variables={}, no_user=True))
    packages, _ = contents(reader, interpreter, search)
    keys = order.wants.keys
    there = visible_of(packages)
    answer.packages = [there[key] for key in sorted(keys & there.keys())]
    answer.lacking = sorted(keys - there.keys())
    for package in answer.packages:
        answer.imports += proofs(machine, interpreter, package)
        answer.notes += [f"{package.name} needs {unmet.requirement}, found {unmet.found}" for unmet in package.unmet]
