"""Faults tried in forks of one run of the tests, for ``tools/faults.py``: each in about a second.

The tests run once, and the lines of Kalyx that each runs in this process are noted. Then each fault is put into the
code of its function in a fork, which runs the tests of that line until one fails, the shortest first. Nothing is done
unless KALYX_FORKED names a folder: ``faults.json`` there lists the faults, ``caught.json`` is written, a test for each.
"""

from __future__ import annotations

import gc
import json
import os
import select
import signal
import sys
import time
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from types import CodeType, FunctionType

import pytest
from _pytest.runner import runtestprotocol

FOLDER = os.environ.get("KALYX_FORKED", "")
SOURCE = Path(__file__).parents[1] / "src" / "kalyx"
_TOOL, _SECONDS, _LONGEST = 5, 20.0, 60.0


class Ran:
    """The tests of this run that pass, by the lines that they run, and how long each takes."""

    def __init__(self, items: list[pytest.Item]) -> None:
        self.items, self.seconds = items, [0.0] * len(items)
        self.of: dict[tuple[str, int], list[int]] = defaultdict(list)
        lines: set[tuple[str, int]] = set()
        events = sys.monitoring
        events.use_tool_id(_TOOL, "faults")

        def note(code: CodeType, line: int) -> object:
            if code.co_filename.startswith(f"{SOURCE}{os.sep}"):
                lines.add((code.co_filename[len(str(SOURCE)) + 1 :], line))
            return events.DISABLE

        events.register_callback(_TOOL, events.events.LINE, note)
        events.set_events(_TOOL, events.events.LINE)
        for number, item in enumerate(items):
            lines.clear()
            events.restart_events()
            began = time.monotonic()
            passes = not _fails(item, items[number + 1] if number + 1 < len(items) else None)
            self.seconds[number] = time.monotonic() - began
            for place in lines if passes else ():
                self.of[place].append(number)
        events.set_events(_TOOL, 0)
        events.free_tool_id(_TOOL)
        self.steady: dict[int, bool] = {}

    def catches(self, fault: dict) -> str:
        """The test that fails with the fault and passes without it, in a fork as well; empty where none does."""
        numbers = sorted(self.of[fault["file"], fault["line"]], key=lambda number: self.seconds[number])
        failed = _in_fork(lambda: next(iter(self._failing(numbers, fault)), None))
        if failed is None or not failed.isdecimal():
            return failed or ""
        number = int(failed)
        if number not in self.steady:
            self.steady[number] = _in_fork(lambda: str(_fails(self.items[number]))) == "False"
        return self.items[number].nodeid if self.steady[number] else ""

    def _failing(self, numbers: list[int], fault: dict) -> Iterator[str]:
        until = time.monotonic() + _SECONDS
        if not _put(fault):
            return
        for number in numbers:
            if time.monotonic() > until:
                return
            if _fails(self.items[number]):
                yield str(number)


def _fails(item: pytest.Item, following: pytest.Item | None = None) -> bool:
    return any(report.failed for report in runtestprotocol(item, log=False, nextitem=following))


def _in_fork(work) -> str | None:
    """What ``work`` gives in a fork, in words; ``no end`` where the fork does not end, None where it says nothing."""
    ready, said = os.pipe()
    child = os.fork()
    if not child:
        os.setpgid(0, 0)
        silent = os.open(os.devnull, os.O_WRONLY)
        os.dup2(silent, 1)
        os.dup2(silent, 2)
        try:
            os.write(said, (work() or "").encode())
        finally:
            os._exit(0)
    os.close(said)
    answer = os.read(ready, 4096).decode() if select.select([ready], [], [], _LONGEST)[0] else "no end"
    os.close(ready)
    try:
        os.killpg(child, signal.SIGKILL)
    except OSError:
        pass
    os.waitpid(child, 0)
    return answer or None


def _put(fault: dict) -> bool:
    """Put a fault into the function that has it, wherever that is held; False where the function is not there."""
    path = SOURCE / fault["file"]
    content = path.read_bytes()
    offsets = [0]
    for line in content.splitlines(keepends=True):
        offsets.append(offsets[-1] + len(line))
    start, end = (offsets[line - 1] + at for line, at in (fault["start"], fault["end"]))
    known, faulty = (dict(_codes(compile(text, str(path), "exec"))) for text in (content, content[:start] + fault["text"].encode() + content[end:]))
    gc.unfreeze()  # or what was there before the fork is not listed
    changed = {key: code for key, code in faulty.items() if key in known and known[key] != code}
    held = [item for item in gc.get_objects() if isinstance(item, FunctionType) and item.__code__.co_filename == str(path)]
    found = [item for item in held if (item.__code__.co_qualname, item.__code__.co_firstlineno) in changed]
    for item in found:
        item.__code__ = changed[item.__code__.co_qualname, item.__code__.co_firstlineno]
    for item in gc.get_objects():  # what was worked out without the fault
        if hasattr(type(item), "cache_clear") and str(getattr(item, "__module__", "")).startswith("kalyx"):
            item.cache_clear()
    return bool(found)


def _codes(code: CodeType) -> Iterator[tuple[tuple[str, int], CodeType]]:
    for item in code.co_consts:
        if isinstance(item, CodeType):
            yield (item.co_qualname, item.co_firstlineno), item
            yield from _codes(item)


def pytest_runtestloop(session: pytest.Session) -> bool | None:
    if not FOLDER:
        return None
    faults = json.loads(Path(FOLDER, "faults.json").read_text(encoding="utf-8"))
    ran = Ran(session.items)
    gc.freeze()
    Path(FOLDER, "caught.json").write_text(json.dumps([ran.catches(fault) for fault in faults]), encoding="utf-8")
    return True
