"""The environment has no Python of its own: when it is activated, the Python found before still runs.

How to tell: the folder has the files of an environment and no interpreter that starts.
Fix: install a Python into the environment, or recreate it.

Example:
    heath is a prefix of an environment manager, without Python
    asked about heath

Not this (it was to have one, and making it stopped):
    heath was begun and not finished
    asked about heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.conditions import condition
from kalyx.core.environments.reading import View
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    if view.interpreter is not None or view.environment.findings:
        return None
    reader, prefix = machine.reader, view.environment.prefix
    folder = prefix if reader.system == "windows" else reader.join(prefix, "bin")
    evidence = [Evidence(fact="no interpreter in it", source=folder, path=prefix)]
    line = f"add a Python to it through what keeps {reader.join(prefix, 'conda-meta')}"
    offered = [Fix(message="install a Python into it", steps=[fixes.by_hand(line)])]
    message = "it holds no Python of its own: after entering it, the Python below still runs"
    return condition("no-interpreter", message, evidence, offered)
