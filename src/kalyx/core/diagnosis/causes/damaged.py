"""A file of the package is cut short, empty or damaged.

How to tell: the file's header, size or bytes differ from what its kind or its RECORD entry requires.
Fix: install the same version again.

Example:
    heath has hivescale 2.1 whose compiled part is cut short
    asked in heath: import hivescale

Not this (its own code raises):
    heath has hivescale 2.1 that raises on import
    asked in heath: import hivescale
"""

from __future__ import annotations

import base64

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import compiled_of, files_of, raised_evidence, reinstall
from kalyx.core.formats.fitting import is_compiled
from kalyx.core.formats.headers import read_header
from kalyx.core.imports.case import Case, Tried
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import Installed
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import FileStat
from kalyx.core.text.patterns import pattern

_FILES = 5000
_HASHED = 64 * 1024 * 1024

LOOKS_AT = "tried"

NOT_UTF8 = "its bytes are not UTF-8, and its first two lines declare no other encoding"


def look(case: Tried, machine: Machine) -> Finding | None:
    if case.failed.timed_out:
        return None
    for path in _suspects(case, machine):
        owner = case.owner(path)
        wrong = _wrong(machine.reader, path, owner)
        if wrong is not None:
            return _finding(case, machine, path, owner, wrong)
    return None


def _suspects(case: Tried, machine: Machine) -> list[str]:
    """The files the failure names; where the interpreter died, every file of the module's distribution."""
    suspects = compiled_of(case) + files_of(case)
    if case.raised is not None and "null byte" in case.raised.text:
        suspects = _asked_for(case) + suspects  # the error names no file: a requested module's file is meant
    assert case.trial is not None
    if not case.trial.answered:
        owner = machine.distribution_of_module(case.module, case.sites)
        listed = machine.reader.first_of(owner.files or [], _FILES, owner.path) if owner is not None else []
        for name in listed:
            if is_compiled(name) and owner is not None:
                suspects.append(machine.reader.join(owner.site, *name.split("/")))
    return list(dict.fromkeys(suspects))


def _asked_for(case: Tried) -> list[str]:
    """The files of the modules that the last line of code asked for."""
    words = case.asking_line().replace(",", " ").replace("(", " ").split()
    frame = case.importer()
    package = case.module
    if frame is not None:
        for parent in case.resolution.parents:
            package = parent.module if parent.path == frame.file else package
    names = [word.lstrip(".") for word in words if word not in ("from", "import", "as")]
    asked = [
        *names,
        *(f"{names[0]}.{name}" for name in names[1:]),
        *(f"{package}.{name}" for name in names),
        case.module,
    ]
    places = [
        case.resolver.resolve(name).location for name in asked if all(part.isidentifier() for part in name.split("."))
    ]
    return [location.path for location in places if location is not None and location.path]


def _wrong(reader: Reader, path: str, owner: Installed | None) -> str | None:
    """What is wrong with the file, in words; None where it is what was installed, or nobody says what that was."""
    status = reader.status(path)
    if not isinstance(status, FileStat):
        return None
    text, size = "", None
    if owner is not None:
        relative = path[len(owner.site) :].strip("/\\").replace("\\", "/")
        text, size = owner.recorded.get(relative, ("", None))
    if size is not None and status.size != size:
        how = "it is empty" if not status.size else "it is cut short" if status.size < size else "it was changed"
        return f"{how}: the record says {size} bytes, it has {status.size}"
    if is_compiled(path):
        problem = read_header(reader, path).problem
        if problem is not None and "denied" not in problem:
            return problem
    if text.startswith("sha256=") and status.size <= _HASHED:
        try:
            digest = bytes.fromhex(reader.digest(path, _HASHED))
        except (Unreadable, ValueError):
            return None
        if base64.urlsafe_b64encode(digest).rstrip(b"=").decode() != text.removeprefix("sha256=").rstrip("="):
            return "its content is not what was installed: the record has another hash"
    if path.endswith(".py") and b"\0" in _beginning(reader, path):
        return "it holds null bytes, which no source has"
    return _undeclared(reader, path) if path.endswith(".py") else None


_DECLARES = pattern(r"coding[:=]\s*[-\w.]+")


def _undeclared(reader: Reader, path: str) -> str | None:
    """Bytes that are not UTF-8 in a source that names no other encoding in its first two lines (PEP 263, PEP 3120)."""
    content = _beginning(reader, path)
    head = b"\n".join(content.split(b"\n")[:2]).decode("latin-1")
    try:
        content.decode("utf-8")
    except UnicodeDecodeError as error:
        if error.end < len(content) - 3 and _DECLARES.search(head) is None:
            return NOT_UTF8
    return None


def _beginning(reader: Reader, path: str) -> bytes:
    try:
        return reader.read(path, 1024 * 1024)
    except Unreadable:
        return b""


def _finding(case: Case, machine: Machine, path: str, owner: Installed | None, wrong: str) -> Finding:
    evidence = [Evidence.at(path, wrong)]
    if owner is None and wrong == NOT_UTF8:
        step = fixes.by_hand(f"save {path} as UTF-8, or let its first line be: # -*- coding: latin-1 -*-")
        offered = [Fix(message="say the encoding of the file", steps=[step], changes=[path])]
    elif owner is not None:
        record = machine.reader.join(owner.path, "RECORD")
        fact = f"the record of {owner.name} {owner.version} lists it"
        evidence.append(Evidence.at(record, fact))
        offered = [reinstall(machine, case.interpreter, owner)]
    else:
        put_back = fixes.by_hand(f"put back {path} from where you got it; no installed package owns it")
        offered = [Fix(message="put the file back", steps=[put_back], changes=[path])]
    evidence += raised_evidence(case)
    if case.raised is None and case.trial is not None:
        evidence.append(
            Evidence(fact=f"the interpreter died: {case.trial.signal or case.trial.status}", source="the trial")
        )
    return Finding.proven("damaged", f"{machine.reader.name(path)} is damaged: {wrong}", evidence, offered)
