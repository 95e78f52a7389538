"""The story: look, fail, explain, register, rehearse, works. Every step is a real command."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess

from kalyx.core.system.own_command import own_command
from kalyx.demo.machine import Demo

# Why, the line, and the status it ends with.
STEPS = [
    ("Look around: which interpreters and environments are here?", "kalyx survey"),
    ("This is the spring folder, and orchard is activated. What does each seat really use?", "kalyx here"),
    ("The notebook cannot import hivescale, which you know is installed. Why?",
     "kalyx why hivescale --in spring_weights.ipynb"),
    ("Paste the first fix: the kernel of that name now starts orchard, and is tried at once.",
     "kalyx register {moor}/orchard --id orchard-spring --label 'Orchard, spring' --take-over --yes"),
    ("Prove it: start the kernel and import in it.", "kalyx rehearse orchard-spring --import hivescale"),
    ("Ask the first question again.", "kalyx why hivescale --in spring_weights.ipynb"),
    ("And the table: everybody agrees.", "kalyx here"),
]  # fmt: skip
EXPECTED = [0, 1, 1, 0, 0, 0, 0]


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


def write_command(demo: Demo) -> None:
    """A ``kalyx`` on the demo's PATH that is this very Kalyx."""
    folder = os.path.join(demo.root, "bin")
    if os.name == "nt":
        with open(os.path.join(folder, "kalyx.cmd"), "w", encoding="utf-8") as file:
            file.write("@" + " ".join(f'"{word}"' for word in own_command([])) + " %*\r\n")
        return
    path = os.path.join(folder, "kalyx")
    with open(path, "w", encoding="utf-8") as file:
        file.write(f'#!/bin/sh\nexec {shlex.join(own_command([]))} "$@"\n')
    os.chmod(path, 0o755)


def write_enter_file(demo: Demo) -> str:
    """Write the file to source that sets the demo's variables in the user's own shell, and defines ``leave``."""
    path = os.path.join(demo.root, "enter.sh")
    names = [name for name in demo.variables if name != "TERM"]
    enter, leave = [], []
    for name in names:
        enter += [f'kalyx_had_{name}=${{{name}+yes}} kalyx_old_{name}="${{{name}-}}"',
                  f"export {name}={shlex.quote(demo.variables[name])}"]  # fmt: skip
        leave += [f'  if [ -n "$kalyx_had_{name}" ]; then export {name}="$kalyx_old_{name}"; else unset {name}; fi',
                  f"  unset kalyx_had_{name} kalyx_old_{name}"]  # fmt: skip
    lines = [
        "# To stand in the made-up machine of kalyx demo: read it with a dot in front; `leave` goes back.",
        'command -v leave >/dev/null 2>&1 && [ -n "${kalyx_old_folder-}" ] && leave',
        *enter,
        "kalyx_old_folder=$PWD",
        "leave() {",
        *leave,
        '  cd "$kalyx_old_folder" && unset kalyx_old_folder',
        "  unset -f leave",
        "}",
        f"cd {shlex.quote(demo.folder)}",
    ]
    with open(path, "w", encoding="utf-8") as file:
        file.write("\n".join(lines) + "\n")
    return path
