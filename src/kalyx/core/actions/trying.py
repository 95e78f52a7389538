"""Trying fixes in a temporary copy, before anyone changes anything.

What an install line would add goes into a temporary folder, which is searched before the environment's packages; what a
line would remove or rename is left out of a folder of links; variables, flags and other interpreters need no copy. Then
the import is tried again. A fix that is to be done by hand, or elsewhere, is not tried.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.actions.installer import CommandFailed, Installer, held, install_command, run_to_end
from kalyx.core.diagnosis import fixes
from kalyx.core.environments.invocation import Invocation
from kalyx.core.imports.names import ImportStatement, parse_wanted, wanted_again
from kalyx.core.imports.trial import Trial, try_import
from kalyx.core.interpreters.consent import not_to_be_run
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.invocation import Question, invocation_of, named_by, search_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Fix, ImportAnswer, Interpreter, KalyxError, Seat
from kalyx.core.model.steps import (
    Activate,
    CreateEnvironment,
    FillEnvironment,
    Install,
    Move,
    RegisterKernel,
    RunWith,
    RunWithout,
    Step,
    Uninstall,
    WriteImport,
)
from kalyx.core.packages.metadata import Installed, installed_in
from kalyx.core.text.names import canonical

Tell = Callable[[str], None]

_AT_START = ("sitecustomize", "usercustomize")
# The installer's options that say what is installed, and not where.
_KEPT = {"--no-deps", "--pre", "--no-build-isolation", "--no-index", "--upgrade", "--force-reinstall"}


def take_from(machine: Machine, answers: list[ImportAnswer], wheels: str) -> None:
    """Make every fix install from this folder of wheels, so that the trial and the fix install the same files."""
    for answer in answers:
        answer.findings = [
            replace(finding, fixes=[fix.with_steps(*(_from_wheels(machine, step, wheels) for step in fix.steps))
                                    for fix in finding.fixes])
            for finding in answer.findings
        ]  # fmt: skip


def _from_wheels(machine: Machine, step: Step, wheels: str) -> Step:
    if not isinstance(step, (Install, CreateEnvironment, FillEnvironment, RegisterKernel)):
        return step
    return fixes.step(machine, replace(step, wheels=wheels))


class _Attempt(Struct):
    """How the import will be tried: as the seat starts, changed by the steps so far."""

    interpreter: Interpreter
    wanted: ImportStatement
    variables: dict[str, str]
    flags: tuple[str, ...]
    changes: list[str]
    sites: list[str]
    entries: list[str]


class _NotTried(Exception):
    """A step that cannot be tried in a temporary copy."""


def prove(
    machine: Machine, answer: ImportAnswer, seat: Seat, question: Question, wheels: str | None, tell: Tell
) -> None:
    """Try each fix of the import's first finding; ``tried`` of each gets the result."""
    if machine.runner is None or seat.interpreter is None or answer.outcome == "imports":
        return
    if machine.objection(seat.interpreter, named_by(seat, machine, question.named)) is not None:
        return  # what may not be started to try the import may not be for its fixes
    for finding in answer.findings[:1]:
        tested, evidence = list[Fix](), list(finding.evidence)
        for fix in finding.fixes:
            tell(f"trying: {fix.message}")
            try:
                trial = _tried(machine, answer, seat, fix, question, wheels, tell)
                tested.append(fix.was_tried(trial.imports))
                evidence += _what_comes_next(answer, fix, trial)
            except _NotTried:
                tested.append(fix)
            except KalyxError as refusal:
                tested.append(fix.was_tried(works=False))
                reason = refusal.reason if isinstance(refusal, CommandFailed) else refusal.message
                evidence.append(Evidence(fact=f"{fix.message}: not possible now: {reason}", source="tried"))
        answer.findings[0] = replace(finding, fixes=tested, evidence=evidence)


def _what_comes_next(answer: ImportAnswer, fix: Fix, trial: Trial) -> list[Evidence]:
    """Evidence of how the import fails after a fix that removed its cause, where another cause shows."""
    raised, before = trial.root, answer.error
    if trial.imports or raised is None or before is None:
        return []
    # The path after the words is another one in a temporary folder.
    if (raised.type, raised.text.partition(" (")[0]) == (before.type, before.text.partition(" (")[0]):
        return []
    fact = f"after this ({fix.message}) the import fails at something else: {raised.type}: {raised.text[:200]}"
    return [Evidence(fact=fact, source="tried")]


