"""The list of all causes, what each is found about, and the order they come in.

The order is that of the tiers below, from top to bottom and within a tier as listed: a cause that says why others seem
to hold comes before them. Where a cause stands before one of a higher place, its module says so (``PRECEDES``).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cache
from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.diagnosis.undo import with_undo
from kalyx.core.environments.reading import View, prefix_around, read_environment
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Finding, KalyxError, Kernel, NotJudged, Seat, Unread
from kalyx.core.system import Unreadable

if TYPE_CHECKING:  # what only explains an import is loaded where one is explained
    from kalyx.core.imports.case import Case, DeadSeat
    from kalyx.core.model.results import CauseText


class Tier(Struct, frozen=True):
    """Causes of one kind: what they have in common, and each with what it is found about."""

    name: str
    message: str
    about: dict[str, str]


TIERS = [
    Tier("dead_seat", "the seat starts nothing", {
        "unreadable": "environment import",
        "half-made": "environment import",
        "base-gone": "environment import",
        "no-interpreter": "environment import",
        "interpreter-gone": "import kernel seat",
    }),
    Tier("misleading", "the seat, or its start-up, is not what it seems", {
        "name-misleads": "import kernel",
        "activation-differs": "seat import",
        "installer-elsewhere": "seat import",
        "startup-broken": "import",
        "checker-only": "import",
        "decisive-difference": "import",
    }),
    Tier("broken_files", "a file is broken, or not for this system", {
        "link-broken": "import",
        "not-built": "import",
        "gutted": "import",
        "damaged": "import",
        "other-platform": "import",
        "other-build": "import",
        "library-missing": "import",
        "library-too-old": "import",
    }),
    Tier("shadowing", "something else answers to the name", {
        "older-wins": "import",
        "shadowed": "import",
        "folder-answers": "import",
        "namespace-split": "import",
        "stale-in-memory": "import",
        "no-parent-package": "import",
        "circular": "import",
    }),
    Tier("unreachable", "it is here, and out of reach", {
        "not-activated": "import seat",
        "base-hidden": "import",
        "user-site-off": "import",
        "project-not-installed": "import",
        "path-cut": "import",
        "stubs-only": "import",
    }),
    Tier("wrong_python", "it is for another Python", {
        "syntax-newer": "import",
        "syntax-older": "import",
        "stdlib-gone": "import",
        "stdlib-newer": "import",
        "stdlib-part-missing": "import",
        "other-minor": "import",
    }),
    Tier("wrong_version", "it wants another package, or another version", {
        "unmet": "import",
        "binary-mismatch": "import",
        "optional": "import",
        "other-distribution": "import",
        "submodule-gone": "import",
        "name-gone": "import",
    }),
    Tier("fallback", "nothing more specific is known", {
        "seat-differs": "import",
        "elsewhere": "import",
        "misnamed": "import",
        "misspelt": "import",
        "hangs": "import",
        "crashes": "import",
        "raises": "import",
        "absent": "import",
    }),
    # What no import needs to fail for: these stand side by side.
    Tier("conditions", "of an environment, a seat, a kernel, a command, or of Kalyx itself", {
        "moved": "environment",
        "mixed-versions": "environment",
        "in-version-control": "environment seat",
        "kernel-absent": "seat",
        "program-absent": "program",
        "first-line-dead": "program",
        "kernel-package-absent": "kernel",
        "no-connection-file": "kernel",
        "twin": "kernel",
        "hidden": "kernel",
        "spec-unreadable": "kernel",
        "shell-elsewhere": "kernel",
        "server-bound": "kernel",
        "no-answer": "rehearsal",
        "not-the-environment": "traceback",
        "not-asked": "refusal",
    }),
]  # fmt: skip

TIER_OF = {cause: tier for tier in TIERS for cause in tier.about}

# Name of the cause, and what it is found about: this is what Kalyx knows.
ABOUT = {cause: about for tier in TIERS for cause, about in tier.about.items()}


@cache
def module_of(cause: str) -> ModuleType:
    """The module that knows a cause."""
    folder = "conditions" if TIER_OF[cause].name == "conditions" else "causes"
    return import_module(f"kalyx.core.diagnosis.{folder}.{cause.replace('-', '_')}")


def precedes(cause: str) -> dict[str, str]:
    """The causes of a higher place that this one stands before all the same, each with the reason."""
    declared: dict[str, str] = getattr(module_of(cause), "PRECEDES", {})
    return declared


def suppressed_by_others(cause: str) -> bool:
    """Whether the cause is left out where a preceding cause is found, which says the same and more."""
    return bool(getattr(module_of(cause), "SUPPRESSED_BY_OTHERS", False))


def text_of(cause: str) -> CauseText:
    """A cause explained: from its module's docstring, and its place among the others."""
    from kalyx.core.model.results import CauseText

    message, _, remainder = _text_of_module(cause).partition("\n")
    teaching, sign, example = remainder.partition("\nExample:")
    words = " ".join(teaching.split())
    apart, _, fix = words.removeprefix("How to tell: ").partition(" Fix: ")
    return CauseText(
        name=cause, about=ABOUT[cause], message=message, tier=TIER_OF[cause].message, before=precedes(cause),
        example=(sign + example).strip(), how_to_tell=apart.removesuffix("."), fix=fix.removesuffix("."),
    )  # fmt: skip


