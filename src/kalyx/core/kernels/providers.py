"""What makes an environment able to be a kernel: providers, as data.

A provider is a module that, run with a connection file, speaks the messaging
protocol. The first one that can be imported in the environment is used.
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.doors import Facts
from kalyx.core.words.names import canonical


class Provider(Struct, frozen=True):
    """A module to run, the distribution that brings it, and the words that start it."""

    module: str
    distribution: str
    arguments: tuple[str, ...]
    debugger: bool = False
    stand_in: bool = False
    leaves_no_trace: tuple[str, ...] = ()  # words that keep a rehearsal out of the user's history


PROVIDERS = [
    Provider(
        "ipykernel_launcher",
        "ipykernel",
        ("-m", "ipykernel_launcher", "-f", "{connection_file}"),
        True,
        leaves_no_trace=("--HistoryManager.hist_file=:memory:",),
    ),
    Provider("xpython_launcher", "xeus-python", ("-m", "xpython_launcher", "-f", "{connection_file}"), True),
    Provider(
        "kalyx_standin_kernel",
        "kalyx-standin-kernel",
        ("-m", "kalyx_standin_kernel", "-f", "{connection_file}"),
        stand_in=True,
    ),
]

# The provider that a remedy offers where there is none.
USUAL = PROVIDERS[0]


def to_bring(facts: Facts, wheels: str | None) -> Provider:
    """The provider to install where none is: the first that a folder of wheels has, else the usual one."""
    there = {canonical(name.split("-")[0]) for name in facts.names(wheels)} if wheels is not None else set()
    return next((one for one in PROVIDERS if canonical(one.distribution) in there), USUAL)


def module_run_by(argv: list[str]) -> str | None:
    """The module that a kernel's command runs with ``-m``, or None when it runs something else."""
    for position, word in enumerate(argv[:-1]):
        if word == "-m" and position > 0:
            return argv[position + 1]
    return None


def quietly(command: list[str]) -> list[str]:
    """The command of a kernel with what keeps it out of the user's history, where its provider is known."""
    module = module_run_by(command)
    for provider in PROVIDERS:
        if provider.module == module or (module == "ipykernel" and provider is USUAL):
            return [*command, *provider.leaves_no_trace]
    return command
