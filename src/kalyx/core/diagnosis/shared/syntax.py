"""Which Pythons take a source that this one does not: by metadata, by other interpreters, by reading."""

from __future__ import annotations

import re

from msgspec import Struct

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import namesake, owned, owners_passed
from kalyx.core.imports.case import Case
from kalyx.core.imports.trial import Raised, missing_name
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Interpreter
from kalyx.core.model.steps import RunWith
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import satisfies
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.once import once
from kalyx.core.text.patterns import pattern
from kalyx.core.text.versions import numbers_of

# Messages of an older interpreter about newer forms that are no syntax errors, and the first version that has each.
_SAYS = [
    (pattern(r"unsupported operand type\(s\) for \|: '?(?:type|NoneType|\w*Meta|_\w+)"), "3.10"),
    (pattern(r"'(?:type|ABCMeta|builtin_function_or_method)' object is not subscriptable"), "3.9"),
    (pattern(r"(?:dataclass|field)\(\) got an unexpected keyword argument '(?:slots|kw_only|match_args)'"), "3.10"),
    (pattern(r"'(?:str|bytes)' object has no attribute 'remove(?:prefix|suffix)'"), "3.9"),
    (pattern(r"zip\(\) takes no keyword arguments|zip\(\) got an unexpected keyword argument 'strict'"), "3.10"),
    (pattern(r"future feature annotations is not defined"), "3.7"),
]


class Judged(Struct):
    """Which Pythons take a source: by other interpreters here, or by what its metadata says."""

    path: str | None
    line: int | None
    owner: Installed | None
    newer: str | None = None
    older: str | None = None
    evidence: list[Evidence] = []


@once
def judge(case: Case, machine: Machine) -> Judged | None:
    """Whether the source that fails is for other Python versions than this one; None where that is not the matter."""
    raised, interpreter = case.raised, case.interpreter
    if raised is None:
        return None
    frame = case.blamed()
    path = raised.file if "SyntaxError" in raised.bases else frame.file if frame is not None else None
    line = raised.line if "SyntaxError" in raised.bases else frame.line if frame is not None else None
    if path is None or path.startswith("<") or not machine.reader.is_file(path):
        return None
    judged = Judged(path, line, case.owner(path))
    _by_metadata(case, machine, judged, interpreter)
    if "SyntaxError" in raised.bases:
        if judged.newer is None and judged.older is None:
            _by_others(machine, judged, interpreter)
        if judged.newer is None and judged.older is None:
            _by_reading(machine, judged, interpreter, raised)
    elif judged.newer is None:
        _by_words(raised, judged, interpreter)
    return judged if judged.newer or judged.older else None


def _by_metadata(case: Case, machine: Machine, judged: Judged, interpreter: Interpreter) -> None:
    """By metadata: the failing package says that it does not support this Python."""
    raised = case.raised
    asked = machine.distribution_of_module(case.module, case.sites)
    passed = owners_passed(case) or [
        distribution for distribution in [judged.owner or asked] if distribution is not None
    ]
    if raised is not None and missing_name(raised) is not None and not _is_standard(missing_name(raised) or ""):
        return  # a missing package has a cause of its own
    for owner in passed:
        wanted = owner.requires_python
        if not wanted or satisfies(interpreter.version, wanted):
            continue
        fact = f"{owner.name} {owner.version} says that it is for Python {wanted}; this is {interpreter.version}"
        path = machine.reader.join(owner.path, "METADATA" if owner.is_wheel else "PKG-INFO")
        judged.evidence.append(
            Evidence(fact=fact, source=path, path=path if machine.reader.is_file(path) else owner.path)
        )
        judged.owner = owner
        newest = max(
            (interpreter.version for interpreter in machine.interpreters if satisfies(interpreter.version, wanted)),
            default=None,
            key=numbers_of,
        )
        lower = re.search(r">=?\s*(\d+(?:\.\d+)*)", wanted)
        is_newer = lower is not None and _minor(lower[1]) > _minor(interpreter.version)
        if is_newer:
            judged.newer = lower[1] if lower is not None else newest
        else:
            judged.older = newest or wanted
        return


def _is_standard(module: str) -> bool:
    from kalyx.core.imports.standard import module_span

    return module_span(module) is not None


def _by_words(raised: Raised, judged: Judged, interpreter: Interpreter) -> None:
    for message, first in _SAYS:
        if message.search(raised.text) and _minor(interpreter.version) < _minor(first):
            judged.newer = first
            judged.evidence.append(
                Evidence(fact=f"what it writes there works from Python {first} on", source="the trial")
            )
            return


def _by_others(machine: Machine, judged: Judged, interpreter: Interpreter) -> None:
    """Which other interpreters on this machine accept the source: each compiles it, none runs it."""
    from kalyx.core.interpreters.asking import parsed_by

    if machine.runner is None or judged.path is None:
        return
    takes: dict[str, bool] = {}
    for item in machine.interpreters:
        minor = item.minor
        if item.implementation != "cpython" or minor in takes or machine.objection(item, "machine") is not None:
            continue
        answer = parsed_by(machine.runner, item.executable, judged.path)
        if answer is not None:
            takes[minor] = answer.parses
    own = interpreter.minor
    newer = [minor for minor, good in takes.items() if good and _minor(minor) > _minor(own)]
    older = [minor for minor, good in takes.items() if good and _minor(minor) < _minor(own)]
    if newer and not older:
        judged.newer = min(newer, key=numbers_of)
    elif older:
        judged.older = max(older, key=numbers_of)
    chosen = judged.newer or judged.older
    if chosen is not None:
        fact = f"the compiler of Python {chosen} here takes the file, that of {own} does not"
        judged.evidence.append(Evidence.at(judged.path, fact, judged.line))


