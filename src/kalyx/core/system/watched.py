"""A command that runs with Kalyx's own input and output, while Kalyx keeps a copy of its standard error.

Where standard error is a terminal, the command gets a terminal of its own there (pty(7)), so that it colours as before.
"""

from __future__ import annotations

import os
import select
import signal
import subprocess
import sys
import threading
from collections import deque
from collections.abc import Callable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from types import FrameType

Handler = Callable[[int, "FrameType | None"], object] | int | None

_KEPT = 1024 * 1024  # bytes of the end of standard error
_CHUNK = 65536
_AFTER = 0.2  # seconds that a program which the command left running may still write
_PASSED_ON = ("SIGTERM", "SIGHUP", "SIGUSR1", "SIGUSR2", "SIGALRM", "SIGCONT")


class NotStarted(Exception):
    """A command that the system did not start; ``status`` is what a shell ends with then."""

    def __init__(self, reason: str, status: int) -> None:
        super().__init__(reason)
        self.status = status


def run_watched(words: list[str]) -> tuple[int, bytes]:
    """Run a command to its end: its status, negative for the signal that ended it, and the end of its standard error.

    Signals that ask to end reach the command and not Kalyx. Raises NotStarted.
    """
    own = _terminal() if os.name == "posix" and os.isatty(2) else None
    passed = _Passed()
    try:
        running = passed.started(subprocess.Popen(words, stderr=subprocess.PIPE if own is None else own[1]))
    except OSError as error:
        passed.restore()
        if isinstance(error, FileNotFoundError):
            raise NotStarted("there is no such program", 127) from None
        raise NotStarted(str(error.strerror), 126) from None
    finally:
        if own is not None:
            os.close(own[1])
    kept: deque[bytes] = deque()
    source = own[0] if own is not None else running.stderr.fileno() if running.stderr is not None else -1
    reading = threading.Thread(target=_copy, args=(source, running, kept), daemon=True)
    reading.start()
    status = running.wait()
    reading.join(_AFTER * 5)
    passed.restore()
    return status, b"".join(kept)[-_KEPT:]


def end_alike(status: int) -> int:
    """The status to end with as the command did; a command that a signal ended: this process ends by that signal."""
    if status >= 0 or os.name != "posix":
        return status
    import resource

    sys.stdout.flush()
    sys.stderr.flush()
    resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
    if -status not in (signal.SIGKILL, signal.SIGSTOP):
        signal.signal(-status, signal.SIG_DFL)
    os.kill(os.getpid(), -status)
    return 128 - status


def _terminal() -> tuple[int, int] | None:
    """Both ends of a terminal like that of standard error, which changes no byte; None where the system gives none."""
    try:
        import fcntl
        import pty
        import termios

        master, slave = pty.openpty()
        settings = termios.tcgetattr(2)
        settings[1] &= ~termios.OPOST
        termios.tcsetattr(slave, termios.TCSANOW, settings)
        fcntl.ioctl(slave, termios.TIOCSWINSZ, fcntl.ioctl(2, termios.TIOCGWINSZ, bytes(8)))
    except (ImportError, OSError):
        return None
    return master, slave


def _copy(source: int, running: subprocess.Popen[bytes], kept: deque[bytes]) -> None:
    """Copy what comes to standard error; a program that the command left running keeps nobody waiting."""
    size = 0
    while True:
        if os.name == "posix" and not select.select([source], [], [], _AFTER)[0]:
            if running.poll() is not None:
                return
            continue
        try:
            chunk = os.read(source, _CHUNK)
        except OSError:  # a terminal whose other end is closed
            return
        if not chunk:
            return
        _write(chunk)
        kept.append(chunk)
        size += len(chunk)
        while size - len(kept[0]) > _KEPT:
            size -= len(kept.popleft())


def _write(chunk: bytes) -> None:
    while chunk:
        try:
            chunk = chunk[os.write(2, chunk) :]
        except BlockingIOError:
            select.select([], [2], [])
        except OSError:
            return  # the reader of standard error has gone


class _Passed:
    """Has signals end the command: those of the keyboard reach it by themselves, the others are handed on.

    One that arrives before the command is started is handed on as soon as it is.
    """

    def __init__(self) -> None:
        self._running: subprocess.Popen[bytes] | None = None
        self._early: list[int] = []
        self._before: dict[int, Handler] = {}
        at_keyboard = os.name != "posix" or os.isatty(0) or os.isatty(2)
        handlers = [(name, self._hand_on) for name in _PASSED_ON]
        handlers += [(name, _wait if at_keyboard else self._hand_on) for name in ("SIGINT", "SIGQUIT", "SIGBREAK")]
        for name, handler in handlers:
            number = getattr(signal, name, None)
            if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
                self._before[number] = signal.signal(number, handler)

    def started(self, running: subprocess.Popen[bytes]) -> subprocess.Popen[bytes]:
        self._running = running
        for number in self._early:
            running.send_signal(number)
        return running

    def restore(self) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)

    def _hand_on(self, number: int, frame: FrameType | None) -> None:
        if self._running is None:
            self._early.append(number)
        elif self._running.poll() is None:
            self._running.send_signal(number)


def _wait(number: int, frame: FrameType | None) -> None:
    """The command's own group has the signal: only the command decides what comes of it."""
