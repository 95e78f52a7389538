"""The kernel was started and gave no answer: it ended, stayed silent, or did not speak the protocol.

How to tell: the kernel was started, and the answer shows what it printed before it ended.
Fix: follow what its output says; then rehearse it again.

Example:
    kernel heath starts a program that ends at once
    rehearsed

Not this (it answers, and an import in it fails):
    kernel heath starts /home/keeper/heath/bin/python
    rehearsed with --import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.reading import view_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Kernel
from kalyx.core.model.steps import RunWith
from kalyx.core.text.names import is_module_name


def finding(kernel: Kernel, problem: str, words: str, machine: Machine, stays: bool) -> Finding:
    """A kernel that gave no answer, explained from its own last words.

    ``stays``: whether it is registered then; else a fix names the interpreter that it started.
    """
    evidence = [Evidence(fact=problem, source="the rehearsal")]
    lines = [line.rstrip() for line in words.splitlines() if line.strip()]
    if lines:
        evidence.append(Evidence(fact=lines[-1][:300], source="its last words"))
    offered: list[Fix] = []
    missing = next((line for line in reversed(lines) if "No module named" in line), None)
    if missing is not None and kernel.interpreter is not None:
        module = missing.split("No module named", 1)[1].strip(" '\":").split("'")[0].split(";")[0]
        if is_module_name(module):
            target = f"kernel:{kernel.id}" if stays else kernel.interpreter.executable
            argv = ["kalyx", "why", module, "--in", target]
            offered.append(Fix(message="ask why that import fails", steps=[fixes.step(machine, RunWith(words=argv))]))
    elif kernel.interpreter is not None:
        view = view_of(machine.reader, kernel.interpreter)
        argv = ["kalyx", "survey", "--under", view.environment.prefix]
        offered.append(Fix(message="look at its environment", steps=[fixes.step(machine, RunWith(words=argv))]))
    message = f"kernel {kernel.id} was started and gave no answer: {problem}"
    return Finding.proven("no-answer", message, evidence, offered)
