"""The steps of the demo: look, fail, explain, register, rehearse, works. Each is a real command in a real shell."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess

from msgspec import Struct

from kalyx.core.seats.callers import TYPED_BY
from kalyx.core.system.own_command import own_command
from kalyx.core.text.quoting import line_for
from kalyx.demo.machine import Demo

_WHY = ["kalyx", "why", "hivescale", "--in", "spring_weights.ipynb"]
# The message, the words of the command, the status that it ends with.
STEPS: list[tuple[str, list[str], int]] = [
    ("Look around: which interpreters and environments are here?", ["kalyx", "survey"], 0),
    ("This is the spring folder, and orchard is activated. What does each seat really use?", ["kalyx", "here"], 1),
    ("The notebook cannot import hivescale, which you know is installed. Why?", _WHY, 1),
    ("Paste the first fix: the kernel of that name now starts orchard, and is tried at once.",
     ["kalyx", "register", os.path.join("..", "orchard"), "--id", "orchard-spring", "--take-over", "--yes"], 0),
    ("Prove it: start the kernel and import in it.",
     ["kalyx", "rehearse", "orchard-spring", "--import", "hivescale"], 0),
    ("Ask the first question again.", _WHY, 0),
    ("And the table: everybody agrees.", ["kalyx", "here"], 0),
]  # fmt: skip


class DemoShell(Struct):
    """The shell that the demo's lines are typed into, and how a user enters and removes the machine there."""

    name: str
    argv: list[str]
    enter: list[str]
    remove: list[str]

    def line(self, words: list[str]) -> str:
        """The words as a line for this shell."""
        return line_for(words, self.name)


def shell_for(demo: Demo) -> DemoShell:
    """cmd on Windows, else bash, else sh."""
    if os.name == "nt":
        enter, remove = os.path.join(demo.root, "enter.cmd"), ["rmdir", "/s", "/q", demo.root]
        return DemoShell("cmd", [os.environ.get("COMSPEC") or "cmd.exe"], [enter], remove)
    enter, remove = os.path.join(demo.root, "enter.sh"), ["rm", "-r", demo.root]
    bash = shutil.which("bash")
    argv = [bash, "--norc", "--noprofile"] if bash else [shutil.which("sh") or "/bin/sh"]
    return DemoShell("bash" if bash else "sh", argv, [".", enter], remove)


def run_line(demo: Demo, shell: DemoShell, line: str, capture: bool) -> tuple[int, str]:
    """Type one line into a new shell in the demo's folder; returns its status and its captured output."""
    typed = None
    command: list[str] | str
    if shell.name == "cmd":
        # With /c cmd reads the line by the rules of a typed one; with /s only the outer quotes are taken off.
        command = f'"{shell.argv[0]}" /d /s /c "{line} <nul"'
    else:
        # The shell reads the line from its input, as from a person: given as an argument it would be a script's.
        command, typed = shell.argv, f"{line} </dev/null\n"
    done = subprocess.run(
        command,
        input=typed,
        env={**demo.variables, TYPED_BY: str(os.getpid())},
        cwd=demo.folder,
        stdout=subprocess.PIPE if capture else None,
        stderr=subprocess.STDOUT if capture else None,
        encoding="utf-8",
        errors="backslashreplace",
        check=False,
        timeout=600,
    )
    return done.returncode, done.stdout or ""


def write_command(demo: Demo) -> None:
    """A ``kalyx`` on the demo's PATH that is this very Kalyx."""
    folder = os.path.join(demo.root, "bin")
    if os.name == "nt":
        _write_batch(os.path.join(folder, "kalyx.cmd"), ["@" + subprocess.list2cmdline(own_command([])) + " %*"])
        return
    path = os.path.join(folder, "kalyx")
    with open(path, "w", encoding="utf-8") as file:
        file.write(f'#!/bin/sh\nexec {shlex.join(own_command([]))} "$@"\n')
    os.chmod(path, 0o755)


