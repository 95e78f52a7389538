"""A working environment in one step: made in place under a mark, filled, checked, the mark taken off last.

Strategy: everything happens inside the one new folder. The mark of being
unfinished is written before anything else and removed after everything; a run
that fails clears the folder, one that was killed leaves a marked folder that
the survey calls half-made and the next run clears. What is outside is touched
last (the kernel), when the environment is whole.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from kalyx.core.doors import Unreadable
from kalyx.core.doors.change import LiveChange
from kalyx.core.environments.searchpath import Way, search_path
from kalyx.core.facts import (
    ChangePlan,
    Distribution,
    ErrorText,
    ImportAnswer,
    Interpreter,
    KalyxError,
    Package,
    PrepareAnswer,
)
from kalyx.core.findings.half_made import UNFINISHED_MARK
from kalyx.core.imports.resolver import Resolver
from kalyx.core.imports.trial import try_import
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.kernels.providers import PROVIDERS, USUAL
from kalyx.core.lifecycle.wanted import Wants
from kalyx.core.machine import Machine
from kalyx.core.packages.contents import contents
from kalyx.core.text import canonical, visible

IGNORE_ALL = b"# written by kalyx: the environment stays out of version control\n*\n"
INSTALL_SECONDS = 1800.0


class Order(Struct, kw_only=True):
    """What to prepare."""

    folder: str
    base: Interpreter
    see_base: bool = False
    wants: Wants
    wheels: str | None = None
    with_provider: bool = False


def plan(machine: Machine, order: Order) -> tuple[list[ChangePlan], list[list[str]]]:
    """What would be touched, and the commands that would run. Raises KalyxError for what must not be done."""
    facts = machine.facts
    _refuse_what_is_there(machine, order.folder)
    _refuse_base(machine, order.base)
    deeds = [ChangePlan(deed="make environment", path=order.folder)]
    flags = ["--system-site-packages"] if order.see_base else []
    commands = [[order.base.executable, "-m", "venv", *flags, order.folder]]
    python = facts.join(order.folder, *(("Scripts", "python.exe") if facts.system == "windows" else ("bin", "python")))
    words = list(order.wants.words)
    if order.with_provider and not order.wants.keys & {canonical(one.distribution) for one in PROVIDERS}:
        words.append(USUAL.distribution)
    if words:
        offline = ["--no-index", "--find-links", order.wheels] if order.wheels else []
        quiet = ["--disable-pip-version-check", "--no-input"]
        commands.append([python, "-m", "pip", "install", *quiet, *offline, *words])
        deeds.append(ChangePlan(deed="install " + " ".join(words), path=order.folder))
    return deeds, commands


def _refuse_what_is_there(machine: Machine, folder: str) -> None:
    facts = machine.facts
    kind = facts.kind(folder)
    if kind is None:
        upper = facts.parent(folder)
        while facts.kind(upper) is None and facts.parent(upper) != upper:
            upper = facts.parent(upper)
        if not facts.is_folder(upper):
            raise KalyxError(f"{visible(upper)} is no folder; nothing can be made below it")
        return
    if kind != "folder":
        raise KalyxError(f"{visible(folder)} is there already and is no folder")
    try:
        names = list(facts.listing(folder))
    except Unreadable as problem:
        raise KalyxError(f"{visible(folder)}: {problem.reason}") from None
    if names and UNFINISHED_MARK not in names:
        what = "an environment" if "pyvenv.cfg" in names else "not empty"
        raise KalyxError(f"{visible(folder)} is {what} already; name a new folder")


def _refuse_base(machine: Machine, base: Interpreter) -> None:
    """An interpreter that cannot make environments by its own standard means is refused with the way out."""
    if base.version.startswith("2."):
        raise KalyxError(f"Python {base.version} has no standard means to make environments; choose 3.6 or newer")
    search = search_path(machine.facts, base, Way(no_user=True))
    resolver = Resolver(machine.facts, base, search, machine.facts.folder)
    for module in ("venv", "ensurepip"):
        if resolver.resolve(module).place is None:
            minor = ".".join(base.version.split(".")[:2])
            where = "on Debian: apt-get install " + f"python{minor}-venv"
            raise KalyxError(f"{base.executable} lacks the standard module {module}; {where}")


def carry_out(
    machine: Machine,
    order: Order,
    commands: list[list[str]],
    change: LiveChange,
    tell: Callable[[str], None],
) -> PrepareAnswer:
    """Make, fill and check. On any failure the folder is cleared again. Raises KalyxError with the reason."""
    facts = machine.facts
    fresh = facts.kind(order.folder) is None
    try:
        if not fresh:
            _clear(machine, order.folder, change)
        change.folder(order.folder)
        mark = facts.join(order.folder, UNFINISHED_MARK)
        change.mark(mark, b"kalyx prepare is at work here, or was stopped; the next one clears this folder\n")
        for argv in commands:
            tell(" ".join(argv[1:4]))
            _run(machine, argv)
        if not facts.again().is_file(facts.join(order.folder, ".gitignore")):
            change.write(facts.join(order.folder, ".gitignore"), IGNORE_ALL)
        change.remove_file(mark)
    except BaseException:
        _clear(machine, order.folder, change)
        if fresh:
            change.remove_empty_folder(order.folder)
        raise
    return PrepareAnswer(done=True, undo=None, steps=[machine.line(argv) for argv in commands])


def _clear(machine: Machine, folder: str, change: LiveChange) -> None:
    """Empty our own marked folder; the mark goes last, so that a second stop leaves it recognisable."""
    facts = machine.facts.again()
    for name in sorted(facts.names(folder), key=lambda one: one == UNFINISHED_MARK):
        path = facts.join(folder, name)
        if facts.kind(path) == "folder":
            change.remove_folder(path)
        else:
            change.remove_file(path)


def _run(machine: Machine, argv: list[str]) -> None:
    assert machine.runner is not None
    variables = {key: value for key, value in machine.facts.variables.items()
                 if key not in ("PYTHONHOME", "PYTHONPATH", "VIRTUAL_ENV", "__PYVENV_LAUNCHER__")}  # fmt: skip
    ended = machine.runner.run(
        argv, variables=variables, folder=machine.facts.folder, seconds=INSTALL_SECONDS, guarded=True
    )
    if ended.status != 0:
        raise KalyxError(f"{machine.line(argv[:4])} failed: {_what_matters(ended.output + ended.errors)}")


def _what_matters(words: bytes) -> str:
    """The line of an installer's output that says why: its last error, else its last line."""
    lines = [line.strip() for line in words.decode("utf-8", "replace").splitlines() if line.strip()]
    errors = [line for line in lines if line.startswith("ERROR:") or "rror:" in line]
    chosen = errors[-1] if errors else lines[-1] if lines else "it said nothing"
    return chosen.removeprefix("ERROR: ")[:400]


