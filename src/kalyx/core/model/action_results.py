"""The answers of commands that change or write something, one record a command; questions do not load this module."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

from kalyx.core.model.records import (
    Broken,
    ChangePlan,
    Environment,
    Finding,
    ImportAnswer,
    Interpreter,
    Kernel,
    Package,
    Relation,
    Seat,
    ShellReach,
    Unread,
    VersionChange,
)

RehearsalSchema = Literal["kalyx.rehearse/2", "kalyx.register/2"]


class RehearsalAnswer(Struct, kw_only=True):
    """``rehearse``: who answered, in how many seconds, what it imported.

    ``stopped``: the number of a signal that arrived when the kernel was registered already.
    """

    schema: RehearsalSchema = "kalyx.rehearse/2"
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
    stopped: int | None = None
    undo_packages: list[str] | None = None  # the command, after undo, that removes what was installed for the kernel
    seen_by: str = ""  # the notebook server as which the kernel was started, and why that one


class FillAnswer(Struct, kw_only=True):
    """What is installed, changed and removed; what that breaks; the trial imports; which processes must be restarted.

    ``lacking``: what was requested and is not installed; ``stopped``: the number of a signal that arrived when the
    packages were installed already.
    """

    schema: Literal["kalyx.fill/2"] = "kalyx.fill/2"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    undo_then: list[str] | None = None  # the second call of the undo, where one call is not enough
    environment: Environment | None = None
    interpreter: Interpreter | None = None
    moves: list[VersionChange] = []
    broken: list[Broken] = []
    seen_below: list[Package] = []
    imports: list[ImportAnswer] = []
    restart: list[str] = []
    lacking: list[str] = []
    notes: list[str] = []
    steps: list[str] = []
    stopped: int | None = None
    findings: list[Finding] = []


class PrepareAnswer(Struct, kw_only=True):
    """What was created: the plan, the environment, what was requested and what is installed, and the kernel's answer.

    ``lacking``: what was requested and is not installed.
    """

    schema: Literal["kalyx.prepare/2"] = "kalyx.prepare/2"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    environment: Environment | None = None
    interpreter: Interpreter | None = None
    packages: list[Package] = []
    moves: list[VersionChange] = []
    imports: list[ImportAnswer] = []
    rehearsal: RehearsalAnswer | None = None
    lacking: list[str] = []
    notes: list[str] = []
    steps: list[str] = []
    findings: list[Finding] = []


class PointAnswer(Struct, kw_only=True):
    """A seat that was pointed elsewhere: the file, what it named before, what it runs now."""

    schema: Literal["kalyx.point/2"] = "kalyx.point/2"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    path: str
    was: str | None = None
    seat: Seat | None = None
    notes: list[str] = []
    seen_by: str = ""  # of a notebook: the notebook server that answers for it, and why that one


class UnregisterAnswer(Struct, kw_only=True):
    """``unregister``: what was removed, what stays, and the call that undoes it."""

    schema: Literal["kalyx.unregister/2"] = "kalyx.unregister/2"
    plan: list[ChangePlan] = []
    done: bool = False
    undo: list[str] | None = None
    stays: list[str] = []


class DemoStep(Struct, kw_only=True):
    """One command of the demo: why it is run, the line, its status and its output."""

    message: str
    line: str
    status: int
    output: str


class DemoAnswer(Struct, kw_only=True):
    """``demo``: the folder, and each step with its output."""

    schema: Literal["kalyx.demo/2"] = "kalyx.demo/2"
    folder: str
    steps: list[DemoStep]
    notes: list[str] = []
    plan: list[ChangePlan] = []
    done: bool = False


class MapBox(Struct, kw_only=True):
    """A box of the map, in pixels: what it represents, and which seats' lines lead to it.

    ``folded``: how many boxes this one represents; ``column`` ``reason``: the reason why there is no interpreter.
    """

    id: str
    column: Literal["seat", "interpreter", "environment", "reason"]
    title: str
    detail: str
    relation: Relation
    x: int
    y: int
    width: int
    height: int
    seats: list[int] = []
    folded: int = 0


class MapWay(Struct, kw_only=True):
    """A line of the map: a seat starts an interpreter, that is an environment's; or a word of it leads elsewhere."""

    id: str
    kind: Literal["starts", "holds", "strays"]
    relation: Relation
    x1: int
    y1: int
    x2: int
    y2: int
    start: str
    end: str
    seats: list[int] = []


class Picture(Struct, kw_only=True):
    """The map: boxes that do not overlap, and the lines between them."""

    width: int
    height: int
    boxes: list[MapBox] = []
    ways: list[MapWay] = []


class ReportAnswer(Struct, kw_only=True):
    """``report``: what was written, and the map on it."""

    schema: Literal["kalyx.report/2"] = "kalyx.report/2"
    path: str
    folder: str = ""
    seats: int = 0
    environments: int = 0
    findings: int = 0
    bytes: int = 0
    picture: Picture | None = None
    plan: list[ChangePlan] = []
    done: bool = False


class Captured(Struct, kw_only=True):
    """One thing that a capture holds."""

    kind: str
    name: str
    bytes: int = 0


class CaptureAnswer(Struct, kw_only=True):
    """``capture``: what was written; with ``--show``, what a capture holds (``held``)."""

    schema: Literal["kalyx.capture/2"] = "kalyx.capture/2"
    path: str
    plan: list[ChangePlan] = []
    done: bool = False
    bytes: int = 0
    readings: int = 0
    answers: int = 0
    held: list[Captured] = []


class CompletionAnswer(Struct, kw_only=True):
    """``completion``: the code that enables tab completion."""

    schema: Literal["kalyx.completion/2"] = "kalyx.completion/2"
    shell: str
    code: str


class RecordLine(Struct, kw_only=True):
    """One distribution as a line that installs it again; ``elsewhere`` False where only this machine has it."""

    name: str
    version: str | None
    line: str
    kind: Literal["pinned", "direct", "development"]
    elsewhere: bool = True
    reason: str | None = None


class RecordAnswer(Struct, kw_only=True):
    """What recreates a target: the text, its lines, and the distributions that no line can install."""

    schema: Literal["kalyx.record/2"] = "kalyx.record/2"
    target: Seat
    text: str
    lines: list[RecordLine] = []
    left_out: list[str] = []
    unread: list[Unread] = []
    notes: list[str] = []
    path: str | None = None
    plan: list[ChangePlan] = []
    done: bool = False


class DiscardAnswer(Struct, kw_only=True):
    """What is removed, the bytes that are freed, the files inside that no package has, what else names the folder."""

    schema: Literal["kalyx.discard/2"] = "kalyx.discard/2"
    prefix: str
    plan: list[ChangePlan] = []
    done: bool = False
    size_bytes: int | None = None
    kernels: list[str] = []
    unowned: list[str] = []
    pointers: list[str] = []
    notes: list[str] = []
