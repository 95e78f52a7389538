"""``kalyx demo``: a made-up machine, and the job walked through on it."""

from __future__ import annotations

import argparse
import os

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core.model.action_results import DemoAnswer, DemoStep
from kalyx.core.model.records import ChangePlan, KalyxError
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("dir", nargs="?", metavar="DIR", help="the folder to build it in (./larkmoor-demo)")
    parser.add_argument("--build-only", action="store_true", help="build the machine only, without the story")
    changing(parser)


def run(call: Call) -> int:
    """Build the machine and run every step, showing the line and what it prints. 0 when all went as told."""
    from kalyx.demo.machine import build, replaces
    from kalyx.demo.walk import EXPECTED, STEPS, run_line, write_command, write_enter_file

    if call.machine.runner is None:
        raise KalyxError("the demo creates environments and runs commands, and --static starts no program")
    folder = call.machine.reader.absolute(call.options.dir or "larkmoor-demo")
    quiet = call.as_json
    plan = [ChangePlan(deed="create a demo machine of about 40 MB", path=folder)]
    if replaces(folder):
        plan.insert(0, ChangePlan(deed="remove the demo machine made there before", path=folder))
    if not quiet:
        for change in plan:
            print(f"to do: {change.deed}, {visible(change.path)}", flush=True)
    if not call.may_change(plan, f"Create the demo machine in {visible(folder)}?"):
        if quiet:
            call.print_json(DemoAnswer(folder=folder, steps=[], plan=plan))
        return 0
    demo = build(call.machine, folder, lambda text: None if quiet else print(f"... {text}", flush=True))
    write_command(demo)
    write_enter_file(demo)
    steps = []
    if not quiet:
        print(f"\nThe honey cooperative Larkmoor, in {folder}")
        for note in demo.notes:
            print(f"({note})")
    for message, line in [] if call.options.build_only else STEPS:
        line = line.format(moor="~/larkmoor" if os.name != "nt" else os.path.dirname(demo.folder))
        line += " --plain" if call.options.plain else ""
        if not quiet:
            print(f"\n--- {message}\n\n$ {line}\n", flush=True)
        status, output = run_line(demo, line, capture=quiet)
        steps.append(DemoStep(message=message, line=line, status=status, output=output))
    if quiet:
        call.print_json(DemoAnswer(folder=folder, steps=steps, notes=demo.notes, plan=plan, done=True))
    else:
        enter, shown = os.path.join(demo.root, "enter.sh"), call.machine.line
        print(f"\nTo use this machine in your shell:   {shown(['.', enter])}\nTo go back to your own settings:  leave")
        print(f"To remove this machine:      {shown(['rm', '-r', folder])}")
    return 0 if [step.status for step in steps] == EXPECTED[: len(steps)] else 1
