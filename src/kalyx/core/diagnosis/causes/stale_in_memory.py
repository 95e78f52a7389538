"""A running kernel or program loaded the module, or searched for it, before it was installed or changed.

How to tell: the files changed after the process began, and a new process imports the module.
Fix: restart the kernel or the process.

Example:
    heath has hivescale 2.1, and a kernel of heath has been running since before
    asked about that kernel: import hivescale

Not this (the kernel was started after it):
    heath has hivescale 2.1, and a kernel of heath was started after it
    asked about that kernel: import hivescale
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, ImportAnswer, RunningKernel, Seat
from kalyx.core.system import Reader
from kalyx.core.system.reader import FileStat

if TYPE_CHECKING:
    from kalyx.core.imports.case import Case
    from kalyx.core.packages.metadata import Installed

_FILES = 2000  # of one distribution

LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    """Only for a running process (a kernel, a notebook's, another), and where a new process imports the module."""
    if case.trial is None or not case.trial.imports or case.seat.seat not in ("kernel", "notebook", "process"):
        return None
    path = case.trial.file or next(iter(case.trial.folders or []), None)
    running = [running for running in _running(case, machine) if running.started is not None] if path else []
    if path is None or not running:
        return None
    owner = case.owner(path)
    changed, when = _last_change(machine.reader, path, owner)
    older = [item for item in running if (item.started or 0) < when - 1]
    return _finding(case, machine, older, owner, changed, when) if older else None


def of_failure(seat: Seat, item: ImportAnswer, loaded_from: str | None, error: str) -> Finding:
    """For a process whose import failed, and succeeds in a new process with the same path and variables."""
    location = item.found_at or "a folder"
    evidence = [
        Evidence(fact=error[:300], source="the process"),
        Evidence(fact=f"a fresh start with the same path imports {item.module}", source=location, path=item.found_at),
    ]
    if loaded_from is not None:
        fact = "the process has loaded the module from here"
        evidence.append(Evidence.at(loaded_from, fact))
    which = f" of process {seat.pid}" if seat.pid is not None else ""
    line = f"restart the kernel{which} (in the notebook: Restart kernel), then import it again"
    message = f"a fresh start imports {item.module}; only what this process holds in memory keeps it from that"
    offered = [Fix(message="restart it", steps=[fixes.by_hand(line)])]
    return Finding.proven("stale-in-memory", message, evidence, offered)


def _last_change(reader: Reader, path: str, owner: Installed | None) -> tuple[str, float]:
    """The file of the module or of its whole distribution that changed last, and when; no interpreter's cache."""
    files = [path]
    if owner is not None:
        listed = [file for file in owner.files or () if not file.endswith(".pyc")]
        some = reader.first_of(listed, _FILES, owner.path)
        files += [owner.path, *(reader.join(owner.site, *file.split("/")) for file in some)]
    elif reader.name(path).startswith("__init__."):
        folder = reader.parent(path)
        some = reader.first_of(reader.names(folder), _FILES, folder)
        files += [reader.join(folder, name) for name in some if name != "__pycache__"]
    times = [(status.modified_ns, file) for file in files if isinstance(status := reader.status(file), FileStat)]
    newest = max(times, default=(0, path))
    return newest[1], newest[0] / 1e9


def _running(case: Case, machine: Machine) -> list[RunningKernel]:
    """The live kernels that this seat stands for: its own process, else those started as its kernel."""
    if case.seat.pid is not None:
        return [RunningKernel(pid=case.seat.pid, started=case.seat.started)]
    if case.kernel is None:
        return []
    result = [live for live in machine.servers.lives if live.spec == case.kernel.id]
    if case.seat.seat == "notebook":
        path = machine.reader.join(case.seat.folder or machine.reader.folder, case.seat.name)
        result = [
            live for live in result if live.notebook is not None and machine.reader.same_path(live.notebook, path)
        ]
    return [
        RunningKernel(pid=live.process.pid, notebook=live.notebook, started=live.process.started) for live in result
    ]


def _finding(
    case: Case, machine: Machine, older: list[RunningKernel], owner: Installed | None, changed: str, when: float
) -> Finding:
    from datetime import datetime

    def clock(seconds: float) -> str:
        return datetime.fromtimestamp(seconds).strftime("%Y-%m-%d %H:%M:%S")

    what = f"{owner.name} {owner.version}" if owner is not None else case.module
    evidence = [Evidence.at(changed, f"{what} was installed or changed at {clock(when)}")]
    kind = "process" if case.seat.seat == "process" else "kernel process"
    for running in older:
        text = f"{kind} {running.pid} has been running since {clock(running.started or 0)}"
        evidence.append(Evidence(fact=text, source=running.notebook or "the process list", path=running.notebook))
    if case.seat.seat == "process":
        name, line = "that process", f"end process {older[0].pid} and start it again"
    else:
        name = "the kernel that runs"
        line = f"restart the kernel of process {older[0].pid} (in the notebook: Restart kernel), then import it again"
    message = f"a fresh start imports {case.module}; {name} is older than {what} as it is now"
    offered = [Fix(message="restart it", steps=[fixes.by_hand(line)])]
    return Finding.likely("stale-in-memory", message, evidence, offered)
