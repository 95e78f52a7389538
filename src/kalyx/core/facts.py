"""The records everyone speaks in: the only place where shapes are declared.

The same declarations serve the types, the JSON of every command and the JSON
Schemas in ``docs/schema``. Paths are absolute strings in the form of the
examined machine; sizes are bytes; times are seconds.
"""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

KnownBy = Literal["reading", "asking"]
Certainty = Literal["proven", "likely", "possible"]
Relation = Literal["same", "differs", "dead", "unknown"]
SeatKind = Literal["shell", "kernel", "notebook", "server", "editor", "process", "program", "path"]
EnvironmentKind = Literal["installation", "virtual", "conda"]
Outcome = Literal["imports", "fails", "undetermined"]


class KalyxError(Exception):
    """Kalyx cannot do what was asked: one line for people, and nearby candidates."""

    def __init__(self, says: str, candidates: list[str] | None = None) -> None:
        super().__init__(says)
        self.says = says
        self.candidates = candidates or []


class Interpreter(Struct, kw_only=True):
    """An executable that runs Python, and what it is."""

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


class Evidence(Struct, kw_only=True):
    """A fact and where it was read."""

    fact: str
    source: str
    path: str | None = None
    line: int | None = None


class Step(Struct, kw_only=True):
    """One thing to do: a command (``argv`` and the same line for the user's shell) or a deed by hand."""

    command: list[str] | None
    line: str


class Remedy(Struct, kw_only=True):
    """What mends it: in words, as steps, and what it touches."""

    says: str
    steps: list[Step] = []
    touches: list[str] = []


class Finding(Struct, kw_only=True):
    """One thing found about an import, a kernel, an environment or a seat."""

    cause: str
    certainty: Certainty
    says: str
    evidence: list[Evidence] = []
    remedies: list[Remedy] = []


class PackageSize(Struct, kw_only=True):
    """The bytes on disk of the files that a distribution's record lists; None where it lists none."""

    name: str
    version: str
    size_bytes: int | None


class Environment(Struct, kw_only=True):
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
    called: str = ""  # its own name, before the folder above was put in front to tell it from another


class PathEntry(Struct, kw_only=True):
    """One entry of a search path and where it comes from."""

    entry: str
    origin: str
    exists: bool


class Part(Struct, kw_only=True):
    """One word of a seat (``python``, an installer, a checker) and what it starts."""

    role: str
    word: str
    interpreter: Interpreter | None = None
    environment: Environment | None = None
    path: str | None = None
    links: list[str] = []
    reason: str | None = None
    undecided: bool = False


class Seat(Struct, kw_only=True):
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
    undecided: bool = False  # whether it starts anything could not be told: the reason says why
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


class Distribution(Struct, kw_only=True):
    """An installed distribution: its name and version as its metadata writes them."""

    name: str
    version: str


class ErrorText(Struct, kw_only=True):
    """The exception at the root of a failure, in its own words."""

    type: str
    text: str


class Place(Struct, kw_only=True):
    """A line of a file; of a notebook, the line in a cell."""

    path: str
    line: int
    cell: int | None = None


class ImportAnswer(Struct, kw_only=True):
    """What came of one import, and the findings that explain it (the cause first)."""

    statement: str
    module: str
    outcome: Outcome
    found_at: str | None = None
    distribution: Distribution | None = None
    error: ErrorText | None = None
    findings: list[Finding] = []
    hides: list[str] = []
    seconds: float | None = None
    output: str | None = None
    asked_at: list[Place] = []
    guarded: bool = False  # only in a function, under try, or for checkers: not every run meets it


class RunningKernel(Struct, kw_only=True):
    """A live process of a kernel; ``started`` in seconds since the epoch, ``server`` the process that started it."""

    pid: int
    notebook: str | None = None
    executable: str | None = None
    started: float | None = None
    server: int | None = None


class Kernel(Struct, kw_only=True):
    """A registered kernel: what its file says and what it really starts."""

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
    variables: dict[str, str] = {}
    reach: str | None = None
    reason: str | None = None
    undecided: bool = False


