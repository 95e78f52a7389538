"""The package's compiled part is for another Python version or implementation.

How to tell: the tag in the file's name, or its header, is for another Python.
Fix: install the package again for the Python that runs.

Example:
    heath has hivescale 2.1 whose compiled part is for Python 3.8
    asked in heath: import hivescale._core

Not this (the compiled part is for another system):
    heath has hivescale 2.1 whose compiled part is for Windows
    asked in heath: import hivescale._core
"""

from __future__ import annotations

import re

from kalyx.core.diagnosis.shared.dlls import python_of
from kalyx.core.diagnosis.shared.failing import compiled_of, files_of, namesakes, unfit
from kalyx.core.formats.fitting import build_of, foreign, is_compiled, is_other_build
from kalyx.core.imports.case import Case, Failing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding
from kalyx.core.text.patterns import pattern

# The messages of the loader and of the import system about a compiled file for another Python.
_SYMBOL = pattern(r"undefined symbol: (_?Py\w+)|symbol not found[^']*'(_Py\w+)'|Symbol not found: (_+Py\w+)")
_LIBRARY = pattern(r"libpython(\d)\.?(\d+)[a-z]*\.(?:so|dylib)|python(\d)(\d+)\.dll", re.IGNORECASE)

_COMPILED_FOR = pattern(r"(?:compiled|built) (?:for|against|with|using) (?:CPython|Python|python) ?(\d\.\d+)")

LOOKS_AT = "failing"


def look(case: Failing, machine: Machine) -> Finding | None:
    interpreter, trial = case.interpreter, case.trial
    own = interpreter.minor
    for path in namesakes(case):
        if is_other_build(path, interpreter) and foreign(machine.reader, interpreter, path) is None:
            fact = f"its name says it is for Python {build_of(path)}; this is {own}"
            return _finding(case, machine, path, fact)
    words = trial.words if trial is not None else ""
    asked = python_of(case, machine, compiled_of(case)) if words else None
    if asked is not None:
        return _finding(case, machine, asked[1], f"it needs the library of Python {asked[0]}; this is {own}")
    text = _message_of(words, own)
    if text is None:
        return None
    paths = compiled_of(case) if "bytecode" not in text else [p for p in files_of(case) if p.endswith(".pyc")]
    loaded = next((path for path in paths if is_compiled(path) or path.endswith(".pyc")), None)
    if loaded is None and "as it says" in text:
        loaded = next(iter(files_of(case)), None)
    return _finding(case, machine, loaded, text) if loaded is not None else None


def _message_of(words: str, own: str) -> str | None:
    symbol = _SYMBOL.search(words)
    if symbol is not None:
        return f"it asks the interpreter for {next(filter(None, symbol.groups()))}, which Python {own} has not"
    library = _LIBRARY.search(words)
    if library is not None:
        version = ".".join(part for part in library.groups() if part)
        return f"it needs the library of Python {version}; this is {own}" if version != own else None
    compiled = _COMPILED_FOR.search(words)
    if compiled is not None and compiled[1] != own:
        return f"it was compiled for Python {compiled[1]}, as it says; this is {own}"
    if "bad magic number" in words:
        return f"its bytecode is another Python version's; this is {own}"
    if "does not define module export function" in words or "does not define init function" in words:
        return f"it has no entry point for Python {own}: it was built for another, or given another name"
    return None


def _finding(case: Case, machine: Machine, path: str, fact: str) -> Finding:
    message = f"{machine.reader.name(path)} is not for this Python: {fact}"
    return unfit(case, machine, case.interpreter, "other-build", path, (fact, message))