def _tried(
    machine: Machine,
    answer: ImportAnswer,
    seat: Seat,
    fix: Fix,
    question: Question,
    wheels: str | None,
    tell: Tell,
) -> Trial:
    assert machine.runner is not None and seat.interpreter is not None
    invocation = invocation_of(seat, machine, question.command)
    search = search_of(seat, machine, question)
    wanted = wanted_again(answer.statement, answer.module)
    entries = [entry.entry or seat.folder or machine.reader.folder for entry in search.entries]
    attempt = _Attempt(
        seat.interpreter, wanted, dict(invocation.variables), invocation.flags, [], list(search.site_packages), entries
    )
    with machine.runner.empty_folder() as path:
        for number, step in enumerate(fix.steps):
            try:
                _simulate(machine, attempt, step, machine.reader.join(path, str(number)), wheels, tell)
            except OSError:  # no folder of links can be made: that says nothing of the fix
                raise _NotTried from None
        return try_import(
            machine.runner,
            attempt.interpreter.executable,
            attempt.wanted.module,
            attempt.wanted.names,
            first=invocation.first if search.has_program or attempt.flags != invocation.flags else None,
            changes=(*invocation.changes, *attempt.changes),
            flags=attempt.flags,
            variables=attempt.variables,
            folder=seat.folder or machine.reader.folder,
            seconds=machine.seconds,
        )


def _simulate(machine: Machine, attempt: _Attempt, step: Step, folder: str, wheels: str | None, tell: Tell) -> None:
    """One step's effect on the attempt. Raises KalyxError where it fails, _NotTried where it cannot be tried."""
    if isinstance(step, WriteImport):
        (attempt.wanted,) = parse_wanted(step.statement)
    elif isinstance(step, RunWithout):
        attempt.flags = tuple(flag for flag in attempt.flags if flag != step.flag)
    elif isinstance(step, RunWith) and not step.same_words and step.words[0] == attempt.interpreter.executable:
        typed = Invocation.of_command(step.words[1:], machine.reader, attempt.interpreter, attempt.variables)
        attempt.flags = typed.flags
        _variables(machine, attempt, step.variables)
    elif isinstance(step, RunWith) and (step.same_words or len(step.words) == 1):
        _elsewhere(machine, attempt, step.words[0])
    elif isinstance(step, Install):
        _install(machine, attempt, step, folder, wheels, tell)
    elif isinstance(step, Uninstall):
        for name in step.names:
            _without_distribution(machine, attempt, name, folder)
    elif isinstance(step, Move):
        endings = (".py", ".pyc", *attempt.interpreter.suffixes)
        if not machine.reader.is_folder(step.path) and not step.path.endswith(endings):
            raise _NotTried  # it is no module: code opens the file at its real path
        _without(machine, attempt, {step.path: step.to}, folder)
    elif isinstance(step, Activate):
        _elsewhere(machine, attempt, step.prefix)
    elif isinstance(step, RegisterKernel):
        _elsewhere(machine, attempt, step.prefix)
        _variables(machine, attempt, step.variables)
    else:
        raise _NotTried


def _variables(machine: Machine, attempt: _Attempt, variables: Mapping[str, str | None]) -> None:
    for name, value in variables.items():
        if value is None:
            attempt.variables.pop(name, None)
            continue
        entries = value.split(machine.reader.path.pathsep)
        if name == "PYTHONPATH" and not_to_be_run(machine.reader, *entries) is not None:
            raise _NotTried
        attempt.variables[name] = value