class UserPackages(Struct, kw_only=True):
    """The user's own packages for one Python version (PEP 370): seen by every interpreter of that version."""

    version: str
    folder: str
    distributions: int
    size_bytes: int | None = None


class Unread(Struct, kw_only=True):
    """A place that could not be read, and why."""

    path: str
    reason: str


class SurveyAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.survey/1"] = "kalyx.survey/1"
    interpreters: list[Interpreter] = []
    environments: list[Environment] = []
    unread: list[Unread] = []
    user_packages: list[UserPackages] = []


class HereAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.here/1"] = "kalyx.here/1"
    reference: Seat
    seats: list[Seat]
    changes: list[str] = []
    folder: str = ""
    findings: list[Finding] = []
    unread: list[Unread] = []


class WhyAnswer(Struct, kw_only=True):
    """What came of the imports asked about.

    ``seats``: with --everywhere, the same import in every seat; ``findings``: about what was given, no import's;
    with --mend, ``before`` is what came of them before the remedy, ``plan`` and ``done`` tell of that.
    """

    schema: Literal["kalyx.why/1"] = "kalyx.why/1"
    target: Seat
    imports: list[ImportAnswer]
    module: str | None = None
    seats: list[SeatImports] = []
    findings: list[Finding] = []
    notes: list[str] = []
    unread: list[Unread] = []
    before: list[ImportAnswer] = []
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None


class SeatImports(Struct, kw_only=True):
    """One seat, and what came of the import there."""

    target: Seat
    imports: list[ImportAnswer]


class Unmet(Struct, kw_only=True):
    """A requirement that does not hold: the line, and the version that is there instead (None: none is)."""

    requirement: str
    found: str | None


class Package(Struct, kw_only=True):
    """One distribution that a target can see, or a module that none owns (``version`` None)."""

    name: str
    version: str | None
    modules: list[str]
    location: str
    origin: str
    installer: str | None = None
    hidden_by: str | None = None
    unmet: list[Unmet] = []
    size_bytes: int | None = None
    asked_by: list[str] = []
    chain: list[str] = []  # for one with unmet requirements: who asks for it, who for that one, up to the first


class PackagesAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.packages/1"] = "kalyx.packages/1"
    target: Seat
    packages: list[Package]
    unread: list[Unread] = []
    unknown: list[Evidence] = []  # start-up code that was not run: what it adds to the path is not known


class Difference(Struct, kw_only=True):
    """One thing that two targets do not share."""

    what: Literal["interpreter", "version", "platform", "search_path", "package", "variable"]
    name: str
    left: str | None
    right: str | None


class ContrastAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.contrast/1"] = "kalyx.contrast/1"
    left: Seat
    right: Seat
    same: bool
    differences: list[Difference]
    unproved: list[Evidence] = []  # what could hide a difference


class EnterAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.enter/1"] = "kalyx.enter/1"
    target: Seat
    shell: str
    line: str
    leave: str
    warnings: list[str] = []
    site_modules: list[str] = []


class KernelsAnswer(Struct, kw_only=True):
    """``unregistered``: kernels that run and that no registered one explains."""

    schema: Literal["kalyx.kernels/1"] = "kalyx.kernels/1"
    unregistered: list[RunningKernel] = []
    unread: list[Unread] = []
    kernels: list[Kernel]
    folders: list[str] = []
    seen_by: str = ""


class ShellReach(Struct, kw_only=True):
    """What a shell line typed in the kernel would start."""

    python: Interpreter | None = None
    installer: Interpreter | None = None
    python_path: str | None = None
    installer_path: str | None = None


class ChangePlan(Struct, kw_only=True):
    """One thing a command would touch."""

    deed: str
    path: str


class RehearsalAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.rehearse/1", "kalyx.register/1"] = "kalyx.rehearse/1"
    kernel: Kernel | None
    answered: bool = False
    interpreter: Interpreter | None = None
    imports: list[ImportAnswer] = []
    shell_reaches: ShellReach = field(default_factory=ShellReach)
    seconds: float | None = None
    output: str = ""
    script_output: str | None = None
    findings: list[Finding] = []
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    notes: list[str] = []


