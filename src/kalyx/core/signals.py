"""Signals that ask a run to end: obeyed at once, or held back during a change that must be complete.

``Stopped`` is raised in the main thread by the first signal. Later signals change nothing, because the run is ending
already. No handler is ever replaced by "ignore": the interpreter would write a traceback for a signal that arrives in
between.
"""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

# Every signal that can be caught and whose usual effect is to end the program.
_NAMES = ("SIGHUP", "SIGINT", "SIGQUIT", "SIGTERM", "SIGUSR1", "SIGUSR2", "SIGALRM", "SIGVTALRM", "SIGPROF", "SIGXCPU",
          "SIGPOLL", "SIGPWR", "SIGSTKFLT", "SIGBREAK")  # fmt: skip
ENDING_SIGNALS = [getattr(signal, name) for name in _NAMES if hasattr(signal, name)]


_SOON = 0.005  # seconds
_READS_TYPES = tuple(os.path.join(*parts) for parts in (("msgspec", "_utils.py"), (os.sep, "typing.py")))


class Stopped(KeyboardInterrupt):
    """A signal asks the run to end; ``number`` is the signal's."""

    def __init__(self, number: int) -> None:
        super().__init__()
        self.number = number


class _State:
    """What is known of signals in this process."""

    def __init__(self) -> None:
        self.depth = 0  # how many blocks hold signals back
        self.waiting: int | None = None  # the first signal that was held back
        self.stopped = False  # one was raised, or the run is over: later ones change nothing


_state = _State()


def _arrived(number: int, frame: FrameType | None) -> None:
    if _state.stopped:
        return
    if _state.depth:
        _state.waiting = _state.waiting or number
        return
    if _is_loading(frame):
        # A half-loaded module, or a record type half read by compiled code, is unusable: the signal is sent again soon.
        again = threading.Timer(_SOON, os.kill, (os.getpid(), number))
        again.daemon = True
        again.start()
        return
    _state.stopped = True
    raise Stopped(number)


def _is_loading(frame: FrameType | None) -> bool:
    """Whether modules are being loaded, or types read by the library of records, which an exception in there ends."""
    while frame is not None:
        name = frame.f_code.co_filename
        if name.startswith("<frozen importlib") or name.endswith(_READS_TYPES):
            return True
        frame = frame.f_back
    return False


def heed() -> None:
    """Make each of these signals end the run by ``Stopped``; a signal that is ignored stays ignored."""
    for number in ENDING_SIGNALS:
        try:
            if signal.getsignal(number) is not signal.SIG_IGN:
                signal.signal(number, _arrived)
        except (OSError, ValueError):
            continue


def over() -> int | None:
    """The run's work is done: from now on a signal changes nothing. Returns the signal that was held back, or None."""
    number, _state.waiting, _state.stopped = _state.waiting, None, True
    return number


@contextmanager
def heeded() -> Iterator[None]:
    """Within ``held``: while the block runs a signal takes effect at once, and so does one that was held back."""
    depth, _state.depth = _state.depth, 0
    try:
        if _state.waiting is not None and not _state.stopped:
            number, _state.waiting, _state.stopped = _state.waiting, None, True
            raise Stopped(number)
        yield
    finally:
        _state.depth = depth


@contextmanager
def held() -> Iterator[None]:
    """Hold signals back while the block runs; the first that arrived meanwhile takes effect at the block's end."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    _state.depth += 1
    try:
        yield
    finally:
        _state.depth -= 1
        if not _state.depth and _state.waiting is not None and not _state.stopped:
            number, _state.waiting = _state.waiting, None
            _state.stopped = True
            raise Stopped(number)
