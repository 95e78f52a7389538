"""The control experiment: the same import in a fresh environment, or in another seat where it works.

Where the import works there, the differences are halved until the smallest set is left that decides: a distribution
with other files, files that nothing installed, a version. Where the import fails there too, the packages are not the
cause. All of this is made in temporary folders.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack

from kalyx.core.actions.installer import run_to_end
from kalyx.core.actions.trying import fetching, stand_in, tops_of
from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.difference import Decisive, Dimension, least
from kalyx.core.diagnosis.shared.failing import raised_evidence, reinstall, set_here
from kalyx.core.diagnosis.shared.holders import called
from kalyx.core.diagnosis.undo import with_undo
from kalyx.core.imports.case import Case
from kalyx.core.imports.conducting import outcome_of, try_with
from kalyx.core.imports.experiment import Experiment
from kalyx.core.interpreters.consent import not_to_be_run
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, KalyxError, Seat
from kalyx.core.model.steps import Install
from kalyx.core.packages.metadata import Installed, installed_in
from kalyx.core.packages.requirements import asked_by
from kalyx.core.text.names import is_requirement
from kalyx.core.text.redaction import shown_variables
from kalyx.core.text.visible import visible

Tell = Callable[[str], None]

_DISTRIBUTIONS = 60
_SHOWN = 4
_FRESH = "a fresh environment"


class _Control:
    """One case, and the folders that are made for it."""

    def __init__(self, case: Case, machine: Machine, stack: ExitStack, wheels: str | None, tell: Tell) -> None:
        assert machine.runner is not None
        self.case, self.machine, self.wheels, self.tell = case, machine, wheels, tell
        self.reader, self.runner, self.stack = machine.reader, machine.runner, stack
        self.site = case.sites[0] if case.sites else ""
        self.fresh: set[str] = set()

    def folder(self) -> str:
        # Not the temporary folder itself: stand_in makes a folder next to the one that it is given.
        return self.reader.join(self.stack.enter_context(self.runner.empty_folder()), "packages")

    def fetched(self, words: list[str], *more: str) -> str:
        """A folder into which the installer brought requirements, nothing of them built.

        Raises KalyxError with the installer's reason, or where metadata calls a distribution what none may be called.
        """
        for word in words:
            if not is_requirement(word):
                raise KalyxError(f"no distribution may be called {visible(word)!r}")
        folder = self.folder()
        words = ["--only-binary", ":all:", *more, *words]
        python = self.case.interpreter.executable
        run_to_end(self.machine, fetching(self.machine, python, self.wheels, folder, words), self.tell)
        self.fresh.add(folder)
        return folder

    def alone(self, folder: str) -> str:
        """The import with the packages of a folder, and with none of this environment's packages."""
        words = (f"prefix={self.case.interpreter.prefix}",)
        experiment = Experiment("in a fresh environment", put=(folder,), words=words, flags_in=("-S",))
        trial = try_with(self.case, experiment, self.runner, self.machine.seconds)
        return outcome_of(self.case, trial)

    def replaced(self, source: str, keys: Sequence[str], words: str) -> Experiment:
        """The import with some distributions of another folder in place of this environment's.

        Nothing else of another environment is used, and none of its path files: these run code at start-up.
        """
        folder, reader = self.folder(), self.reader
        kept = {top for distribution in installed_in(reader, source) if distribution.key in keys
                for top in tops_of(self.machine, distribution, source)}  # fmt: skip
        if source not in self.fresh:
            kept = {top for top in kept if not top.endswith((".pth", ".start"))}
        paths = [reader.join(source, name) for name in reader.names(source)]
        self.runner.link_all(source, folder, {path: "" for path in paths if path not in kept})
        changes = stand_in(self.machine, folder, self.site, self.case.module)
        return Experiment(f"with {', '.join(keys[:3])} {words}", words=tuple(changes))

    def without(self, paths: Sequence[str]) -> Experiment:
        """The import without some files or folders of the environment's own folder of packages."""
        folder = self.folder()
        self.runner.link_all(self.site, folder, dict.fromkeys(paths, ""))
        names = ", ".join(self.reader.name(path) for path in paths[:3])
        return Experiment(f"without {names}", words=(f"swap={folder}={self.site}",))


