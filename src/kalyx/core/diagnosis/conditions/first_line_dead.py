"""A command's first line names an interpreter that is gone, or not that of the environment that the command is in.

How to tell: the interpreter that the command's first line names is examined.
Fix: recreate the command: install its package again with this environment's Python.

Example:
    hivescale-read in heath's bin names /home/keeper/old/heath/bin/python
    asked: kalyx why program:hivescale-read

Not this (the command is not on PATH at all):
    no hivescale-read is on PATH
    asked: kalyx why program:hivescale-read
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import RunWith


def of_nothing(machine: Machine, word: str, path: str, reason: str) -> Finding:
    """Its first line leads to nothing that starts."""
    lies = machine.reader.parent(machine.reader.parent(path))
    owner = next(
        (
            environment
            for environment in machine.environments.everywhere
            if environment.prefix == lies and environment.executable
        ),
        None,
    )
    offered = []
    if owner is not None and owner.executable is not None:
        argv = [owner.executable, "-m", "pip", "install", "--force-reinstall", "--no-deps"]
        step = fixes.by_hand(f"NAME is the package that provides {word}", f"{machine.line(argv)} NAME")
        offered.append(Fix(message="reinstall its commands", steps=[step], changes=[path]))
    message = f"{word} starts nothing: {reason}"
    return Finding.proven("first-line-dead", message, [Evidence.at(path, reason, 1)], offered)


def of_another(machine: Machine, word: str, path: str, lies: str, runs: str) -> Finding:
    """The script is in the environment ``lies``, and its first line starts ``runs``."""
    run = fixes.step(machine, RunWith(words=[machine.reader.join(lies, "bin", "python"), "-m", word]))
    evidence = [Evidence.at(path, f"its first line names an interpreter of {runs}", 1)]
    offered = [Fix(message="run its module with the environment's own interpreter", steps=[run])]
    return Finding.proven("first-line-dead", f"{word} is in {lies} and its first line starts {runs}", evidence, offered)
