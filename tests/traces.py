"""What a test run must not leave: processes, and files outside its own temporary folder. Its end fails where it did."""

from __future__ import annotations

import ctypes
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

import psutil

ROOT = Path(__file__).parents[1]
# What the tools that run the tests keep beside them.
_KEPT_BY_TOOLS = {".git", ".venv", ".pytest_cache", ".ruff_cache", ".mypy_cache", ".hypothesis", "__pycache__", "dist"}
_ADOPTS_ORPHANS = 36  # PR_SET_CHILD_SUBREAPER, linux/prctl.h


class Traces:
    """Taken before the first test; ``left`` tells after the last one what has come since."""

    def __init__(self) -> None:
        self.outside = tempfile.gettempdir()
        self.folder = tempfile.mkdtemp(prefix="kalyx-tests-")
        # Inherited by all that is started; a short path, since local sockets lie below it.
        os.environ["TMPDIR"] = tempfile.tempdir = self.folder
        # What installers and other programs keep of what they fetched and made: none of the user's folders is touched.
        os.environ["PIP_CACHE_DIR"] = os.path.join(self.folder, "pip-cache")
        os.environ["XDG_CACHE_HOME"] = os.path.join(self.folder, "cache")
        if sys.platform == "linux":
            # What a test starts and forgets becomes a child of this process, however deep it was.
            ctypes.CDLL(None).prctl(_ADOPTS_ORPHANS, 1, 0, 0, 0)
        self.before = self._seen()

    def _seen(self) -> set[str]:
        found = {str(path) for path in Path(self.outside).glob("kalyx*") if not path.name.startswith("kalyx-tests-")}
        home = Path.home()
        for folder in (home, home / ".local" / "share", home / ".cache", home / ".config"):
            found |= {str(path) for path in folder.glob("*")}
        for top, folders, files in os.walk(ROOT):
            folders[:] = [name for name in folders if name not in _KEPT_BY_TOOLS]
            found |= {os.path.join(top, name) for name in [*folders, *files]}
        return found

    def left(self, kept: bool = False) -> list[str]:
        """In words, one line a thing; what is left is ended, and removed unless all is ``kept``."""
        problems = [f"a process is left: {' '.join(item)[:200]}" for item in _ended(5.0)]
        new = sorted(self._seen() - self.before)
        problems += [f"outside the run's own folder is left: {path}" for path in new]
        # What installers leave in the run's own folder goes with it; what Kalyx leaves there is a fault.
        inside = [name for name in os.listdir(self.folder) if name.startswith("kalyx")]
        problems += [f"in the folder for temporary files is left: {name}" for name in sorted(inside)]
        if not problems and not kept:
            shutil.rmtree(self.folder, ignore_errors=True)
        return problems


def _ended(seconds: float) -> list[list[str]]:
    """The command lines of what still runs below this process after this time; ended then."""
    until = time.monotonic() + seconds
    while True:
        living = []
        for process in psutil.Process().children(recursive=True):
            try:
                if process.status() != psutil.STATUS_ZOMBIE:
                    living.append((process, process.cmdline()))
            except psutil.Error:
                continue
        if not living or time.monotonic() > until:
            break
        time.sleep(0.1)
    for process, _ in living:
        try:
            process.kill()
        except psutil.Error:
            pass
    return [words for _, words in living]
