"""``kalyx explain``: run a command and explain the import that ended it, or answer a kernel."""

from __future__ import annotations

import argparse
import contextlib
import io
import shlex
import subprocess
import sys

from kalyx.cli.context import Call
from kalyx.core.model.records import KalyxError
from kalyx.core.model.results import ExplainAnswer, WhyAnswer
from kalyx.core.queries.explain import after_the_fix, explain_command, explain_failure, failure_from
from kalyx.core.system import Unreadable
from kalyx.core.system.watched import NotStarted, end_alike, run_watched
from kalyx.core.text.visible import visible

_LIMIT = 4 * 1024 * 1024


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.usage = "%(prog)s [OPTIONS] -- COMMAND..."
    parser.add_argument(
        "words",
        nargs="+",
        metavar="COMMAND",
        help="the command and its arguments, after --; or -: a kernel's failure as JSON on standard input",
    )


def run(call: Call) -> int:
    words = call.options.words
    if words == ["-"]:
        return _answer_kernel(call)
    if call.options.static:
        raise KalyxError("explain runs the command, and --static starts no program")
    try:
        status, errors = run_watched(words)
    except NotStarted as problem:
        print(f"kalyx: {visible(words[0])}: {problem}", file=sys.stderr)
        return problem.status
    if status:
        with contextlib.redirect_stdout(sys.stderr):
            _explain(call, words, errors.decode("utf-8", "surrogateescape"))
            sys.stdout.flush()
    return end_alike(status)


def _explain(call: Call, words: list[str], text: str) -> None:
    """Write the answer to standard error, or nothing where no import ended the command."""
    line = subprocess.list2cmdline(words) if call.machine.reader.system == "windows" else shlex.join(words)
    try:
        answer = explain_command(call.machine, words, line, text, lambda module: None)
    except (KalyxError, Unreadable) as problem:
        print(f"kalyx: {visible(str(problem))}", file=sys.stderr)
        return
    if answer is None:
        return
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.stories import draw_why

        call.screen.blank()
        draw_why(call.screen, answer, call.options.verbose)


def _answer_kernel(call: Call) -> int:
    """Answer on standard output, as JSON, what a kernel's start-up file asks on standard input."""
    if sys.stdin is None:
        raise KalyxError("standard input is closed: there is no failure to read")
    raw = sys.stdin.buffer.read(_LIMIT + 1)
    if len(raw) > _LIMIT:
        raise KalyxError(f"standard input holds more than {_LIMIT} bytes: no kernel hands over that much")
    failure = failure_from(raw)
    call.options.timeout = min(call.options.timeout, 3.0)  # the cell waits for the answer
    answer = explain_failure(call.machine, failure, lambda module: None)
    from kalyx.cli.render.page import answer_alone

    then = after_the_fix(answer, failure)
    html = answer_alone(call.machine, answer, then)
    call.print_json(ExplainAnswer(why=answer, then=then, text=_as_text(call, answer, then), html=html))
    return 0


def _as_text(call: Call, answer: WhyAnswer, then: str | None) -> str:
    """The answer as ``why`` prints it."""
    from kalyx.cli.render.screen import Screen
    from kalyx.cli.render.stories import draw_why

    written = io.BytesIO()
    with contextlib.redirect_stdout(io.TextIOWrapper(written, encoding="utf-8", errors="replace")) as output:
        screen = Screen(call.machine, plain=False)
        draw_why(screen, answer, False)
        if then is not None:
            screen.labelled(3, "then", screen.shown(then))
        output.flush()
    return written.getvalue().decode("utf-8").rstrip()
