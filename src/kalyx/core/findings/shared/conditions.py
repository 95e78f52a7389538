"""What the conditions of environments share: the finding record, and remaking an environment."""

from __future__ import annotations

from kalyx.core.environments.reading import View
from kalyx.core.findings import remedies
from kalyx.core.interpreters.versions import minor_of
from kalyx.core.machine import Machine
from kalyx.core.records import Evidence, Finding, Interpreter, Remedy
from kalyx.core.words.numbers import are_numbers


def condition(cause: str, says: str, evidence: list[Evidence], mends: list[Remedy]) -> Finding:
    """A condition as a finding: what was read leaves no other way, so it is proven."""
    return Finding(cause=cause, certainty="proven", says=says, evidence=evidence, remedies=mends)


def same_minor(view: View, machine: Machine) -> Interpreter | None:
    """An installation on this machine of the version that the environment was made for."""
    wanted = view.environment.version or ""
    minor = minor_of(wanted)
    for interpreter in machine.interpreters:
        if minor and interpreter.minor == minor:
            return interpreter
    return None


def remake(view: View, machine: Machine, base: Interpreter) -> Remedy:
    """Make the environment again in place, its packages kept: only its links to the base are renewed."""
    facts, prefix = machine.facts, view.environment.prefix
    folder = facts.join(prefix, "bin")
    steps = []
    if facts.system != "windows":
        broken = view.problem.path if view.problem is not None else None
        named = [facts.join(folder, name) for name in facts.names(folder) if name.startswith("python")]
        dead = [path for path in named if facts.kind(path) == "link" or path == broken]
        if dead:
            steps.append(remedies.command(machine, ["rm", "-f", *dead]))
    steps.append(remedies.command(machine, [base.executable, "-m", "venv", "--upgrade", prefix]))
    return Remedy(says=f"stand it on {base.prefix} ({base.version}); its packages stay", steps=steps, touches=[prefix])


def remove(view: View, machine: Machine) -> Remedy:
    """Remove what is left of an environment; Kalyx looks first at what speaks against it, a plain removal would not."""
    prefix = view.environment.prefix
    step = remedies.command(machine, ["kalyx", "discard", prefix])
    return Remedy(says="remove what is there", steps=[step], touches=[prefix])


def packages_of_others(machine: Machine, prefix: str, minor: str) -> list[tuple[str, str]]:
    """Other versions that have packages in this prefix: the version and its site folder."""
    facts = machine.facts
    library = facts.join(prefix, "lib")
    found = []
    for name in facts.names(library):
        number = name.removeprefix("python").rstrip("t")
        if not name.startswith("python") or number == minor or not are_numbers(number) or "." not in number:
            continue
        site = facts.join(library, name, "site-packages")
        if any(entry.endswith((".dist-info", ".egg-info")) for entry in facts.names(site)):
            found.append((number, site))
    return found
