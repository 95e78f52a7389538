"""Kalyx run with one of its steps spoilt: stopped there, or refused by the system there.

Called by ``preloaded.py`` with the words DEED NUMBER REPORT WORDS...

A step is a call by which Kalyx changes something or starts a program, as the interpreter's own audit events tell
(PEP 578), or a wait for a program. At step NUMBER (from 1; 0: none) the DEED is done before the step takes place:
``KILL``, ``TERM``, ``HUP`` or ``INT`` is the signal of that name; anything else the name of an error number that the
step then fails with. The steps taken, one a line, are written to REPORT at the end, or when it is killed. While a program
is waited for there is a second step: as soon as it has changed something in the folder KALYX_STEP_WATCHES, or has ended
without (so that every run of the same words has the same number of steps). With KALYX_STEP_PRINTS a write to standard
output is a step too.
"""

from __future__ import annotations

import errno
import os
import signal
import sys
import time
from collections.abc import Callable

_CHANGING = {"os.mkdir", "os.rename", "os.remove", "os.rmdir", "os.link", "os.symlink", "os.chmod", "os.truncate"}
_STARTING = {"subprocess.Popen", "os.posix_spawn", "os.fork"}
_REACHING = {"socket.bind", "socket.connect", "os.kill", "os.killpg"}
_WRITING = os.O_WRONLY | os.O_RDWR | os.O_CREAT


# Kalyx's own code: what the libraries draw by chance is none of its steps.
HERE = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))


class Steps:
    """Counts the steps, and does the action at the one asked for."""

    def __init__(self, action: str, number: int, report: str) -> None:
        self.action, self.number, self.report = action, number, report
        self.taken: list[str] = []
        self.busy = False
        # Sockets, signals and chance are steps too: not every run has as many of them, so only who asks for them counts them.
        self.whole = bool(os.environ.get("KALYX_STEP_REACHES"))

    def heard(self, event: str, arguments: tuple) -> None:
        if self.busy:
            return
        if event == "open":
            path, mode, flags = arguments
            written = isinstance(path, (str, bytes)) and bool(flags & _WRITING or (mode and set(mode) & set("wax+")))
            if written and not os.fsdecode(path).startswith(("/dev/", "/proc/")):
                self.step(f"open {os.fsdecode(path)}")
        elif event in _CHANGING:
            self.step(f"{event} {arguments[0]}")
        elif event in _REACHING and self.whole:
            self.step(event)
        elif event in _STARTING:
            self.step(f"{event} {list(arguments[1])[:4] if event == 'subprocess.Popen' else ''}")

    def step(self, what: str) -> None:
        self.taken.append(what)
        if len(self.taken) != self.number:
            return
        if self.action in ("KILL", "TERM", "HUP", "INT", "USR1"):
            self.write()
            os.kill(os.getpid(), signal.Signals[f"SIG{self.action}"])
        else:
            raise OSError(getattr(errno, self.action), os.strerror(getattr(errno, self.action)))

    def write(self) -> None:
        self.busy = True
        with open(self.report, "w", encoding="utf-8", errors="surrogateescape") as file:
            file.write("\n".join(self.taken))
        self.busy = False


def _with_steps(waiting: Callable, steps: Steps) -> Callable:
    """Waiting for a program, with a step before it and one when the program has begun to change what is watched."""
    watched = os.environ.get("KALYX_STEP_WATCHES")

    def state() -> set[str]:
        return {os.path.join(top, name) for top, folders, files in os.walk(watched or "") for name in folders + files}

    def wait(process: object, *arguments: object) -> None:
        steps.step("wait for a program")
        before = state()
        while watched and process.poll() is None and state() == before:  # type: ignore[attr-defined]
            time.sleep(0.005)
        if watched:
            steps.step("wait for a program that has begun its changes, or ended")
        waiting(process, *arguments)

    return wait


def _prints(steps: Steps) -> None:
    """Open the streams as Kalyx does, with a step before each write to standard output."""
    from kalyx.cli.streams import open_output

    open_output()
    writing = sys.stdout.write

    def write(text: str) -> int:
        steps.step("print")
        return writing(text)

    sys.stdout.write = write  # type: ignore[method-assign]


def main() -> None:
    action, number, report, *words = sys.argv[1:]
    steps = Steps(action, int(number), report)
    from kalyx.cli import start
    from kalyx.core.system import live_runner

    if os.environ.get("KALYX_STEP_PRINTS"):
        start.open_output = lambda: _prints(steps)
    live_runner._wait = _with_steps(live_runner._wait, steps)
    synced = os.fsync

    def sync(handle: int) -> None:
        steps.step("write to the disk")
        synced(handle)

    os.fsync = sync
    chance = os.urandom
    whole = bool(os.environ.get("KALYX_STEP_REACHES"))

    def random_bytes(count: int) -> bytes:
        if whole and sys._getframe(1).f_code.co_filename.startswith(HERE):
            steps.step("random bytes")
        return chance(count)

    os.urandom = random_bytes
    sys.argv = ["kalyx", *words]
    sys.addaudithook(steps.heard)
    try:
        start.main()
    finally:
        steps.write()
        steps.busy = True
