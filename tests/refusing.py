"""Kalyx run with one reading of the system refused; called by ``preloaded.py`` with the words ERROR NUMBER REPORT WORDS...

A reading is a call of the operating system's functions by Kalyx's own code (and the libraries that it reads with), not
by the import system. The reading of this NUMBER (from 1; 0: none) fails with the error of that name; ``GONE`` is a file
that vanishes: the reading, and every later one of the same path, finds nothing. The readings taken, one a line, are
written to REPORT at the end.
"""

from __future__ import annotations

import builtins
import errno
import os
import sys
from collections.abc import Callable

NAMES = ["stat", "lstat", "scandir", "readlink", "open", "read", "access", "listdir", "getcwd", "fstat"]


class Refusing:
    """Counts the readings, and refuses the one asked for."""

    def __init__(self, error: str, number: int, report: str) -> None:
        self.error, self.number, self.report = error, number, report
        self.taken: list[str] = []
        self.gone: object = None

    def around(self, name: str, real: Callable) -> Callable:
        def reading(*words: object, **more: object) -> object:
            if self._is_ours():
                path = words[0] if words and isinstance(words[0], (str, bytes)) else ""
                self.taken.append(f"{name} {path!r}")
                number = getattr(errno, self.error, errno.ENOENT)
                if name == "access" and (len(self.taken) == self.number or (self.gone and path == self.gone)):
                    return False  # it says no, and raises nothing
                if len(self.taken) == self.number:
                    self.gone = path if self.error == "GONE" else None
                    raise OSError(number, os.strerror(number), path or None)
                if self.gone and path == self.gone:
                    raise OSError(number, os.strerror(number), path)
            return real(*words, **more)

        return reading

    @staticmethod
    def _is_ours() -> bool:
        """Whether the call comes from reading, not from importing a module or from the interpreter's own upkeep."""
        frame, deep = sys._getframe(2), 0
        while frame is not None and deep < 40:
            if frame.f_code.co_filename.startswith("<frozen importlib") or "/importlib/" in frame.f_code.co_filename:
                return False
            frame, deep = frame.f_back, deep + 1
        return True

    def write(self) -> None:
        self.number = -1
        with builtins.open(self.report, "w", encoding="utf-8", errors="surrogateescape") as file:
            file.write("\n".join(self.taken))


def main() -> None:
    error, number, report, *words = sys.argv[1:]
    from kalyx.cli.start import main as begin

    refusing = Refusing(error, int(number), report)
    for name in NAMES:
        setattr(os, name, refusing.around(name, getattr(os, name)))
    sys.argv = ["kalyx", *words]
    try:
        begin()
    finally:
        refusing.write()

