"""A file inside a package was run as a script, so its relative imports have nothing to be relative to.

How to tell: the file uses dots and is itself the program.
Fix: run it as a module of its package: python -m package.module.

Example:
    the folder has a package beehouse whose part scales asks for its neighbour, and beehouse is on PYTHONPATH
    asked in heath: import scales

Not this (asked for as a part of its package):
    the folder has a package beehouse whose part scales asks for its neighbour
    asked in heath: import beehouse.scales
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import raised_evidence
from kalyx.core.imports.case import Raising
from kalyx.core.imports.traceback import ErrorReport
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import RunWith
from kalyx.core.seats.notebook import ENDING
from kalyx.core.system import Reader

_WORDS = ("attempted relative import with no known parent package", "attempted relative import in non-package",
          "__main__' is not a package")  # fmt: skip


LOOKS_AT = "raising"


_BEYOND = "beyond top-level package"


def look(case: Raising, machine: Machine) -> Finding | None:
    if _BEYOND in case.raised.text.lower():
        return _above_the_top(case, machine)
    if not any(word in case.raised.text.lower() for word in _WORDS):
        return None
    frame = case.importer()
    if frame is None:
        return None
    evidence = [Evidence.at(frame.file, case.asking_line() or "a relative import", frame.line)]
    return finding(machine, frame.file, [*evidence, *raised_evidence(case)], by_name=case.interpreter.executable)


def of_text(report: ErrorReport, machine: Machine, by_name: str) -> Finding | None:
    """The same of an error's text alone; ``by_name``: the interpreter to run a file with."""
    if not any(word in report.text.lower() for word in _WORDS):
        return None
    path, line = report.frames[-1] if report.frames else ("", 0)
    evidence = [Evidence(fact=f"{report.type}: {report.text}"[:300], source="the text given")]
    if machine.reader.is_file(path) and path.endswith(".py"):
        asked = Evidence.at(path, report.asked or "a relative import", line or None)
        return finding(machine, path, [asked, *evidence], by_name=by_name)
    step = fixes.by_hand("write the import with the package's name in place of the dots")
    message = "code that was typed, or a notebook's cell, belongs to no package: its dots name none"
    return Finding.proven("no-parent-package", message, evidence, [Fix(message="import it by its name", steps=[step])])


def _above_the_top(case: Raising, machine: Machine) -> Finding | None:
    frame = case.importer()
    if frame is None:
        return None
    line = case.asking_line()
    level = len(line.removeprefix("from ")) - len(line.removeprefix("from ").lstrip("."))
    evidence = [Evidence.at(frame.file, line or "a relative import", frame.line)]
    return beyond(
        machine, frame.file, line, level, [*evidence, *raised_evidence(case)], by_name=case.interpreter.executable
    )


def beyond(machine: Machine, path: str, line: str, level: int, evidence: list[Evidence], *, by_name: str) -> Finding:
    """The dots of an import lead above the package that sys.path begins with. ``level``: how many dots."""
    reader = machine.reader
    folder = reader.parent(path)
    for _ in range(max(0, level - 1)):
        folder = reader.parent(folder)
    above = reader.parent(folder)
    words = reader.path.relpath(path, above).removesuffix(".py").split(reader.path.sep)
    dotted = ".".join(word for word in words if word != "__init__")
    offered = []
    remainder = line.removeprefix("from ").lstrip(".")
    if all(word.isidentifier() for word in dotted.split(".")):
        run = fixes.step(machine, RunWith(words=[by_name, "-m", dotted]))
        there = _is_there(reader, folder, remainder)
        offered.append(Fix(message=f"run it as {dotted}, from {above}", steps=[fixes.by_hand(f"go to {above}"), run],
                         state="certain" if there else "may-help"))  # fmt: skip
    if remainder != line:
        plain = remainder.strip() if remainder.strip().startswith("import ") else f"from {remainder}"
        offered.append(Fix(message="write the import without its dots", steps=[fixes.write(plain)], state="may-help"))
    message = f"the dots of {reader.name(path)} lead above the first package on sys.path"
    evidence = [*evidence, Evidence.at(path, f"its dots lead to {folder}")]
    return Finding.proven("no-parent-package", message, evidence, offered)


def _is_there(reader: Reader, folder: str, asked: str) -> bool:
    """Whether a folder has what stands after the dots of an import."""
    words = asked.replace(",", " ").split()
    first = words[1:2] if words[:1] == ["import"] else words[:1]
    names = reader.names(folder)
    return any(f"{word.partition('.')[0]}{ending}" in names for word in first for ending in ("", ".py"))


def finding(machine: Machine, path: str, evidence: list[Evidence], *, by_name: str) -> Finding:
    """What is wrong with running this file of a package by its path; ``by_name``: the interpreter to run it with."""
    reader = machine.reader
    above, dotted = package_of(reader, path)
    message = f"{reader.name(path)} is a part of a package and was started by itself: its dots name no package"
    if path.endswith(ENDING):
        message = f"{reader.name(path)} is a notebook and part of no package: the dots of its imports name nothing"
    if dotted is None:
        step = fixes.by_hand(f"in {path}, write the import without its leading dots")
        offered = [Fix(message="import it by its name", steps=[step], changes=[path])]
    else:
        run = fixes.step(machine, RunWith(words=[by_name, "-m", dotted]))
        write = fixes.write(f"import {dotted}")
        offered = [
            Fix(message=f"import it as a part of its package, from {above}", steps=[write]),
            Fix(message="run it as a part of its package", steps=[fixes.by_hand(f"go to {above}"), run]),
        ]
        evidence.append(Evidence.at(path, f"its package begins in {above}"))
    return Finding.proven("no-parent-package", message, evidence, offered)


def package_of(reader: Reader, path: str) -> tuple[str, str | None]:
    """The folder that a file's package begins in, and its name as a module from there; None: it has no such name.

    A notebook is part of no package.
    """
    folder, words = reader.parent(path), [reader.name(path).rpartition(".")[0]]
    while reader.is_file(reader.join(folder, "__init__.py")) and reader.parent(folder) != folder:
        words.insert(0, reader.name(folder))
        folder = reader.parent(folder)
    if len(words) == 1:  # a folder without __init__ is a package too
        words.insert(0, reader.name(folder))
        folder = reader.parent(folder)
    if words[-1] == "__init__":
        words.pop()
    has_name = not path.endswith(ENDING) and all(word.isidentifier() for word in words)
    return folder, ".".join(words) if has_name else None
