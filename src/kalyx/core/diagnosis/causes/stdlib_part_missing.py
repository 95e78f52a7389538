"""This interpreter was built or packaged without a part of its standard library.

How to tell: the standard library has the module's source and lacks its compiled part, or only Python for other systems
has the module.
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
from kalyx.core.imports.case import Missing
from kalyx.core.imports.standard import instead, module_span, systems_of
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
    if part is None:
        return None
    item = instead("parts")[part]
    library = [entry.entry for entry in case.search.entries if entry.put_by == "library"]
    evidence = [
        Evidence(
            fact=f"no {part} in this interpreter's library", source=", ".join(library[:3]) or interpreter.base_prefix
        )
    ]
    evidence += asked_here(case, missing)
    has = _other_with(machine, part, interpreter)
    if has is not None:
        evidence.append(
            Evidence(
                fact=f"the Python {has.version} at {has.prefix} has it", source=has.executable, path=has.executable
            )
        )
    of = item["of"][0]
    return Finding(
        cause="stdlib-part-missing",
        certainty="proven",
        message=f"this Python was built or packaged without {of}: its part {part} is not there",
        evidence=evidence,
        fixes=_ways_out(machine, case, item, part, has),
    )


_NAMES = {"linux": "Linux", "macos": "macOS", "windows": "Windows"}


def _of_other_systems(case: Missing, machine: Machine, systems: list[str]) -> Finding:
    """A standard module that Python for this system never had (docs.python.org, "Availability")."""
    missing, here = case.missing, _NAMES[machine.reader.system]
    there = " and ".join(_NAMES[system] for system in systems)
    install = instead("ported").get(missing.split(".")[0]) if here == "Windows" else None
    ways = []
    if install is not None:
        ways.append(fixes.install(machine, case.interpreter, install))
        ways[0].message = f"install {install}, which provides {missing} on {here}"
    line = f"import {missing} on {there} only, or run the code there"
    ways.append(Fix(message="change the code, or run it on another system", steps=[fixes.by_hand(line)]))
    return Finding(
        cause="stdlib-part-missing",
        certainty="proven",
        message=f"{missing} is a standard module of Python for {there}; Python for {here} does not have it",
        evidence=[Evidence(fact=f"{missing} is for {there} only", source="Kalyx's table of standard modules"),
                  *asked_here(case, missing)],
        fixes=ways,
    )  # fmt: skip


def _part(missing: str) -> str | None:
    parts = instead("parts")
    for name, item in parts.items():
        if missing == name or missing in item["of"] or (missing.split(".")[0] == name):
            return name
    return None


def _other_with(machine: Machine, part: str, own: Interpreter) -> Interpreter | None:
    """Another interpreter here that has the part, one of the same version first."""
    reader = machine.reader
    minor = own.version.split(".")[:2]
    result = []
    for interpreter in machine.interpreters:
        names = [*reader.names(reader.join(interpreter.library, "lib-dynload")), *reader.names(interpreter.library)]
        if interpreter.implementation == "cpython" and any(name.split(".")[0] == part for name in names):
            result.append(interpreter)
    result.sort(key=lambda candidate: candidate.version.split(".")[:2] != minor)
    return next((item for item in result if item.base_prefix != own.base_prefix), None)


def _ways_out(
    machine: Machine, case: Missing, packages: dict[str, str | None], part: str, has: Interpreter | None
) -> list[Fix]:
    interpreter = case.interpreter
    packaged = interpreter.base_prefix == "/usr"
    result = []
    if packaged or machine.reader.system == "macos":
        mend = fixes.of_system(machine, packages.get("debian"), packages.get("fedora"), packages.get("brew"))
        result += [mend] if mend is not None else []
    source = fixes.of_system(machine, packages.get("source"), None, None) if not packaged else None
    if source is not None:
        source.message = f"build this Python again with what {part} needs"
        source.steps.append(fixes.by_hand(f"then build {interpreter.base_prefix} again, as it was built"))
        result.append(source)
    if has is not None:
        step = fixes.step(machine, RunWith(words=[has.executable, *case.runs], same_words=True))
        result.append(Fix(message=f"use the Python {has.version} that has it", steps=[step]))
    line = f"build or install a Python that has {part}; an environment takes it from the Python below it"
    return result or [Fix(message="use a Python that has it", steps=[fixes.by_hand(line)])]
