"""``kalyx enter``: the line that activates an environment in this shell."""

from __future__ import annotations

import argparse
import sys

from kalyx.cli.context import Call
from kalyx.core.actions.entering import enter
from kalyx.core.model.records import KalyxError
from kalyx.core.text.shells import SHELLS
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("target", metavar="TARGET", help="the environment to enter")
    parser.add_argument("--shell", choices=sorted(SHELLS), metavar="NAME", help="for this shell, not the one above")


def run(call: Call) -> int:
    answer = enter(call.machine, call.target(call.options.target), call.options.shell)
    if call.as_json:
        call.print_json(answer)
        return 0
    _refuse_what_cannot_be_written(answer.line)
    # The line alone on standard output, to be evaluated as it is; the rest is for people.
    for warning in answer.warnings:
        print(f"kalyx: {visible(warning)}", file=sys.stderr)
    if sys.stdout.isatty():
        print(f"to leave: {answer.leave}", file=sys.stderr)
    print(answer.line)
    return 0


def _refuse_what_cannot_be_written(line: str) -> None:
    """A character written by its number would make another line of it. Raises KalyxError."""
    encoding = sys.stdout.encoding
    try:
        line.encode(encoding)
    except UnicodeEncodeError as error:
        hint = "; type chcp 65001 first" if sys.platform == "win32" else ""
        missing = f"{encoding}, the encoding of this output, has no {visible(line[error.start])}"
        raise KalyxError(f"the line cannot be printed: {missing}{hint}") from None
