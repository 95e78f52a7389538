"""The line that activates an environment, for each shell, and the line that deactivates it.

The environment's own activation script is used where it has one for the shell;
else the line puts its programs first on ``PATH``, which is what counts.
"""

from __future__ import annotations

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.reading import View, view_of
from kalyx.core.interpreters.sitemodules import bringing, loaded_modules, needed_modules
from kalyx.core.invocation import interpreter_of
from kalyx.core.machine import Machine
from kalyx.core.model import System
from kalyx.core.model.records import KalyxError, Seat
from kalyx.core.model.results import EnterAnswer
from kalyx.core.seats.startfiles import taken_over
from kalyx.core.system import Reader
from kalyx.core.text.quoting import Unquotable, line_for, quoted
from kalyx.core.text.shells import SHELLS, shell_called
from kalyx.core.text.visible import visible


def enter(machine: Machine, seat: Seat, shell: str | None) -> EnterAnswer:
    """The line for ``shell`` (the user's own when None). Raises KalyxError for a shell that the table lacks."""
    name = shell or machine.shell.name
    if name not in SHELLS:
        raise KalyxError(f"no line is known for the shell {name!r}", sorted(SHELLS))
    row = SHELLS[name]
    interpreter = interpreter_of(seat, machine, so="it cannot be entered")
    assert seat.environment is not None
    reader, prefix = machine.reader, seat.environment.prefix
    leave = "deactivate"
    environment = catalogue.judge_environment(view_of(reader, interpreter), machine)
    folder = reader.join(prefix, "Scripts" if reader.system == "windows" else "bin")
    script = next((script for script in reader.names(folder) if script.lower() == row.activation), None)
    programs = reader.parent(interpreter.executable)
    warnings = _warnings(machine, seat, name)
    if environment.condition == "moved" and script is not None:
        warnings.append(f"{script} of this environment still points to another place, so the line does without it")
        script = None
    if script is not None and not _may_be_in_a_script(view_of(reader, interpreter), prefix, reader.system):
        # Activation scripts of older tools do not quote the folder and the prompt: the shell interprets these.
        script = None
    try:
        if script is not None and row.reads is not None:
            read = [row.reads] if row.reads not in ("", "&") else []
            line = line_for([*read, reader.join(folder, script)], name)
            if row.reads == "&" and not line.startswith("& "):
                line = "& " + line
        else:
            line = _path_line(reader, programs, prefix, name, _VARIABLES.get(seat.environment.kind))
            leave = "close this shell, or set PATH back"
            if row.language == "xonsh":
                leave = f"$PATH.remove({programs!r})"
    except Unquotable as refusal:
        raise KalyxError(f"no line of {name} enters {visible(prefix)}: {refusal.reason}") from None
    needed, load = _site_modules(reader, interpreter.base_prefix, name)
    return EnterAnswer(target=seat, shell=name, line=load + line, leave=leave, warnings=warnings, site_modules=needed)


def _site_modules(reader: Reader, base: str, shell: str) -> tuple[list[str], str]:
    """The site modules that put the base in place, and what loads them first where none of them is loaded."""
    needed = needed_modules(reader, base)
    loaded = {module.name for module in loaded_modules(reader)}
    has_modules = shell_called(shell).language not in ("cmd", "powershell")
    if not needed or any(module.name in loaded for module in needed) or not has_modules:
        return [module.name for module in needed if module.name in loaded], ""
    return [needed[0].name], f"module load {line_for([needed[0].name], shell)}; "


def _may_be_in_a_script(view: View, prefix: str, system: System) -> bool:
    """Whether the folder and the prompt are plain words, that any activation script may hold as they are."""
    read = _READ_BY_SHELLS - set("\\~") if system == "windows" else _READ_BY_SHELLS
    prompt = (view.settings.get("prompt") if view.settings is not None else None) or ""
    return all(word.isprintable() and not set(word) & read for word in (prefix, prompt.strip("'\"")))


_READ_BY_SHELLS = set("$`\"'\\!;&|<>()*?[]{}%#~^")


# The variable that an activated environment of a kind sets; an installation is entered by PATH alone.
_VARIABLES = {"kept": "CONDA_PREFIX", "virtual": "VIRTUAL_ENV"}


def _path_line(reader: Reader, programs: str, prefix: str, shell: str, variable: str | None) -> str:
    """The line that puts the programs first on PATH, and sets a variable to the prefix. Raises Unquotable."""
    if reader.path.pathsep in programs.removeprefix(reader.path.splitdrive(programs)[0]):
        raise Unquotable(programs, "PATH takes its separator for the end of a folder")
    language = shell_called(shell).language
    if language == "xonsh":
        return f"$PATH.insert(0, {programs!r})" + (f"; ${variable} = {prefix!r}" if variable else "")
    first, entered = quoted(programs, shell), quoted(prefix, shell)
    if language == "fish":
        return f"set -gx PATH {first} $PATH" + (f"; set -gx {variable} {entered}" if variable else "")
    if language == "csh":
        return f'setenv PATH {first}:"$PATH"' + (f"; setenv {variable} {entered}" if variable else "") + "; rehash"
    if language == "powershell":
        first, entered = (word if word[:1] == "'" else f"'{word}'" for word in (first, entered))
        path = f"$env:PATH = {first} + [IO.Path]::PathSeparator + $env:PATH"
        return path + (f"; $env:{variable} = {entered}" if variable else "")
    if language == "cmd":
        return f'set "PATH={programs};%PATH%"' + (f' & set "{variable}={prefix}"' if variable else "")
    return f'export PATH={first}:"$PATH"' + (f" {variable}={entered}" if variable else "") + "; hash -r"


def _warnings(machine: Machine, seat: Seat, shell: str) -> list[str]:
    """Notes on what reverses the activation on this machine, or changes its effect."""
    reader = machine.reader
    warnings = []
    for variable in ("PYTHONPATH", "PYTHONHOME"):
        value = reader.variable(variable)
        if value:
            brought = bringing(reader, value.split(reader.path.pathsep)[0], variable)
            by = f" by the site module {brought[0].name}" if brought else ""
            warnings.append(f"{variable} is set{by} ({value}) and reaches into every environment")
    entered = reader.variable("VIRTUAL_ENV")
    if entered and seat.environment is not None and reader.real(entered) != seat.environment.key:
        what = "leaving the new environment returns to the state before both"
        if seat.environment.kind == "installation":
            what = "its variable VIRTUAL_ENV stays: type deactivate first"
        warnings.append(f"{entered} is activated now; {what}")
    if seat.environment is not None and seat.environment.kind == "kept":
        hooks = reader.join(seat.environment.prefix, "etc", "conda", "activate.d")
        if reader.names(hooks):
            warnings.append(f"the scripts in {hooks} are not run by this line")
    for meaning in taken_over(reader, shell):
        kind = f"an {meaning.kind}" if meaning.kind == "alias" else f"a {meaning.kind}"
        warnings.append(
            f"{meaning.word} is {kind} by {meaning.path}, line {meaning.line}: it wins over PATH, also after this line"
        )
    hook = shell_called(shell).hook
    if hook and reader.variable(hook):
        warnings.append(f"the commands in {hook} run before every prompt and may change PATH again")
    return warnings
