"""A regular package hides the other portions of a namespace package.

How to tell: several folders on the path hold parts of the package, and one of them has an __init__ file.
Fix: install a release without that file; remove the file if it is your own.

Example:
    heath has a regular package moorland, and a portion of moorland with bees further down
    asked in heath: import moorland.bees

Not this (there is no other portion):
    heath has moorland 1.0
    asked in heath: import moorland.bees
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import owned
from kalyx.core.imports.case import Case, Missing
from kalyx.core.imports.experiment import Experiment
from kalyx.core.imports.resolver import Location
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    missing = case.missing
    if "." not in missing:
        return None
    parts = missing.split(".")
    for depth in range(1, len(parts)):
        upper = ".".join(parts[:depth])
        resolution = case.resolver.resolve(upper)
        location = resolution.location
        if location is None or location.kind != "package":
            continue
        for other in resolution.others:
            portion = _portion(case, location, other, missing, depth)
            if portion is not None:
                folder = case.resolver.reader.join(other.entry, parts[depth - 1])
                message = f"with {folder} in {upper} too"
                case.propose("namespace-split", Experiment(message, extend=((upper, folder),)))
                return _finding(case, machine, upper, missing, location, portion)
    return None


def _portion(case: Case, package: Location, other: Location, missing: str, depth: int) -> Location | None:
    """The missing module below another portion."""
    location = case.resolver.in_folder(other.entry, ".".join(missing.split(".")[depth - 1 :]))
    if location is None or location.kind == "namespace":
        return None
    first, second = case.owner(package.path), case.owner(location.path)
    # Two releases of one distribution are no namespace: that is the cause older-wins.
    return location if first is None or second is None or first.key != second.key else None


def _finding(case: Case, machine: Machine, upper: str, missing: str, location: Location, portion: Location) -> Finding:
    reader = machine.reader
    owner, other = case.owner(location.path), case.owner(portion.path)
    evidence = [
        Evidence.at(location.path, f"{upper} is a regular package by this file, and so the only folder of it"),
        Evidence.at(portion.path, f"{missing} lies in another folder of {upper}"),
    ]
    evidence += [owned(distribution) for distribution in (owner, other) if distribution is not None]
    result: list[Fix] = []
    aside = fixes.rename(machine, location.path, location.path + ".aside")
    aside = aside.called("make it a folder of the namespace: set its __init__ aside")
    if aside.steps[0].command is None:
        line = f"{location.path} belongs to another distribution: "
        line += "use the two in environments of their own, or a newer one"
        aside = aside.with_steps(fixes.by_hand(line))
    elif _says_nothing(reader.text_or_none(location.path, 65536)):
        result.append(aside)
    if owner is not None:
        fix = fixes.install(machine, case.interpreter, owner.name, "--upgrade")
        fix = fix.called(f"upgrade {owner.name}: a newer release may leave room for the others")
        result.append(fix)
    if aside not in result:
        result.append(aside.guessed())  # what its code gives is gone then
    message = f"{upper} in {location.entry} is a regular package, and hides the part of {upper} that has {missing}"
    return Finding.proven("namespace-split", message, evidence, result)


def _says_nothing(text: str | None) -> bool:
    """Whether an ``__init__`` has no code but, at most, words and a declaration of an older kind of namespace."""
    if text is None:
        return False
    import ast

    try:
        body = ast.parse(text).body
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return False
    return all(isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) for node in body)
