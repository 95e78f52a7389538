"""The answers to questions, one record a command; the JSON and the schemas in ``docs/schema`` are made from these."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from kalyx.core.model.records import (
    ChangePlan,
    Environment,
    Evidence,
    Finding,
    Fitness,
    ImportAnswer,
    Interpreter,
    Kernel,
    Package,
    ProjectAsks,
    RunningKernel,
    Seat,
    Unread,
    UserPackages,
)
from kalyx.core.model.steps import Step

DifferenceKind = Literal["interpreter", "version", "platform", "kernel", "search_path", "package", "variable"]


class SurveyAnswer(Struct, kw_only=True):
    """``survey``: every interpreter and environment; ``unread``: where the search was cut, and why."""

    schema: Literal["kalyx.survey/2"] = "kalyx.survey/2"
    interpreters: list[Interpreter] = []
    environments: list[Environment] = []
    unread: list[Unread] = []
    user_packages: list[UserPackages] = []


class HereAnswer(Struct, kw_only=True):
    """``here``: each seat with its relation to the one it is compared with."""

    schema: Literal["kalyx.here/2"] = "kalyx.here/2"
    reference: Seat
    seats: list[Seat]
    changes: list[str] = []
    folder: str = ""
    findings: list[Finding] = []
    unread: list[Unread] = []
    project: ProjectAsks | None = None
    fill: Step | None = None  # the line that installs what the project requires into the reference's environment
    seen_by: str = ""  # the notebook server that answers for notebooks and kernels, and why that one
    other_kernels: list[str] = []  # the ids of registered kernels that nothing in the folder refers to


class WhyAnswer(Struct, kw_only=True):
    """The outcomes of the imports that were asked about.

    ``seats``: with --everywhere, the same import in every seat; ``findings``: about what was given, no import's;
    with --fix, ``before`` is what came of them before the fix, ``plan`` and ``done`` tell of that.
    """

    schema: Literal["kalyx.why/2"] = "kalyx.why/2"
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
    seen_by: str = ""  # of a kernel or a notebook: the notebook server that answers, and why that one


class ExplainAnswer(Struct, kw_only=True):
    """``explain -``: the answer for a kernel, and the same as text and as a part of a page for its front end."""

    schema: Literal["kalyx.explain/2"] = "kalyx.explain/2"
    why: WhyAnswer
    then: str | None = None  # what is left to do in the notebook once the fix is carried out
    text: str
    html: str


class SeatImports(Struct, frozen=True, kw_only=True):
    """One seat, and the outcome of the import there."""

    target: Seat
    imports: list[ImportAnswer]


class PackagesAnswer(Struct, kw_only=True):
    """``packages``: what can be imported in an environment, and what hides what."""

    schema: Literal["kalyx.packages/2"] = "kalyx.packages/2"
    target: Seat
    packages: list[Package]
    searched: int = 0  # how many packages the target has, whichever of them were asked for
    unread: list[Unread] = []
    unknown: list[Evidence] = []  # start-up code that was not run: what it adds to the path is not known
    project: ProjectAsks | None = None  # with --for
    fitness: Fitness | None = None


class Difference(Struct, frozen=True, kw_only=True):
    """One difference between two targets."""

    what: DifferenceKind
    name: str
    left: str | None
    right: str | None


class ContrastAnswer(Struct, kw_only=True):
    """``contrast``: two sides, and where they differ."""

    schema: Literal["kalyx.contrast/2"] = "kalyx.contrast/2"
    left: Seat
    right: Seat
    same: bool
    differences: list[Difference]
    unproved: list[Evidence] = []  # start-up code that was not run, and could hide a difference
    unread: list[Unread] = []  # so could these


class EnterAnswer(Struct, kw_only=True):
    """``enter``: the line that activates an environment in one shell."""

    schema: Literal["kalyx.enter/2"] = "kalyx.enter/2"
    target: Seat
    shell: str
    line: str
    leave: str
    warnings: list[str] = []
    site_modules: list[str] = []


class KernelsAnswer(Struct, kw_only=True):
    """``unregistered``: kernels that run and that no registered one explains."""

    schema: Literal["kalyx.kernels/2"] = "kalyx.kernels/2"
    unregistered: list[RunningKernel] = []
    unread: list[Unread] = []
    kernels: list[Kernel]
    folders: list[str] = []
    seen_by: str = ""


class CauseText(Struct, frozen=True, kw_only=True):
    """A cause explained: ``tier``: its place; ``before``: others it is told before, with the reason.

    ``how_to_tell``: what sets the cause apart from what only looks like it; ``fix``: what takes the cause away.
    """

    name: str
    about: str
    message: str
    tier: str
    before: dict[str, str]
    example: str = ""
    how_to_tell: str = ""
    fix: str = ""


class CausesAnswer(Struct, frozen=True, kw_only=True):
    """``causes``: one, or all."""

    schema: Literal["kalyx.causes/2"] = "kalyx.causes/2"
    causes: list[CauseText]


class ErrorAnswer(Struct, frozen=True, kw_only=True):
    """What is wrong with a call, in one line, with the nearest names that exist."""

    schema: Literal["kalyx.error/2"] = "kalyx.error/2"
    message: str
    candidates: list[str] = []
