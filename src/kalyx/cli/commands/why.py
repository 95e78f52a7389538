"""``kalyx why``: why an import fails, or where it comes from."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING

from msgspec.structs import replace

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core import signals
from kalyx.core.diagnosis.conditions import kernel_package_absent
from kalyx.core.imports.names import ImportStatement, parse_wanted
from kalyx.core.invocation import NAMED
from kalyx.core.model.records import Fix, ImportAnswer, KalyxError
from kalyx.core.model.results import WhyAnswer
from kalyx.core.model.steps import Step
from kalyx.core.queries.why import as_asked, why_import
from kalyx.core.system.nearest_path import near_paths
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.names import is_module_name
from kalyx.core.text.visible import visible

if TYPE_CHECKING:
    from kalyx.core.actions.rollback import Before

# Endings of Python's own files; a file of another name is a program, or is asked about with --in.
_SOURCES = (".py", ".pyw", ".pyz", ".pyzw", ".ipynb")
_WHAT = 'a module (a.b), a statement ("from a import b"), a file, a folder, program:NAME, or - (a traceback)'

_LOG_LIMIT, _TEXT_LIMIT = 256 * 1024 * 1024, 1024 * 1024


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what",
        nargs="+",
        metavar="WHAT",
        help=_WHAT,
    )
    parser.add_argument("--in", dest="target", metavar="TARGET", help="the seat or environment to ask in")
    parser.add_argument(
        "--as",
        dest="command_line",
        metavar="COMMANDLINE",
        help='judge the import as if run by this command line ("python -I -m tool"); python by its path is the target',
    )
    parser.add_argument("--live", action="store_true", help="ask the running process what it has loaded")
    parser.add_argument("--everywhere", action="store_true", help="try the same import in every seat and environment")
    parser.add_argument("--prove", action="store_true", help="test each fix in a temporary copy; change nothing")
    parser.add_argument(
        "--against", dest="other", metavar="TARGET", help="find what differs from a seat where the same import works"
    )
    parser.add_argument("--wheels", metavar="DIR", help="install from this folder of wheels only")
    parser.add_argument(
        "--fix", action="store_true", help="apply the first fix that works; roll back any that does not"
    )
    parser.add_argument(
        "--from", dest="folder", metavar="FOLDER", help="judge the import as for a script in this folder"
    )
    changing(parser)


def words_of(text: str) -> list[str]:
    """The words of a question that stands in one: a WHAT by itself, or with options after it. Raises KalyxError."""
    if " --" not in text:
        return [text]
    import shlex

    try:
        return shlex.split(text)
    except ValueError as error:
        raise KalyxError(f"--why {visible(text)}: {str(error).lower()}") from None


def _wanted(call: Call, text: str) -> list[ImportStatement]:
    """The imports that a word asks about; a name with hyphens stays as it is, and the answer names its module."""
    try:
        return parse_wanted(text)
    except KalyxError:
        if "-" not in text or not text.replace("-", "").replace(".", "").isalnum():
            raise
        return [ImportStatement(f"import {text}", text)]  # the causes find out which module is meant


def run(call: Call) -> int:
    call.take_target_of_command()
    with call.progress("looking:") as tell:
        answer = answer_of(call, tell)
        if call.wheels is not None:
            from kalyx.core.actions.trying import take_from

            take_from(call.machine, answer.imports, call.wheels)
        if call.options.fix:
            _refuse_to_fix(call, answer)
        if call.options.prove or call.options.fix:
            _prove(call, answer, tell)
        if call.options.other is not None:
            _compare(call, answer, tell)
    if call.options.fix:
        answer = _fixed(call, answer)
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.stories import draw_why

        draw_why(call.screen, answer, call.options.verbose)
    return _status(answer)


def _status(answer: WhyAnswer) -> int:
    """0: it imports; 1: something was found; 2: nothing was found, because an interpreter may not be started."""
    if answer.seats:
        return 0 if all(item.outcome == "imports" for seat in answer.seats for item in seat.imports) else 1
    answers = [item for item in answer.imports if not item.guarded and (item.outcome != "imports" or item.findings)]
    unasked = [answer for answer in answers if answer.outcome == "undetermined"]
    if unasked and len(unasked) == len(answers) and not answer.findings:
        causes = {finding.cause for answer in unasked for finding in answer.findings}
        if causes <= {"not-asked"}:
            message = next((finding.message for answer in unasked for finding in answer.findings), None)
            line = message or f"{unasked[0].statement}: reading alone does not settle it, and --static starts nothing"
            print(f"kalyx: {visible(line)}", file=sys.stderr)
            return 2
    return 1 if answers or answer.findings or answer.unread else 0


def answer_of(call: Call, tell: Callable[[str], None]) -> WhyAnswer:
    """The answer, in which each environment has its name and each seat its search path."""
    answer = _answer_to(call, tell)
    answer.target = call.machine.environments.named_seat(answer.target)
    if answer.target.seat in ("kernel", "notebook"):
        answer.seen_by = call.machine.server.answers
        absent = kernel_package_absent.look_behind(answer.target, call.machine)
        answer.findings += [absent] if absent is not None else []
    answer.notes += _of_process(call, answer)
    answer.seats = [replace(each, target=call.machine.environments.named_seat(each.target)) for each in answer.seats]
    return answer


def _of_process(call: Call, answer: WhyAnswer) -> list[str]:
    """What the running process has imported, with ``--live``; else a note that a new process was asked instead."""
    seat = answer.target
    if seat.pid is None or seat.seat not in ("kernel", "notebook", "process") or not answer.imports:
        return []
    if not call.options.live or call.options.static:
        return [f"a fresh start was asked; process {seat.pid} may hold what it loaded before: --live asks that process,"
                " a restart changes it"]  # fmt: skip
    from kalyx.core.queries.live_seats import held_by

    return [held_by(call.machine, seat, item.module) for item in answer.imports if is_module_name(item.module)]


def _answer_to(call: Call, tell: Callable[[str], None]) -> WhyAnswer:
    """The answer to whatever WHAT is: a traceback, a program, a file or folder, one module everywhere, imports here."""
    options, machine = call.options, call.machine
    what = options.what
    if len(what) == 1 and (what[0] == "-" or what[0].startswith("program:") or _is_file(call, what[0])):
        from kalyx.core.queries.why_files import why_files
        from kalyx.core.queries.why_program import why_program
        from kalyx.core.queries.why_traceback import why_traceback

        if what[0] == "-":
            if sys.stdin is None:
                raise KalyxError("standard input is closed: there is no text to read")
            # The end of a log has what happened last.
            raw = sys.stdin.buffer.read(_LOG_LIMIT)
            if len(raw) > _TEXT_LIMIT:
                machine.reader.note_cut("standard input", f"only its last {_TEXT_LIMIT} bytes were looked at")
            text = raw[-_TEXT_LIMIT:].decode("utf-8", "surrogateescape")
            return why_traceback(machine, text, call.seat(options.target), replace(call.question, command=None), tell)
        if what[0].startswith("program:"):
            return why_program(machine, what[0].removeprefix("program:"), tell=tell)
        path = machine.reader.absolute(what[0])
        is_program = not path.endswith(_SOURCES) and next(machine.reader.lookup(path, None), None) is not None
        if is_program and options.target is None and options.command_line is None:
            return why_program(machine, path, tell=tell)
        target = options.target or (path if path.endswith(".ipynb") else None)
        return why_files(machine, call.seat(target), path, call.question, tell)
    gone = next((text for text in what if text.endswith(_SOURCES) or machine.reader.has_separator(text)), None)
    if gone is not None:
        path = machine.reader.absolute(gone)
        if machine.reader.exists(path) and len(what) == 1:
            raise KalyxError(f"{visible(path)} is no file that can be read: a pipe, a socket or a device")
        if machine.reader.exists(path):
            raise KalyxError(f"{visible(path)} cannot be asked about together with other words; --in names a target")
        raise KalyxError(f"{visible(path)}: {NOTHING_THERE}", near_paths(machine.reader, path))
    wanted = [statement for text in what for statement in _wanted(call, text)]
    if options.everywhere:
        from kalyx.core.queries.why_everywhere import why_everywhere

        if len(wanted) != 1:
            raise KalyxError("--everywhere asks for one import at a time")
        return why_everywhere(machine, wanted[0], tell=tell)
    seat = call.seat(options.target)
    answers = [why_import(machine, seat, statement, call.question) for statement in wanted]
    target = as_asked(machine, seat, call.question)
    return WhyAnswer(target=target, imports=answers)


def _refuse_to_fix(call: Call, answer: WhyAnswer) -> None:
    if call.machine.runner is None:
        raise KalyxError("--fix starts other programs, and --static starts none")
    if answer.seats or call.options.what == ["-"]:
        raise KalyxError("--fix fixes one import in one seat at a time")


def _prove(call: Call, answer: WhyAnswer, tell: Callable[[str], None]) -> None:
    """Try the fixes of what fails, in a temporary copy."""
    from kalyx.core.actions.trying import prove

    if call.machine.runner is None:
        raise KalyxError("trying a fix starts other programs, and --static starts none")
    for item in answer.imports:
        if item.outcome != "fails":
            continue
        prove(call.machine, item, answer.target, call.question, call.wheels, tell)
        if not any(fix.tried == "works" or fix.state == "tested" for finding in item.findings for fix in finding.fixes):
            _compare_with_fresh(call, answer, item, tell)


def _compare_with_fresh(call: Call, answer: WhyAnswer, item: ImportAnswer, tell: Callable[[str], None]) -> None:
    """Where no fix works, add what a fresh environment shows."""
    from kalyx.core.actions.control import explain_by_control
    from kalyx.core.actions.trying import take_from
    from kalyx.core.diagnosis.catalogue import without_repeats
    from kalyx.core.imports.names import wanted_again
    from kalyx.core.queries.why import tried_case

    wanted = wanted_again(item.statement, item.module)
    case = tried_case(call.machine, answer.target, wanted, call.question)
    if case is None or case.trial is None or case.trial.imports or case.trial.timed_out:
        return
    finding, note = explain_by_control(case, call.machine, call.wheels, tell)
    if finding is not None:
        item.findings = without_repeats([finding, *item.findings])
        if call.wheels is not None:
            take_from(call.machine, [item], call.wheels)
    answer.notes += [note] if note else []


def _compare(call: Call, answer: WhyAnswer, tell: Callable[[str], None]) -> None:
    """What differs from another seat, in which the import works. Raises KalyxError where it does not work there."""
    from kalyx.core.actions.control import explain_against
    from kalyx.core.diagnosis.catalogue import without_repeats
    from kalyx.core.imports.names import wanted_again
    from kalyx.core.queries.why import tried_case

    machine = call.machine
    if machine.runner is None:
        raise KalyxError("--against starts both interpreters, and --static starts none")
    if answer.seats or len(answer.imports) != 1:
        raise KalyxError("--against compares one import in two seats")
    (item,) = answer.imports
    if item.outcome == "imports":
        return
    wanted, other_seat = wanted_again(item.statement, item.module), call.seat(call.options.other)
    other = tried_case(machine, other_seat, wanted, NAMED)
    case = tried_case(machine, answer.target, wanted, call.question)
    if other is None or other.trial is None or not other.trial.imports:
        raise KalyxError(
            f"{item.statement} does not work in {visible(call.options.other)} either: name a seat where it does"
        )
    finding = explain_against(case, machine, other, other_seat, tell) if case is not None else None
    if finding is not None:
        item.findings = without_repeats([finding, *item.findings])
        return
    python = (
        f"Python {other.interpreter.version} runs there, {answer.target.interpreter.version} here"
        if (answer.target.interpreter is not None and other.interpreter.version != answer.target.interpreter.version)
        else "both run the same Python"
    )
    answer.notes.append(
        f"no variable of {visible(call.options.other)}, and no package that both have, makes the difference; {python}"
    )


def _fixed(call: Call, before: WhyAnswer) -> WhyAnswer:
    """The answer after a fix that worked was carried out; ``before``, where nothing needs a fix.

    A fix without success is rolled back, and the next fix is carried out.
    """
    from kalyx.core.actions import fixing, rollback

    result = fixing.fixes_to_try(before.imports)
    if result is None:
        before.notes.append("nothing needs a fix")
        return before
    _, fixes = result
    text: list[str] = []
    for number, fix in enumerate(fixes):
        before.plan = fixing.plan_of(fix)
        if not call.as_json and not call.options.dry_run:
            _draw_plan(call, before, first=number == 0)
        if not call.may_change(f"Do this: {'; '.join(step.line for step in fix.steps)}?"):
            before.notes += text
            return before
        kept: list[rollback.Before] = []
        with call.progress("fixing:") as tell:
            try:
                after, problem = _attempt(call, fix, before, kept, tell, is_only=len(fixes) == 1)
            except signals.Stopped:  # no further signal is heeded
                for line in rollback.put_back(call.reread().machine, kept, tell):
                    print(f"kalyx: {line}", file=sys.stderr)
                raise
            if after is not None:
                after.before, after.plan, after.done = before.imports, before.plan, True
                after.notes += [*text, f"done: {fix.message}"]
                steps, _ = rollback.undoing(call.reread().machine, kept)
                after.undo = [step.line for step in steps] or ([fix.undo] if fix.undo is not None else None)
                return after
            text.append(f"{fix.message}: it did not help{f' ({problem})' if problem else ''}")
            text += rollback.put_back(call.reread().machine, kept, tell)
    with call.progress("asking again:") as tell:
        try:
            after = answer_of(call.reread(), tell)  # what was tried last is rolled back
        except KalyxError as refusal:
            raise KalyxError("; ".join([*text, str(refusal)])) from None
    after.before, after.plan = before.imports, before.plan
    after.notes += text
    return after


def _attempt(
    call: Call, fix: Fix, before: WhyAnswer, kept: list[Before], tell: Callable[[str], None], *, is_only: bool
) -> tuple[WhyAnswer | None, str | None]:
    """Carry out a fix and ask again: the answer where it helped, else None, and why that could not be done.

    Raises KalyxError where the first step of the only fix is refused or fails: nothing is to be rolled back.
    """
    from kalyx.core.actions import fixing

    try:
        fixing.carry_out(call.machine, fix, before.target, tell, _keeper(call, kept))
    except KalyxError as refusal:
        if is_only and len(kept) < 2:
            raise
        return None, str(refusal)
    try:
        after = answer_of(call.reread(), tell)
    except KalyxError as refusal:
        removed = WhyAnswer(target=before.target, imports=[]) if fixing.removes_the_seat(fix) else None
        return removed, str(refusal) if removed is None else None
    return (after if fixing.is_gone(fix, before.imports, after.imports) else None), None


def _keeper(call: Call, kept: list[Before]) -> Callable[[Step], None]:
    """What adds to ``kept`` the state that a step is about to change."""
    from kalyx.core.actions.rollback import state_before

    return lambda step: kept.append(state_before(call.reread().machine, step))


def _draw_plan(call: Call, before: WhyAnswer, first: bool) -> None:
    from kalyx.cli.render.stories import draw_why

    if first:
        draw_why(call.screen, before, False)
        call.screen.blank()
    else:
        call.screen.line("that did not help and was rolled back; the next fix:")


def _is_file(call: Call, text: str) -> bool:
    """Whether a word names a script, an archive, a notebook or a folder rather than a module."""
    reader = call.machine.reader
    if text.startswith(("import ", "from ")):
        return False
    path = reader.absolute(text)
    is_path = reader.has_separator(text)
    if text.endswith((".py", ".ipynb")):
        return is_path or text.endswith(".ipynb") or reader.may_be_there(path)
    if (text.endswith(_SOURCES) or is_path) and reader.is_file(path):
        return True
    return text in (".", "..") or (is_path and reader.is_folder(path))
