"""The shell seat: what ``python``, ``python3`` and the installer are on this PATH."""

from __future__ import annotations

from collections.abc import Mapping

from kalyx.core.doors import Facts
from kalyx.core.environments.reading import environment_of
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.records import Part, Seat
from kalyx.core.seats.callers import ShellFound
from kalyx.core.words.secrets import shown_variables

WORDS = [("python", "python"), ("python3", "python3"), ("installer", "pip"), ("installer", "pip3")]

# What activation sets, and what it claims to be on.
ACTIVATION = ("VIRTUAL_ENV", "CONDA_PREFIX")

# Variables that reach into every interpreter started from here.
REACHING = ("PYTHONPATH", "PYTHONHOME", "PYTHONNOUSERSITE", "PYTHONSAFEPATH", "PYTHONUSERBASE", *ACTIVATION)


# What a seat's record shows of its variables: those that decide what Python does. The rest may be secret.
_TELLING = {"PATH", "LD_LIBRARY_PATH", "DYLD_LIBRARY_PATH", "MODULEPATH", "LOADEDMODULES", *ACTIVATION}


def telling(variables: Mapping[str, str]) -> dict[str, str | None]:
    """The variables that a record may show, of a process or a kernel; what is not documented is named without value."""
    shown = {name: value for name, value in variables.items() if name.upper() in _TELLING or name.startswith("PYTHON")}
    return shown_variables(shown)


def read_shell(facts: Facts, shell: ShellFound) -> Seat:
    """The shell as a seat; its own interpreter is that of ``python``, else of ``python3``."""
    parts = [read_part(facts, role, word, shell.name) for role, word in WORDS]
    parts = [part for part in parts if part.path is not None or part.word in ("python", "python3", "pip")]
    main = next((part for part in parts if part.role.startswith("python") and part.path is not None), parts[0])
    return Seat(
        seat="shell",
        name=shell.name,
        interpreter=main.interpreter,
        environment=main.environment,
        parts=parts,
        reason=main.reason,
        undecided=main.undecided,
        folder=facts.folder,
        variables={name: facts.variable(name) for name in REACHING},
    )


def read_part(facts: Facts, role: str, word: str, shell: str) -> Part:
    """What one word starts on this PATH, hop by hop."""
    current_first = facts.system == "windows" and shell == "cmd"
    path = next(facts.lookup(word, current_first=current_first), None)
    if path is None:
        return Part(role=role, word=word, reason=f"no {word} on PATH")
    if role == "installer":
        return _installer(facts, role, word, path)
    try:
        interpreter = read_interpreter(facts, path)
    except NotAnInterpreter as refusal:
        return Part(role=role, word=word, path=path, links=refusal.links, reason=refusal.reason,
                    undecided=not refusal.dead)  # fmt: skip
    environment = environment_of(facts, interpreter)
    return Part(
        role=role, word=word, path=path, links=interpreter.links, interpreter=interpreter, environment=environment
    )


def _installer(facts: Facts, role: str, word: str, path: str) -> Part:
    line = interpreter_of_script(facts, path)
    part = Part(role=role, word=word, path=path, links=[path], reason=line.reason)
    if line.script and line.script != path:
        part.links.append(line.script)
    if line.path is None:
        return part
    try:
        part.interpreter = read_interpreter(facts, line.path)
    except NotAnInterpreter as refusal:
        part.reason = f"its first line names {line.path}: {refusal.reason}"
        return part
    part.links += [hop for hop in part.interpreter.links if hop not in part.links]
    part.environment = environment_of(facts, part.interpreter)
    return part