# Ways of writing that only Python 2, or a Python before async was a word of its own, took.
_OLD_WORDS = pattern(
    r"Missing parentheses in call to|multiple exception types must be parenthesized|leading zeros in decimal"
)
_OLD_LINE = pattern(
    r"except\s+[\w.]+\s*,\s*\w+\s*:|\bprint\s+[\w'\"%]|\bexec\s+['\"\w]|\braise\s+[\w.]+\s*,|`\w+`|<>|\bur['\"]|\b0\d+\b"
)
# Several exceptions without parentheses (PEP 758); version 2 took the second for a variable's name.
_NEW_EXCEPT = pattern(r"\bexcept\s+[\w.]+\s*,\s*[A-Z]\w*\s*[,:]")
_OLD_ASYNC = pattern(r"\basync\s*[=,):.]|\bimport\s+async\b|\.async\b|\bdef\s+async\b")


def _by_reading(machine: Machine, judged: Judged, interpreter: Interpreter, raised: Raised) -> None:
    """Where no other interpreter here can be asked: by the line, and by the parser that Kalyx itself runs on."""
    text = machine.reader.text_or_none(judged.path or "", 4 * 1024 * 1024) or ""
    lines = text.splitlines()
    line = lines[judged.line - 1] if judged.line and 0 < judged.line <= len(lines) else ""
    own = _minor(interpreter.version)
    if [3, 0] <= own < [3, 14] and _NEW_EXCEPT.search(line):
        judged.newer = "3.14"
    elif own >= [3, 0] and (_OLD_WORDS.search(raised.text) or _OLD_LINE.search(line)):
        judged.older = "2.7"
    elif own >= [3, 7] and _OLD_ASYNC.search(line):
        judged.older = "3.6"
    else:
        judged.newer = _first_that_parses(machine.reader, judged.path or "", own)
    if judged.newer or judged.older:
        fact = f"it is written as Python {judged.newer or judged.older} takes it: {line.strip()[:120]}"
        judged.evidence.append(Evidence(fact=fact, source=judged.path or "", path=judged.path, line=judged.line))


def _first_that_parses(reader: Reader, path: str, own: list[int]) -> str | None:
    """The first later version whose grammar takes a source, as far as the parser of Kalyx's own Python knows."""
    import ast
    import sys

    try:
        source = reader.read_whole(path, 4 * 1024 * 1024)  # its bytes: the encoding is part of what is compiled
    except Unreadable:
        return None
    for minor in range(own[1] + 1 if own >= [3, 0] else 4, sys.version_info[1] + 1):
        try:
            ast.parse(source, feature_version=(3, minor))
        except (SyntaxError, ValueError, RecursionError, MemoryError):
            continue
        return f"3.{minor}"
    return None


def _minor(version: str) -> list[int]:
    return numbers_of(version)[:2]


def finding(case: Case, machine: Machine, judged: Judged, cause: str, wanted: str) -> Finding:
    """What both causes of this kind share: the line, what says so, and a release or an interpreter that fits."""
    assert case.raised is not None
    raised, path = case.raised, judged.path
    source = f"{path}, line {judged.line}"
    evidence = [
        Evidence(fact=f"{raised.type}: {raised.text[:200]}", source=source, path=path, line=judged.line),
        *judged.evidence,
    ]
    newer = cause == "syntax-newer"
    if judged.owner is not None:
        owner = judged.owner
        evidence.append(owned(owner))
        line = f"{owner.name}<{owner.version}" if newer else owner.name
        fix = fixes.install(machine, case.interpreter, line, *([] if newer else ["--upgrade"]))
        fix = fix.called(f"install {'an older' if newer else 'a newer'} {owner.name}, made for this Python")
        offered = [fix]
        meant = namesake(machine, case.interpreter, owner, case.module)
        if meant is not None:
            offered.insert(0, meant)
        if any(_minor(interpreter.version) == _minor(wanted) for interpreter in machine.interpreters):
            minor = ".".join(str(part) for part in _minor(wanted))
            exact = f"{owner.name}=={owner.version}"
            offered.append(fixes.with_another_python(machine, case.interpreter, minor, exact))
    else:
        able = f"{wanted} or newer" if newer else wanted
        fits = [interpreter for interpreter in machine.interpreters if _minor(interpreter.version) == _minor(wanted)]
        later = [interpreter for interpreter in machine.interpreters if _minor(interpreter.version) > _minor(wanted)]
        fits += sorted(later, key=lambda interpreter: _minor(interpreter.version)) if newer else []
        step = fixes.by_hand(f"install Python {able}, then run {path} with that Python")
        if fits:
            step = fixes.step(machine, RunWith(words=[fits[0].executable, path or ""]))
        offered = [Fix(message=f"run it with Python {able}", steps=[step])]
    own = case.interpreter.minor
    what = f"{judged.owner.name} {judged.owner.version}" if judged.owner else machine.reader.name(path or "")
    message = f"{what} needs Python {wanted} or newer, and this is {own}" if newer else (
        f"{what} is written for Python {wanted}, and this is {own}")  # fmt: skip
    return Finding(
        cause=cause,
        certainty="proven" if judged.evidence else "likely",
        message=message,
        evidence=evidence,
        fixes=offered,
    )