def explain_by_control(case: Case, machine: Machine, wheels: str | None, tell: Tell) -> tuple[Finding | None, str]:
    """The finding that a fresh environment gives for an import that fails, or a note where it gives none."""
    relevant = relevant_distributions(case, machine)
    if not relevant or machine.runner is None or not case.sites:
        return None, ""
    with ExitStack() as stack:
        control = _Control(case, machine, stack, wheels, tell)
        try:
            tell("a fresh environment gets the same versions")
            lines = [f"{distribution.name}=={distribution.version}" for distribution in relevant]
            same = control.fetched(lines, "--no-deps")
        except KalyxError as refusal:
            note = f"not compared with a fresh environment: {refusal}"
            return _of_another_environment(control, relevant), note
        if control.alone(same) == "imports":
            finding = _of_the_files(control, same, [distribution.key for distribution in relevant], _FRESH)
            return finding, (
                "in a fresh environment with the same versions the import works: something in this environment differs"
            )
        return _by_another_version(control, relevant[0])


def _of_another_environment(control: _Control, relevant: list[Installed]) -> Finding | None:
    """Compare with the packages of another environment of the same Python version, which needs no index."""
    machine, case = control.machine, control.case
    for environment in machine.environments.everywhere:
        same = (environment.version or "").startswith(case.interpreter.minor + ".")
        site = next(iter(environment.site_packages), "")
        if not same or not site or site in case.sites or not_to_be_run(machine.reader, site) is not None:
            continue
        there = {distribution.key: distribution.version for distribution in installed_in(machine.reader, site)}
        if relevant[0].key not in there:
            continue
        control.tell(f"the packages of {environment.name}")
        finding = _of_the_versions(control, site, environment.name)
        if finding is None:
            keys = [
                distribution.key for distribution in relevant if there.get(distribution.key) == distribution.version
            ]
            finding = _of_the_files(control, site, keys, environment.name)
        if finding is not None:
            return finding
    return None


def _by_another_version(control: _Control, asked: Installed) -> tuple[Finding | None, str]:
    """Compare with the newest release of what was asked for, and with the newest before the one that is installed."""
    failing = []
    for line in (asked.name, f"{asked.name}<{asked.version}"):
        try:
            control.tell(f"a fresh environment gets {line}")
            folder = control.fetched([line], "--upgrade")
        except KalyxError:
            continue  # no such release, or none that can be fetched
        if control.alone(folder) == "imports":
            finding = _of_the_versions(control, folder, f"a fresh environment with {line}")
            return finding, f"in a fresh environment with {line} the import works: a version decides"
        failing += [
            distribution.version
            for distribution in installed_in(control.reader, folder)
            if distribution.key == asked.key
        ]
    tried = ", ".join(dict.fromkeys([asked.version, *failing]))
    return None, f"in a fresh environment the import fails too; tried with {asked.name} {tried}"


def relevant_distributions(case: Case, machine: Machine) -> list[Installed]:
    """The distribution that was asked for first; then those whose code the failure passed through, and what these need.

    All of them are in this environment.
    """
    here = {distribution.key: distribution for distribution in reversed(machine.installed(case.sites))}
    asked = machine.distribution_of_module(case.module, case.sites)
    passed = [case.owner(frame.file) for frame in case.frames()]
    loaded = [case.owner(path) for path in case.trial.files.values()] if case.trial is not None else []
    pending = [distribution for distribution in [asked, *passed, *loaded] if distribution is not None]
    result: dict[str, Installed] = {}
    while pending and len(result) < _DISTRIBUTIONS:
        distribution = pending.pop(0)
        if distribution.key in result or distribution.key == "pip":
            continue
        result[distribution.key] = distribution
        needs = asked_by(distribution, case.interpreter, machine.reader.system)
        pending += [here[need.key] for need in needs if need.key in here]
    return list(result.values())


def explain_against(case: Case, machine: Machine, other: Case, seat: Seat, tell: Tell) -> Finding | None:
    """What is different in ``seat``, where the same import works (``other``): its variables, its packages."""
    with ExitStack() as stack:
        control = _Control(case, machine, stack, None, tell)
        name = other.here if seat.seat == "path" else called(seat)
        own, theirs = case.invocation.variables, other.invocation.variables
        given = {key: value for key, value in theirs.items() if own.get(key) != value}

        def with_its_variables(names: Sequence[str]) -> Experiment:
            set_there = tuple((key, given[key]) for key in names if key in given)
            gone = tuple(key for key in names if key not in given)
            return Experiment(f"with {', '.join(names[:3])} as in {name}", without=gone, given=set_there)

        gone = [key for key in case.invocation.variables if key not in other.invocation.variables]
        tell(f"the variables of {name}")
        decisive = least(case, machine, Dimension("variable", [*sorted(given), *sorted(gone)], with_its_variables))
        if decisive is not None:
            return _of_variables(control, decisive, name, given)
        if case.interpreter.minor == other.interpreter.minor and other.sites:
            tell(f"the packages of {name}")
            there = {
                distribution.key: distribution.version for distribution in installed_in(machine.reader, other.sites[0])
            }
            same = [
                distribution.key
                for distribution in relevant_distributions(case, machine)
                if there.get(distribution.key) == distribution.version
            ]
            finding = _of_the_versions(control, other.sites[0], name)
            return finding or _of_the_files(control, other.sites[0], same, name)
        return None


