"""The module imports, the name asked for is not in this version of it.

Has it:
    heath has hivescale 2.1
    asked in heath: from hivescale import old_weights

Only looks like it (the module itself is not there):
    orchard has hivescale 2.1
    asked in heath: from hivescale import old_weights
"""

from __future__ import annotations

from kalyx.core.facts import Evidence, Finding, Remedy
from kalyx.core.findings import remedies
from kalyx.core.imports.case import Case
from kalyx.core.imports.trial import lacking_name
from kalyx.core.machine import Machine
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import asked_by, satisfies
from kalyx.core.text import distance

YIELDS_TO = ("shadowed", "gutted", "name-misleads", "unmet", "interpreter-gone")
FOLDS = True


def look(case: Case, machine: Machine) -> Finding | None:
    raised = case.raised
    name = lacking_name(raised) if raised is not None else None
    if raised is None or name is None or case.resolver is None or case.interpreter is None:
        return None
    if "circular import" in raised.text or "partially initialized" in raised.text:
        return None
    module = raised.name or _module_asked(case)
    if module is None:
        return None
    place = case.resolver.resolve(module).place
    owner = case.owner(place.path) if place is not None else None
    what = f"{owner.name} {owner.version}" if owner is not None else module
    evidence = [Evidence(fact=f"{raised.type}: {raised.text[:200]}", source="the trial")]
    if place is not None:
        evidence.append(Evidence(fact=f"{module} of {what} is here", source=place.path, path=place.path))
    frame = case.importer()
    inside = frame is not None and not frame.file.startswith("<")
    if frame is not None and inside:
        evidence.append(Evidence(fact=f"{name} is asked for here", source=frame.file, path=frame.file, line=frame.line))
    asker = case.owner(frame.file) if frame is not None and inside else None
    return Finding(
        cause="name-gone",
        certainty="proven",
        says=f"{module} imports, and {what} has no {name}",
        evidence=evidence,
        remedies=_ways_out(case, machine, module, name, owner, asker),
    )


def _module_asked(case: Case) -> str | None:
    """Older versions do not say which module lacks the name: the line that asked does."""
    assert case.resolver is not None
    frame, line = case.importer(), case.wanted.statement
    if frame is not None and not frame.file.startswith("<"):
        lines = (case.resolver.facts.text_or_none(frame.file) or "").splitlines()
        line = lines[frame.line - 1].strip() if 0 < frame.line <= len(lines) else ""
    words = line.split()
    if len(words) > 1 and words[0] == "from" and not words[1].startswith("."):
        return words[1]
    return None


def _ways_out(
    case: Case, machine: Machine, module: str, name: str, owner: Installed | None, asker: Installed | None
) -> list[Remedy]:
    assert case.interpreter is not None and case.raised is not None
    if asker is not None and owner is not None:
        for asked in asked_by(asker, case.interpreter, machine.facts.system):
            if asked.key == owner.key and asked.specifier and not satisfies(owner.version, asked.specifier):
                mend = remedies.install(machine, case.interpreter, asked.line)
                mend.says = f"{asker.name} {asker.version} requires {asked.line}"
                return [mend]
        again = remedies.install(machine, case.interpreter, owner.name, "--upgrade")
        again.says = f"a newer {owner.name} may have it"
        return [again]
    near = sorted((distance(name.lower(), other.lower(), 2), other) for other in case.raised.members)
    near = [(far, other) for far, other in near if far <= 2 and other != name]
    if near:
        write = f"write: from {module} import {near[0][1]}"
        return [Remedy(says="write it as it is called", steps=[remedies.by_hand(write)])]
    line = machine.line([case.interpreter.executable, "-c", f"import {module}; print(dir({module}))"])
    return [Remedy(says="see what it has", steps=[remedies.by_hand(f"see what it has: {line}")])]
