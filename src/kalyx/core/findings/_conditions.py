"""What the conditions of environments share: the finding record, and remaking an environment."""

from __future__ import annotations

from kalyx.core.environments.reading import View, looks_like_environment, read_environment
from kalyx.core.findings import remedies
from kalyx.core.imports.case import Case
from kalyx.core.interpreters.versions import minor_of
from kalyx.core.machine import Machine
from kalyx.core.records import Evidence, Finding, Interpreter, Remedy


def condition(cause: str, says: str, evidence: list[Evidence], mends: list[Remedy]) -> Finding:
    return Finding(cause=cause, certainty="proven", says=says, evidence=evidence, remedies=mends)


def of_target(case: Case, machine: Machine, cause: str) -> Finding | None:
    """What is wrong with the environment that a dead target names: the condition is the cause of the failing import."""
    from kalyx.core.findings import catalogue

    if case.interpreter is not None:
        return None
    facts = machine.facts
    named = case.kernel.command[0] if case.kernel is not None and case.kernel.command else case.seat.source or ""
    if not facts.path.isabs(named):
        return None
    for prefix in (named, facts.parent(facts.parent(named))):
        if looks_like_environment(facts, prefix):
            environment = catalogue.judge_environment(read_environment(facts, prefix), machine)
            return next((finding for finding in environment.findings if finding.cause == cause), None)
    return None


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
        dead = [facts.join(folder, n) for n in facts.names(folder) if n.startswith("python")
                and facts.kind(facts.join(folder, n)) == "link"]  # fmt: skip
        if dead:
            steps.append(remedies.command(machine, ["rm", "-f", *dead]))
    steps.append(remedies.command(machine, [base.executable, "-m", "venv", "--upgrade", prefix]))
    return Remedy(says=f"stand it on {base.prefix} ({base.version}); its packages stay", steps=steps, touches=[prefix])


def remove(view: View, machine: Machine) -> Remedy:
    """Remove what is left of an environment; Kalyx looks first at what speaks against it, a plain removal would not."""
    prefix = view.environment.prefix
    step = remedies.command(machine, ["kalyx", "discard", prefix])
    return Remedy(says="remove what is there", steps=[step], touches=[prefix])
