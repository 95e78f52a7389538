"""Why a command is not found, starts another Python than its environment's, or does not find what it imports."""

from __future__ import annotations

from collections.abc import Callable

from kalyx.core.diagnosis.conditions import first_line_dead, program_absent
from kalyx.core.environments.reading import view_of
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.invocation import UNNAMED
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.model.results import WhyAnswer
from kalyx.core.queries.why_files import why_files
from kalyx.core.targets import resolve


def why_program(machine: Machine, word: str, *, tell: Callable[[str], None]) -> WhyAnswer:
    """Why a command is not found; else which interpreter its first line starts, and whether its imports work there."""
    reader = machine.reader
    result = list(dict.fromkeys(reader.lookup(word)))
    if not result:
        absent = [program_absent.finding(machine, word)]
        return WhyAnswer(target=machine.shell_seat, imports=[], findings=absent)
    seat = resolve(machine, f"program:{word}")
    answer = WhyAnswer(target=seat, imports=[])
    answer.notes = [f"{word} is {result[0]}"] if word != result[0] else []
    answer.notes += [f"after it on PATH comes {other}" for other in result[1:4]]
    script = interpreter_of_script(reader, result[0])
    if seat.interpreter is None and seat.undecided:
        unknown = f"what {word} starts is not known: {seat.reason}"
        answer.notes.append(f"{word} starts no Python: {seat.reason}" if script.path is not None else unknown)
    elif seat.interpreter is None and script.path is None and not script.line:
        answer.notes.append(f"{word} is {script.reason or 'a program of its own'}: it starts no Python")
    elif seat.interpreter is None:
        answer.findings = [
            first_line_dead.of_nothing(machine, word, result[0], seat.reason or "it starts no interpreter")
        ]
    elif script.path is not None:
        lies = reader.parent(reader.parent(result[0]))
        view = view_of(reader, seat.interpreter)
        if reader.is_file(reader.join(lies, "pyvenv.cfg")) and reader.real(lies) != view.environment.key:
            answer.findings = [first_line_dead.of_another(machine, word, result[0], lies, view.environment.prefix)]
        # A script whose package is gone still starts, and fails at its first import.
        try:
            read = why_files(machine, seat, result[0], UNNAMED, tell)
            answer.imports = read.imports
            answer.notes += read.notes if not read.imports else []
        except KalyxError:
            # A script of a shell, which starts that interpreter further on.
            answer.notes.append(f"{word} starts {seat.interpreter.executable} ({seat.interpreter.version})")
    else:
        line = machine.line(["kalyx", "why", "MODULE", "--in", result[0]])
        answer.notes.append(f"{word} is a Python interpreter; to ask about a module in it: {line}")
    return answer
