"""Capturing a machine: every question that a capture is to answer is asked once through the recorder.

The file holds what the questions read, so it is complete by construction. Values of variables that no question needs,
secrets, and the user's and the machine's name are left out or replaced (``text.blinding``).
"""

from __future__ import annotations

from kalyx.core.imports.sources import read_folder
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.player import Capture, Head
from kalyx.core.text.blinding import Blinding
from kalyx.core.text.essence import needed

_EACH = 24  # targets, environments, and modules of the folder's code, of which a capture asks


def finished(made: Capture, reader: Reader) -> Capture:
    """The capture with its head; of variables, also those of processes, only what some question needs."""
    made.head = Head(system=reader.system, folder=reader.folder, home=reader.home, pid=reader.pid, user=reader.user,
                     variables=needed(reader.variables), refusals=dict(reader.refusals))  # fmt: skip
    for reading in made.readings.values():
        if isinstance(reading, dict) and isinstance(reading.get("process"), dict):
            variables = reading["process"].get("variables")
            reading["process"]["variables"] = needed(variables) if isinstance(variables, dict) else None
    return made


def blinding(reader: Reader, host: str) -> Blinding:
    """What takes secrets and names out of a capture of this machine."""
    names = {host, host.split(".")[0]}
    for name in ("USER", "LOGNAME", "USERNAME", "HOSTNAME", "COMPUTERNAME"):
        names.add(reader.variable(name) or "")
    return Blinding(names, [reader.home])


def targets_of(machine: Machine) -> list[str]:
    """The words for the seats of the folder that packages and imports are asked of: the shell, kernels, notebooks."""
    targets = ["shell", *(f"kernel:{kernel.id}" for kernel in machine.kernels)]
    targets += [name for name in machine.reader.names(machine.reader.folder) if name.endswith(".ipynb")]
    return list(machine.reader.first_of(targets, _EACH, "targets of the capture"))


def environments_of(machine: Machine) -> list[str]:
    """The names of the environments near the folder, of which packages are asked too."""
    names = [environment.name for environment in machine.environments.known]
    return list(machine.reader.first_of(names, _EACH, "environments of the capture"))


def modules_of(machine: Machine) -> list[str]:
    """The modules that the folder's own code imports."""
    try:
        reads = read_folder(machine.reader, machine.reader.folder)
    except (KalyxError, Unreadable):
        return []
    named = [asked.top for read in reads for asked in read.imports if not asked.level and asked.module]
    return list(machine.reader.first_of(list(dict.fromkeys(named)), _EACH, "modules of the folder's code"))
