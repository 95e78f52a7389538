"""A traceback or an error's text: whose it is, and what stands behind it."""

from __future__ import annotations

from collections.abc import Callable

from kalyx.core.answers import WhyAnswer
from kalyx.core.findings.conditions import not_the_environment
from kalyx.core.imports.names import Wanted
from kalyx.core.imports.traceback import prefix_of, read_traceback
from kalyx.core.machine import Machine
from kalyx.core.questions.why import why_import
from kalyx.core.records import KalyxError, Seat
from kalyx.core.targets import resolve
from kalyx.core.ways import FROM_TEXT

Tell = Callable[[str], None]


def why_traceback(machine: Machine, text: str, seat: Seat, *, named: bool, tell: Tell) -> WhyAnswer:
    """The error at the end of a text, explained where its frames lie. Raises KalyxError where no error is in it."""
    told = read_traceback(text)
    if told.type is None:
        raise KalyxError("no error is in the text given: a traceback ends in a line like ModuleNotFoundError: ...")
    prefix = prefix_of(machine.facts, told) if not named else None
    notes = []
    if prefix is not None:
        try:
            found = resolve(machine, prefix)
            own = seat.environment.key if seat.environment is not None else None
            if found.environment is not None and found.environment.key == own:
                notes.append(f"its frames lie in {prefix}, which this seat runs")
            elif found.interpreter is not None:
                seat = found
                # A stranger's text names no target: it says where to read, and not what to start.
                seat.via = FROM_TEXT
                notes.append(f"its frames lie in {prefix}")
        except KalyxError:
            notes.append(f"its frames lie in {prefix}, which is not on this machine; asked in {seat.name} instead")
    answer = WhyAnswer(target=seat, imports=[], notes=notes)
    first = next((path for path, _ in told.frames if machine.facts.is_file(path)), None)
    if told.module is not None:
        if first is not None and not _inside_packages(machine, first):
            seat.folder = machine.facts.parent(first)
        names = (told.name,) if told.name is not None else ()
        statement = f"from {told.module} import {told.name}" if names else f"import {told.module}"
        tell(told.module)
        answer.imports = [why_import(machine, seat, Wanted(statement, told.module, names), named=named)]
        return answer
    last = told.frames[-1][0] if told.frames else ""
    answer.findings = [not_the_environment.finding(told, not _inside_packages(machine, last))]
    return answer


def _inside_packages(machine: Machine, path: str) -> bool:
    words = path.replace("\\", "/").split("/")
    return any(
        word in ("site-packages", "dist-packages") or word.startswith(("python2.", "python3.")) for word in words
    )