def _text_of_module(cause: str) -> str:
    """What a cause's module says at its top, from its source: an optimized Python has no docstrings."""
    import ast
    import inspect

    return ast.get_docstring(ast.parse(inspect.getsource(module_of(cause))), clean=False) or ""


@cache
def _about(kind: str) -> tuple[str, ...]:
    return tuple(cause for cause, about in ABOUT.items() if kind in about.split())


def ready() -> None:
    """Load every cause that an import can have."""
    for cause in _about("import"):
        module_of(cause)


def in_order(causes: Iterable[str]) -> list[str]:
    """The most specific first: as the tiers list them, but for what declares that it stands before others."""
    present = set(causes)
    left = [cause for cause in ABOUT if cause in present]
    result: list[str] = []
    while left:
        first = next(item for item in left if not any(item in precedes(other) for other in left))
        left.remove(first)
        result.append(first)
    return result


def explain(case: Case | DeadSeat, machine: Machine) -> tuple[list[Finding], list[NotJudged]]:
    """Why the import of this case fails, the cause first, and the causes that could not be looked for.

    A general cause stands only when no specific one does.
    """
    from kalyx.core.imports.case import Case, DeadSeat

    refused: list[NotJudged] = []
    findings = _of_dead_seat(case, machine, refused) if isinstance(case, DeadSeat) else _of_case(case, machine, refused)
    by_cause = {finding.cause: finding for finding in findings}
    ordered = [by_cause[cause] for cause in in_order(by_cause)]
    if isinstance(case, Case):
        from kalyx.core.diagnosis.experiments import proven_first, tested_for_nothing

        ordered = proven_first(ordered, case, machine)
        ordered = _with_difference(ordered, case, machine, refused)
        ordered[:1] = [tested_for_nothing(finding, case, machine) for finding in ordered[:1]]
    return without_repeats(ordered), refused


def without_repeats(ordered: list[Finding]) -> list[Finding]:
    """The findings without those that say less than one before: by their kind, or unproven ones of the same fixes."""
    said: set[str] = set()
    result = []
    for at, finding in enumerate(ordered):
        lines = _lines(finding)
        says_less = finding.certainty != "proven" and bool(lines) and lines <= said
        if not at or not (suppressed_by_others(finding.cause) or says_less):
            result.append(finding)
        said |= lines
    return result


def _lines(finding: Finding) -> set[str]:
    return {step.line for fix in finding.fixes for step in fix.steps}


def _with_difference(ordered: list[Finding], case: Case, machine: Machine, refused: list[NotJudged]) -> list[Finding]:
    """Where no cause says why, what decides is searched for: only then, for a search starts the interpreter often."""
    try:
        after: list[Finding] = module_of("decisive-difference").look_after(case, machine, ordered)
    except KalyxError as refusal:
        refused.append(NotJudged(cause="decisive-difference", reason=refusal.message))
        return ordered
    return [with_undo(finding, machine) if finding.cause == "decisive-difference" else finding for finding in after]


def _looked(
    look: Callable[..., Finding | None], subject: object, machine: Machine, refused: list[NotJudged] | None = None
) -> Finding | None:
    """What a cause finds. One that the system keeps from looking is added to ``refused``, or to what was not read."""
    try:
        finding = look(subject, machine)
        return with_undo(finding, machine) if finding is not None else None
    except (KalyxError, Unreadable, OSError) as refusal:
        name = look.__module__.rpartition(".")[2].replace("_", "-")
        reason = refusal.message if isinstance(refusal, KalyxError) else str(refusal)
        if refused is not None:
            refused.append(NotJudged(cause=name, reason=reason))
        else:
            machine.unread.append(Unread(path=name, reason=f"could not be looked for: {reason}"))
        return None


def _of_case(case: Case, machine: Machine, refused: list[NotJudged]) -> list[Finding]:
    """Every cause looks that can be true of a case of this kind: its module's ``LOOKS_AT`` says which."""
    kinds = {kind.kind: kind for kind in case.kinds()}
    findings = []
    for cause in _about("import"):
        module = module_of(cause)
        kind = kinds.get(getattr(module, "LOOKS_AT", ""))
        finding = _looked(module.look, kind, machine, refused) if kind is not None else None
        if finding is not None:
            findings.append(_of_claimed(finding, machine))
    return findings


def _of_claimed(finding: Finding, machine: Machine) -> Finding:
    """Of a shell that says that an environment is activated which starts nothing: the fix of that environment."""
    path = finding.evidence[0].path if finding.cause == "activation-differs" else None
    if path is None or read_environment(machine.reader, path).interpreter is not None:
        return finding
    # To activate the environment again would not help.
    fixed = _fixed_by_its_environment(path, replace(finding, fixes=[]), machine)
    return fixed if fixed.fixes else finding


