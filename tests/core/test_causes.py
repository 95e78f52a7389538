"""Every cause's own example has it, and what only looks like it has not; the order has no circle."""

import ast
import itertools
import re
from functools import cache
from pathlib import Path

import pytest

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.reading import read_environment
from kalyx.core.imports.case import Case, Failing, Missing, Raising, Tried
from kalyx.core.imports.names import parse_wanted
from kalyx.core.invocation import NAMED
from kalyx.core.model.records import Finding, KalyxError
from kalyx.core.model.steps import Install
from kalyx.core.queries.here import seat_of_file
from kalyx.core.queries.why import why_import
from kalyx.core.targets import resolve
from tests.made import HOME, described

# Their examples need a real run; tests/real builds them.
ONLY_REAL = {"unmet", "name-gone", "shadowed", "raises", "decisive-difference", "crashes", "hangs", "no-answer", "not-asked", "not-the-environment",
             "program-absent", "first-line-dead", "optional", "circular", "library-missing", "library-too-old", "binary-mismatch",
             "syntax-newer", "syntax-older", "damaged", "startup-broken", "stale-in-memory", "checker-only",
             "no-parent-package"}  # fmt: skip


def answer_of(lines: list[str], without: str = "nothing of it") -> list[Finding]:
    """What is found for a described machine, first what explains; ``without``: of its files those with these words."""
    files, asked = described(lines)
    for path in [path for path in files if without in path]:
        del files[path]
    assert asked is not None, f"words that describe nothing: {lines}"
    machine = files.machine()
    subject, colon, statement = asked.removeprefix("asked ").rpartition(": ")
    if colon:
        target = subject.removeprefix("in ")
        seat = resolve(machine, "shell" if target == "the shell" else target if ":" in target else f"{HOME}/{target}")
        (wanted,) = parse_wanted(statement)
        return why_import(machine, seat, wanted, NAMED).findings
    subject = statement.removeprefix("about ")
    if subject == "the shell":
        return catalogue.judge_seat(machine.shell_seat, machine).findings
    if subject == "the notebook":
        return seat_of_file(f"{HOME}/spring/weights.ipynb", machine).findings
    if "kernel:" in subject:
        second = subject.startswith("the second ")
        identifier = subject.removeprefix("the second ").removeprefix("kernel:")
        kernel = [kernel for kernel in machine.kernels if kernel.id == identifier][1 if second else 0]
        return catalogue.judge_kernel(kernel, machine).findings
    return catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/{subject}"), machine).findings


def found_by(lines: list[str]) -> list[str]:
    """The causes found for a described machine, first the one that explains."""
    files, asked = described(lines)
    machine = files.machine()
    if asked == "asked about heath" and machine.reader.kind(f"{HOME}/heath/bin/python") == "link":
        # An import asked for in it has the same cause, where nothing starts.
        seat = resolve(machine, f"{HOME}/heath")
        if seat.interpreter is None:
            (wanted,) = parse_wanted("json")
            found = why_import(machine, seat, wanted, NAMED).findings
            judged = catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/heath"), machine).findings
            assert [item.cause for item in found] == [item.cause for item in judged]
    return [finding.cause for finding in answer_of(lines)]


def examples(cause: str) -> list[list[str]]:
    parts = catalogue.text_of(cause).example.split("\n\n")
    return [[line.strip() for line in part.splitlines()[1:]] for part in parts]


@pytest.mark.parametrize("cause", catalogue.ABOUT)
def test_each_cause_says_what_it_is(cause):
    text = catalogue.text_of(cause)
    assert text.message.endswith("."), "the first line says what it is"
    assert text.example.startswith("Example:") and "Not this" in text.example
    assert len(examples(cause)) == 2


# Found only by a real import of what plain words could describe.
NEEDS_A_TRIAL = {"name-gone", "unmet"}


@cache
def asserted_causes() -> set[str]:
    """What a builder of a fault says is its cause; what a comparison in an assertion of a real test names, itself or by a table."""
    folder, found = Path(__file__).parents[1], set()
    for path in [*(folder / "faults").glob("*.py"), *(folder / "real").glob("*.py"), *(folder / "trust").glob("*.py")]:
        whole = ast.parse(path.read_text())
        nodes = list(ast.walk(whole))
        compared = [item for node in nodes if isinstance(node, ast.Assert) for item in ast.walk(node)
                    if isinstance(item, ast.Compare) and isinstance(item.ops[0], ast.Eq)]  # fmt: skip
        parts: list[ast.AST] = [side for item in compared for side in (item.left, *item.comparators)]
        if any(isinstance(item, ast.Name) and item.id == "cause" for item in parts):
            parts += [node for node in whole.body if isinstance(node, ast.Assign)]
        if path.parent.name == "faults":
            parts += [part for node in nodes if isinstance(node, ast.Return) and isinstance(node.value, ast.Tuple) for part in node.value.elts[1:2]]
        constants = [item for part in parts for item in ast.walk(part) if isinstance(item, ast.Constant)]
        found |= {constant.value for constant in constants if isinstance(constant.value, str)}
    return found


@pytest.mark.parametrize("cause", sorted(ONLY_REAL - NEEDS_A_TRIAL))
def test_what_no_machine_in_memory_can_have_is_built_for_real(cause):
    """Its example cannot be made here; a real test asserts it."""
    assert described(examples(cause)[0])[1] is None, f"{cause} can be described: its example is a test here"
    assert cause in asserted_causes()