def _of_variables(control: _Control, decisive: Decisive, name: str, given: dict[str, str]) -> Finding:
    """``name``: the seat that has other values of the variables that decide; ``given``: its values."""
    case, machine = control.case, control.machine
    from kalyx.core.model.steps import RunWith

    variables = {name: given.get(name) for name in decisive.items}
    shown = shown_variables({name: value for name, value in variables.items() if value is not None})
    facts = []
    for variable, value in variables.items():
        is_set = variable in case.invocation.variables
        here = set_here(case, variable) if is_set else f"{variable} is not set"
        hidden = "has another value" if is_set else "is set"
        there = "is not set" if value is None else f"is {shown[variable]}" if shown[variable] else hidden
        fact = f"{here} here; in {name} the variable {there}"
        facts.append(Evidence(fact=fact, source=f"the variables of {name}"))
    step = fixes.step(machine, RunWith(words=case.command, variables=variables))
    if None in shown.values():  # a value that may be a secret stands in no line
        step = fixes.by_hand(f"set {' and '.join(shown)} to what {name} has")
    fix = Fix(message=f"run it with the variables of {name}", steps=[step])
    fix = fix.was_tried(works=True)
    message = f"{' and '.join(decisive.items[:3])} decides: with the value of {name} import {case.module} works"
    return _finding(control, message, facts, fix)


def _of_the_files(control: _Control, source: str, keys: list[str], whose: str) -> Finding | None:
    """Which distribution has other files than the same version in ``source``; or what is next to them.

    ``whose``: what ``source`` belongs to, in words.
    """
    case, machine = control.case, control.machine
    dimension = Dimension("package", keys, lambda some: control.replaced(source, some, f"from {whose}"))
    decisive = least(case, machine, dimension)
    if decisive is None:
        return _of_strays(control, keys)
    installed = {distribution.key: distribution for distribution in machine.installed(case.sites)}
    owner = installed[decisive.items[0]]
    changed, extra = _compared(control, owner, source)
    strays = least(case, machine, Dimension("leftover", extra, control.without)) if not decisive.items[1:] else None
    if strays is not None:
        return _leftover(control, strays, f"{owner.name} {owner.version} did not install")
    shown = [_other_file(control, f"the {owner.name} {owner.version} of {whose}", path) for path in changed[:_SHOWN]]
    again = [reinstall(machine, case.interpreter, installed[key]) for key in decisive.items]
    fix = Fix(
        message=f"reinstall {' and '.join(decisive.items[:3])}, the same version",
        steps=[step for fix in again for step in fix.steps],
        changes=[path for fix in again for path in fix.changes],
    )
    if whose == _FRESH:  # what the installer brings was what was tried
        fix = fix.was_tried(works=True)
    return _finding(control, f"files of {owner.name} {owner.version} here differ from those of {whose}", shown, fix)


def _other_file(control: _Control, theirs: str, path: str) -> Evidence:
    """In words: a file of a distribution has another content elsewhere, or does not exist here."""
    if control.reader.exists(path):
        return Evidence.at(path, f"{theirs} has another content in this file")
    return Evidence(fact=f"{theirs} has a file that is not here", source=f"nothing at {path}")


def _compared(control: _Control, owner: Installed, fresh: str) -> tuple[list[str], list[str]]:
    """Of the files of a distribution here those whose content is another in a fresh one; and those it does not have."""
    reader = control.reader
    changed, extra = list[str](), list[str]()
    for top in tops_of(control.machine, owner, owner.site):
        if reader.name(top).endswith((".dist-info", ".egg-info")):
            continue
        pending = [top]
        while pending and len(changed) + len(extra) < 2000:
            path = pending.pop()
            twin = reader.join(fresh, reader.path.relpath(path, owner.site))
            if reader.name(path) == "__pycache__":
                continue
            if not reader.exists(twin):
                extra += [path] if reader.exists(path) else []
            elif not reader.exists(path):
                changed.append(path)
            elif reader.is_folder(path):
                pending += [reader.join(path, name) for name in reader.names(path)]
                lost = [name for name in reader.names(twin) if not reader.exists(reader.join(path, name))]
                changed += [reader.join(path, name) for name in lost if name != "__pycache__"]
            elif reader.is_folder(twin) or reader.read(path) != reader.read(twin):
                changed.append(path)
    return changed, extra


