"""Runner: starting programs under limits, and ending them with all that they started.

Every start has a time limit, an output limit, a session (process group) of its
own and no standard input. When the program ends, Kalyx ends the processes that it
left: its group, and processes outside the group that carry its mark; no call
waits for a pipe that a grandchild keeps open. When Kalyx itself is killed, the
guard ends them (``guard``).
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
from typing import TYPE_CHECKING

from kalyx.core import signals
from kalyx.core.system import processes
from kalyx.core.system.guard import MARK_VARIABLE, guard
from kalyx.core.system.runner import OUTPUT_LIMIT, Ended, Runner, Running

if TYPE_CHECKING:
    from kalyx.core.system.loopback import Loopback


class _Drain(threading.Thread):
    """Reads a pipe to its end, and keeps the first ``limit`` bytes."""

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


class _Program:
    """A program that was started: its process, and the mark of its descendants."""

    def __init__(self, argv: list[str], variables: Mapping[str, str] | None, folder: str | None) -> None:
        """Start it. Raises OSError or ValueError where the system cannot; an interrupt meanwhile ends it again."""
        guard().stand()
        self.mark = guard().new_mark()
        self.before = processes.numbers()
        self.process: subprocess.Popen[bytes] | None = None
        argv = _looked_up(argv, variables, folder)
        environment = dict(os.environ if variables is None else variables) | {MARK_VARIABLE: self.mark}
        try:
            with signals.held():  # a half-started program could not be ended
                self.process = subprocess.Popen(
                    argv,
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    env=environment,
                    cwd=folder or os.path.abspath(os.sep),
                    start_new_session=sys.platform != "win32",
                )
                guard().begun(self.mark, self.process.pid)
        except KeyboardInterrupt:
            self.end()
            raise
        except (OSError, ValueError):
            guard().refused(self.mark)
            raise

    @property
    def running(self) -> subprocess.Popen[bytes]:
        assert self.process is not None
        return self.process

    def end(self, patience: float = 0.0) -> None:
        """End the program and all that it started; with ``patience`` (seconds), first by SIGTERM. Waits for the end."""
        process = self.process
        if process is None:
            return
        # A process that changed its variables is known by its parents only: note them before they end.
        strays = _descendants(process.pid)
        if sys.platform == "win32":
            process.kill()
        else:
            if patience:
                processes.kill_group(process.pid, signal.SIGTERM)
                try:
                    process.wait(patience)
                except subprocess.TimeoutExpired:
                    pass
            processes.kill_group(process.pid, signal.SIGKILL)
        processes.kill(strays)
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            pass
        self.clear(strays)

    def clear(self, strays: list[int] | None = None) -> None:
        """End what is left of a program that has ended, and wait until the kills have taken effect."""
        assert self.process is not None
        if sys.platform != "win32":
            processes.kill_group(self.process.pid, signal.SIGKILL)
        until = time.monotonic() + 3
        while True:
            left = processes.marked(self.mark, self.before) if self.before is not None else []
            processes.kill(left)
            waited = [pid for pid in {*left, *(strays or [])} if _runs(pid)]
            if not waited or time.monotonic() > until:
                break
            time.sleep(0.01)
        guard().over(self.process.pid)


def _descendants(pid: int) -> list[int]:
    import psutil

    try:
        return [child.pid for child in psutil.Process(pid).children(recursive=True)]
    except (psutil.Error, OSError):
        return []


def _runs(pid: int) -> bool:
    """Whether a process runs; a zombie does not."""
    import psutil

    try:
        return bool(psutil.Process(pid).status() != psutil.STATUS_ZOMBIE)
    except (psutil.Error, OSError):
        return False


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
    """Wait for the end, without polling where the system can notify. Raises TimeoutExpired."""
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


class LiveRunning(Running):
    """A program of this machine."""

    def __init__(self, program: _Program, limit: int) -> None:
        self._program = program
        self.pid = program.running.pid
        self._drains = [_Drain(program.running.stdout, limit), _Drain(program.running.stderr, limit)]

    def status(self) -> int | None:
        return self._program.running.poll()

    def words(self) -> bytes:
        return bytes(self._drains[0].kept) + bytes(self._drains[1].kept)

    def wait(self, seconds: float) -> bool:
        try:
            self._program.running.wait(seconds)
        except subprocess.TimeoutExpired:
            return False
        return True

    def end(self, patience: float = 1.0) -> None:
        self._program.end(patience if self._program.running.poll() is None else 0)
        for drain in self._drains:
            drain.join(0.3)


class LiveRunner(Runner):
    """Starts programs on this machine."""

    @property
    def loopback(self) -> Loopback:
        from kalyx.core.system.loopback import Loopback

        return Loopback()

    @contextmanager
    def empty_folder(self) -> Iterator[str]:
        import shutil

        folder = guard().new_folder()
        try:
            yield folder
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def link_all(self, real: str, folder: str, instead: Mapping[str, str], deep: str = "") -> None:
        os.makedirs(folder, exist_ok=True)
        for name in sorted(os.listdir(real)):
            path = os.path.join(real, name)
            if path in instead:
                if instead[path]:
                    os.symlink(path, os.path.join(folder, os.path.basename(instead[path])))
            elif any(other.startswith(path + os.sep) for other in instead) or (name == deep and os.path.isdir(path)):
                self.link_all(path, os.path.join(folder, name), instead)
            elif name != "__pycache__":
                os.symlink(path, os.path.join(folder, name))

    def chance(self, count: int) -> str:
        return os.urandom(count).hex()

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
        began = time.monotonic()
        try:
            program = _Program(argv, variables, folder)
        except (OSError, ValueError) as error:
            reason = getattr(error, "strerror", None) or str(error)
            return Ended(None, b"", b"", 0.0, problem=f"cannot be started: {reason.lower()}")
        process = program.running
        drains: list[_Drain] = []
        timed_out = False
        try:
            if bounded:
                _bound_memory(process.pid)
            drains = [_Drain(process.stdout, limit), _Drain(process.stderr, limit)]
            if begun is not None:
                begun()
            _wait(
                process,
                max(0.0, seconds - (time.monotonic() - began)),
                (lambda: heard(bytes(drains[0].kept))) if heard is not None else None,
            )
        except subprocess.TimeoutExpired:
            timed_out = True
            program.end()
        except BaseException:
            program.end()
            raise
        took = time.monotonic() - began
        _finish(program, drains, timed_out)
        cut = drains[0].cut or drains[1].cut
        return Ended(process.returncode, bytes(drains[0].kept), bytes(drains[1].kept), took, timed_out, cut)

    def start(
        self,
        argv: list[str],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        limit: int = 64 * 1024,
    ) -> Running:
        program = _Program(argv, variables, folder)
        try:
            return LiveRunning(program, limit)
        except BaseException:
            program.end()
            raise


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
        # RLIMIT_DATA, not RLIMIT_AS: some libraries reserve far more address space than they use.
        resource.prlimit(pid, resource.RLIMIT_DATA, (most, most))
    except (OSError, ValueError):
        pass


def _finish(program: _Program, drains: list[_Drain], timed_out: bool) -> None:
    """Read the output, and end what the program left: a child that outlives the program may hold the pipes."""
    for drain in drains:
        drain.join(0.5)
    if not timed_out:
        program.clear()
    for pipe in (program.running.stdout, program.running.stderr):
        if pipe is not None and not any(drain.is_alive() for drain in drains):
            pipe.close()