@pytest.mark.parametrize("cause", [cause for cause in catalogue.ABOUT if cause not in ONLY_REAL])
def test_example(cause):
    text = catalogue.text_of(cause)
    has_it, looks_like_it = examples(cause)
    found = found_by(has_it)
    # A kernel's conditions stand side by side; of an import's causes the first explains.
    assert cause in found if "kernel" in text.about and "import" not in text.about else found[0] == cause
    assert cause not in found_by(looks_like_it)


@pytest.mark.parametrize("refusal, reason", [(OSError(5, "Input/output error"), "[Errno 5] Input/output error"), (KalyxError("no answer"), "no answer")])
def test_a_cause_that_could_not_be_looked_for_is_part_of_the_answer(refusal, reason, monkeypatch):
    files, _ = described(["orchard has hivescale 2.1"])
    machine = files.machine()
    (wanted,) = parse_wanted("hivescale")
    asked = [cause for cause in IMPORTS if hasattr(catalogue.module_of(cause), "look")]
    seat = resolve(machine, f"{HOME}/heath")
    usual = why_import(machine, seat, wanted, NAMED)
    assert not usual.not_judged and usual.findings[0].cause == "elsewhere"

    def refuse(case, machine):
        raise refusal

    for cause in asked:
        refuse.__module__ = catalogue.module_of(cause).__name__
        with monkeypatch.context() as patched:
            patched.setattr(catalogue.module_of(cause), "look", refuse)
            answer = why_import(files.machine(), seat, wanted, NAMED)
        others = [finding.cause for finding in usual.findings if finding.cause != cause]
        assert [finding.cause for finding in answer.findings][: len(others)] == others or cause == "elsewhere", cause
        assert [(item.cause, item.reason) for item in answer.not_judged] in ([], [(cause, reason)]), cause
        assert answer.not_judged or catalogue.module_of(cause).LOOKS_AT in ("tried", "raising"), cause


IMPORTS = [cause for cause, about in catalogue.ABOUT.items() if "import" in about.split()]


def test_every_pair_is_decided():
    """Whatever is found together has one order, however it is given, and leaving one out changes nothing of the rest."""
    whole = catalogue.in_order(IMPORTS)
    assert sorted(whole) == sorted(IMPORTS) and catalogue.in_order(reversed(IMPORTS)) == whole
    for one, other in itertools.combinations(IMPORTS, 2):
        first = catalogue.in_order([other, one])[0]
        assert first == catalogue.in_order([one, other])[0]
        declared = other in catalogue.precedes(one), one in catalogue.precedes(other)
        assert declared != (True, True), f"{one} and {other} each stand before the other"
        assert first == (other if declared[1] else one), f"the tiers say {one}, and nothing declares otherwise"


@pytest.mark.parametrize("cause", catalogue.ABOUT)
def test_only_what_the_tiers_do_not_say_is_declared(cause):
    names = list(catalogue.ABOUT)
    for other, reason in catalogue.precedes(cause).items():
        assert names.index(other) < names.index(cause) and reason, "the tiers say it already"
    module = catalogue.module_of(cause)
    assert hasattr(module, "look") == hasattr(module, "LOOKS_AT"), "of which case it can be the cause"
    assert getattr(module, "LOOKS_AT", "case") in {kind.kind for kind in (Case, Failing, Missing, Tried, Raising)}, "no case is of that kind"
    source = Path(catalogue.module_of(cause).__file__).read_text()
    assert not re.search(r"from kalyx.core.diagnosis.(causes|conditions)", source), "no cause is another's library"


def test_remedies_never_offer_an_unknown_name():
    files, _ = described(["orchard has hivescale 2.1"])
    machine = files.machine()
    (wanted,) = parse_wanted("wholly_unknown")
    answer = why_import(machine, resolve(machine, f"{HOME}/heath"), wanted, NAMED)
    assert answer.findings[0].cause == "absent"
    assert all(step.command is None for fix in answer.findings[0].fixes for step in fix.steps)


def test_no_module_is_taken_for_a_distribution():
    """The machines of the examples once more, without any metadata: nothing says then what a package is called."""
    named = {name for cause in catalogue.ABOUT for lines in examples(cause) for line in lines for name in re.findall(r"has (\S+) [\d.]+", line)}
    asked = 0
    for lines in [lines for cause in catalogue.ABOUT for lines in examples(cause) if lines and ": " in lines[-1] and described(lines)[1] is not None]:
        for finding in answer_of(lines, without="-info/"):
            for step in [step for fix in finding.fixes for step in fix.steps if isinstance(step, Install)]:
                asked += 1
                assert not named & {re.split(r"[<>=!\[ ]", line)[0] for line in step.requirements}, (lines, finding)
    assert asked, "no example's fix installs anything"


def test_the_page_of_causes_is_as_the_modules_say():
    from tools.causes import PAGE, page

    assert PAGE.read_text() == page(), "run python tools/causes.py"


def test_a_package_that_may_not_be_read_is_told_for_what_it_is():
    """The interpreter would say that there is none, or take the folder for an empty one."""
    files, _ = described(["orchard has hivescale 2.1"])
    files[f"{files.site('heath')}/hivescale"] = None
    machine = files.machine()
    (wanted,) = parse_wanted("hivescale")
    first = why_import(machine, resolve(machine, f"{HOME}/heath"), wanted, NAMED).findings[0]
    assert first.cause == "unreadable" and first.evidence[0].path == f"{files.site('heath')}/hivescale"
    assert first.fixes[0].steps[0].command[:2] == ["chmod", "-R"]
