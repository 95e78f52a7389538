"""The shell seat: what ``python``, ``python3`` and the installer are on this PATH."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from kalyx.core.model.records import Part, PartRole, Seat
from kalyx.core.seats.build import seat_from, starting, starting_script
from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell_words import Meaning, Taken, meanings
from kalyx.core.system import Reader
from kalyx.core.text.redaction import shown_variables

WORDS: dict[str, PartRole] = {"python": "python", "python3": "python3", "pip": "installer", "pip3": "installer"}

# The variables that activation sets.
ACTIVATION = ("VIRTUAL_ENV", "CONDA_PREFIX")

# Variables that every interpreter started from here reads.
REACHING = ("PYTHONPATH", "PYTHONHOME", "PYTHONNOUSERSITE", "PYTHONSAFEPATH", "PYTHONUSERBASE", *ACTIVATION)


# What a seat's record shows of its variables: those that decide what Python does. The rest may be secret.
_TELLING = {"PATH", "LD_LIBRARY_PATH", "DYLD_LIBRARY_PATH", "MODULEPATH", "LOADEDMODULES", *ACTIVATION}


def telling(variables: Mapping[str, str]) -> dict[str, str | None]:
    """The variables that a record may show, of a process or a kernel; what is not documented is named without value."""
    shown = {name: value for name, value in variables.items() if name.upper() in _TELLING or name.startswith("PYTHON")}
    return shown_variables(shown)


def read_shell(reader: Reader, shell: ShellFound) -> Seat:
    """The shell as a seat; its own interpreter is that of ``python``, else of ``python3``."""
    taken = meanings(reader, shell)
    parts = [read_part(reader, role, word, shell.name, taken) for word, role in WORDS.items()]
    if reader.system == "windows":
        parts.append(_launcher(reader, shell.name))
    # A link to nothing starts nothing; the shell goes on to another word of the user's where that starts.
    known = [part for part in parts if part.defined or (part.path is not None and not reader.is_dangling(part.path))]
    parts = [part for part in parts if part in known or part.word in ("python", "python3", "pip")]
    own = [part for part in known if part.role.startswith("python")] or parts
    # There python may be no more than an alias of the system's store, and py is what people type.
    starts = [part for part in own if part.interpreter is not None] if reader.system == "windows" else []
    main = (starts or own)[0]
    variables = {name: reader.variable(name) for name in REACHING}
    return replace(seat_from("shell", shell.name, main, reader.folder, parts), variables=variables)


def read_part(reader: Reader, role: PartRole, word: str, shell: str, taken: Taken) -> Part:
    """What one word starts, hop by hop: what a start file makes of it (``taken``), else what is first on this PATH."""
    result = taken.followed(word)
    return _defined(reader, role, word, shell, result) if result else _on_path(reader, role, word, word, shell)


def _launcher(reader: Reader, shell: str) -> Part:
    """What ``py`` starts: the interpreter that the launcher of Windows chooses."""
    part = _on_path(reader, "python", "py", "py", shell)
    if part.path is None:
        return part
    from kalyx.core.interpreters.registered import launched

    chosen, why = launched(reader, part.path)
    if chosen is None:
        return Part(role="python", word="py", path=part.path, links=[part.path], reason=why)
    runs = starting(reader, chosen, "python", "py")
    reason = f"py starts {chosen} ({why}): {runs.reason}" if runs.interpreter is None else runs.reason
    return replace(runs, links=[part.path, chosen, *runs.links[1:]], path=part.path, reason=reason)


def _defined(reader: Reader, role: PartRole, word: str, shell: str, meanings: list[Meaning]) -> Part:
    first, meaning = meanings[0], meanings[-1]
    where = f"{first.path}, line {first.line}"
    if meaning.words is None:
        reason = f"{first.kind} in {where}: only running that file tells what it starts; kalyx here --live does"
        return Part(role=role, word=word, reason=reason, undecided=True, defined=first.evidence)
    program = meaning.words[0]
    if "/" in program:
        path = reader.absolute(program)
        is_python = reader.name(path).startswith(("python", "pypy"))
        runs_script = role == "installer" and not is_python
        part = starting_script(reader, path, role, word) if runs_script else starting(reader, path, role, word)
    else:
        runs = role if not program.startswith(("python", "pypy")) else "python"
        part = _on_path(reader, runs, word, program, shell)
    why = part.reason
    if part.interpreter is None:
        why = f"{word} is {_a(first.kind)} for {' '.join(meaning.words)[:120]} ({where}): {part.reason}"
    return replace(part, role=role, defined=first.evidence, reason=why)


def _a(kind: str) -> str:
    return ("an " if kind[0] in "aeiou" else "a ") + kind


def _on_path(reader: Reader, role: PartRole, word: str, program: str, shell: str) -> Part:
    current_first = reader.system == "windows" and shell == "cmd"
    # A literal ~ in PATH is the home folder to this shell alone; to the others a folder of that name.
    value = reader.variable("PATH")
    if shell == "bash" and value and "~" in value:
        parts = (reader.home + part[1:] if part == "~" or part.startswith("~/") else part for part in value.split(":"))
        value = ":".join(parts)
    path = next(reader.lookup(program, value, current_first=current_first), None)
    if path is None and (broken := reader.broken_on_path(program, value)) is not None:
        return starting(reader, broken, role, word)  # nothing starts, and why is known
    if path is None:
        return Part(role=role, word=word, reason=reader.not_on_path(program, value))
    return starting_script(reader, path, role, word) if role == "installer" else starting(reader, path, role, word)
