"""Which lines of Kalyx each test runs, for ``tools/faults.py``: by the interpreter's line events (PEP 669, Python 3.12).

Nothing is noted unless KALYX_COVERED names a folder. Each process writes what it ran there, one line a test.
"""

from __future__ import annotations

import functools
import json
import os
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

FOLDER = os.environ.get("KALYX_COVERED", "")
SOURCE = str(Path(__file__).parents[1] / "src" / "kalyx") + os.sep
_TOOL = 4
_ran: set[tuple[str, int]] = set()


def begin() -> None:
    """Note the lines from now on."""
    events = sys.monitoring
    events.use_tool_id(_TOOL, "tests")
    # What it needs is bound: at the interpreter's end there are no globals any more.
    events.register_callback(_TOOL, events.events.LINE, functools.partial(_line, no_more=events.DISABLE))
    events.set_events(_TOOL, events.events.LINE)


def _line(code: object, line: int, source: str = SOURCE, ran: set[tuple[str, int]] = _ran, no_more: object = None) -> object:
    name = code.co_filename  # type: ignore[attr-defined]
    if name.startswith(source):
        ran.add((name[len(source) :], line))
    return no_more


def end(test: str, seconds: float | None = None) -> None:
    """Write what was run since the last end; each line is noted anew then."""
    lines: dict[str, list[int]] = {}
    for name, line in sorted(_ran):
        lines.setdefault(name, []).append(line)
    with open(os.path.join(FOLDER, f"{os.getpid()}.lines"), "a", encoding="utf-8") as file:
        file.write(json.dumps({"test": test, "seconds": seconds, "lines": lines}) + "\n")
    _ran.clear()
    sys.monitoring.restart_events()


def current() -> str:
    """The test that runs now."""
    return os.environ.get("PYTEST_CURRENT_TEST", "").rpartition(" (")[0]


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item: pytest.Item) -> Iterator[None]:
    import time

    _ran.clear()
    began = time.monotonic()
    yield
    end(item.nodeid, time.monotonic() - began)


def pytest_configure() -> None:
    if FOLDER and not sys.monitoring.get_tool(_TOOL):
        begin()