class Move(Struct, kw_only=True):
    """A distribution that came (``before`` None), went (``after`` None) or has another version now."""

    name: str
    before: str | None
    after: str | None
    hides: str | None = None  # where a copy lies that stays and is hidden from now on


class Broken(Struct, kw_only=True):
    """A requirement that does not hold: who has it, and the version that is there instead."""

    name: str
    version: str
    requirement: str
    found: str | None


class FillAnswer(Struct, kw_only=True):
    """What came, moved and went, or would; what that breaks; the trial imports; who must be started again."""

    schema: Literal["kalyx.fill/1"] = "kalyx.fill/1"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    environment: Environment | None = None
    interpreter: Interpreter | None = None
    moves: list[Move] = []
    broken: list[Broken] = []
    seen_below: list[Package] = []
    imports: list[ImportAnswer] = []
    restart: list[str] = []
    notes: list[str] = []
    steps: list[str] = []
    findings: list[Finding] = []


class PrepareAnswer(Struct, kw_only=True):
    """What was made: the plan, the environment, what was asked for against what is there, and the kernel's answer."""

    schema: Literal["kalyx.prepare/1"] = "kalyx.prepare/1"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    environment: Environment | None = None
    interpreter: Interpreter | None = None
    packages: list[Package] = []
    moves: list[Move] = []
    imports: list[ImportAnswer] = []
    rehearsal: RehearsalAnswer | None = None
    notes: list[str] = []
    steps: list[str] = []
    findings: list[Finding] = []


class PointAnswer(Struct, kw_only=True):
    """A seat that was pointed elsewhere: the file, what it named before, what it runs now."""

    schema: Literal["kalyx.point/1"] = "kalyx.point/1"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    path: str
    was: str | None = None
    seat: Seat | None = None
    notes: list[str] = []


class UnregisterAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.unregister/1"] = "kalyx.unregister/1"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    stays: list[str] = []


class DemoStep(Struct, kw_only=True):
    """One command of the demo's walk: why it is run, the line, its status and what it printed."""

    says: str
    line: str
    status: int
    output: str


class DemoAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.demo/1"] = "kalyx.demo/1"
    folder: str
    steps: list[DemoStep]
    notes: list[str] = []


class CauseText(Struct, kw_only=True):
    name: str
    about: str
    says: str
    yields_to: list[str]
    example: str = ""


class CausesAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.causes/1"] = "kalyx.causes/1"
    causes: list[CauseText]


class ErrorAnswer(Struct, kw_only=True):
    schema: Literal["kalyx.error/1"] = "kalyx.error/1"
    says: str
    candidates: list[str] = []


class RecordLine(Struct, kw_only=True):
    """One distribution as a line that brings it again; ``elsewhere`` False where only this machine has it."""

    name: str
    version: str | None
    line: str
    kind: Literal["pinned", "direct", "development"]
    elsewhere: bool = True
    reason: str | None = None


class RecordAnswer(Struct, kw_only=True):
    """What rebuilds a target: its text, the lines of it, and what no line can bring."""

    schema: Literal["kalyx.record/1"] = "kalyx.record/1"
    target: Seat
    text: str
    lines: list[RecordLine] = []
    left_out: list[str] = []
    notes: list[str] = []
    path: str | None = None
    plan: list[ChangePlan] = []
    done: bool = False


class DiscardAnswer(Struct, kw_only=True):
    """What goes, how much space comes back, what is nobody's inside, and what elsewhere still points there."""

    schema: Literal["kalyx.discard/1"] = "kalyx.discard/1"
    prefix: str
    plan: list[ChangePlan] = []
    done: bool = False
    size_bytes: int | None = None
    kernels: list[str] = []
    unowned: list[str] = []
    pointers: list[str] = []
    notes: list[str] = []
