"""The module imports, and has no such submodule, in this version or at all.

How to tell: every file in the package's RECORD exists, and RECORD lists no such submodule; or the module is one file,
or part of the interpreter.
Fix: install a release that has the submodule, or change the line that imports it.

Example:
    heath has hivescale 2.1
    asked in heath: import hivescale.frames

Not this (the package itself is not there):
    orchard has hivescale 2.1
    asked in heath: import hivescale.frames
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import asked_here, namesakes, owned
from kalyx.core.diagnosis.shared.loops import loop_of
from kalyx.core.diagnosis.shared.releases import ways_out
from kalyx.core.diagnosis.shared.spelling import nearest
from kalyx.core.imports.case import Case, Failing
from kalyx.core.imports.lacking import Lack, lack_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Finding, Fix, Interpreter
from kalyx.core.model.steps import RunWith
from kalyx.core.packages.metadata import COMMANDS, Installed, entry_points
from kalyx.core.packages.removals import removal_of
from kalyx.core.text.versions import numbers_of

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "failing"

_NO_MAIN = ", which python -m runs"
_SHOWN = 3  # of the commands of a distribution


def look(case: Failing, machine: Machine) -> Finding | None:
    interpreter, resolver = case.interpreter, case.resolver
    if namesakes(case):
        return None
    subject = case.missing or _part_of_itself(case)
    if subject is None:
        return None
    parent, _, word = subject.rpartition(".")
    owner = _owner(case, machine, subject)
    if owner is None:
        return _of_no_distribution(case, subject)
    other = _version_with(case, machine, subject, owner)
    removal = removal_of(subject)
    if other is None and removal is None and nearest(case, subject) is not None:
        return None  # a module a letter away is the likelier explanation
    location = resolver.resolve(parent).location if parent else None
    asker = case.asker()
    evidence = [Evidence.at(owner.path, f"{owner.name} {owner.version} is here")]
    if location is not None:
        evidence.append(
            Evidence(fact=f"{parent} is here, and has no {word}", source=location.path, path=location.path or None)
        )
    evidence += asked_here(case, subject)
    if asker is not None:
        evidence.append(owned(asker))
    offered = []
    if other is not None:
        environment, distribution = other
        fact = f"{distribution.name} {distribution.version} in {environment.name} has it"
        evidence.append(Evidence.at(distribution.path, fact))
        fix = fixes.install(machine, interpreter, f"{distribution.name}=={distribution.version}")
        offered = [fix.called(f"install the version that has it, as in {environment.name}")]
        if environment.minor != interpreter.minor and environment.executable is not None:
            # The same version may have other modules for another Python.
            step = fixes.step(machine, RunWith(words=[environment.executable, *case.runs], same_words=True))
            message = f"run it with the Python of {environment.name}, which has it"
            offered = [Fix(message=message, steps=[step]), offered[0].guessed()]
    if word == "__main__" and not offered:
        offered = [*_commands(machine, interpreter, owner), *_alone(parent)]
    if case.raised is not None and (removal is not None or not offered):
        # The table names the newest release that has it; another environment only some release.
        offered = ways_out(case, machine, Lack(parent or subject, word if parent else "*", owner, asker))
    if not offered:
        offered = [fixes.install(machine, interpreter, owner.name, "--upgrade")]
    message = f"{owner.name} {owner.version} is here and has no {subject}{_NO_MAIN if word == '__main__' else ''}"
    return Finding.proven("submodule-gone", message, evidence, offered)


def _alone(parent: str) -> list[Fix]:
    """To import the package without the part that it lacks."""
    return [Fix(message=f"import {parent} alone", steps=[fixes.write(f"import {parent}")], state="may-help")]


def _commands(machine: Machine, interpreter: Interpreter, owner: Installed) -> list[Fix]:
    """To run the commands that a distribution has, where ``python -m`` was to run its package."""
    reader = machine.reader
    folder = reader.parent(interpreter.executable)
    ending = ".exe" if reader.system == "windows" else ""
    paths = [reader.join(folder, name + ending) for name in entry_points(reader, owner.path, *COMMANDS)]
    return [
        Fix(message=f"run {reader.name(path)}, a command of {owner.name}", state="may-help",
            steps=[fixes.step(machine, RunWith(words=[path]))])
        for path in paths[:_SHOWN] if reader.is_file(path)
    ]  # fmt: skip


def _of_no_distribution(case: Case, subject: str) -> Finding | None:
    """The package above the submodule belongs to no distribution: the user's own code lacks the submodule."""
    parent, _, word = subject.rpartition(".")
    location = case.resolver.resolve(parent).location if parent else None
    if location is None or location.kind == "namespace" or nearest(case, subject) is not None:
        return None
    source = location.path
    if location.kind == "package":
        fact, what = f"{parent} is here, and has no {word}", f"{parent} is here ({source})"
    elif location.kind == "builtin":
        fact, what = "a module in the interpreter has no submodules", f"{parent} is built into Python, no package"
        source = case.interpreter.executable
    else:
        fact, what = "a module in one file has no submodules", f"{parent} is one file ({source}), no package"
    evidence = [Evidence.at(source, fact), *asked_here(case, subject)]
    message = f"{what}, and has no {word}{_NO_MAIN if word == '__main__' else ''}"
    return Finding.proven("submodule-gone", message, evidence, _alone(parent))


def _owner(case: Case, machine: Machine, subject: str) -> Installed | None:
    """The distribution that is here and should have it: its package's, or the one a release of which took it away."""
    parent = subject.rpartition(".")[0]
    location = case.resolver.resolve(parent).location if parent else None
    if location is not None and location.kind == "package":
        return case.owner(location.path) or machine.distribution_of_module(parent, case.sites)
    removal = removal_of(subject) if not parent else None
    if removal is None:
        return None
    return next(
        (
            distribution
            for distribution in machine.installed(case.sites)
            if distribution.key == removal.distribution.lower()
        ),
        None,
    )


def _part_of_itself(case: Case) -> str | None:
    """``from . import part`` in the package's own file, without such a part: Python's message wrongly says circular."""
    lack, frame = lack_of(case), case.importer()
    if lack is None or frame is None or loop_of(case):
        return None
    location = case.resolver.resolve(lack.module).location
    if location is None or location.kind != "package" or frame.file != location.path:
        return None
    return f"{lack.module}.{lack.name}"


def _version_with(case: Case, machine: Machine, subject: str, owner: Installed) -> tuple[Environment, Installed] | None:
    """The same distribution in another environment, in a version that has it."""
    result: list[tuple[Environment, Installed]] = []
    for environment in machine.environments.everywhere:
        if case.environment is not None and environment.key == case.environment.key:
            continue
        distribution = next(
            (
                distribution
                for distribution in machine.installed(environment.site_packages)
                if distribution.key == owner.key
            ),
            None,
        )
        resolver = (
            machine.resolver(environment)
            if distribution is not None and distribution.version != owner.version
            else None
        )
        if distribution is not None and resolver is not None:
            location = resolver.resolve(subject).location
            if location is not None and location.kind not in ("namespace", "builtin"):
                result.append((environment, distribution))
    return max(result, key=lambda pair: numbers_of(pair[1].version), default=None)
