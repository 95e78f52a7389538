"""Processes as Reader and Runner need them: whether one lives, which carry a mark, and ending them."""

from __future__ import annotations

import os
import signal

from kalyx.core.text.numbers import is_number


def is_living(pid: int) -> bool:
    """Whether a process of this number exists, whoever it belongs to."""
    if os.name == "posix":
        try:
            os.kill(pid, 0)
        except ProcessLookupError:
            return False
        except (PermissionError, OverflowError):
            return pid < 1 << 31
        return True
    import psutil

    return bool(psutil.pid_exists(pid))


def numbers() -> frozenset[int] | None:
    """The numbers of all processes now; None where the system has no folder of them."""
    if os.name != "posix":
        return None
    try:
        return frozenset(int(name) for name in os.listdir("/proc") if is_number(name))
    except OSError:
        return None


def marked(mark: str, besides: frozenset[int] | None) -> list[int]:
    """The processes that carry ``mark`` among their variables, but for those of the numbers ``besides``.

    A program may leave its group and its session, or outlive its parent: its variables go with it.
    """
    wanted = mark.encode() + b"\0"  # whole: one mark may begin as another does
    result = []
    if besides is None:
        import psutil

        for process in psutil.process_iter():
            try:
                if mark in process.environ().values():
                    result.append(process.pid)
            except (psutil.Error, OSError):
                continue
        return result
    for pid in (numbers() or frozenset()) - besides:
        try:
            with open(f"/proc/{pid}/environ", "rb") as file:
                if wanted in file.read(1 << 20):
                    result.append(pid)
        except OSError:
            continue
    return result


def kill(pids: list[int]) -> None:
    """Kill these processes; one that is gone already is no error."""
    for pid in pids:
        try:
            os.kill(pid, getattr(signal, "SIGKILL", signal.SIGTERM))
        except OSError:
            pass


def kill_group(group: int, number: int) -> None:
    """Send a signal to a process group; a group that is gone already is no error."""
    try:
        os.killpg(group, number)
    except OSError:
        pass
