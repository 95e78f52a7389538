"""The line that enters an environment, for each shell, and how to leave it.

The environment's own activation script is used where it has one for the shell;
else the line puts its programs first on ``PATH``, which is what counts.
"""

from __future__ import annotations

from kalyx.core.facts import EnterAnswer, KalyxError, Seat
from kalyx.core.machine import Machine
from kalyx.core.text import line_for

# Shell, the ending of its activation script, the word that reads it, how to leave. Data: a new shell is a row.
SHELLS = {
    "bash": ("", "source", "deactivate"),
    "zsh": ("", "source", "deactivate"),
    "sh": ("", ".", "deactivate"),
    "dash": ("", ".", "deactivate"),
    "ksh": ("", ".", "deactivate"),
    "ksh93": ("", ".", "deactivate"),
    "mksh": ("", ".", "deactivate"),
    "fish": (".fish", "source", "deactivate"),
    "tcsh": (".csh", "source", "deactivate"),
    "csh": (".csh", "source", "deactivate"),
    "pwsh": (".ps1", "&", "deactivate"),
    "powershell": (".ps1", "&", "deactivate"),
    "cmd": (".bat", "", "deactivate"),
    "xonsh": ("", "source-bash --suppress-skip-message", "deactivate"),
}


def enter(machine: Machine, seat: Seat, shell: str | None) -> EnterAnswer:
    """The line for ``shell`` (the user's own when None). Raises KalyxError for a shell no row knows."""
    name = shell or machine.shell.name
    if name not in SHELLS:
        raise KalyxError(f"no line is known for the shell {name!r}", sorted(SHELLS))
    if seat.interpreter is None or seat.environment is None:
        raise KalyxError(f"{seat.name} starts no interpreter, so it cannot be entered: {seat.reason}")
    facts, prefix = machine.facts, seat.environment.prefix
    ending, word, leave = SHELLS[name]
    folder = facts.join(prefix, "Scripts" if facts.system == "windows" else "bin")
    script = next((one for one in _scripts(facts.names(folder), ending)), None)
    programs = facts.parent(seat.interpreter.executable)
    warnings = _warnings(machine, seat, name)
    if script is not None:
        path = facts.join(folder, script)
        line = line_for([path], name) if name in ("cmd", "pwsh", "powershell") else f"{word} {line_for([path], name)}"
        if name in ("pwsh", "powershell") and not line.startswith("& "):
            line = "& " + line
    else:
        line = _path_line(programs, prefix, name, conda=seat.environment.kind == "conda")
        leave = "close this shell, or set PATH back"
    return EnterAnswer(target=seat, shell=name, line=line, leave=leave, warnings=warnings)


def _scripts(names: list[str], ending: str) -> list[str]:
    wanted = "activate" + ending
    return [name for name in names if name.lower() == wanted]


def _path_line(programs: str, prefix: str, shell: str, conda: bool) -> str:
    variable = "CONDA_PREFIX" if conda else "VIRTUAL_ENV"
    if shell == "fish":
        return f"set -gx PATH {line_for([programs], shell)} $PATH; set -gx {variable} {line_for([prefix], shell)}"
    if shell in ("tcsh", "csh"):
        return f"setenv PATH {line_for([programs], shell)}:$PATH; setenv {variable} {line_for([prefix], shell)}; rehash"
    if shell in ("pwsh", "powershell"):
        programs, prefix = programs.replace("'", "''"), prefix.replace("'", "''")
        return f"$env:PATH = '{programs}' + [IO.Path]::PathSeparator + $env:PATH; $env:{variable} = '{prefix}'"
    if shell == "cmd":
        return f'set "PATH={programs};%PATH%" & set "{variable}={prefix}"'
    if shell == "xonsh":
        return f"$PATH.insert(0, {programs!r}); ${variable} = {prefix!r}"
    return f'export PATH={line_for([programs], shell)}:"$PATH" {variable}={line_for([prefix], shell)}; hash -r'


def _warnings(machine: Machine, seat: Seat, shell: str) -> list[str]:
    """What on this machine undoes it, or makes it mean something else."""
    facts = machine.facts
    found = []
    for variable in ("PYTHONPATH", "PYTHONHOME"):
        value = facts.variable(variable)
        if value:
            found.append(f"{variable} is set ({value}) and reaches into every environment")
    entered = facts.variable("VIRTUAL_ENV")
    if entered and seat.environment is not None and facts.real(entered) != seat.environment.key:
        found.append(f"{entered} is on now; leaving the new one goes back to before both")
    if seat.environment is not None and seat.environment.kind == "conda":
        hooks = facts.join(seat.environment.prefix, "etc", "conda", "activate.d")
        if facts.names(hooks):
            found.append(f"the scripts in {hooks} are not run by this line")
    if seat.environment is not None and seat.environment.condition in ("moved",):
        found.append("its activation script still speaks of another place")
    return found
