"""The story: look, fail, explain, register, rehearse, works. Every step is a real command."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys

from kalyx.cli.calls import Call
from kalyx.core.facts import DemoAnswer, DemoStep
from kalyx.demo.machine import Demo, build

STEPS = [
    ("Look around: which interpreters and environments are here?", "kalyx survey"),
    ("You stand in the spring folder, orchard is on. What does each seat really use?", "kalyx here"),
    ("The notebook cannot import hivescale, which you know is installed. Why?",
     "kalyx why hivescale --in spring_weights.ipynb"),
    ("Paste the first remedy: the kernel of that name now starts orchard, and is tried at once.",
     "kalyx register {moor}/orchard --id orchard-spring --label 'Orchard, spring' --take-over --yes"),
    ("Prove it: start the kernel and import in it.", "kalyx rehearse orchard-spring --import hivescale"),
    ("Ask the first question again.", "kalyx why hivescale --in spring_weights.ipynb"),
    ("And the table: everybody agrees.", "kalyx here"),
]  # fmt: skip


def walk_through(call: Call) -> int:
    """Build the machine and run every step, showing the line and what it prints. 0 when all went as told."""
    folder = call.machine.facts.absolute(call.options.dir or "larkmoor-demo")
    quiet = call.as_json
    demo = build(call.machine, folder, lambda text: None if quiet else print(f"... {text}", flush=True))
    _command(demo)
    steps = []
    if not quiet:
        print(f"\nThe honey cooperative Larkmoor, in {folder}")
        for note in demo.notes:
            print(f"({note})")
    for says, line in [] if call.options.build_only else STEPS:
        line = line.format(moor="~/larkmoor" if os.name != "nt" else os.path.dirname(demo.folder))
        if not quiet:
            print(f"\n--- {says}\n\n$ {line}\n", flush=True)
        status, output = run_line(demo, line, capture=quiet)
        steps.append(DemoStep(says=says, line=line, status=status, output=output))
    if quiet:
        call.print_json(DemoAnswer(folder=folder, steps=steps, notes=demo.notes))
    else:
        print(f"\nTo stand there yourself:  . {_enter_file(demo)}\nTo clear it all away:     rm -r {folder}")
    expected = [0, 1, 1, 0, 0, 0, 0]
    return 0 if [step.status for step in steps] == expected[: len(steps)] else 1


def run_line(demo: Demo, line: str, capture: bool) -> tuple[int, str]:
    """Type one line into a shell of its own that stands in the demo's folder."""
    shell = shutil.which("bash") or shutil.which("sh")
    argv = [shell] + (["--norc", "--noprofile"] if shell and shell.endswith("bash") else []) if shell else ["cmd"]
    # The shell reads the line from its input, as from a person: given as an argument it would be a script's.
    done = subprocess.run(
        [word for word in argv if word],
        input=f"{line} </dev/null\n" if shell else f"{line}\r\n",
        env=demo.variables,
        cwd=demo.folder,
        stdout=subprocess.PIPE if capture else None,
        stderr=subprocess.STDOUT if capture else None,
        text=True,
        encoding="utf-8",
        check=False,
        timeout=600,
    )
    return done.returncode, done.stdout or ""


def _command(demo: Demo) -> None:
    """A ``kalyx`` on the demo's PATH that is this very Kalyx."""
    folder = os.path.join(demo.root, "bin")
    if os.name == "nt":
        with open(os.path.join(folder, "kalyx.cmd"), "w", encoding="utf-8") as file:
            file.write(f'@"{sys.executable}" -I -m kalyx %*\r\n')
        return
    path = os.path.join(folder, "kalyx")
    with open(path, "w", encoding="utf-8") as file:
        file.write(f"#!/bin/sh\nexec '{sys.executable}' -I -m kalyx \"$@\"\n")
    os.chmod(path, 0o755)


def _enter_file(demo: Demo) -> str:
    """A file to source that sets the demo's variables in the user's own shell."""
    import shlex

    path = os.path.join(demo.root, "enter.sh")
    lines = [f"export {name}={shlex.quote(value)}" for name, value in demo.variables.items() if name != "TERM"]
    with open(path, "w", encoding="utf-8") as file:
        file.write("\n".join([*lines, f"cd {shlex.quote(demo.folder)}"]) + "\n")
    return path
