"""Runner: starts programs, as an abstract class; ``live_runner`` has the live form."""

from __future__ import annotations

import signal
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any

from msgspec import Struct

if TYPE_CHECKING:
    from kalyx.core.system.loopback import Loopback

OUTPUT_LIMIT = 1024 * 1024


class Ended(Struct):
    """How a program ended: its status (None when it could not be started), its output, the time in seconds."""

    status: int | None
    output: bytes
    errors: bytes
    seconds: float
    timed_out: bool = False
    cut: bool = False
    problem: str | None = None

    @property
    def signal_name(self) -> str | None:
        """The signal that ended it, by name."""
        if self.status is None or self.status >= 0:
            return None
        try:
            return signal.Signals(-self.status).name
        except ValueError:
            return f"signal {-self.status}"


class Running:
    """A program that keeps running (a kernel): its process number, its output so far, and how to end it."""

    pid: int

    def status(self) -> int | None:
        """Its exit status, or None while it lives."""
        raise NotImplementedError

    def words(self) -> bytes:
        """What it has written to standard output and standard error so far."""
        raise NotImplementedError

    def wait(self, seconds: float) -> bool:
        """Wait for its end; False where it still runs then."""
        raise NotImplementedError

    def end(self, patience: float = 1.0) -> None:
        """End it with everything it started; returns when it is gone."""
        raise NotImplementedError


class Runner:
    """Starts programs under limits; none outlives Kalyx, however Kalyx ends."""

    @property
    def is_live(self) -> bool:
        """Whether it starts programs, or only gives answers that a capture holds."""
        return True

    @property
    def loopback(self) -> Loopback:
        """How kernels are talked to."""
        raise NotImplementedError

    def empty_folder(self) -> AbstractContextManager[str]:
        """A new, empty folder, removed afterwards."""
        raise NotImplementedError

    def link_all(self, real: str, folder: str, instead: Mapping[str, str], deep: str = "") -> None:
        """Fill ``folder``, which is in an empty folder of this Runner, with links to what is in ``real``.

        ``instead``: paths in it that get another name (a path, of which the last part counts) or, for an empty text, no
        link; folders on the way to them are made again too. ``deep``: a folder directly in it that is made again as a
        whole, so that what is in it finds its neighbours here. Compiled files are left out where a folder is made
        again. Raises OSError where a link cannot be made.
        """
        raise NotImplementedError

    def chance(self, count: int) -> str:
        """``count`` bytes from the system's source of chance, in hex."""
        raise NotImplementedError

    def run(
        self,
        argv: list[str],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        seconds: float = 10.0,
        limit: int = OUTPUT_LIMIT,
        bounded: bool = False,
        heard: Callable[[bytes], None] | None = None,
        begun: Callable[[], None] | None = None,
    ) -> Ended:
        """Run ``argv`` to its end or its time limit and return how it ended. No failure of the program raises.

        ``limit``: bytes of each output that are kept. ``bounded``: it may not take more memory than leaves the machine
        usable, where the system can hold it to that. ``heard`` is told a few times a second all that it has printed so
        far. ``begun`` is called once, while the program runs: work of ours that need not wait for it.
        """
        raise NotImplementedError

    def start(
        self,
        argv: list[str],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        limit: int = 64 * 1024,
    ) -> Running:
        """Start a program to talk to. Raises OSError or ValueError when the system cannot start it."""
        raise NotImplementedError


class Through(Runner):
    """A Runner that has all done by another; what it does itself, a subclass says."""

    def __init__(self, inner: Runner) -> None:
        self._inner = inner

    @property
    def is_live(self) -> bool:
        return self._inner.is_live

    @property
    def loopback(self) -> Loopback:
        return self._inner.loopback

    def empty_folder(self) -> AbstractContextManager[str]:
        return self._inner.empty_folder()

    def link_all(self, real: str, folder: str, instead: Mapping[str, str], deep: str = "") -> None:
        self._inner.link_all(real, folder, instead, deep)

    def chance(self, count: int) -> str:
        return self._inner.chance(count)

    def run(self, argv: list[str], **more: Any) -> Ended:
        return self._inner.run(argv, **more)

    def start(self, argv: list[str], **more: Any) -> Running:
        return self._inner.start(argv, **more)
