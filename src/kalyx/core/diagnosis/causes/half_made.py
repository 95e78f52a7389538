"""Creating the environment was interrupted, or a part of it was lost.

How to tell: the mark of an interrupted run exists, or a part that every environment has is missing or does not start.
Fix: finish the environment, or recreate it; its packages stay where they can.

Example:
    heath was begun and not finished
    asked about heath

Not this (it was finished, and its base was removed later):
    the base of heath is /opt/old, which is gone
    asked about heath
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec.structs import replace

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.activation import spoken_place
from kalyx.core.diagnosis.shared.conditions import (
    condition,
    held_in,
    packages_in,
    packages_of_others,
    remove,
    same_minor,
    ways_to_recreate,
)
from kalyx.core.environments.journal import LOCKS, record_of
from kalyx.core.environments.reading import BROUGHT_ALONG, BROUGHT_MODULES, View, view_of
from kalyx.core.interpreters.reading import SETTINGS_NAME
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import CreateEnvironment, FillEnvironment
from kalyx.core.system import Reader
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.names import is_requirement

if TYPE_CHECKING:
    from kalyx.core.imports.case import Missing  # a survey has no import

_WANTED = 30  # packages that one line names


LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    """The module is in the environment, which Python does not take for one since its settings file is gone."""
    view = view_of(machine.reader, case.interpreter)
    finding = _without_settings(view, machine) if view.environment.kind == "virtual" and not view.settings else None
    top = case.missing.partition(".")[0]
    sites = view.environment.site_packages
    beside = [(site, name) for site in sites for name in machine.reader.names(site) if name.partition(".")[0] == top]
    if finding is None or not beside:
        return None
    path = machine.reader.join(*beside[0])
    there = Evidence.at(path, f"{top} is in {view.environment.name}")
    from kalyx.core.imports.experiment import Experiment

    case.propose("half-made", Experiment("with its packages on the path", put=tuple(sites)))
    return replace(finding, evidence=[*finding.evidence, there])


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    reader, environment, settings = machine.reader, view.environment, view.settings
    stopped = _stopped(view, machine)
    if stopped is not None:
        return stopped
    if environment.kind == "virtual" and settings is None:
        return _without_settings(view, machine)
    if environment.kind != "virtual" or settings is None or settings.problem:
        return None
    missing = _missing_installer(view, machine)
    if missing is not None:
        return missing
    folder = reader.join(environment.prefix, "Scripts" if reader.system == "windows" else "bin")
    if view.interpreter is None and view.problem is None:
        foreign = _of_another_system(view, machine)
        if foreign is not None:
            return foreign
        evidence = [
            Evidence(fact=f"no interpreter in {folder}", source="listing", path=environment.prefix),
            Evidence.at(settings.path, "the settings file is there"),
        ]
        if held := held_in(view, machine):  # it was complete: what copies a folder may leave out its links
            named = ", ".join(name for name, _ in held[:3])
            more = f" and {len(held) - 3} more" if len(held) > 3 else ""
            evidence.append(Evidence.at(held[0][1], f"its packages are there: {named}{more}"))
            message = "the environment has its packages, and its interpreter is gone"
            return condition("half-made", message, evidence, ways_to_recreate(view, machine))
        message = "the environment has a settings file and no interpreter: its creation was interrupted"
        return condition("half-made", message, evidence, [remove(view, machine)])
    if view.interpreter is not None and not environment.site_packages:
        minor = view.interpreter.minor
        if packages_of_others(view, machine, minor):
            return None  # its base moved on to another version: that has a name of its own
        evidence = [Evidence(fact="no site-packages folder", source="listing", path=environment.prefix)]
        message = "the environment has an interpreter and no folder for packages: its creation was interrupted"
        return condition("half-made", message, evidence, [remove(view, machine)])
    return _without_python(view, machine)


def _without_settings(view: View, machine: Machine) -> Finding | None:
    """Python takes an environment whose settings file is gone for its base, or does not start (on Windows)."""
    reader, prefix, interpreter = machine.reader, view.environment.prefix, view.interpreter
    if interpreter.prefix == prefix if interpreter is not None else reader.system != "windows":
        return None  # the older layout has none; an environment that starts nothing has another cause
    path = reader.join(prefix, SETTINGS_NAME)
    is_folder = reader.is_folder(path)
    fact = "it is a folder" if is_folder else NOTHING_THERE
    evidence = [Evidence(fact=fact, source=path, path=path if reader.is_there(path) else None)]
    if interpreter is not None:
        fact = f"it starts the Python of {interpreter.prefix}"
        evidence.append(Evidence.at(interpreter.executable, fact))
    state = "a folder" if is_folder else "gone"
    then = "its python sees none of its packages" if interpreter is not None else "its python does not start"
    message = f"the {SETTINGS_NAME} of {view.environment.name} is {state}, and {then}"
    return condition("half-made", message, evidence, _kept(view, machine))


def _without_python(view: View, machine: Machine) -> Finding | None:
    """Its own ``python`` does not start, though one with a number does: after activation another answers, or none."""
    reader, interpreter = machine.reader, view.interpreter
    if interpreter is None or reader.system == "windows" or reader.name(interpreter.executable) == "python":
        return None
    path = reader.join(view.environment.prefix, "bin", "python")
    reason = NOTHING_THERE if view.problem is None else view.problem.reason
    other = interpreter.executable
    evidence = [
        Evidence(fact=reason, source=path, path=path if view.problem is not None else None),
        Evidence.at(other, f"starts {interpreter.version}"),
    ]
    message = f"its python does not start ({reason}), and its {reader.name(other)} does"
    return condition("half-made", message, evidence, _kept(view, machine))


def _kept(view: View, machine: Machine) -> list[Fix]:
    """Recreate it with its packages; remove it where none are there, and no Python of its version is here."""
    if same_minor(view, machine) is None and not held_in(view, machine):
        return [remove(view, machine)]
    return ways_to_recreate(view, machine)


def _of_another_system(view: View, machine: Machine) -> Finding | None:
    """An environment of the other kind of system, copied here: nothing in it starts, and its packages can be read."""
    reader, prefix = machine.reader, view.environment.prefix
    on_windows = reader.system == "windows"
    words = ("bin", "python") if on_windows else ("Scripts", "python.exe")
    path = reader.join(prefix, *words)
    if not reader.may_be_there(path):
        return None
    distributions = packages_in(view, machine)
    wanted = [
        f"{distribution.name}=={distribution.version}"
        for distribution in distributions[:_WANTED]
        if is_requirement(f"{distribution.name}=={distribution.version}")
    ]
    made = CreateEnvironment(prefix=f"{prefix}-{reader.system}", requirements=wanted)
    fix = Fix(
        message="create an environment for this system, with the same packages",
        steps=[fixes.step(machine, made)],
        changes=[made.prefix],
        state="may-help" if wanted else "certain",
    )
    other = "another system" if on_windows else "Windows"
    evidence = [Evidence.at(path, f"this is the interpreter of an environment of {other}")]
    message = f"it was made on {other}, and an environment works only on the kind of system that it was made on"
    return condition("half-made", message, evidence, [fix])


def _stopped(view: View, machine: Machine) -> Finding | None:
    """A creation, a removal or an installation by Kalyx that still runs, or was interrupted."""
    reader, prefix = machine.reader, view.environment.prefix
    doing = {"prepare": "made", "fill": "filled", "discard": "removed"}
    for work, lock in LOCKS.items():
        path = reader.join(prefix, lock)
        if not reader.may_be_there(path):
            continue
        if working := _worker(reader, path):
            return _at_work(path, working, doing[work])
        record = record_of(reader, prefix, work)
        if record is None or (record.is_settled and work != "discard"):
            continue
        if work == "prepare":
            fact, message = "the lock of an unfinished creation is there", "its creation was begun and not finished"
            fix = remove(view, machine)
        elif work == "discard":
            fact, message = "the lock of an unfinished removal is there", "its removal was begun and not finished"
            fix = remove(view, machine).called("finish removing it")
        else:
            fact, message = "the lock of an unfinished fill is there", "a fill was begun and not finished"
            restore = fixes.step(machine, FillEnvironment(prefix=prefix, restore=True))
            fix = Fix(message="roll back the interrupted change", steps=[restore], changes=[prefix])
        return condition("half-made", message, [Evidence.at(path, fact)], [fix])
    return None


def _worker(reader: Reader, mark: str) -> int | None:
    """The process that works on what carries the mark, where one still does."""
    from kalyx.core.system import claims  # few environments carry one

    return claims.worker(reader, mark)


def _at_work(path: str, process: int, what: str) -> Finding:
    evidence = [Evidence.at(path, f"process {process} is at work")]
    return condition("half-made", f"it is being {what} at this moment", evidence, [])


def _missing_installer(view: View, machine: Machine) -> Finding | None:
    """The installer comes before the activation scripts: without those, and with nothing of one's own, it stopped."""
    reader, settings, environment = machine.reader, view.settings, view.environment
    if view.interpreter is None or settings is None or not environment.site_packages:
        return None
    folder = reader.join(environment.prefix, "Scripts" if reader.system == "windows" else "bin")
    # The usual one is read anyway: the scripts of most environments need not be listed.
    if spoken_place(machine, environment.prefix) is not None or any(
        name.lower().startswith("activate") for name in reader.names(folder)
    ):
        return None
    brought = {distribution.key for distribution in machine.installed(environment.site_packages)}
    modules = {name for site in environment.site_packages for name in reader.names(site)}
    if brought - BROUGHT_ALONG or modules - BROUGHT_MODULES - {name for name in modules if "-" in name}:
        return None
    evidence = [Evidence.at(folder, "no activation scripts, which are written last")]
    made_by = settings.get("command")
    if made_by:
        line = settings.line("command")
        evidence.append(Evidence.at(settings.path, f"created by: {made_by}", line))
    what = "while pip was being installed" if modules else "before pip was installed"
    return condition("half-made", f"its creation was interrupted {what}", evidence, [remove(view, machine)])
