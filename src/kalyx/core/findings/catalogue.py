"""The list of all causes, what each is found about, and the order they come in."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache
from importlib import import_module
from types import ModuleType

from kalyx.core.answers import CauseText
from kalyx.core.environments.reading import View
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.records import Environment, Finding, Kernel, Seat

# Name of the cause, and what it is found about. Read from top to bottom: this is what Kalyx knows.
ABOUT: dict[str, str] = {
    # nothing answers to that name here
    "absent": "import",
    "elsewhere": "import",
    "base-hidden": "import",
    "other-minor": "import",
    "user-site-off": "import",
    "misnamed": "import",
    "misspelt": "import",
    "stdlib-gone": "import",
    "stdlib-newer": "import",
    "stdlib-part-missing": "import",
    "link-broken": "import",
    "gutted": "import",
    "unmet": "import",
    "optional": "import",
    "path-cut": "import",
    # something else answers to it
    "shadowed": "import",
    "folder-answers": "import",
    "older-wins": "import",
    "namespace-split": "import",
    "stale-in-memory": "import",
    "name-gone": "import",
    "submodule-gone": "import",
    "circular": "import",
    # it is found and does not load
    "other-build": "import",
    "other-platform": "import",
    "library-missing": "import",
    "library-too-old": "import",
    "binary-mismatch": "import",
    "syntax-newer": "import",
    "syntax-older": "import",
    "damaged": "import",
    "raises": "import",
    "crashes": "import",
    "hangs": "import",
    # the interpreter or the environment is not sound
    "startup-broken": "import",
    "interpreter-gone": "import kernel seat",
    "base-gone": "environment import",
    "half-made": "environment import",
    "moved": "environment",
    "mixed-versions": "environment",
    "no-interpreter": "environment import",
    "unreadable": "environment import",
    "in-version-control": "environment seat",
    # the seat is not where the user thinks
    "checker-only": "import",
    "seat-differs": "import",
    "name-misleads": "import kernel",
    "installer-elsewhere": "seat",
    "activation-differs": "seat",
    "kernel-absent": "seat",
    "program-absent": "program",
    "first-line-dead": "program",
    # kernels
    "provider-absent": "kernel",
    "twin": "kernel",
    "hidden": "kernel",
    "spec-unreadable": "kernel",
    "shell-elsewhere": "kernel",
    "server-bound": "kernel",
    "no-answer": "rehearsal",
    # a traceback that is no import's
    "not-the-environment": "traceback",
    # what Kalyx could not or may not know
    "not-asked": "refusal",
}

# Of several conditions of one environment, the worst first.
CONDITIONS = ["unreadable", "half-made", "base-gone", "no-interpreter", "moved", "mixed-versions",
              "in-version-control"]  # fmt: skip


@cache
def module_of(cause: str) -> ModuleType:
    """The module that knows a cause."""
    return import_module("kalyx.core.findings." + cause.replace("-", "_"))


def yields_to(cause: str) -> tuple[str, ...]:
    """The more specific causes that stand before this one."""
    declared: tuple[str, ...] = getattr(module_of(cause), "YIELDS_TO", ())
    return declared


def text_of(cause: str) -> CauseText:
    """A cause explained: from its module's docstring."""
    says, _, rest = (module_of(cause).__doc__ or "").partition("\n")
    return CauseText(name=cause, about=ABOUT[cause], says=says, yields_to=list(yields_to(cause)), example=rest.strip())


def _about(kind: str) -> list[str]:
    return [cause for cause, about in ABOUT.items() if kind in about.split()]


def in_order(findings: Iterable[Finding]) -> list[Finding]:
    """The most specific first: each cause after those it yields to; else as the catalogue lists them."""
    names = list(ABOUT)
    left = sorted(findings, key=lambda finding: names.index(finding.cause))
    found: list[Finding] = []
    while left:
        present = {finding.cause for finding in left}
        first = next((f for f in left if not present & set(all_before(f.cause))), left[0])
        left.remove(first)
        found.append(first)
    return found


def all_before(cause: str) -> set[str]:
    """Every cause that stands before this one, through any number of steps."""
    found: set[str] = set()
    pending = list(yields_to(cause))
    while pending:
        name = pending.pop()
        if name not in found:
            found.add(name)
            pending.extend(yields_to(name))
    return found


def explain(case: Case, machine: Machine) -> list[Finding]:
    """Why the import of this case fails, the cause first. A general cause stands only when no specific one does."""
    found = []
    for cause in _about("import"):
        finding = module_of(cause).look(case, machine)
        if finding is not None:
            found.append(finding)
    ordered = in_order(found)
    causes = {finding.cause for finding in ordered}
    return [f for f in ordered if not (getattr(module_of(f.cause), "FOLDS", False) and causes & all_before(f.cause))]


def judge_kernel(kernel: Kernel, machine: Machine) -> Kernel:
    """The kernel with its conditions and their findings filled in."""
    for cause in _about("kernel"):
        if cause in kernel.conditions:
            module_of(cause).mend(kernel, machine)
            continue
        finding = module_of(cause).look_at_kernel(kernel, machine)
        if finding is not None:
            kernel.conditions.append(cause)
            kernel.findings.append(finding)
    return kernel


def judge_environment(view: View, machine: Machine) -> Environment:
    """The environment with its condition (the worst found) and the findings filled in."""
    environment = view.environment
    if environment.findings:
        return environment
    for cause in CONDITIONS:
        finding = module_of(cause).look_at_environment(view, machine)
        if finding is not None:
            environment.findings.append(finding)
    # Asked once more when all was looked at. What may not be read is not gone: nothing that follows from not finding
    # something may be said then.
    unreadable = module_of("unreadable").look_at_environment(view, machine)
    if unreadable is not None:
        tracked = [one for one in environment.findings if one.cause == "in-version-control"]
        environment.findings = [unreadable, *tracked]
    grave = [one.cause for one in environment.findings if not getattr(module_of(one.cause), "IS_SOUND", False)]
    if grave:
        environment.condition = grave[0]
    return environment


def judge_seat(seat: Seat, machine: Machine) -> Seat:
    """The seat with what is wrong about it filled in."""
    for cause in _about("seat"):
        finding = module_of(cause).look_at_seat(seat, machine)
        if finding is not None:
            seat.findings.append(finding)
    return seat
