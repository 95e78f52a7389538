"""Standard output and error: every character in the encoding of whoever reads them, and readers that go away."""

from __future__ import annotations

import codecs
import io
import os
import sys
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from _typeshed import ReadableBuffer

# What a page of characters may lack, and how it is written there; anything else by its number.
_SPELLED = {"…": "...", "→": "->", "·": "-", "≠": "!", "∅": "-", "─": "-", "│": "|", "×": "x", "’": "'"}


class _Outlet(io.FileIO):
    """Standard output or error: whoever reads it may go away, which changes nothing about what was found.

    Any other refusal (a full disk) is kept in ``refused``: the answer did not get there, which the end of the run says.
    """

    refused: OSError | None = None
    deserted = False

    def write(self, content: ReadableBuffer) -> int:
        size = memoryview(content).nbytes
        try:
            written = super().write(content)
        except OSError as error:
            self.deserted = True
            if not isinstance(error, BrokenPipeError):
                self.refused = error
            os.dup2(os.open(os.devnull, os.O_WRONLY), self.fileno())
            written = size
        return size if written is None else written


def open_output() -> None:
    """Streams that take every character (written out where the encoding lacks it), and that nobody need read."""
    codecs.register_error("kalyx", _spelled)
    for number, name in ((1, "stdout"), (2, "stderr")):
        given = getattr(sys, name)
        if sys.platform == "win32" and isinstance(given, io.TextIOWrapper) and given.isatty():
            given.reconfigure(errors="kalyx")  # Windows writes to a console by calls of its own
            continue
        try:
            raw: io.FileIO = _Outlet(number, "w", closefd=False)
        except OSError:  # the stream was closed before the start
            raw = io.FileIO(os.open(os.devnull, os.O_WRONLY), "w")
        buffered = number == 2 or raw.isatty()
        setattr(sys, name, io.TextIOWrapper(io.BufferedWriter(raw), _encoding(given), "kalyx", line_buffering=buffered))


def _encoding(given: object) -> str:
    """The encoding of a pipe or file: Python's own choice; on Windows that of the console, whose programs read it.

    cmd reads batch files, and PowerShell what a program prints, by the console's page of characters
    (``GetConsoleOutputCP``); Python writes by another. A variable or option that names an encoding is followed.
    """
    encoding = getattr(given, "encoding", None) or "utf-8"
    # An isolated interpreter, as Kalyx starts itself, does not read them.
    named = os.environ.get("PYTHONIOENCODING", "").partition(":")[0]
    if not named and sys.platform == "win32" and not sys.flags.utf8_mode and os.environ.get("PYTHONUTF8") != "1":
        import ctypes

        named = f"cp{ctypes.windll.kernel32.GetConsoleOutputCP() or ctypes.windll.kernel32.GetOEMCP()}"
    try:
        return codecs.lookup(named).name if named else encoding
    except LookupError:
        return encoding


def _spelled(error: UnicodeError) -> tuple[str | bytes, int]:
    """The error handler of both streams: a sign in letters that every encoding has, any other as its number."""
    if isinstance(error, UnicodeEncodeError):
        character = error.object[error.start]
        if character in _SPELLED:
            return _SPELLED[character], error.start + 1
    return codecs.backslashreplace_errors(error)


def output_deserted() -> bool:
    """Whether nobody reads any more what is printed, or it cannot be written."""
    return isinstance(outlet := _outlet(), _Outlet) and outlet.deserted


def _outlet() -> object:
    return getattr(getattr(sys.stdout, "buffer", None), "raw", None)


def undelivered() -> str | None:
    """Why the answer could not be written, whole, to standard output; None where it was."""
    sys.stdout.flush()
    outlet = _outlet()
    if not isinstance(outlet, _Outlet) or outlet.refused is None:
        return None
    return (outlet.refused.strerror or str(outlet.refused)).lower()
