"""A command is not on this seat's PATH, though an environment here may have it.

How to tell: every folder on PATH is searched, then the command folders of the environments found.
Fix: run the command from the environment that has it, or install its package in this one.

Example:
    hivescale-read lies in heath's bin, and heath is not on PATH
    asked: kalyx why program:hivescale-read

Not this (it is on PATH, and its first line is dead):
    hivescale-read on PATH names /home/keeper/gone/bin/python
    asked: kalyx why program:hivescale-read
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import RunWith


def finding(machine: Machine, word: str) -> Finding:
    """No such command on PATH: where one is, or that none does."""
    reader = machine.reader
    folder = "Scripts" if reader.system == "windows" else "bin"
    evidence = [Evidence(fact=f"no {word} in {len(reader.path_folders())} folders", source="PATH")]
    offered = []
    for environment in machine.environments.everywhere:
        path = next((reader.join(environment.prefix, folder, name) for name in (word, word + ".exe")
                     if reader.is_file(reader.join(environment.prefix, folder, name))), None)  # fmt: skip
        if path is not None:
            evidence.append(Evidence.at(path, f"{environment.name} has it"))
            offered.append(Fix(message="start it by its full path", steps=[fixes.step(machine, RunWith(words=[path]))]))
            line = fixes.activate(machine, environment.prefix)
            offered.append(Fix(message=f"activate {environment.name}", steps=[line]))
            break
    where = "though an environment here has it" if offered else "and no environment known here has it"
    return Finding.proven("program-absent", f"{word} is not on this shell's PATH, {where}", evidence, offered)
