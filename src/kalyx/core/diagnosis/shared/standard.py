"""What the causes about standard modules of other versions share: which module it is, who asks, what provides it."""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import asked_here, namesake
from kalyx.core.imports.case import Case
from kalyx.core.imports.standard import Availability, Substitute, instead, module_span
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix


def missing_standard(case: Case) -> tuple[str, Availability] | None:
    """The missing module that is a standard one of other versions, and when it is there."""
    missing = case.missing
    if missing is None:
        return None
    parts = missing.split(".")
    for depth in range(1, len(parts) + 1):
        span = module_span(".".join(parts[:depth]))
        if span is not None:
            return ".".join(parts[:depth]), span
    return None


def finding(case: Case, machine: Machine, module: str, span: Availability, cause: str) -> Finding:
    """The finding of a module that is gone or not there yet: the versions that have it, who asks, what provides it."""
    own, is_gone = case.interpreter.minor, cause == "stdlib-gone"
    has = f"until {span.last}" if is_gone else f"from {span.first} on"
    fact = f"Python has {module} {has}; this is {own}"
    evidence = [Evidence(fact=fact, source="Kalyx's table of standard modules"), *asked_here(case, module)]
    ends = f"that Python {span.last} was the last to have" if is_gone else f"from Python {span.first} on"
    offered = _for_gone(case, machine, module, span) if is_gone else _for_newer(case, machine, module, span)
    offered = offered or [_on_another(module, span.last if is_gone else span.first)]
    return Finding.proven(cause, f"{module} is a standard module {ends}; this is {own}", evidence, offered)


def _for_gone(case: Case, machine: Machine, module: str, span: Availability) -> list[Fix]:
    """The fixes: a distribution that has the module; another release of a package; in the user's code the new name."""
    interpreter, asker, result = case.interpreter, case.asker(), []
    item = instead().modules.get(module, Substitute())
    if item.install is not None:
        fix = fixes.install(machine, interpreter, item.install)
        fix = fix.called(f"install {item.install}, which provides {module} again")
        result.append(fix)
    if asker is not None:
        newer = fixes.install(machine, interpreter, asker.name, "--upgrade")
        newer = newer.called(f"a newer {asker.name}, which is for this Python")
        meant = namesake(machine, interpreter, asker, case.module)
        exact = f"{asker.name}=={asker.version}"
        older = fixes.with_another_python(machine, interpreter, span.last, exact)
        return [*([meant] if meant is not None else []), *result, newer, older]
    if item.write is not None:
        renamed = Fix(message="import the module by its new name", steps=[fixes.write(item.write)])
        result.append(renamed)
    return result


def _for_newer(case: Case, machine: Machine, module: str, span: Availability) -> list[Fix]:
    """A distribution that provides it to older Pythons; in a package, a release that does without it."""
    interpreter, asker, result = case.interpreter, case.asker(), []
    item = instead().since.get(module, Substitute())
    brought = fixes.install(machine, interpreter, item.install) if item.install is not None else None
    if brought is not None and item.write is None:
        brought = brought.called(f"{item.install} brings {module} to older Pythons")
        result.append(brought)
    if asker is not None:
        older = fixes.install(machine, interpreter, f"{asker.name}<{asker.version}")
        older = older.called(f"an older {asker.name}, which is for this Python")
        exact = f"{asker.name}=={asker.version}"
        return [*result, older, fixes.with_another_python(machine, interpreter, span.first, exact)]
    if brought is not None and item.write is not None:
        brought = brought.called("use the distribution for older Pythons")
        result.append(brought.with_steps(*brought.steps, fixes.write(item.write)))
    return result


def _on_another(module: str, version: str) -> Fix:
    line = f"run it on Python {version}, or do without {module}"
    return Fix(message=f"run it with Python {version}", steps=[fixes.by_hand(line)])
