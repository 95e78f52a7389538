"""What causes of failing imports share: the files that a failure names, their distributions, reinstalling those."""

from __future__ import annotations

from kalyx.core.data import PROBE_PATH
from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import table_modules
from kalyx.core.formats.fitting import is_compiled
from kalyx.core.imports.case import Case
from kalyx.core.imports.lacking import lack_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Interpreter
from kalyx.core.model.steps import Uninstall
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import asked_by, satisfies
from kalyx.core.text.names import canonical
from kalyx.core.text.patterns import pattern
from kalyx.core.text.redaction import shown_variables

_PATHS = pattern(r"(?<![^\s:'\"()<>])((?:[A-Za-z]:\\|/)[^\s:'\"()<>]*\.(?:so(?:\.[\d.]+)?|pyd|dylib|dll|pyc?))")


def files_of(case: Case) -> list[str]:
    """The files that a failure names, the likeliest first: named by the error, passed through, found."""
    reader, result = case.resolver.reader, []
    raised, trial = case.raised, case.trial
    if raised is not None:
        result += [path for path in (raised.path, raised.file) if path]
        result += _PATHS.findall(raised.text)
        result += [frame.file for frame in reversed(raised.frames)]
    if trial is not None:
        result += [frame.file for frame in trial.stack]
        for link in trial.chain:
            result += [link.path] if link.path else []
            result += _PATHS.findall(link.text)
    if case.resolution is not None:
        places = [case.resolution.location] if case.resolution.location is not None else []
        result += [location.path for location in [*places, *reversed(case.resolution.parents)]]
    usable = [path for path in result if not path.startswith(("<", "(")) and path != PROBE_PATH]
    return [path for path in dict.fromkeys(usable) if reader.is_file(path)]


def compiled_of(case: Case) -> list[str]:
    """The compiled files that a failure names, and those next to a missing module that have its name."""
    result = [path for path in files_of(case) if is_compiled(path)]
    return list(dict.fromkeys(result + namesakes(case)))


def namesakes(case: Case) -> list[str]:
    """Compiled files with the missing module's name that Python does not load: their suffix is for another Python."""
    lack = lack_of(case)
    subject = case.missing or (f"{lack.module}.{lack.name}" if lack is not None else None)
    if subject is None:
        return []
    parent, _, stem = subject.rpartition(".")
    reader = case.resolver.reader
    if parent:
        location = case.resolver.resolve(parent).location
        folders = location.portions if location is not None else []
    else:
        folders = [entry.entry or case.resolver.folder for entry in case.search.entries]
    result = []
    for folder in folders:
        for name in reader.names(folder):
            if name.startswith(stem + ".") and is_compiled(name):
                result.append(reader.join(folder, name))
    return result


def reinstall(machine: Machine, interpreter: Interpreter, owner: Installed, why: str = "") -> Fix:
    """Install the same version again: the installer takes the build that fits here. ``why`` ends the words."""
    line = f"{owner.name}=={owner.version}"
    fix = fixes.install(machine, interpreter, line, "--force-reinstall", "--no-deps")
    fix = fix.called(f"reinstall {owner.name} {owner.version}{why}")
    return fix


def owned(owner: Installed) -> Evidence:
    """Evidence that a file belongs to a distribution."""
    return Evidence.at(owner.path, f"it belongs to {owner.name} {owner.version}")


def raised_evidence(case: Case) -> list[Evidence]:
    """Evidence of the trial's exception; empty where the trial raised none."""
    raised = case.raised
    return [Evidence(fact=f"{raised.type}: {raised.text[:200]}", source="the trial")] if raised is not None else []


def asked_here(case: Case, what: str) -> list[Evidence]:
    """Evidence of the line that imports the module; empty where no file does."""
    frame = case.importer()
    fact = f"{what} is asked for here"
    return [Evidence.at(frame.file, fact, frame.line)] if frame is not None else []


def unfit(
    case: Case, machine: Machine, interpreter: Interpreter, cause: str, path: str, shown: tuple[str, str]
) -> Finding:
    """A compiled file that is not for this interpreter; ``shown``: the fact that shows it, and the sentence.

    The installer takes the build that fits; a file that no package owns is to be built here.
    """
    (fact, message), owner = shown, case.owner(path)
    evidence = [Evidence.at(path, fact)]
    step = fixes.by_hand(f"build {path} on this system, with {interpreter.executable}")
    fix = Fix(message="build the package on this system", steps=[step])
    if owner is not None:
        evidence.append(owned(owner))
        wheel = machine.reader.join(owner.path, "WHEEL")
        evidence += [Evidence.at(wheel, f"it was built for {tag}") for tag in owner.tags[:1]]
        fix = reinstall(machine, interpreter, owner, ", the build for this Python and this system")
    evidence += raised_evidence(case)
    return Finding.proven(cause, message, evidence, [fix])


def broken_requirement(case: Case, machine: Machine, asker: Installed) -> tuple[str, Installed] | None:
    """A requirement of ``asker`` on a distribution that is here in another version: the line, and that distribution."""
    here = {distribution.key: distribution for distribution in reversed(machine.installed(case.sites))}
    for asked in asked_by(asker, case.interpreter, machine.reader.system):
        there = here.get(asked.key)
        if there is not None and asked.specifier and not satisfies(there.version, asked.specifier):
            return asked.line, there
    return None


def owners_passed(case: Case) -> list[Installed]:
    """The distributions whose code the failure passed through, innermost first."""
    distributions: list[Installed] = []
    for frame in reversed(case.frames()):
        owner = case.owner(frame.file)
        if owner is not None and owner.key not in {distribution.key for distribution in distributions}:
            distributions.append(owner)
    return distributions


def set_here(case: Case, name: str) -> str:
    """Evidence that a variable is set, with its value where that is no secret."""
    value = shown_variables({name: case.invocation.variables.get(name, "")})[name]
    return f"{name} is {value}" if value is not None else f"{name} is set"


def namesake(machine: Machine, interpreter: Interpreter, owner: Installed, module: str) -> Fix | None:
    """The distribution of a well-known module, where the installed distribution only has the module's name."""
    top = module.split(".")[0]
    meant = table_modules().get(top)
    if meant is None or canonical(meant) == owner.key or owner.key != canonical(top):
        return None
    fix = fixes.install(machine, interpreter, meant)
    away = fixes.step(machine, Uninstall(python=interpreter.executable, names=[owner.name]))
    fix = fix.with_steps(away, *fix.steps) if fix.steps[0].command is not None else fix
    means = f"which provides the {top} that most code means; {owner.name} is another package"
    return fix.called(f"install {meant}, {means}")
