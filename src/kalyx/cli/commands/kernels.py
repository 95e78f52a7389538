"""``kalyx kernels``: registered kernels and what each really starts."""

from __future__ import annotations

import argparse

from kalyx.cli.context import Call
from kalyx.core.diagnosis import catalogue
from kalyx.core.model.records import RunningKernel, Unread
from kalyx.core.model.results import KernelsAnswer
from kalyx.core.system import Reader, Unreadable

# Conditions that say something is wrong; the others are only worth knowing.
WRONG = {"interpreter-gone", "kernel-package-absent", "name-misleads", "spec-unreadable", "hidden",
         "no-connection-file"}  # fmt: skip


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--running", action="store_true", help="also those that run now, with their notebooks")
    parser.add_argument("--seen-by", metavar="TARGET", help="list them as this environment's server would")


def run(call: Call) -> int:
    machine = call.machine
    kernels = [catalogue.judge_kernel(kernel, machine) for kernel in machine.kernels]
    folders = machine.servers.kernel_folders
    unexplained: list[RunningKernel] = []
    if call.options.running:
        from kalyx.core.seats.running import attach

        kernels, unexplained = attach(machine.reader, kernels, machine.servers.lives)
    answer = KernelsAnswer(kernels=kernels, unregistered=unexplained, folders=folders, seen_by=machine.server.answers)
    for folder in folders:
        refusal = _refused(machine.reader, folder)
        if refusal is not None:
            answer.unread.append(Unread(path=folder, reason=refusal))
    answer.unread += machine.servers.unread
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.kernels import draw_kernels

        draw_kernels(call.screen, answer, call.options.verbose)
    return 1 if answer.unread or any(WRONG & set(kernel.conditions) for kernel in kernels) else 0


def _refused(reader: Reader, folder: str) -> str | None:
    """Why a folder of kernels cannot be listed; None where it can, or is not there."""
    try:
        reader.listing(folder)
    except Unreadable as problem:
        return problem.reason if reader.may_be_there(folder) else None
    return None
