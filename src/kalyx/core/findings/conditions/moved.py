"""The environment was moved or copied; its scripts and links still speak of the old place.

Has it:
    heath was moved here from /home/keeper/old/heath
    asked about heath

Only looks like it (a link leads to it under another name):
    heath is reached by the link /home/keeper/moor
    asked about heath
"""

from __future__ import annotations

from kalyx.core.environments.reading import View
from kalyx.core.findings import remedies
from kalyx.core.findings.shared.conditions import condition
from kalyx.core.machine import Machine
from kalyx.core.records import Evidence, Finding, Remedy


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    facts, environment = machine.facts, view.environment
    if view.interpreter is None or environment.kind != "virtual":
        return None
    spoken = _spoken_place(machine, environment.prefix)
    if spoken is None:
        return None
    place, script, line = spoken
    if facts.same_path(facts.real(place), environment.key):
        return None
    python = view.interpreter.executable
    # Making it again over itself writes the scripts anew and keeps the packages.
    keep = ["--system-site-packages"] if environment.sees_base else []
    argv = [view.interpreter.real_executable, "-m", "venv", "--without-pip", *keep, environment.prefix]
    renew = [
        remedies.command(machine, argv),
        remedies.by_hand(
            "and each package that brings commands again:"
            f" {machine.line([python, '-m', 'pip', 'install', '--force-reinstall', '--no-deps'])} NAME"
        ),
    ]
    mends = [Remedy(says="renew its scripts in place", steps=renew, touches=[environment.prefix])]
    if not facts.exists(place):
        back = ["cmd", "/c", "move", environment.prefix, place] if facts.system == "windows" else [
            "mv", environment.prefix, place]  # fmt: skip
        mends.append(Remedy(says="move it back", steps=[remedies.command(machine, back)], touches=[place]))
    return condition(
        "moved",
        f"it was moved or copied: its scripts still speak of {place}",
        [Evidence(fact=f"speaks of {place}", source=script, path=script, line=line)],
        mends,
    )


def _spoken_place(machine: Machine, prefix: str) -> tuple[str, str, int] | None:
    """The place that the activation lines were written for, the script and the line."""
    facts = machine.facts
    if facts.system == "windows":
        script = facts.join(prefix, "Scripts", "activate.bat")
        starts: tuple[str, ...] = ("set VIRTUAL_ENV=", 'set "VIRTUAL_ENV=', "@set VIRTUAL_ENV=", '@set "VIRTUAL_ENV=')
    else:
        script = facts.join(prefix, "bin", "activate")
        starts = ("VIRTUAL_ENV=", "export VIRTUAL_ENV=")
    text = facts.text_or_none(script, 65536)
    for number, line in enumerate((text or "").splitlines(), 1):
        for start in starts:
            if line.strip().startswith(start):
                value = line.strip()[len(start) :].strip().strip("\"'")
                if value and "$" not in value and "%" not in value and facts.path.isabs(value):
                    return value, script, number
    return None
