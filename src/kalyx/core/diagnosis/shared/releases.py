"""Which release of a package has what is asked for: by the most certain source."""

from __future__ import annotations

import re

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import table_modules
from kalyx.core.diagnosis.shared.failing import broken_requirement
from kalyx.core.imports.case import Case
from kalyx.core.imports.lacking import Lack
from kalyx.core.machine import Machine
from kalyx.core.model.records import Fix
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.removals import Removal, removal_of
from kalyx.core.packages.requirements import asked_by, satisfies
from kalyx.core.text.numbers import number_of


def ways_out(case: Case, machine: Machine, lack: Lack) -> list[Fix]:
    """The fixes that install a release which has what is asked for, by the most certain source."""
    assert case.raised is not None
    interpreter, owner, asker = case.interpreter, lack.owner, lack.asker
    if asker is not None and owner is not None and asker.key == owner.key and lack.name in case.wanted.names:
        asker = None  # a package that refuses a name by code of its own does not ask for that name
    removal = removal_of(lack.module, lack.name) or removal_of(f"{lack.module}.{lack.name}")
    if asker is not None and owner is not None and asker.key != owner.key:
        broken = broken_requirement(case, machine, asker)
        if broken is not None and broken[1].key == owner.key:
            fix = fixes.install(machine, interpreter, broken[0])
            fix = fix.called(f"install {broken[0]}, as {asker.name} {asker.version} requires")
            return [fix]
    result = []
    if owner is not None:
        held = _held(case, machine, owner, asker, removal)
        result += [held] if held is not None else []
    if removal is not None and removal.went is not None and asker is None:
        module, _, name = removal.went.rpartition(".")
        write = fixes.write(f"from {module} import {name}" if module else f"import {name}")
        # In one's own code, another line is a smaller change than another release.
        went = Fix(message="import it from where it is now", steps=[write])
        top = (module or name).split(".")[0]
        if case.resolver.resolve(top).location is None:
            brings = fixes.install(machine, interpreter, table_modules().get(top, top))
            message = f"install {top}, where the name is now, and import from there"
            went = went.called(message).with_steps(*brings.steps, *went.steps)
        result.insert(0, went)
    elif removal is None and asker is None:
        near = [other for other in case.raised.members if _is_slip(lack.name, other)]
        if near:
            details = f"{lack.module} has no {lack.name}; it has {near[0]}: is that what is meant?"
            result.insert(0, Fix(message="check the name", steps=[fixes.by_hand(details)]))
    for distribution in {"owner": owner, "asker": asker}.values() if asker is not None else ():
        if distribution is not None:
            again = fixes.install(machine, interpreter, distribution.name, "--upgrade")
            can = "have it" if distribution is owner else "know this version"
            result.append(again.called(f"a newer {distribution.name} may {can}").guessed())
    if result:
        return result
    line = machine.line([interpreter.executable, "-c", f"import {lack.module}; print(dir({lack.module}))"])
    step = fixes.by_hand("", line)
    return [Fix(message="list what the module has", steps=[step], state="may-help")]


def _is_slip(asked: str, other: str) -> bool:
    """Whether two names differ only in case, in underscores, or in the order of two letters.

    A letter more or less may be another name on purpose (of a number type above all), so it proves nothing.
    """
    if asked == other:
        return False
    item, two = (name.lower().replace("_", "") for name in (asked, other))
    if item == two:
        return True
    off = [at for at, (a, b) in enumerate(zip(item, two, strict=False)) if a != b]
    return len(item) == len(two) and len(off) == 2 and off[1] == off[0] + 1 and sorted(item) == sorted(two)


def _held(
    case: Case, machine: Machine, owner: Installed, asker: Installed | None, removal: Removal | None
) -> Fix | None:
    """An older release of what took the name away: by the table, else below the next major that the asker names."""
    line, message = None, ""
    if removal is not None and removal.distribution.lower() == owner.name.lower():
        if not satisfies(owner.version, f"<{removal.first_without}"):
            line, message = (
                f"{owner.name}<{removal.first_without}",
                f"install an older {owner.name}: {removal.first_without} no longer has what is asked for",
            )
    if line is None and asker is not None and asker.key != owner.key:
        for asked in asked_by(asker, case.interpreter, machine.reader.system):
            bound = _next_major(asked.specifier, owner.version) if asked.key == owner.key else None
            if bound is not None:
                line = f"{asked.line},<{bound}"
                message = f"{asker.name} {asker.version} was written for {asked.line}, and this is {owner.version}"
    if line is None:
        return None
    fix = fixes.install(machine, case.interpreter, line).called(message)
    return fix


def _next_major(specifier: str, version: str) -> str | None:
    """The major version after the one that a requirement begins at, where what is here has gone on past it."""
    lower = re.search(r"(?:>=|~=|>|==)\s*(\d+)", specifier)
    major = number_of(version.split(".")[0])
    floor = max(number_of(lower[1]) or 0, 1) if lower is not None else None
    if floor is None or major is None or "<" in specifier or major <= floor:
        return None
    return str(floor + 1)
