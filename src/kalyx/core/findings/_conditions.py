"""What the conditions of environments share: the finding record, and remaking an environment."""

from __future__ import annotations

from kalyx.core.environments.reading import View
from kalyx.core.facts import Evidence, Finding, Interpreter, Remedy
from kalyx.core.findings import remedies
from kalyx.core.machine import Machine


def condition(cause: str, says: str, evidence: list[Evidence], mends: list[Remedy]) -> Finding:
    return Finding(cause=cause, certainty="proven", says=says, evidence=evidence, remedies=mends)


def same_minor(view: View, machine: Machine) -> Interpreter | None:
    """An installation on this machine of the version that the environment was made for."""
    wanted = view.environment.version or ""
    minor = ".".join(wanted.split(".")[:2])
    for interpreter in machine.interpreters:
        if minor and ".".join(interpreter.version.split(".")[:2]) == minor:
            return interpreter
    return None


def remake(view: View, machine: Machine, base: Interpreter) -> Remedy:
    """Make the environment again in place, its packages kept: only its links to the base are renewed."""
    facts, prefix = machine.facts, view.environment.prefix
    folder = facts.join(prefix, "bin")
    steps = []
    if facts.system != "windows":
        dead = [facts.join(folder, n) for n in facts.names(folder) if n.startswith("python")
                and facts.kind(facts.join(folder, n)) == "link"]  # fmt: skip
        if dead:
            steps.append(remedies.command(machine, ["rm", "-f", *dead]))
    steps.append(remedies.command(machine, [base.executable, "-m", "venv", "--upgrade", prefix]))
    return Remedy(says=f"stand it on {base.prefix} ({base.version}); its packages stay", steps=steps, touches=[prefix])


def remove(view: View, machine: Machine) -> Remedy:
    """Remove what is left of an environment."""
    prefix = view.environment.prefix
    argv = ["cmd", "/c", "rmdir", "/s", prefix] if machine.facts.system == "windows" else ["rm", "-r", prefix]
    return Remedy(says="remove what is there", steps=[remedies.command(machine, argv)], touches=[prefix])
