"""The kernel packages, by which an environment can be a kernel, as a table.

A kernel package is a module that, run with a connection file, speaks the messaging
protocol. The first one that can be imported in the environment is used.
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.system import Reader
from kalyx.core.text.names import canonical


class KernelPackage(Struct, frozen=True):
    """A module that runs as a kernel with ``-f FILE``, and the distribution that has the module."""

    module: str
    distribution: str
    debugger: bool = False
    stand_in: bool = False
    leaves_no_trace: tuple[str, ...] = ()  # words that keep a rehearsal out of the user's history
    runs_file: str | None = None  # the option, with ``=``, that names a file to run in the kernel as it starts

    @property
    def arguments(self) -> list[str]:
        """The words after the interpreter in the kernel's file; the server fills in the connection file."""
        return ["-m", self.module, "-f", "{connection_file}"]


KERNEL_PACKAGES = [
    KernelPackage(
        "ipykernel_launcher",
        "ipykernel",
        debugger=True,
        leaves_no_trace=("--HistoryManager.hist_file=:memory:",),
        runs_file="--IPKernelApp.file_to_run=",
    ),
    KernelPackage("xpython_launcher", "xeus-python", debugger=True),
    KernelPackage("kalyx_standin_kernel", "kalyx-standin-kernel", stand_in=True),
]

# The kernel package that a fix offers where there is none.
USUAL = KERNEL_PACKAGES[0]


def to_bring(reader: Reader, wheels: str | None) -> KernelPackage:
    """The kernel package to install where none is: the first that a folder of wheels has, else the usual one."""
    there = {canonical(name.split("-")[0]) for name in reader.names(wheels)} if wheels is not None else set()
    return next(
        (kernel_package for kernel_package in KERNEL_PACKAGES if canonical(kernel_package.distribution) in there), USUAL
    )


def module_run_by(argv: list[str]) -> str | None:
    """The module that a kernel's command runs with ``-m``, or None when it runs something else."""
    for position, word in enumerate(argv[:-1]):
        if word == "-m" and position > 0:
            return argv[position + 1]
    return None


def quietly(command: list[str]) -> list[str]:
    """The command of a kernel with what keeps it out of the user's history, where its kernel package is known."""
    module = module_run_by(command)
    for kernel_package in KERNEL_PACKAGES:
        if kernel_package.module == module or (module == "ipykernel" and kernel_package is USUAL):
            return [*command, *kernel_package.leaves_no_trace]
    return command
