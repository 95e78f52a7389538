"""The installer that this seat's command line finds fills another interpreter than the one that runs.

Has it:
    PATH finds python in orchard and pip in heath
    asked about the shell

Only looks like it (both are in one environment):
    PATH finds python in orchard and pip in orchard
    asked about the shell
"""

from __future__ import annotations

from kalyx.core.findings import remedies
from kalyx.core.machine import Machine
from kalyx.core.records import Evidence, Finding, Remedy, Seat


def look_at_seat(seat: Seat, machine: Machine) -> Finding | None:
    if seat.environment is None or seat.interpreter is None:
        return None
    for part in seat.parts:
        if part.role != "installer" or part.word != "pip" or part.path is None:
            continue
        if part.environment is not None and part.environment.key == seat.environment.key:
            continue
        fills = part.environment.name if part.environment else "no interpreter that starts"
        reason = f" ({part.reason})" if part.reason else ""
        argv = [seat.interpreter.executable, "-m", "pip", "install"]
        return Finding(
            cause="installer-elsewhere",
            certainty="proven",
            says=f"{part.word} fills {fills}{reason}, and python starts {seat.environment.name}",
            evidence=[
                Evidence(fact=f"{part.word} is this file", source=part.path, path=part.path),
                Evidence(
                    fact="python is this file",
                    source=seat.interpreter.executable,
                    path=seat.interpreter.executable,
                ),
            ],
            remedies=[
                Remedy(
                    says="install through the interpreter itself",
                    steps=[remedies.by_hand(f"{machine.line(argv)} NAME")],
                )
            ],
        )
    return None