def _install(machine: Machine, attempt: _Attempt, step: Install, folder: str, wheels: str | None, tell: Tell) -> None:
    """What the step would install, in a folder of its own before the environment's own packages."""
    if "-e" in step.options or any(map(machine.reader.has_separator, step.requirements)):
        raise _NotTried  # building a project runs its code: that is for the user to want
    words = [*(word for word in step.options if word in _KEPT), *step.requirements]
    installer = Installer(machine, attempt.interpreter, wheels)
    planned = installer.foresee(words, held(machine, attempt.interpreter), tell)
    if not planned:
        return  # nothing would change
    lines = [f"{install.name}=={install.version}" for install in planned]
    run_to_end(machine, fetching(machine, step.python, wheels, folder, [*lines, "--no-deps"]), tell)
    attempt.changes += stand_in(machine, folder, attempt.sites[0] if attempt.sites else "", attempt.wanted.module)


def fetching(machine: Machine, python: str, wheels: str | None, folder: str, words: list[str]) -> list[str]:
    """The command by which the installer of an interpreter brings requirements into a folder of their own."""
    apart = ["--no-warn-conflicts", "--quiet", "--no-compile", "--target", folder]
    python, *remainder = install_command(python, wheels, machine.seconds, words, *apart)
    return [python, "-B", *remainder]  # the environment gets no compiled file of the installer either


def stand_in(machine: Machine, folder: str, site: str, module: str) -> list[str]:
    """Changes, in the probe's words, by which the distributions in ``folder`` stand for those of the same name in
    ``site``, as if the installer had replaced them. ``module``: the one that is imported."""
    assert machine.runner is not None
    changes = [f"before={folder}={site}"]
    reader, gone = machine.reader.again(), dict[str, str]()
    came = {distribution.key for distribution in installed_in(reader, folder)}
    for distribution in installed_in(reader, site) if site else []:
        if distribution.key in came:
            gone |= dict.fromkeys(tops_of(machine, distribution, site), "")
    if gone:
        twin = folder + "-twin"
        machine.runner.link_all(site, twin, gone, module.split(".")[0])
        there = [reader.join(folder, name) for name in reader.again().names(twin)]
        machine.runner.link_all(folder, twin, dict.fromkeys(there, ""))
        changes.append(f"swap={twin}={site}")
    return changes


def tops_of(machine: Machine, distribution: Installed, site: str) -> list[str]:
    """What is directly in the site folder of a distribution's files."""
    tops = {file.replace("\\", "/").split("/")[0] for file in distribution.files or []}
    return [machine.reader.join(site, top) for top in tops if top not in ("..", "", "__pycache__")]


def _without_distribution(machine: Machine, attempt: _Attempt, name: str, folder: str) -> None:
    """The environment as it would be without a distribution: the first copy of it left out."""
    for number, site in enumerate(attempt.sites):
        distribution = next(
            (
                distribution
                for distribution in installed_in(machine.reader, site)
                if distribution.key == canonical(name)
            ),
            None,
        )
        if distribution is not None:
            _without(machine, attempt, dict.fromkeys(tops_of(machine, distribution, site), ""), f"{folder}-{number}")
            return


def _without(machine: Machine, attempt: _Attempt, names: dict[str, str], folder: str) -> None:
    """Paths under other names, or gone: a folder of links to all the others stands in their entry's place."""
    reader = machine.reader
    if any(reader.name(path).startswith(_AT_START) or path.endswith((".pth", ".start")) for path in names):
        raise _NotTried  # what runs at start has run before anything can be changed
    first = next(iter(names))
    holds = [entry for entry in attempt.entries if reader.inside(first, entry)]
    entry = max(holds, key=len, default=None)
    if entry is None or not all(reader.inside(path, entry) for path in names):
        raise _NotTried
    assert machine.runner is not None
    machine.runner.link_all(entry, folder, names)
    attempt.changes.append(f"swap={folder}={entry}")


def _elsewhere(machine: Machine, attempt: _Attempt, path: str) -> None:
    """Another interpreter or environment: the user's own, and nothing that a folder brought along."""
    try:
        reader = machine.reader
        environment = machine.environments.at(path) if reader.is_folder(path) else None
        interpreter = read_interpreter(
            reader, environment.executable if environment and environment.executable else path
        )
    except NotAnInterpreter:
        raise _NotTried from None
    if machine.objection(interpreter, "machine") is not None:
        raise _NotTried
    attempt.interpreter = interpreter
    attempt.changes, attempt.sites, attempt.entries = [], [], []
