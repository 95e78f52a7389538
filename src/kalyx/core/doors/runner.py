"""Runner: starting programs under limits, and ending them with all their children.

Every start has a time limit, an output limit, a session (process group) of its
own and no standard input. Whatever the program leaves behind in its group is
ended when it ends; nothing waits for a pipe that a grandchild keeps open.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager

from msgspec import Struct

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


class _Drain(threading.Thread):
    """Reads a pipe to its end, keeps the first ``limit`` bytes and lets the rest go by."""

    def __init__(self, pipe: object, limit: int) -> None:
        super().__init__(daemon=True)
        self.pipe = pipe
        self.limit = limit
        self.kept = bytearray()
        self.cut = False
        self.start()

    def run(self) -> None:
        while True:
            try:
                chunk = os.read(self.pipe.fileno(), 65536)  # type: ignore[attr-defined]
            except (OSError, ValueError):
                return
            if not chunk:
                return
            room = self.limit - len(self.kept)
            self.kept += chunk[:room]
            self.cut = self.cut or len(chunk) > room


def end_tree(process: subprocess.Popen[bytes], patience: float = 0.0) -> None:
    """End a program started by this door with its whole group; first politely when there is patience."""
    if sys.platform == "win32":
        import psutil

        try:
            family = [*psutil.Process(process.pid).children(recursive=True), psutil.Process(process.pid)]
        except psutil.Error:
            family = []
        for member in family:
            try:
                member.kill()
            except psutil.Error:
                pass
    else:
        # Children that made a session of their own are not in the group: remember them first.
        strays = _descendants(process.pid)
        if patience:
            _signal_group(process.pid, signal.SIGTERM)
            try:
                process.wait(patience)
            except subprocess.TimeoutExpired:
                pass
        _signal_group(process.pid, signal.SIGKILL)
        for stray in strays:
            try:
                stray.kill()  # type: ignore[attr-defined]
            except Exception:
                pass
        # A kill takes effect in its own time: what they wrote is done only when they are gone.
        for stray in strays:
            try:
                stray.wait(3)  # type: ignore[attr-defined]
            except Exception:
                pass
    try:
        process.wait(5)
    except subprocess.TimeoutExpired:
        pass


def _descendants(pid: int) -> list[object]:
    import psutil

    try:
        return list(psutil.Process(pid).children(recursive=True))
    except psutil.Error:
        return []


def _signal_group(pid: int, number: int) -> None:
    try:
        os.killpg(pid, number)
    except (ProcessLookupError, PermissionError):
        pass


def _wait(process: subprocess.Popen[bytes], seconds: float, meanwhile: Callable[[], None] | None) -> None:
    """Wait for the end, doing something now and then. Raises TimeoutExpired."""
    if meanwhile is None:
        _wait_for_end(process, seconds)
        return
    until = time.monotonic() + seconds
    while True:
        try:
            process.wait(min(0.2, max(0.0, until - time.monotonic())))
            return
        except subprocess.TimeoutExpired:
            if time.monotonic() >= until:
                raise
            meanwhile()


def _wait_for_end(process: subprocess.Popen[bytes], seconds: float) -> None:
    """Wait for the end without looking again and again, where the system tells of it. Raises TimeoutExpired."""
    try:
        handle = os.pidfd_open(process.pid)  # type: ignore[attr-defined,unused-ignore]
    except (AttributeError, OSError):
        process.wait(seconds)
        return
    try:
        import select

        waiter = select.poll()
        waiter.register(handle, select.POLLIN)
        waiter.poll(seconds * 1000)
    finally:
        os.close(handle)
    process.wait(0.0)


class _Guard:
    """A small shell that waits on a pipe only Kalyx holds: when Kalyx is gone, it ends the group it guards."""

    def __init__(self, group: int) -> None:
        waits_on, self.held = os.pipe()
        self.shell = subprocess.Popen(
            ["/bin/sh", "-c", f"read x; kill -s KILL -- -{group}"],
            stdin=waits_on,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        os.close(waits_on)

    def dismiss(self) -> None:
        self.shell.kill()
        self.shell.wait()
        os.close(self.held)


def _start_guarded(
    argv: list[str], variables: Mapping[str, str] | None, folder: str | None
) -> tuple[subprocess.Popen[bytes], _Guard]:
    """Start ``argv`` and its guard: it begins only when the guard stands, so that no moment is left unguarded."""
    if not os.access(os.path.join(folder or "", argv[0]), os.X_OK):
        raise FileNotFoundError(2, "no such file or directory" if not os.path.exists(argv[0]) else "permission denied")
    waits_on, go = os.pipe()
    try:
        # On standard input, for small shells know no descriptor above 9 by its number.
        waiting = 'read go || exit 125; exec "$@" </dev/null'
        process = _popen(["/bin/sh", "-c", waiting, "sh", *argv], variables, folder, waits_on)
        guard = _Guard(process.pid)
        os.write(go, b"go\n")
        return process, guard
    finally:
        os.close(waits_on)
        os.close(go)


@contextmanager
def _interrupt_later() -> Iterator[None]:
    """Hold an interrupt back until what was begun is known to us: a program half started could not be ended."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    came: list[int] = []
    before = signal.signal(signal.SIGINT, lambda number, frame: came.append(number))
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before or signal.default_int_handler)
    if came:
        raise KeyboardInterrupt