def _of_dead_seat(case: DeadSeat, machine: Machine, refused: list[NotJudged]) -> list[Finding]:
    """What is wrong with the environment that the seat names, where it is in one; and what the seat itself says."""
    if case.seat.seat == "notebook" and case.kernel is None:
        absent = _looked(module_of("kernel-absent").look_at_dead, case, machine, refused)
        if absent is not None:
            return [absent]
    findings = _of_environment_at(case.program or "", machine)
    for cause in TIERS[0].about:
        look = getattr(module_of(cause), "look_at_dead", None)
        finding = _looked(look, case, machine, refused) if look is not None else None
        if finding is not None and cause not in {finding.cause for finding in findings}:
            findings.append(finding)
    return findings


def _of_environment_at(named: str, machine: Machine) -> list[Finding]:
    """What keeps the environment from starting that a path names, or that the interpreter of this path is in."""
    prefix = prefix_around(machine.reader, named)
    if prefix is None:
        return []
    judged = judge_environment(read_environment(machine.reader, prefix), machine)
    return [finding for finding in judged.findings if "import" in ABOUT[finding.cause].split()]


# Conditions of a kernel that show while the folders are listed: their modules know the way out.
_FOUND_BY_LISTING = {"hidden", "spec-unreadable"}


def judge_kernel(kernel: Kernel, machine: Machine, *, alone: bool = False) -> Kernel:
    """The kernel with its conditions and their findings filled in; of some the listing already knows that they hold.

    Of a kernel that another of its id hides nothing else counts, unless the question is about this kernel ``alone``.
    """
    for cause in _about("kernel"):
        if cause in _FOUND_BY_LISTING and cause not in kernel.conditions:
            continue
        if "hidden" in kernel.conditions and cause not in _FOUND_BY_LISTING and not alone:
            continue
        finding = _looked(module_of(cause).look_at_kernel, kernel, machine)
        if finding is None:
            continue
        if cause == "interpreter-gone":
            finding = _fixed_by_its_environment(kernel.command[0], finding, machine)
        if cause in kernel.conditions:
            kernel = kernel.changed(findings=[finding if item.cause == cause else item for item in kernel.findings])
        else:
            kernel = kernel.with_condition(cause, finding)
    return kernel


def _fixed_by_its_environment(path: str, finding: Finding, machine: Machine) -> Finding:
    """Of what starts an environment that is there and starts nothing: to fix that comes before all else."""
    for cause in _of_environment_at(path, machine)[:1]:
        known = {(evidence.path, evidence.fact) for evidence in finding.evidence}
        more = [evidence for evidence in cause.evidence if (evidence.path, evidence.fact) not in known]
        return replace(finding, evidence=[*finding.evidence, *more], fixes=[*cause.fixes, *finding.fixes])
    return finding


def judge_environment(view: View, machine: Machine) -> Environment:
    """The environment with its condition (the worst found) and the findings filled in."""
    environment = view.environment
    if environment.findings:
        return environment
    findings, known = list[Finding](), view
    for cause in _about("environment"):
        finding = _looked(module_of(cause).look_at_environment, known, machine) if cause != "unreadable" else None
        if finding is not None:
            findings.append(finding)
            # Some causes stand only where no other, or a certain one, was found before.
            known = replace(view, environment=replace(environment, findings=list(findings)))
    # Asked when all was looked at. What may not be read is not gone: nothing that follows from not finding something
    # may be said then.
    unreadable = _looked(module_of("unreadable").look_at_environment, view, machine)
    if unreadable is not None:
        findings = [unreadable, *(finding for finding in findings if finding.cause == "in-version-control")]
    grave = [finding.cause for finding in findings if not getattr(module_of(finding.cause), "IS_SOUND", False)]
    return replace(environment, findings=findings, condition=grave[0] if grave else environment.condition)


def judge_seat(seat: Seat, machine: Machine) -> Seat:
    """The seat with what is wrong about it filled in; of one that starts nothing, with its environment too."""
    looked = [_looked(module_of(cause).look_at_seat, seat, machine) for cause in _about("seat")]
    findings = [*seat.findings, *(_of_claimed(finding, machine) for finding in looked if finding is not None)]
    path = seat.program if seat.interpreter is None else None
    return replace(seat, findings=findings if path is None else _with_environment(seat, path, findings, machine))


def _with_environment(seat: Seat, path: str, findings: list[Finding], machine: Machine) -> list[Finding]:
    """The findings of a seat that does not start what the path names, with what is wrong with its environment first."""
    if gone := [finding for finding in findings if finding.cause == "interpreter-gone"]:
        fixed = _fixed_by_its_environment(path, gone[0], machine)
        return [fixed if finding is gone[0] else finding for finding in findings]
    for cause in _of_environment_at(path, machine)[:1]:
        # Not the same fix once more; one that has none stays.
        others = [item for item in findings if not _lines(item) or _lines(item) - _lines(cause)]
        return [replace(cause, message=f"{seat.name} starts nothing: {cause.message}"), *others]
    return findings