def _of_strays(control: _Control, keys: list[str]) -> Finding | None:
    """What is in the environment's folder of packages apart from the distributions that the import needs."""
    machine, reader = control.machine, control.reader
    own = {top for distribution in installed_in(reader, control.site) if distribution.key in keys
           for top in tops_of(machine, distribution, control.site)}  # fmt: skip
    no_code = (".dist-info", ".egg-info", ".pth", ".start")
    names = [name for name in reader.names(control.site) if not name.endswith(no_code)]
    paths = [path for name in names if name != "__pycache__" and (path := reader.join(control.site, name)) not in own]
    decisive = least(control.case, machine, Dimension("leftover", paths, control.without))
    return _leftover(control, decisive, "the import does not need") if decisive is not None else None


def _leftover(control: _Control, decisive: Decisive, what: str) -> Finding:
    """Files that stand in the way: of a distribution that is removed as a whole, or of none."""
    case, machine = control.case, control.machine
    facts = [Evidence.at(path, f"{what} this") for path in decisive.items[:_SHOWN]]
    owner = case.owner(decisive.items[0])
    if owner is not None:
        from kalyx.core.model.steps import Uninstall

        step = fixes.step(machine, Uninstall(python=case.interpreter.executable, names=[owner.name]))
        fix = Fix(message=f"remove {owner.name}", steps=[step], changes=[case.interpreter.prefix])
        message = f"{owner.name} {owner.version}, which the import does not need, makes the import fail"
    else:
        parts = [fixes.rename(machine, path, path + ".aside") for path in decisive.items]
        fix = Fix(message="rename what no package installed", steps=[step for part in parts for step in part.steps],
                   changes=decisive.items)  # fmt: skip
        names = ", ".join(machine.reader.name(path) for path in decisive.items[:3])
        message = f"{names} in the folder of packages, which no package installed, makes the import fail"
    fix = fix.was_tried(works=True)
    return _finding(control, message, facts, fix)


def _of_the_versions(control: _Control, source: str, whose: str) -> Finding | None:
    """Which distribution must have the version that it has in ``source`` for the import to work."""
    case, machine = control.case, control.machine
    here = {distribution.key: distribution for distribution in reversed(machine.installed(case.sites))}
    there = {distribution.key: distribution for distribution in installed_in(control.reader, source)}
    differ = [
        key for key, distribution in there.items() if key not in here or here[key].version != distribution.version
    ]
    if len(differ) > _DISTRIBUTIONS:
        near = {distribution.key for distribution in relevant_distributions(case, machine)}
        differ = [key for key in differ if key in near]
    dimension = Dimension("version", differ, lambda keys: control.replaced(source, keys, f"as in {whose}"))
    decisive = least(case, machine, dimension)
    if decisive is None:
        return None
    lines = [f"{there[key].name}=={there[key].version}" for key in decisive.items]
    facts = [
        Evidence(
            fact=f"{there[key].name} is {here[key].version if key in here else 'absent'} here and "
            f"{there[key].version} in {whose}",
            source=here[key].path if key in here else control.site,
        )
        for key in decisive.items
    ]
    fix = fixes.install_all(machine, case.interpreter, lines).called(f"install {' and '.join(lines)}")
    steps = [step for step in fix.steps if isinstance(step, Install)]
    if steps and steps[-1].requirements == lines:
        fix = fix.was_tried(works=True)
    what = ", ".join(f"{there[key].name} {here[key].version}" for key in decisive.items if key in here)
    message = f"import {case.module} fails with {what}, and works with {' and '.join(lines)}"
    if not what:
        message = f"import {case.module} works where {' and '.join(lines)} is installed too"
    return _finding(control, message, facts, fix)


def _finding(control: _Control, message: str, facts: list[Evidence], fix: Fix) -> Finding:
    works = Evidence(fact="with this changed the import works", source="tried")
    finding = Finding.proven("decisive-difference", message, [*facts, works, *raised_evidence(control.case)], [fix])
    return with_undo(finding, control.machine)
