"""VIRTUAL_ENV says that one environment is activated, and python starts another.

How to tell: the variable that activation sets and the python that comes first on the path name two environments.
Fix: activate the environment again, or deactivate it.

Example:
    the shell has entered orchard, and PATH finds python in heath
    asked about the shell

Not this (both are the same):
    the shell has entered orchard, and PATH finds python in orchard
    asked about the shell
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec.structs import replace

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.conditions import packages_in, starts_nothing
from kalyx.core.environments.reading import read_environment
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Finding, Fix, Seat
from kalyx.core.seats.shell import ACTIVATION
from kalyx.core.system import Reader
from kalyx.core.text.shells import shell_called

if TYPE_CHECKING:
    from kalyx.core.imports.case import Missing


LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    """Of an import in the shell: where what is missing is in the environment that it claims to have entered."""
    finding = look_at_seat(case.seat, machine) if case.missing_is_asked else None
    variable = _false_claim(case.seat, machine.reader)
    if finding is None or variable is None:
        return None
    reader, claimed = machine.reader, case.seat.variables[variable] or ""
    view, top = read_environment(reader, claimed), case.missing.partition(".")[0]
    if starts_nothing(view) and any(item.provides(top) for item in packages_in(view, machine)):
        return finding
    environment = machine.environments.at(claimed)
    if environment is None:  # renamed: its own script still says where it was
        everywhere = machine.environments.everywhere
        environment = next((environment for environment in everywhere if _claims(machine, environment, claimed)), None)
    resolver = machine.resolver(environment) if environment is not None else None
    if environment is None or resolver is None or resolver.resolve(case.missing).location is None:
        return None
    if not reader.exists(claimed):
        message = f"this shell entered {claimed}, which is {environment.prefix} by now, and python starts another"
        line = fixes.activate(machine, environment.prefix)
        again = Fix(message=f"activate {environment.name} where it is now", steps=[line])
        return replace(finding, message=message, fixes=[again])
    return finding


def _claims(machine: Machine, environment: Environment, path: str) -> bool:
    from kalyx.core.diagnosis.shared.activation import spoken_place

    spoken = spoken_place(machine, environment.prefix)
    return spoken is not None and machine.reader.same_path(spoken[0], path)


def _false_claim(seat: Seat, reader: Reader) -> str | None:
    """The variable by which a shell says that it has entered an environment that its ``python`` does not start."""
    variable = next((name for name in ACTIVATION if reader.path.isabs(seat.variables.get(name) or "")), None)
    if seat.seat != "shell" or variable is None:
        return None
    # A base managed by an environment manager below an entered environment keeps its own variable.
    key = reader.real(seat.variables[variable] or "")
    return variable if seat.environment is None or seat.environment.key != key else None


def look_at_seat(seat: Seat, machine: Machine) -> Finding | None:
    reader, name = machine.reader, _false_claim(seat, machine.reader)
    if name is None:
        return None
    value = seat.variables[name] or ""
    runs = seat.environment.name if seat.environment else "nothing"
    is_there = reader.exists(value)
    evidence = [Evidence(fact=f"{name}={value}", source=f"the variable {name}", path=value if is_there else None)]
    if seat.interpreter is not None:
        path = seat.interpreter.executable
        evidence.append(Evidence.at(path, f"python on PATH is of {runs}"))
    if not is_there:
        evidence.append(Evidence(fact="that folder is not there any more", source=value))
    shell = shell_called(machine.shell.name)
    script = reader.join(value, "bin", shell.activation)
    if shell.reads and reader.is_file(script) and reader.system != "windows":
        line = f"{shell.reads} {machine.line([script])}"
        fix = Fix(message="activate it again", steps=[fixes.by_hand(line)])
    else:
        fix = Fix(message="start a new shell", steps=[fixes.by_hand("close this shell and open another")])
    message = f"this shell says that {reader.name(value)} is activated, and python starts {runs}"
    return Finding.proven("activation-differs", message, evidence, [fix])
