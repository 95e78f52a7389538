"""The name differs from an installed module by one or two letters, by case or by a hyphen.

How to tell: an installed module's name differs by a letter or two, and no table lists the name itself.
Fix: correct the name.

Example:
    heath has hivescale 2.1
    asked in heath: import hivescael

Not this (a module of exactly that name is elsewhere):
    heath has hivescale 2.1
    orchard has hivescales 1.0
    asked in heath: import hivescales
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import is_well_known
from kalyx.core.diagnosis.shared.spelling import is_standard, nearest, written
from kalyx.core.imports.case import Missing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    if not case.missing_is_asked:
        return None
    result = nearest(case, case.missing)
    if result is None or result[2]:
        file = _unspeakable(case)
        if file is not None:
            return _by_another_name(case, machine, file)
    if result is None:
        return None
    full, path, far = result
    if far and "." not in case.missing and (is_well_known(case.missing) or is_standard(case, path)):
        return None  # a real package has that name; absent offers the similar name second
    message = "but for case, hyphens or underscores it is" if far == 0 else f"{far} letter{'s' * (far > 1)} from"
    return Finding(
        cause="misspelt",
        certainty="possible" if far else "likely",
        message=f"there is no {case.missing}; {message} {full}, which is here",
        evidence=[Evidence(fact=f"{full} is here", source=path.path, path=path.path or None)],
        fixes=[Fix(message="correct the name", steps=[fixes.write(written(case, full))])],
    )


def _unspeakable(case: Missing) -> str | None:
    """A file on the path that would be the module, but for signs that no module's name has (``my-module.py``)."""
    reader = case.resolver.reader
    for folder in case.folders:
        for name in reader.names(folder):
            stem = name.removesuffix(".py")
            plain = "".join(sign if sign.isalnum() else "_" for sign in stem)
            if stem != name and not stem.isidentifier() and plain.lower() == case.missing.lower():
                return reader.join(folder, name)
    return None


def _by_another_name(case: Missing, machine: Machine, path: str) -> Finding:
    reader, name = machine.reader, f"{case.missing}.py"
    fix = fixes.rename(machine, path, reader.join(reader.parent(path), name)).called(f"rename it to {name}")
    message = f"there is no {case.missing}; {reader.name(path)} is here, and no import statement can name it"
    evidence = [Evidence.at(path, "the name of a module has letters, digits and underscores")]
    return Finding.likely("misspelt", message, evidence, [fix])
