"""This interpreter was built or packaged without a part of its standard library.

How to tell: the standard library has the module's source and lacks its compiled part, or lacks a module that every
Python of this version has, or only Python for other systems has the module.
Fix: install the system's package that provides the part, or build this Python with the library that the part needs.

Example:
    the base has tkinter without its compiled part
    asked in heath: import _tkinter

Not this (it is no standard module's part):
    the base has tkinter without its compiled part
    asked in heath: import _tkinterer
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import asked_here
from kalyx.core.diagnosis.shared.spelling import is_standard as is_of_the_library
from kalyx.core.imports.case import Missing
from kalyx.core.imports.standard import Piece, instead, is_standard, module_span, systems_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Interpreter
from kalyx.core.model.steps import RunWith

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    missing, interpreter = case.missing, case.interpreter
    span = module_span(missing.split(".")[0])
    if span is not None and (span.is_gone(interpreter.version) or span.is_newer(interpreter.version)):
        return None
    systems = systems_of(missing)
    if systems is not None and machine.reader.system not in systems:
        return _of_other_systems(case, machine, systems)
    part = _part(missing)
    if part is not None:
        item = instead().parts[part]
        message = f"this Python was built or packaged without {item.of[0]}: its part {part} is not there"
    elif _is_lost(case):
        part, item, minor = missing, Piece(), interpreter.minor
        message = f"{part} belongs to the standard library of Python {minor}, and the library of this Python lacks it"
    else:
        return None
    library = case.standard
    evidence = [
        Evidence(
            fact=f"no {part} in this interpreter's library", source=", ".join(library[:3]) or interpreter.base_prefix
        )
    ]
    evidence += asked_here(case, missing)
    has = _other_with(machine, part, interpreter)
    if has is not None:
        evidence.append(Evidence.at(has.executable, f"the Python {has.version} at {has.prefix} has it"))
    return Finding.proven("stdlib-part-missing", message, evidence, _ways_out(machine, case, item, part, has))


def _is_lost(case: Missing) -> bool:
    """Whether this library lacks a module that every CPython of its version has; False where that cannot be read."""
    reader, missing, interpreter = case.resolver.reader, case.missing, case.interpreter
    if interpreter.implementation != "cpython" or not is_standard(missing, interpreter.version):
        return False
    top, _, part = missing.partition(".")
    location = case.resolver.resolve(top).location if part else None
    if part and (location is None or not is_of_the_library(case, location)):
        return False  # another package of that name answers
    has_folder = any(reader.is_folder(folder) for folder in case.standard)
    is_missing = case.resolver.resolve(missing).location is None
    return has_folder and is_missing and reader.refused_within(*case.standard) is None


_NAMES = {"linux": "Linux", "macos": "macOS", "windows": "Windows"}


def _of_other_systems(case: Missing, machine: Machine, systems: list[str]) -> Finding:
    """A standard module that Python for this system never had (docs.python.org, "Availability")."""
    missing, here = case.missing, _NAMES[machine.reader.system]
    there = " and ".join(_NAMES[system] for system in systems)
    install = instead().ported.get(missing.split(".")[0]) if here == "Windows" else None
    choices = []
    if install is not None:
        choices.append(fixes.install(machine, case.interpreter, install))
        choices[0] = choices[0].called(f"install {install}, which provides {missing} on {here}")
    line = f"import {missing} on {there} only, or run the code there"
    choices.append(Fix(message="change the code, or run it on another system", steps=[fixes.by_hand(line)]))
    message = f"{missing} is a standard module of Python for {there}; Python for {here} does not have it"
    evidence = [
        Evidence(fact=f"{missing} is for {there} only", source="Kalyx's table of standard modules"),
        *asked_here(case, missing),
    ]
    return Finding.proven("stdlib-part-missing", message, evidence, choices)


def _part(missing: str) -> str | None:
    for name, item in instead().parts.items():
        if missing == name or missing in item.of or (missing.split(".")[0] == name):
            return name
    return None


def _other_with(machine: Machine, part: str, own: Interpreter) -> Interpreter | None:
    """Another interpreter here that has the part, one of the same version first."""
    reader = machine.reader
    *above, last = part.split(".")
    result = []
    for interpreter in machine.interpreters:
        folder = reader.join(interpreter.library, *above)
        names = [*reader.names(reader.join(interpreter.library, "lib-dynload")), *reader.names(folder)]
        if interpreter.implementation == "cpython" and any(name.split(".")[0] == last for name in names):
            result.append(interpreter)
    result.sort(key=lambda candidate: candidate.minor != own.minor)
    return next((item for item in result if item.base_prefix != own.base_prefix), None)


def _ways_out(machine: Machine, case: Missing, packages: Piece, part: str, has: Interpreter | None) -> list[Fix]:
    interpreter = case.interpreter
    packaged = interpreter.base_prefix == "/usr"
    result = []
    if packaged or machine.reader.system == "macos":
        fix = fixes.of_system(machine, packages.debian, packages.fedora, packages.brew)
        if fix is None and packaged:  # no package of its own: with the library, which may be installed in part only
            whole = f"libpython{interpreter.minor}-stdlib"
            fix = fixes.of_system(machine, whole, "python3-libs", None, again=True)
        result += [fix] if fix is not None else []
    source = fixes.of_system(machine, packages.source, None, None) if not packaged else None
    if source is not None:
        source = source.called(f"build this Python again with what {part} needs")
        build = fixes.by_hand(f"then build {interpreter.base_prefix} again, as it was built")
        result.append(source.with_steps(*source.steps, build))
    if has is not None:
        step = fixes.step(machine, RunWith(words=[has.executable, *case.runs], same_words=True))
        result.append(Fix(message=f"use the Python {has.version} that has it", steps=[step]))
    if not packages.of and not packaged:
        line = f"install Python {interpreter.minor} in {interpreter.base_prefix} again, as it was installed"
        result.append(Fix(message="install this Python again, with its whole library", steps=[fixes.by_hand(line)]))
    line = f"build or install a Python that has {part}; an environment takes it from its base Python"
    return result or [Fix(message="use a Python that has it", steps=[fixes.by_hand(line)])]