def write_enter_files(demo: Demo) -> None:
    """Write the files that set the demo's variables in the user's own shell, and define ``leave``."""
    if os.name == "nt":
        _write_for_cmd(demo)
        _write_for_powershell(demo)
    else:
        _write_for_posix(demo)


def _names(demo: Demo) -> list[str]:
    """The variables that a user's shell gets; those of its terminal and system are its own."""
    return [name for name in demo.variables if name not in demo.kept]


def _write_for_posix(demo: Demo) -> None:
    enter, leave = [], []
    for name in _names(demo):
        enter += [f'kalyx_had_{name}=${{{name}+yes}} kalyx_old_{name}="${{{name}-}}"',
                  f"export {name}={shlex.quote(demo.variables[name])}"]  # fmt: skip
        leave += [f'  if [ -n "$kalyx_had_{name}" ]; then export {name}="$kalyx_old_{name}"; else unset {name}; fi',
                  f"  unset kalyx_had_{name} kalyx_old_{name}"]  # fmt: skip
    lines = [
        "# Read this file with a dot in front, to use the machine of kalyx demo in this shell; `leave` undoes that.",
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
    with open(os.path.join(demo.root, "enter.sh"), "w", encoding="utf-8") as file:
        file.write("\n".join(lines) + "\n")


def _below(demo: Demo, value: str, root: str) -> str:
    """A value of a variable with the demo's folder by this word of a shell: the file stays right in every code page."""
    return value.replace(demo.root + os.sep, root)


def _write_for_cmd(demo: Demo) -> None:
    """``enter.cmd``, and ``leave.cmd`` on the demo's PATH."""
    enter, leave = ["@if defined kalyx_old_folder call leave"], []
    for name in _names(demo):
        value = _below(demo, demo.variables[name], "\0").replace("%", "%%").replace("\0", "%~dp0")
        enter += [f'@set "kalyx_old_{name}="', f'@if defined {name} set "kalyx_old_{name}=%{name}%"',
                  f'@set "{name}={value}"']  # fmt: skip
        leave += [f'@set "{name}=%kalyx_old_{name}%"', f'@set "kalyx_old_{name}="']
    enter += ['@set "kalyx_old_folder=%CD%"', '@cd /d "%~dp0' + os.path.relpath(demo.folder, demo.root) + '"']
    leave += ['@cd /d "%kalyx_old_folder%"', '@set "kalyx_old_folder="']
    _write_batch(os.path.join(demo.root, "enter.cmd"), enter)
    _write_batch(os.path.join(demo.root, "bin", "leave.cmd"), leave)


def _write_for_powershell(demo: Demo) -> None:
    """``enter.ps1``, to be read with a dot in front (about_Scripts, about_Environment_Variables)."""
    enter, leave = [], []
    for name in _names(demo):
        value = _below(demo, demo.variables[name], "\0").replace("'", "''").replace("\0", "' + $kalyx_root + '")
        enter += [f"$kalyx_old_{name} = $env:{name}", f"$env:{name} = '{value}'"]
        leave += [f"  $env:{name} = $kalyx_old_{name}"]
    inside = os.path.relpath(demo.folder, demo.root)
    lines = ["if (Test-Path function:leave) { leave }", "$kalyx_root = $PSScriptRoot + '\\'", *enter,
             "$kalyx_old_folder = Get-Location", "function leave {", *leave, "  Set-Location $kalyx_old_folder",
             "  Remove-Item function:leave", "}", f"Set-Location ($kalyx_root + '{inside}')"]  # fmt: skip
    with open(os.path.join(demo.root, "enter.ps1"), "w", encoding="utf-8-sig") as file:
        file.write("\n".join(lines) + "\n")


def _write_batch(path: str, lines: list[str]) -> None:
    """A file for cmd, which reads files in the code page of its console: where that lacks a letter, in UTF-8."""
    text = "\r\n".join(lines) + "\r\n"
    try:
        content = text.encode("oem" if os.name == "nt" else "ascii")
    except UnicodeEncodeError:
        content = b"@chcp 65001 >nul\r\n" + text.encode("utf-8")
    with open(path, "wb") as file:
        file.write(content)
