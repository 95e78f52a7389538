"""The records that all packages share; the answers of commands are in ``results`` and ``action_results``.

The same declarations serve the types, the JSON of every command and the JSON
Schemas in ``docs/schema``. Paths are absolute strings in the form of the
examined machine; sizes are bytes; times are seconds.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct
from msgspec.structs import force_setattr, replace

from kalyx.core.model.steps import Step, WriteImport
from kalyx.core.text.redaction import shown_variables
from kalyx.core.text.versions import minor_of, pair_of

KnownBy = Literal["reading", "asking"]
Certainty = Literal["proven", "likely", "possible"]
Relation = Literal["same", "differs", "dead", "unknown"]
SeatKind = Literal["shell", "kernel", "notebook", "server", "editor", "process", "program", "path"]
EnvironmentKind = Literal["installation", "virtual", "kept"]
Outcome = Literal["imports", "fails", "undetermined"]
TrialOutcome = Literal["imports", "fails alike", "fails otherwise", "finds nothing", "gives no answer"]
# What a word of a seat is for: a shell's words, a program, a way of starting the shell, what a running kernel was
# asked, what a settings file decides.
PartRole = Literal[
    "python", "python3", "installer", "program", "login", "interactive", "script", "asked", "run", "terminal", "check",
    "check version",
]  # fmt: skip
Reach = Literal["me", "env", "machine"]
# What put an entry on a search path: the way of running, PYTHONPATH, the installation, a site folder (its own, the
# base's, the user's), a line of a path file, start-up code.
PutBy = Literal["program", "variable", "library", "own", "base", "user", "linked", "start-up"]
PackageOrigin = Literal["own", "base", "user", "path", "linked"]


class KalyxError(Exception):
    """Kalyx cannot do what was asked: one line for people, and nearby candidates."""

    def __init__(self, message: str, candidates: list[str] | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.candidates = candidates or []


class Interpreter(Struct, frozen=True, kw_only=True):
    """An executable that runs Python, with the facts about it.

    ``library``: the folder of its standard library (an archive for a distribution that has it in one; empty where only
    the interpreter's word is known); ``suffixes``: the endings of compiled modules that it accepts, in its order.
    """

    executable: str
    real_executable: str
    version: str
    implementation: str
    prefix: str
    base_prefix: str
    links: list[str] = []
    known_by: KnownBy = "reading"
    abi_flags: str = ""
    architecture: str | None = None
    library: str = ""
    suffixes: list[str] = []
    by_link: bool = False  # known only because an environment's link or settings lead to it
    given: list[str] = []  # options that a starter puts in front of the user's words, and variables that it sets
    sets: dict[str, str] = {}

    def is_in_environment_of(self, other: Interpreter) -> bool:
        """Whether both have the same packages of their own: several versions may share an installation's prefix."""
        return self.prefix == other.prefix and self.minor == other.minor

    @property
    def minor(self) -> str:
        """``3.11`` of ``3.11.7``."""
        return minor_of(self.version)

    @property
    def pair(self) -> tuple[int, int]:
        """(3, 11) of ``3.11.7``."""
        return pair_of(self.version)

    @property
    def tag(self) -> str:
        """The version as its folders are named by it: ``3.11``, ``3.13t`` without the lock."""
        return self.minor + ("t" if "t" in self.abi_flags else "")


class Evidence(Struct, frozen=True, kw_only=True):
    """A fact and where it was read."""

    fact: str
    source: str
    path: str | None = None
    line: int | None = None

    @classmethod
    def at(cls, path: str, fact: str, line: int | None = None) -> Evidence:
        """A fact that was read in a file, or in a folder."""
        return cls(fact=fact, source=path, path=path, line=line)


FixState = Literal["tested", "certain", "may-help"]
# What says only how an import fails, and not why: whatever is offered for it is a guess.
_ONLY_HOW = frozenset({"raises", "crashes", "hangs"})


class Fix(Struct, frozen=True, kw_only=True):
    """A fix: what it does, its steps, and what they change.

    ``state``: ``tested`` (carried out in a temporary copy), ``certain`` (nothing else can follow), else
    ``may-help``; only the first two are called fixes.
    """

    message: str
    steps: list[Step] = []
    changes: list[str] = []
    state: FixState = "certain"
    tried: Literal["works", "fails"] | None = None
    undo: str | None = None

    def was_tried(self, works: bool) -> Fix:
        """The fix with the result of a trial.

        That another name imports does not prove that the user wants that name.
        """
        is_guess = self.state == "may-help" and any(isinstance(step, WriteImport) for step in self.steps)
        state: FixState = "tested" if works and not is_guess else "may-help"
        return replace(self, tried="works" if works else "fails", state=state)

    def called(self, message: str) -> Fix:
        """The fix under another message."""
        return replace(self, message=message)

    def guessed(self) -> Fix:
        """The fix as one that may help."""
        return replace(self, state="may-help")

    def and_also(self, other: Fix) -> Fix:
        """The fix with what another one does after its own steps."""
        return replace(self, steps=[*self.steps, *other.steps], changes=[*self.changes, *other.changes])

    def with_steps(self, *steps: Step) -> Fix:
        """The fix with these steps and not its own."""
        return replace(self, steps=list(steps))


class Tried(Struct, frozen=True, kw_only=True):
    """An experiment that was carried out: the change, what the import did then, and the seconds it took."""

    changed: str
    outcome: TrialOutcome
    seconds: float

    @property
    def helped(self) -> bool:
        """Whether the import works then, or fails at something else: that is evidence of the cause."""
        return self.outcome in ("imports", "fails otherwise")


class Finding(Struct, frozen=True, kw_only=True):
    """One thing found about an import, a kernel, an environment or a seat."""

    cause: str
    certainty: Certainty
    message: str
    evidence: list[Evidence] = []
    fixes: list[Fix] = []
    experiments: list[Tried] = []

    @classmethod
    def proven(cls, cause: str, message: str, evidence: list[Evidence], fixes: Sequence[Fix] = ()) -> Finding:
        """A finding that a trial, a file or a link leaves no doubt about."""
        return cls(cause=cause, certainty="proven", message=message, evidence=evidence, fixes=list(fixes))

    @classmethod
    def likely(cls, cause: str, message: str, evidence: list[Evidence], fixes: Sequence[Fix] = ()) -> Finding:
        """A finding by reading alone."""
        return cls(cause=cause, certainty="likely", message=message, evidence=evidence, fixes=list(fixes))

    @classmethod
    def possible(cls, cause: str, message: str, evidence: list[Evidence], fixes: Sequence[Fix] = ()) -> Finding:
        """A finding that may explain what was seen."""
        return cls(cause=cause, certainty="possible", message=message, evidence=evidence, fixes=list(fixes))

    def __post_init__(self) -> None:
        """Sort the fixes: certain ones, those that may help, those that failed; else in their order, each only once."""
        is_guess = self.certainty == "possible" or self.cause in _ONLY_HOW
        judged = [
            fix.guessed() if fix.state == "certain" and (is_guess or any(step.guesses for step in fix.steps)) else fix
            for fix in self.fixes
        ]
        ordered = sorted(judged, key=lambda fix: (fix.tried == "fails", fix.state == "may-help"))
        by_lines = {tuple(step.line for step in fix.steps): fix for fix in reversed(ordered)}
        force_setattr(self, "fixes", list(by_lines.values())[::-1])


class PackageSize(Struct, frozen=True, kw_only=True):
    """The bytes on disk of the files that a distribution's record lists; None where it lists none."""

    name: str
    version: str
    size_bytes: int | None


class Environment(Struct, frozen=True, kw_only=True):
    """A prefix with its own site-packages."""

    key: str
    prefix: str
    name: str
    kind: EnvironmentKind
    version: str | None
    base_prefix: str | None
    sees_base: bool = False
    site_packages: list[str] = []
    condition: str = "sound"
    findings: list[Finding] = []
    size_bytes: int | None = None
    package_sizes: list[PackageSize] = []
    kernels: list[str] = []
    executable: str | None = None
    known_by: KnownBy = "reading"
    called: str = ""  # its own name, without the folder above that the unique name may begin with

    @property
    def minor(self) -> str:
        """``3.11`` of ``3.11.7``; empty where the version is not known."""
        return minor_of(self.version or "")

    @property
    def target(self) -> str:
        """The path that names it in a command: of an installation its interpreter, for several may share a prefix."""
        return self.executable if self.kind == "installation" and self.executable is not None else self.prefix


class PathEntry(Struct, frozen=True, kw_only=True):
    """One entry of a search path, what put it there, and in words where it comes from."""

    entry: str
    origin: str
    exists: bool
    put_by: PutBy = "program"


class Part(Struct, frozen=True, kw_only=True):
    """One word of a seat (``python``, an installer, a checker) and what it starts."""

    role: PartRole
    word: str
    interpreter: Interpreter | None = None
    environment: Environment | None = None
    path: str | None = None
    links: list[str] = []
    reason: str | None = None
    undecided: bool = False
    defined: Evidence | None = None  # the alias or function that the shell takes for the word, before it searches PATH


class Met(Struct, frozen=True, kw_only=True):
    """One requirement of a project against what a seat has; ``group``: the extra or group that asks for it."""

    name: str
    requirement: str
    found: str | None
    is_met: bool
    group: str | None = None
    path: str | None = None
    line: int | None = None


class Fitness(Struct, kw_only=True):
    """Whether a seat can run the project: its Python allowed, what is asked for there, missing, in another version."""

    python: str
    requires_python: str | None
    python_allowed: bool
    runs: bool = False
    met: int = 0
    missing: list[str] = []
    other: list[str] = []
    requirements: list[Met] = []


class ProjectAsks(Struct, frozen=True, kw_only=True):
    """The project that a folder belongs to, by its own files; ``problem`` where one of them cannot be read."""

    path: str
    name: str
    requires_python: str | None = None
    requirements: int = 0
    problem: str | None = None


class Seat(Struct, frozen=True, kw_only=True):
    """A place that starts an interpreter; its own interpreter is that of its main part."""

    seat: SeatKind
    name: str
    interpreter: Interpreter | None = None
    environment: Environment | None = None
    relation: Relation = "unknown"
    parts: list[Part] = []
    findings: list[Finding] = []
    search_path: list[PathEntry] = []
    reason: str | None = None
    undecided: bool = False  # whether it starts anything is not known: the reason says why
    folder: str | None = None
    variables: dict[str, str | None] = {}
    via: str | None = None
    source: str | None = None
    label: str | None = None
    line: int | None = None
    nearest: str | None = None
    started: float | None = None
    pid: int | None = None
    started_by: list[str] = []
    changed_since: list[str] = []  # packages that were installed or changed after it started
    compiled: list[str] = []  # compiled packages it has loaded, by folder
    from_text: bool = False  # only a pasted text names the seat: nothing of the seat is started
    project: Fitness | None = None  # where the folder is a project: whether this seat can run it

    @property
    def program(self) -> str | None:
        """The path of what the seat's own word is to start, whether that starts or not."""
        return self.parts[0].path if self.parts else None

    @property
    def kernel(self) -> str | None:
        """The id of the registered kernel by which it starts, or is to start."""
        is_named = self.via is not None and self.via.startswith("kernel:")
        return self.via.removeprefix("kernel:") if self.via is not None and is_named else None


class Distribution(Struct, frozen=True, kw_only=True):
    """An installed distribution: its name and version as its metadata writes them."""

    name: str
    version: str


class ErrorText(Struct, frozen=True, kw_only=True):
    """The type and the text of the exception at the root of a failure."""

    type: str
    text: str


class SourceLine(Struct, frozen=True, kw_only=True):
    """A line of a file; of a notebook, the line in a cell."""

    path: str
    line: int
    cell: int | None = None


class NotJudged(Struct, frozen=True, kw_only=True):
    """A cause that could not be looked for, and what kept Kalyx from it."""

    cause: str
    reason: str


class ImportAnswer(Struct, kw_only=True):
    """The outcome of one import, and the findings that explain it (the cause first).

    ``not_judged``: causes that were not looked for to the end; one of them may be the cause.
    """

    statement: str
    module: str
    outcome: Outcome
    found_at: str | None = None
    distribution: Distribution | None = None
    error: ErrorText | None = None
    findings: list[Finding] = []
    not_judged: list[NotJudged] = []
    hides: list[str] = []
    seconds: float | None = None
    output: str | None = None
    asked_at: list[SourceLine] = []
    guarded: bool = False  # only in a function, under try, or for checkers: not every run meets it


class RunningKernel(Struct, frozen=True, kw_only=True):
    """A live process of a kernel; ``started`` in seconds since the epoch, ``server`` the process that started it."""

    pid: int
    notebook: str | None = None
    executable: str | None = None
    started: float | None = None
    server: int | None = None


class Kernel(Struct, frozen=True, kw_only=True, dict=True):
    """A registered kernel: what its file says and what it really starts.

    ``variables``: those its file sets, as they may be shown; ``env`` has them all, and is no part of any answer.
    """

    key: str
    id: str
    label: str
    folder: str
    argv: list[str]
    command: list[str]
    interpreter: Interpreter | None = None
    environment: Environment | None = None
    conditions: list[str] = []
    findings: list[Finding] = []
    running: list[RunningKernel] = []
    language: str = "python"
    variables: dict[str, str | None] = {}
    reach: Reach | None = None
    reason: str | None = None
    undecided: bool = False
    explains: bool = False  # it shows Kalyx's answer below a cell that an import ended

    @property
    def env(self) -> dict[str, str]:
        """The variables as its file sets them."""
        result: dict[str, str] = self.__dict__.get("env_of_file", {})
        return result

    def with_env(self, env: dict[str, str]) -> Kernel:
        """The kernel, with the variables that its file sets."""
        kernel = replace(self, variables=shown_variables(env))
        kernel.__dict__["env_of_file"] = env
        return kernel

    def changed(self, **changes: object) -> Kernel:
        """The kernel with other values of these fields."""
        kernel = replace(self, **changes)
        kernel.__dict__.update(self.__dict__)
        return kernel

    def with_condition(self, name: str, finding: Finding | None = None) -> Kernel:
        """The kernel with one condition more."""
        findings = [*self.findings, *([finding] if finding is not None else [])]
        return self.changed(conditions=[*self.conditions, name], findings=findings)

    def without_condition(self, name: str) -> Kernel:
        """The kernel without a condition."""
        conditions = [condition for condition in self.conditions if condition != name]
        return self.changed(conditions=conditions, findings=[item for item in self.findings if item.cause != name])


class UserPackages(Struct, frozen=True, kw_only=True):
    """The user's own packages for one Python version (PEP 370): seen by every interpreter of that version."""

    version: str
    folder: str
    distributions: int
    size_bytes: int | None = None


class Unread(Struct, frozen=True, kw_only=True):
    """A place that could not be read, and why."""

    path: str
    reason: str


class Unmet(Struct, frozen=True, kw_only=True):
    """A requirement that does not hold: the line, and the version that is there instead (None: none is)."""

    requirement: str
    found: str | None


class Package(Struct, kw_only=True):
    """One distribution that a target can see, or a module that none owns (``version`` None)."""

    name: str
    version: str | None
    modules: list[str]
    location: str
    origin: PackageOrigin
    installer: str | None = None
    hidden_by: str | None = None
    unmet: list[Unmet] = []
    size_bytes: int | None = None
    asked_by: list[str] = []
    chain: list[str] = []  # for one with unmet requirements: who asks for it, who for that one, up to the first


class ShellReach(Struct, frozen=True, kw_only=True):
    """What a shell line typed in the kernel would start."""

    python: Interpreter | None = None
    installer: Interpreter | None = None
    python_path: str | None = None
    installer_path: str | None = None


class ChangePlan(Struct, frozen=True, kw_only=True):
    """One thing that a command would change."""

    action: str
    path: str


class VersionChange(Struct, frozen=True, kw_only=True):
    """A distribution that was installed (``before`` None), removed (``after`` None), or has another version now."""

    name: str
    before: str | None
    after: str | None
    hides: str | None = None  # the path of a copy that stays and is now hidden


class Broken(Struct, frozen=True, kw_only=True):
    """A requirement that does not hold: who has it, and the version that is there instead."""

    name: str
    version: str
    requirement: str
    found: str | None