def check(machine: Machine, order: Order, answer: PrepareAnswer) -> None:
    """What was asked for against what is there: packages by their metadata, and a trial import of each module."""
    facts = machine.facts
    folder = "Scripts" if facts.system == "windows" else "bin"
    executable = facts.join(order.folder, folder, "python.exe" if facts.system == "windows" else "python")
    try:
        interpreter = read_interpreter(facts, executable)
    except NotAnInterpreter as refusal:
        raise KalyxError(f"the new environment does not start: {refusal.reason}") from None
    answer.interpreter = interpreter
    search = search_path(facts, interpreter, Way(variables={}, no_user=True))
    packages, _ = contents(facts, interpreter, search)
    keys = order.wants.keys
    answer.packages = [one for one in packages if canonical(one.name) in keys]
    there = {canonical(one.name) for one in answer.packages}
    answer.notes += [f"{key} was asked for and is not there" for key in sorted(keys - there)]
    for package in answer.packages:
        answer.imports += [_try(machine, interpreter, package, module) for module in _to_try(package)]
        answer.notes += [f"{package.name} needs {unmet.requirement}, found {unmet.found}" for unmet in package.unmet]


def _to_try(package: Package) -> list[str]:
    return [module for module in package.modules if not module.startswith("_")][:3]


def _try(machine: Machine, interpreter: Interpreter, package: Package, module: str) -> ImportAnswer:
    assert machine.runner is not None
    with machine.runner.empty_folder() as empty:
        trial = try_import(machine.runner, interpreter.executable, module, folder=empty, seconds=machine.seconds,
                           variables=machine.facts.variables)  # fmt: skip
    found = ImportAnswer(statement=f"import {module}", module=module, outcome="imports" if trial.imports else "fails")
    found.found_at = trial.file
    found.distribution = Distribution(name=package.name, version=package.version or "")
    if trial.root is not None:
        found.error = ErrorText(type=trial.root.type, text=trial.root.text)
    return found
