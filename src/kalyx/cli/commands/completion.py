"""``kalyx completion``: print the code that enables tab completion."""

from __future__ import annotations

import argparse
import sys

from kalyx.cli.completing import COMPLETED, shell_code
from kalyx.cli.context import Call
from kalyx.core.model.action_results import CompletionAnswer


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=COMPLETED, help="the shell to print the code for")


def run(call: Call) -> int:
    text = shell_code(call.options.shell)
    if call.as_json:
        call.print_json(CompletionAnswer(shell=call.options.shell, code=text))
    else:
        sys.stdout.write(text)
    return 0
