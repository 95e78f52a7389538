"""It is installed, but for another environment than the one that runs.

Has it:
    orchard has hivescale 2.1
    asked in heath: import hivescale

Only looks like it (nothing has it):
    orchard has nectarflow 1.0
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.findings import base_hidden, remedies
from kalyx.core.imports.case import Case
from kalyx.core.imports.resolver import Place
from kalyx.core.machine import Machine
from kalyx.core.packages.metadata import owner_of
from kalyx.core.packages.removals import requirement_with
from kalyx.core.records import Environment, Evidence, Finding, Remedy

YIELDS_TO = ("seat-differs", "name-misleads", "base-hidden", "unmet", "gutted", "shadowed", "startup-broken",
             "checker-only", "link-broken", "stdlib-gone", "stdlib-newer", "stdlib-part-missing", "path-cut",
             "user-site-off", "other-minor", "optional", "namespace-split", "older-wins", "folder-answers",
             "other-build", "other-platform", "syntax-newer", "syntax-older", "unreadable", "damaged",
             "library-missing", "submodule-gone")  # fmt: skip
FOLDS = True


def holders(case: Case, machine: Machine) -> list[tuple[Environment, Place]]:
    """The other environments in which the missing module is found, and where."""
    missing = case.missing
    if missing is None or case.environment is None:
        return []
    own = case.environment
    found = []
    for environment in machine.all_environments:
        if environment.key == own.key and environment.version == own.version:
            continue
        resolver = machine.resolver(environment)
        if resolver is None:
            continue
        place = resolver.resolve(missing).place
        if place is not None and place.kind not in ("namespace", "builtin") and _is_installed(resolver, place):
            found.append((environment, place))
    # The environment's own copy before one that it only sees below it.
    found.sort(key=lambda pair: not machine.facts.inside(pair[1].path, pair[0].prefix))
    return found


def _is_installed(resolver: object, place: Place) -> bool:
    """In a site folder: a standard module of another version is another cause's matter."""
    sites: list[str] = resolver.search.site_packages  # type: ignore[attr-defined]
    return any(place.entry == site or place.path.startswith(site) for site in sites) or place.entry not in {
        entry.entry
        for entry in resolver.search.entries  # type: ignore[attr-defined]
        if entry.origin.startswith("the standard library")
    }


def proof(case: Case, machine: Machine, environment: Environment, place: Place) -> tuple[list[Evidence], str]:
    """Where the other copy is and that this path has none; with the name to install it by."""
    missing = case.missing or case.module
    owner = owner_of(machine.facts, environment.site_packages, place.path)
    if owner is None:
        owner = machine.distribution_of_module(missing, environment.site_packages)
    what = f"{owner.name} {owner.version}" if owner else missing
    seen = [
        Evidence(fact=f"{what} is in {environment.name}", source=place.path, path=place.path),
        Evidence(
            fact=f"no {missing} on {case.environment.name if case.environment else 'this'}'s path",
            source=f"{len(case.search.entries) if case.search else 0} entries read",
        ),
    ]
    return seen, requirement_with(missing, owner.name) if owner else ""


def ways_out(case: Case, machine: Machine, environment: Environment, requirement: str) -> list[Remedy]:
    """Install it here; or use the environment that has it."""
    found = []
    if case.interpreter is not None and requirement:
        found.append(remedies.install(machine, case.interpreter, requirement))
    ready = [
        kernel
        for kernel in machine.kernels
        if kernel.environment is not None
        and kernel.environment.key == environment.key
        and not {"hidden", "interpreter-gone"} & set(kernel.conditions)
    ]
    if case.seat.seat in ("kernel", "notebook") and ready:
        choose = f"choose the kernel {ready[0].id} ({ready[0].label}) for the notebook: it runs {environment.name}"
        found.append(Remedy(says="run it on a kernel that has it", steps=[remedies.by_hand(choose)]))
    elif case.seat.seat in ("kernel", "notebook"):
        identifier = "".join(c if c.isalnum() or c in "._-" else "-" for c in environment.name.lower()).strip(".-")
        argv = ["kalyx", "register", environment.prefix, "--id", identifier or "python"]
        step = remedies.command(machine, argv)
        found.append(Remedy(says=f"run it on {environment.name}: register that, then choose it", steps=[step]))
    elif environment.executable:
        step = remedies.command(machine, [environment.executable])
        found.append(Remedy(says=f"use {environment.name}, which has it", steps=[step]))
    return found


def look(case: Case, machine: Machine) -> Finding | None:
    found = holders(case, machine)
    if base_hidden.look(case, machine) is not None and case.interpreter is not None:
        # What the base has is that cause's matter.
        base = machine.facts.real(case.interpreter.base_prefix)
        found = [pair for pair in found if pair[0].key != base]
    if not found:
        return None
    environment, place = found[0]
    evidence, requirement = proof(case, machine, environment, place)
    for other, other_place in found[1:4]:
        evidence.append(Evidence(fact=f"also in {other.name}", source=other_place.path, path=other_place.path))
    here = case.environment.name if case.environment else "this interpreter"
    return Finding(
        cause="elsewhere",
        certainty="proven",
        says=f"{case.missing} is installed in {environment.name}, not in {here}",
        evidence=evidence,
        remedies=ways_out(case, machine, environment, requirement),
    )