class Running:
    """A program started to be talked to (a kernel): its output so far, and how to end it."""

    def __init__(self, process: subprocess.Popen[bytes], limit: int, guard: _Guard | None) -> None:
        self.process = process
        self._guard = guard
        self.pid = process.pid
        self._drains = [_Drain(process.stdout, limit), _Drain(process.stderr, limit)]

    def status(self) -> int | None:
        """Its exit status, or None while it lives."""
        return self.process.poll()

    def words(self) -> bytes:
        """What it has written to standard output and standard error so far."""
        return bytes(self._drains[0].kept) + bytes(self._drains[1].kept)

    def wait(self, seconds: float) -> bool:
        try:
            self.process.wait(seconds)
        except subprocess.TimeoutExpired:
            return False
        return True

    def end(self, patience: float = 1.0) -> None:
        """End it with everything it started; returns when it is gone."""
        try:
            end_tree(self.process, patience if self.process.poll() is None else 0)
        finally:
            if self._guard is not None:
                self._guard.dismiss()
                self._guard = None
        for drain in self._drains:
            drain.join(0.3)


class LiveRunner:
    """Starts programs on this machine."""

    @staticmethod
    @contextmanager
    def empty_folder() -> Iterator[str]:
        """A new empty folder to stand in, removed afterwards."""
        import tempfile  # only here: most questions need no folder

        with tempfile.TemporaryDirectory(prefix="kalyx-") as folder:
            yield folder

    @staticmethod
    def chance(count: int) -> str:
        """``count`` bytes from the system's source of chance, in hex."""
        return os.urandom(count).hex()

    def run(
        self,
        argv: list[str],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        seconds: float = 10.0,
        limit: int = OUTPUT_LIMIT,
        guarded: bool = False,
        bounded: bool = False,
        heard: Callable[[bytes], None] | None = None,
        begun: Callable[[], None] | None = None,
    ) -> Ended:
        """Run ``argv`` to its end or its time limit and return how it ended. Never raises for the program's sake.

        ``guarded``: it does not outlive Kalyx, however Kalyx ends. ``bounded``: it may not take
        more memory than leaves the machine usable, where the system can hold it to that. ``heard`` is told a few times
        a second all that it has printed so far. ``begun`` is called once, while the program runs: work of ours
        that need not wait for it.
        """
        began = time.monotonic()
        try:
            process, guard = self._begin(argv, variables, folder, guarded)
        except (OSError, ValueError) as error:
            reason = getattr(error, "strerror", None) or str(error)
            return Ended(None, b"", b"", 0.0, problem=f"cannot be started: {reason.lower()}")
        if bounded:
            _bound_memory(process.pid)
        drains = [_Drain(process.stdout, limit), _Drain(process.stderr, limit)]
        timed_out = False
        try:
            if begun is not None:
                begun()
            _wait(
                process,
                max(0.0, seconds - (time.monotonic() - began)),
                (lambda: heard(bytes(drains[0].kept))) if heard is not None else None,
            )
        except subprocess.TimeoutExpired:
            timed_out = True
            end_tree(process)
        except BaseException:
            end_tree(process)
            raise
        finally:
            if guard is not None:
                guard.dismiss()
        took = time.monotonic() - began
        _finish(process, drains, timed_out)
        cut = drains[0].cut or drains[1].cut
        return Ended(process.returncode, bytes(drains[0].kept), bytes(drains[1].kept), took, timed_out, cut)

    def _begin(
        self, argv: list[str], variables: Mapping[str, str] | None, folder: str | None, guarded: bool
    ) -> tuple[subprocess.Popen[bytes], _Guard | None]:
        """Start a program, with its guard; an interrupt meanwhile ends it again. Raises OSError or ValueError."""
        process, guard = None, None
        argv = _looked_up(argv, variables, folder)
        try:
            with _interrupt_later():
                if guarded and sys.platform != "win32":
                    process, guard = _start_guarded(argv, variables, folder)
                else:
                    process = _popen(argv, variables, folder)
        except KeyboardInterrupt:
            if process is not None:
                end_tree(process)
            if guard is not None:
                guard.dismiss()
            raise
        return process, guard

    def start(
        self,
        argv: list[str],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        limit: int = 64 * 1024,
    ) -> Running:
        """Start a program to talk to; it does not outlive Kalyx. Raises OSError when the system cannot start it."""
        process, guard = self._begin(argv, variables, folder, guarded=True)
        return Running(process, limit, guard)


def _looked_up(argv: list[str], variables: Mapping[str, str] | None, folder: str | None) -> list[str]:
    """The words with a bare first one looked up on the child's own PATH, not on ours."""
    if variables is None or sys.platform == "win32" or os.sep in argv[0]:
        return argv
    for entry in variables.get("PATH", os.defpath).split(":"):
        candidate = os.path.join(folder or "", entry, argv[0])
        if os.path.isfile(candidate) and os.access(candidate, os.X_OK):
            return [candidate, *argv[1:]]
    return argv


def _bound_memory(pid: int) -> None:
    """Three quarters of the machine's memory at most, and never less than two GiB."""
    if sys.platform != "linux":
        return
    import resource

    most = max(2 << 30, os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") * 3 // 4)
    try:
        # What is taken counts, not what is only set aside: some libraries set aside far more than they use.
        resource.prlimit(pid, resource.RLIMIT_DATA, (most, most))
    except (OSError, ValueError):
        pass


def _popen(
    argv: list[str], variables: Mapping[str, str] | None, folder: str | None, reads: int = subprocess.DEVNULL
) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        argv,
        stdin=reads,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env=dict(variables) if variables is not None else None,
        cwd=folder,
        start_new_session=sys.platform != "win32",
    )


def _finish(process: subprocess.Popen[bytes], drains: list[_Drain], timed_out: bool) -> None:
    """Take in what was said, and end what the program left behind: a child that outlives it may hold the pipes."""
    for drain in drains:
        drain.join(0.5)
    if not timed_out and sys.platform != "win32":
        _signal_group(process.pid, signal.SIGKILL)
    for pipe in (process.stdout, process.stderr):
        if pipe is not None and not any(drain.is_alive() for drain in drains):
            pipe.close()
