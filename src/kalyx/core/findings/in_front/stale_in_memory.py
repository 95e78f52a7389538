"""A running kernel loaded it, or looked for it, before it was installed or changed.

Has it:
    heath has hivescale 2.1, and a kernel of heath has been running since before
    asked about that kernel: import hivescale

Only looks like it (the kernel was started after it):
    heath has hivescale 2.1, and a kernel of heath was started after it
    asked about that kernel: import hivescale
"""

from __future__ import annotations

from kalyx.core.findings import remedies
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.packages.metadata import Installed
from kalyx.core.records import Evidence, Finding, Remedy, RunningKernel


def look(case: Case, machine: Machine) -> Finding | None:
    """Only for a kernel or a notebook, and where a fresh start imports it."""
    if case.trial is None or not case.trial.imports or case.seat.seat not in ("kernel", "notebook"):
        return None
    path = case.trial.file or next(iter(case.trial.folders or []), None)
    owner = case.owner(path) if path else None
    written = machine.facts.status(owner.path if owner is not None else path or "")
    if written is None:
        return None
    when = written.modified_ns / 1e9
    older = [one for one in _running(case, machine) if one.started is not None and one.started < when - 1]
    return _finding(case, machine, older, owner, path or "", when) if older else None


def _running(case: Case, machine: Machine) -> list[RunningKernel]:
    """The live kernels that this seat stands for: its own process, else those started as its kernel."""
    if case.seat.pid is not None:
        return [RunningKernel(pid=case.seat.pid, started=case.seat.started)]
    if case.kernel is None:
        return []
    from kalyx.core.seats.running import live_kernels

    ask = machine.ask_server if machine.servers else None
    lives = live_kernels(machine.facts, machine.servers, ask, [])
    found = [live for live in lives if live.spec == case.kernel.id]
    if case.seat.seat == "notebook":
        path = machine.facts.join(case.seat.folder or machine.facts.folder, case.seat.name)
        found = [live for live in found if live.notebook is not None and machine.facts.same_path(live.notebook, path)]
    return [RunningKernel(pid=live.process.pid, notebook=live.notebook, started=live.process.started) for live in found]


def _finding(
    case: Case, machine: Machine, older: list[RunningKernel], owner: Installed | None, path: str, when: float
) -> Finding:
    from datetime import datetime

    def clock(seconds: float) -> str:
        return datetime.fromtimestamp(seconds).strftime("%Y-%m-%d %H:%M:%S")

    what = f"{owner.name} {owner.version}" if owner is not None else case.module
    evidence = [
        Evidence(
            fact=f"{what} was installed or changed at {clock(when)}",
            source=owner.path if owner else path,
            path=owner.path if owner else path,
        )
    ]
    for one in older:
        said = f"kernel process {one.pid} has been running since {clock(one.started or 0)}"
        evidence.append(Evidence(fact=said, source=one.notebook or "the process list", path=one.notebook))
    steps = [
        remedies.by_hand(
            f"restart the kernel of process {older[0].pid} (in the notebook: Restart kernel), then import it again"
        )
    ]
    return Finding(
        cause="stale-in-memory",
        certainty="likely",
        says=f"a fresh start imports {case.module}; the kernel that runs is older than {what} as it is now",
        evidence=evidence,
        remedies=[Remedy(says="restart that kernel", steps=steps)],
    )
