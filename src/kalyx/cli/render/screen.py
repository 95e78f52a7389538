"""The terminal: marks, colours, paths cut in the middle, and the shape of a finding.

Colours are ones a colour-blind reader tells apart, and never say anything that
a mark or a word does not say too. Text from outside is made visible before it
is printed.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable

from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
from kalyx.core.machine import Machine
from kalyx.core.model.records import ChangePlan, Evidence, Finding, Fix, Unread
from kalyx.core.model.steps import ManualStep
from kalyx.core.text.visible import visible

MARKS = {"same": "=", "differs": "≠", "dead": "∅", "unknown": "?"}
PLAIN_MARKS = {"same": "=", "differs": "!", "dead": "-", "unknown": "?"}
COLOURS = {"same": BLUE, "differs": ORANGE, "dead": f"bold {ORANGE}", "unknown": QUIET}
LABEL = BLUE
STRONG = "bold"
_WIDEST = 500  # columns


class Screen:
    """Prints lines and findings, as wide as the terminal is."""

    def __init__(self, machine: Machine, plain: bool) -> None:
        self.machine_line = machine.line
        self.home = machine.reader.home.rstrip("/\\") or machine.reader.home
        self.separator = machine.reader.path.sep
        colour = not plain and not os.environ.get("NO_COLOR") and sys.stdout.isatty()
        encoding = (getattr(sys.stdout, "encoding", None) or "ascii").lower().replace("-", "")
        self.plain = plain or encoding not in ("utf8", "utf16", "cp65001")
        width = None if sys.stdout.isatty() or "COLUMNS" in os.environ else 100
        self.console = Console(
            no_color=not colour, color_system="auto" if colour else None, width=width, highlight=False, soft_wrap=True
        )
        if self.console.width > _WIDEST:
            self.console.width = _WIDEST  # a variable may say anything
        self.width = max(40, self.console.width)
        self.marks = PLAIN_MARKS if self.plain else MARKS
        self.colour = colour
        self._lines: set[str] = set()  # as they were printed; those of a second look are mostly the same

    def path(self, path: str | None, room: int = 0) -> str:
        """A path with ``~`` for the home folder; where there is no room, without its middle."""
        if path is None:
            return ""
        shown = path
        if path == self.home or path.startswith(self.home + self.separator):
            shown = "~" + path[len(self.home) :]
        shown = visible(shown)
        return self.without_middle(shown, room) if room else shown

    def without_middle(self, text: str, room: int) -> str:
        """A text cut to this many columns in its middle, where paths say least."""
        if cell_len(text) <= room:
            return text
        dots = "..." if self.plain else "…"
        keep = max(8, room - len(dots))
        head = max(2, keep // 4)
        return text[:head] + dots + text[-(keep - head) :]

    def words(self, text: str, room: int) -> str:
        """A text from outside, made visible, and cut at the end where there is no room."""
        shown = visible(text)
        if cell_len(shown) <= room:
            return shown
        dots = "..." if self.plain else "…"
        return shown[: max(1, room - len(dots))] + dots

    def mark(self, relation: str) -> Text:
        """The sign of a relation, with its colour."""
        return Text(self.marks[relation], style=COLOURS[relation])

    def line(self, *parts: str | Text | tuple[str, str]) -> None:
        """Print one line of texts and (text, style) pairs: the only way to the terminal, nothing in them acts on it."""
        whole = Text()
        for part in parts:
            if isinstance(part, tuple):
                whole.append(visible(part[0]), style=part[1])
            else:
                whole.append(visible(part) if isinstance(part, str) else part)
        self._lines.add(whole.plain)
        self.console.print(whole, soft_wrap=True)

    def has_shown(self, place: Unread) -> bool:
        """Whether a line that was printed says that a place could not be read, and why."""
        paths, reason = (visible(place.path), self.path(place.path)), visible(place.reason)
        return any(reason in line and any(path in line for path in paths) for line in self._lines)

    def blank(self) -> None:
        """An empty line."""
        self.console.print()

    # -- findings -------------------------------------------------------------

    def finding(self, finding: Finding, indent: int = 3, headline: bool = False) -> None:
        """Because, seen, fix, or, undo. ``headline``: the sentence was printed already, it is not repeated."""
        known = f"{finding.cause}, {finding.certainty}"
        if headline:
            self.labelled(indent, "cause", known)
        else:
            self.labelled(indent, "because", f"{self.shown(finding.message)} ({known})")
        sources = [self.source(evidence) for evidence in finding.evidence]
        for number in range(len(sources) - 1, 0, -1):
            path = finding.evidence[number].path
            if path is not None and path == finding.evidence[number - 1].path and not finding.evidence[number].line:
                sources[number] = "the same file"
        room = self.width - indent - 9
        facts = [self.shown(evidence.fact) for evidence in finding.evidence]
        fitting = [cell_len(f) for f, s in zip(facts, sources, strict=True) if cell_len(f) + 3 + cell_len(s) <= room]
        column = max([length for length in fitting if length <= 64] + [0]) + 3
        for number, (fact, source) in enumerate(zip(facts, sources, strict=True)):
            self._seen(indent, "seen" if number == 0 else "", fact, source, column)
        # What was tested and fails is no fix: it is shown only where there is no other.
        for number, fix in enumerate([fix for fix in finding.fixes if fix.tried != "fails"] or finding.fixes):
            first = "may help" if fix.state == "may-help" else "fix"
            self.fix(indent, first if number == 0 else "or", fix)

    def source(self, evidence: Evidence) -> str:
        """Where an evidence was read, as it stands in its line: path and line number."""
        if evidence.path is None:
            return visible(evidence.source)
        shown = self.path(evidence.path)
        return f"{shown}, line {evidence.line}" if evidence.line else shown

    def plan(self, changes: list[ChangePlan]) -> None:
        """What will be done, and where; a long text does not move the column of paths."""
        lines = [visible(change.action) for change in changes]
        width = max((cell_len(item) for item in lines if cell_len(item) < 40), default=0)
        for change, words in zip(changes, lines, strict=True):
            self.line((words + " " * (width - cell_len(words)), LABEL), "  ", self.path(change.path))

    def doubts(self, unknown: list[Evidence], message: str) -> None:
        """What only running code would tell: each once, with its place."""
        for evidence in {(evidence.path, evidence.line): evidence for evidence in unknown}.values():
            path = self.source(evidence)
            self.line((f"{message}  ", ORANGE), f"what this adds to the path: {self.shown(evidence.fact)}")
            self.line(" " * (len(message) + 4), (path, QUIET))

    def not_read(self, unread: list[Unread], style: str = ORANGE) -> None:
        """The places that could not be read, and why."""
        for refusal in unread:
            self.line(("not read  ", style), self.path(refusal.path), f": {self.shown(refusal.reason)}")

    def labelled(self, indent: int, label: str, text: str) -> None:
        """A label, and next to it words in as many lines as they take."""
        room = self.width - indent - 9
        for number, part in enumerate(wrap(visible(text), room)):
            self.line(" " * indent, ((label if number == 0 else "").ljust(9), LABEL), part)

    def _seen(self, indent: int, label: str, fact: str, source: str, column: int) -> None:
        """The fact, and its source next to it where both fit, else below it."""
        room = self.width - indent - 9
        if cell_len(fact) + 3 + cell_len(source) <= room:
            gap = max(3, min(column, room - cell_len(source)) - cell_len(fact))
            self.line(" " * indent, (label.ljust(9), LABEL), fact, " " * gap, (source, QUIET))
            return
        for number, part in enumerate(wrap(fact, room)):
            self.line(" " * indent, ((label if number == 0 else "").ljust(9), LABEL), part)
        self.line(" " * (indent + 11), (self.without_middle(source, room - 2), QUIET))

    def shown(self, text: str) -> str:
        """Words with the home folder written as ``~``."""
        return visible(text).replace(self.home + self.separator, "~" + self.separator)

    def fix(self, indent: int, label: str, fix: Fix) -> None:
        """What the fix does, then its lines to paste, whole: they are never cut, and stand alone on their lines."""
        self.labelled(indent, label, self.shown(fix.message))
        for number, step in enumerate(fix.steps):
            label, typed = "then" if number else "", step.line
            if isinstance(step, ManualStep):
                typed = step.typed or ""
                if text := step.line.removesuffix(typed):
                    self.labelled(indent, label, text.rstrip())
                    label = ""
            if typed:
                self.line(" " * indent, (label.ljust(9), LABEL), (visible(typed), STRONG))
        if fix.tried is not None:
            came = "the import works then" if fix.tried == "works" else "the import still fails"
            self.line(" " * (indent + 9), (f"tested: {came}", QUIET))
        if fix.undo is not None:
            self.undo(indent, fix.undo)

    def undo(self, indent: int, line: str) -> None:
        """The line that takes something back, whole."""
        self.line(" " * indent, ("undo".ljust(9), LABEL), (visible(line), QUIET))


def wrap(text: str, room: int) -> list[str]:
    """Words in lines no wider than ``room``; a word that is wider stands alone."""
    lines = [""]
    for word in text.split(" "):
        if lines[-1] and cell_len(lines[-1]) + 1 + cell_len(word) > room:
            lines.append(word)
        else:
            lines[-1] = f"{lines[-1]} {word}" if lines[-1] else word
    return lines


def columns(rows: Iterable[list[str]], gap: int = 2) -> list[int]:
    """The width of each column of some rows, with the gap."""
    widths: list[int] = []
    for row in rows:
        for number, cell in enumerate(row):
            if number == len(widths):
                widths.append(0)
            widths[number] = max(widths[number], cell_len(cell) + gap)
    return widths


def padded(text: str, width: int) -> str:
    """A text filled with blanks to a width in columns; one blank where the text is wider."""
    return text + " " * max(1, width - cell_len(text))
