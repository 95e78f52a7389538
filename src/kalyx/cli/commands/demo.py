"""``kalyx demo``: a made-up machine, and the job walked through on it."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core.model.action_results import DemoAnswer, DemoStep
from kalyx.core.model.records import ChangePlan, KalyxError
from kalyx.core.text.visible import visible

if TYPE_CHECKING:
    from kalyx.demo.machine import Demo


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("dir", nargs="?", metavar="DIR", help="the folder to build it in (./larkmoor-demo)")
    parser.add_argument("--build-only", action="store_true", help="build the machine only, without the story")
    changing(parser)


def run(call: Call) -> int:
    """Build the machine and run every step, showing the line and its output. Returns 0 where each ended as expected."""
    from kalyx.demo.machine import build, replaces

    if call.machine.runner is None:
        raise KalyxError("the demo creates environments and runs commands, and --static starts no program")
    folder = call.machine.reader.absolute(call.options.dir or "larkmoor-demo")
    plan = [ChangePlan(action="create a demo machine of about 40 MB", path=folder)]
    if replaces(folder):
        plan.insert(0, ChangePlan(action="remove the demo machine created there before", path=folder))
    if not call.as_json:
        for change in plan:
            print(f"to do: {change.action}, {visible(change.path)}", flush=True)
    if not call.may_change(f"Create the demo machine in {visible(folder)}?"):
        if call.as_json:
            call.print_json(DemoAnswer(folder=folder, steps=[], plan=plan))
        return 0
    demo = build(call.machine, folder, lambda text: None if call.as_json else print(f"... {text}", flush=True))
    return _walk(call, demo, plan)


def _walk(call: Call, demo: Demo, plan: list[ChangePlan]) -> int:
    """Run every step and stop at the first that ends with another status than expected; returns 0, or 1."""
    from kalyx.demo.walk import STEPS, run_line, shell_for, write_command, write_enter_files

    write_command(demo)
    write_enter_files(demo)
    shell = shell_for(demo)
    steps: list[DemoStep] = []
    failed = None
    if not call.as_json:
        print(f"\nThe honey cooperative Larkmoor, in {demo.root}")
        for note in demo.notes:
            print(f"({note})")
    for message, words, expected in [] if call.options.build_only else STEPS:
        line = shell.line([*words, *(["--plain"] if call.options.plain else [])])
        if not call.as_json:
            print(f"\n--- {message}\n\n$ {line}\n", flush=True)
        status, output = run_line(demo, shell, line, capture=call.as_json)
        steps.append(DemoStep(message=message, line=line, status=status, output=output))
        if status != expected:
            failed = f"the step {visible(line)} ended with {status}, and the story expects {expected}"
            break
    if call.as_json:
        call.print_json(DemoAnswer(folder=demo.root, steps=steps, notes=demo.notes, plan=plan, done=failed is None))
    else:
        print(f"\nTo use this machine in your shell:  {shell.line(shell.enter)}")
        print("To go back to your own settings:    leave")
        print(f"To remove this machine:             {shell.line(shell.remove)}")
    if failed is not None:
        print(f"kalyx: {failed}", file=sys.stderr)
    return 0 if failed is None else 1
