"""A standard module removed or renamed by this Python version (Python 2 names too).

Has it:
    asked in heath: import urllib2

Only looks like it (this version has it):
    asked in heath: import distutils
"""

from __future__ import annotations

from kalyx.core.facts import Evidence, Finding, Remedy
from kalyx.core.findings import remedies
from kalyx.core.findings._failing import namesake
from kalyx.core.imports.case import Case
from kalyx.core.imports.standard import Span, instead, module_span
from kalyx.core.machine import Machine

YIELDS_TO = ("name-misleads", "shadowed", "syntax-newer", "startup-broken", "unmet")


def look(case: Case, machine: Machine) -> Finding | None:
    found = missing_standard(case)
    if found is None or case.interpreter is None:
        return None
    module, span = found
    if not span.is_gone(case.interpreter.version):
        return None
    return finding(case, machine, module, span, "stdlib-gone")


def missing_standard(case: Case) -> tuple[str, Span] | None:
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


def finding(case: Case, machine: Machine, module: str, span: Span, cause: str) -> Finding:
    """What both causes of this kind share: the versions that have it, who asks, and what takes its place."""
    assert case.interpreter is not None
    interpreter, own = case.interpreter, ".".join(case.interpreter.version.split(".")[:2])
    is_gone = cause == "stdlib-gone"
    has = f"until {span.last}" if is_gone else f"from {span.first} on"
    evidence = [
        Evidence(
            fact=f"Python has {module} {has}; this is {own}",
            source="Kalyx's table of standard modules",
        )
    ]
    frame = case.importer()
    inside = frame is not None and not frame.file.startswith("<")
    if frame is not None and inside:
        evidence.append(
            Evidence(fact=f"{module} is asked for here", source=frame.file, path=frame.file, line=frame.line)
        )
    asker = case.owner(frame.file) if frame is not None and inside else None
    one = instead("modules" if is_gone else "since").get(module, {})
    found = []
    if "install" in one and (is_gone or "write" not in one):
        mend = remedies.install(machine, interpreter, one["install"])
        mend.says = f"{one['install']} brings {module} {'back' if is_gone else 'to older Pythons'}"
        found.append(mend)
    if asker is not None:
        line = asker.name if is_gone else f"{asker.name}<{asker.version}"
        mend = remedies.install(machine, interpreter, line, *(["--upgrade"] if is_gone else []))
        mend.says = f"{'a newer' if is_gone else 'an older'} {asker.name}, which is for this Python"
        exact = f"{asker.name}=={asker.version}"
        wanted = span.last if is_gone else span.first
        found += [mend, remedies.with_another_python(machine, interpreter.prefix, wanted, exact)]
        meant = namesake(machine, interpreter, asker, case.module)
        found = [meant, *found] if meant is not None else found
    elif "write" in one:
        steps = [remedies.by_hand(f"write: {one['write']}")]
        if not is_gone:
            steps.insert(0, remedies.install(machine, interpreter, one["install"]).steps[-1])
        found.insert(
            0 if is_gone and module != "distutils" else len(found),
            Remedy(
                says="it has another name now" if is_gone else "use the distribution for older Pythons", steps=steps
            ),
        )
    if not found:
        wanted = span.last if is_gone else span.first
        found = [
            Remedy(
                says=f"run it on Python {wanted}",
                steps=[remedies.by_hand(f"run it on Python {wanted}, or do without {module}")],
            )
        ]
    says = (
        f"{module} is a standard module that Python {span.last} was the last to have"
        if is_gone
        else (f"{module} is a standard module from Python {span.first} on")
    )
    return Finding(cause=cause, certainty="proven", says=f"{says}; this is {own}", evidence=evidence, remedies=found)
