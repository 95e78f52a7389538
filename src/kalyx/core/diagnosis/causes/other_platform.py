"""The package's compiled part is for another operating system, processor or C library.

How to tell: the file's header is for another system or processor.
Fix: install the package again on this system.

Example:
    heath has hivescale 2.1 whose compiled part is for Windows
    asked in heath: import hivescale._core

Not this (the compiled part is for another Python version):
    heath has hivescale 2.1 whose compiled part is for Python 3.8
    asked in heath: import hivescale._core
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared.failing import compiled_of, unfit
from kalyx.core.formats.fitting import foreign
from kalyx.core.imports.case import Failing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding

LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    interpreter = case.interpreter
    for path in compiled_of(case):
        reason = foreign(machine.reader, interpreter, path)
        if reason is not None:
            details = (f"its header says it is {reason}", f"{machine.reader.name(path)} is {reason}")
            return unfit(case, machine, interpreter, "other-platform", path, details)
    return None
