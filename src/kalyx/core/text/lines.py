"""Lines of a text from outside, with a limit on the length of a line that patterns search."""

from __future__ import annotations

from collections.abc import Iterator

# Characters; what a person writes is shorter, and a pattern's work can grow with the square of the length.
LONGEST_LINE = 4096


def file_lines(text: str) -> list[str]:
    """The lines of a file, as interpreters read one: fewer signs end them than those of ``str.splitlines``."""
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    return lines if lines[-1] else lines[:-1]


def lines_of(text: str) -> Iterator[tuple[int, str]]:
    """Each line with its number from 1; of a longer one the beginning."""
    for number, line in enumerate(file_lines(text), 1):
        yield number, line[:LONGEST_LINE]
