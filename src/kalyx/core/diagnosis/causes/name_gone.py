"""The module imports, and this version of it does not have the name that is imported from it.

How to tell: the module imports, and no file earlier on sys.path hides it.
Fix: use the name that replaced it; if a package asks for it, install a release of that package that fits.

Example:
    heath has hivescale 2.1
    asked in heath: from hivescale import old_weights

Not this (the module itself is not there):
    orchard has hivescale 2.1
    asked in heath: from hivescale import old_weights
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import asked_here, raised_evidence
from kalyx.core.diagnosis.shared.loops import loop_of
from kalyx.core.diagnosis.shared.releases import ways_out
from kalyx.core.imports import standard
from kalyx.core.imports.case import Case, Raising
from kalyx.core.imports.lacking import Lack, lack_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "raising"


def look(case: Raising, machine: Machine) -> Finding | None:
    lack = lack_of(case)
    if lack is None or loop_of(case):
        return None
    location = case.resolver.resolve(lack.module).location
    what = f"{lack.owner.name} {lack.owner.version}" if lack.owner is not None else lack.module
    evidence = raised_evidence(case)
    if location is not None:
        where = location.path if location.kind != "builtin" else None
        whole = f"{lack.module} of {what}" if lack.owner is not None else lack.module
        evidence.append(Evidence(fact=f"{whole} is here", source=location.path, path=where))
    evidence += asked_here(case, lack.name)
    span = standard.name_span(lack.module, lack.name) if lack.owner is None else None
    message = f"{lack.module} imports, and {what} has no {lack.name}"
    offered = _by_the_standard_library(case, machine, lack, span) if span is not None else []
    if span is not None and offered:
        has = f"until {span.last}" if span.is_gone(case.interpreter.version) else f"from {span.first} on"
        own = case.interpreter.minor
        message = f"Python {own} has no {lack.module}.{lack.name}; it is there {has}"
    return Finding.proven("name-gone", message, evidence, offered or ways_out(case, machine, lack))


def _by_the_standard_library(case: Case, machine: Machine, lack: Lack, span: standard.Availability) -> list[Fix]:
    """For a name that this Python's own library no longer has, or has not yet."""
    version = case.interpreter.version
    if not span.is_gone(version) and not span.is_newer(version):
        return []
    now = standard.instead_of_name(lack.module, lack.name)
    if lack.asker is not None:
        newer = span.is_gone(version)
        line = lack.asker.name if newer else f"{lack.asker.name}<{lack.asker.version}"
        fix = fixes.install(machine, case.interpreter, line, *(["--upgrade"] if newer else []))
        fix = fix.called(f"install {'a newer' if newer else 'an older'} {lack.asker.name}, made for this Python")
        exact = f"{lack.asker.name}=={lack.asker.version}"
        wanted = span.last if newer else span.first
        return [fix, fixes.with_another_python(machine, case.interpreter, wanted, exact)]
    if now is not None and span.is_gone(version):
        module, _, name = now.rpartition(".")
        return [Fix(message="import it from its new place", steps=[fixes.write(f"from {module} import {name}")])]
    back = standard.instead().since.get(lack.module) if span.is_newer(version) else None
    if back is not None and back.install is not None and back.write is not None:
        fix = fixes.install(machine, case.interpreter, back.install)
        fix = fix.called(f"install {back.install}, which provides it for older Pythons")
        write = fixes.write(f"from {back.write.removeprefix('import ')} import {lack.name}")
        return [fix.with_steps(*fix.steps, write)]
    wanted = span.last if span.is_gone(version) else span.first
    return [
        Fix(
            message=f"run it on Python {wanted}",
            steps=[fixes.by_hand(f"run it on Python {wanted}, or write it otherwise")],
        )
    ]
