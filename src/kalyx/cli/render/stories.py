"""The text of ``why``: the question and the seat, the cause, the evidence, the fixes."""

from __future__ import annotations

from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
from kalyx.cli.render.folding import folded
from kalyx.cli.render.screen import Screen, padded, wrap
from kalyx.core.model.records import ImportAnswer, Seat
from kalyx.core.model.results import SeatImports, WhyAnswer
from kalyx.core.text.visible import visible

WORDS = {"imports": ("imports", BLUE), "fails": ("fails", ORANGE), "undetermined": ("not tested", QUIET)}


def draw_why(screen: Screen, answer: WhyAnswer, verbose: bool) -> None:
    """Draw each import asked about; of a file, or of every seat, first a table, then each failure once."""
    if answer.seats:
        _everywhere(screen, answer)
        return
    for note in answer.notes:
        screen.line(("note  ", QUIET), screen.shown(note))
    for line in answer.undo or []:  # of what was done, before the fixes of what is left have theirs
        screen.undo(3, line)
    if answer.seen_by and answer.target.seat == "notebook":
        screen.labelled(0, "server", screen.shown(answer.seen_by))
    for finding in answer.findings:
        screen.finding(finding)
    screen.not_read(answer.unread)
    if any(item.asked_at for item in answer.imports):
        _table(screen, answer)
        return
    for number, item in enumerate(answer.imports):
        if number:
            screen.blank()
        draw_import(screen, item, answer.target)
    if verbose and answer.target.search_path:
        screen.blank()
        screen.line(("   the search path", "bold"), ", in order")
        for entry in answer.target.search_path:
            gone = "" if entry.exists else "  (not there)"
            path = screen.path(entry.entry) or "the current folder"
            screen.line("   ", padded(path, 52), (visible(screen.shown(entry.origin)) + gone, QUIET))


def _table(screen: Screen, answer: WhyAnswer) -> None:
    """The imports of files: the outcome of each, then each failure once per cause."""
    fine = sum(1 for item in answer.imports if item.outcome == "imports" and not item.findings)
    screen.line((f"{fine} of {len(answer.imports)} imports work", "bold"), "  in  ", place_of(screen, answer.target))
    screen.blank()
    width = min(max([len(_asked(item)) for item in answer.imports] + [8]) + 2, screen.width // 3)
    for item in answer.imports:
        word, colour = WORDS[item.outcome]
        first = item.asked_at[0]
        where = f"{screen.path(first.path)}, " + (f"cell {first.cell}, " if first.cell else "") + f"line {first.line}"
        more = f" and {len(item.asked_at) - 1} more" if len(item.asked_at) > 1 else ""
        owner = f"{item.distribution.name} {item.distribution.version}" if item.distribution else ""
        note = " (not every run meets it)" if item.guarded and item.outcome != "imports" else ""
        path = screen.without_middle(where + more + note, 60)
        name = padded(screen.words(_asked(item), width - 2), width)
        screen.line("   ", name, (word.ljust(16), colour), padded(screen.words(owner, 24), 26), (path, QUIET))
    details: set[str] = set()
    for item in answer.imports:
        if item.findings and item.findings[0].message not in details:
            details.add(item.findings[0].message)
            screen.blank()
            draw_import(screen, item, answer.target)


def _asked(item: ImportAnswer) -> str:
    """The module that an import asks for; as written where its dots lead to no package."""
    written = item.statement.removeprefix("from ").partition(" ")[0]
    return written if written.startswith(".") and written.lstrip(".") == item.module else item.module


def _everywhere(screen: Screen, answer: WhyAnswer) -> None:
    """One module: which seats import which version from where, and which do not; each reason once."""
    screen.line((f"import {answer.module}", "bold"), f"  in {len(answer.seats)} seats and environments")
    groups: dict[tuple[str, str], list[SeatImports]] = {}
    for row in answer.seats:
        groups.setdefault(_said_of(screen, row), []).append(row)
    for (word, text), rows in groups.items():
        screen.blank()
        colour = next((colour for item, colour in WORDS.values() if item == word), QUIET)
        kinds = folded(rows, lambda row: (row.target.seat, row.target.environment and row.target.environment.key))
        for number, (row, more) in enumerate(kinds):
            alike = f"  and {more} more" if more else ""
            head = (("" if number else word).ljust(21), colour)
            screen.line("   ", head, place_of(screen, row.target), (alike, QUIET))
        for line in wrap(text, screen.width - 27) if text else []:
            screen.line(" " * 27, (line, QUIET))


def _said_of(screen: Screen, row: SeatImports) -> tuple[str, str]:
    """The outcome in a word or two, and where it comes from or why not."""
    answer = row.imports[0]
    owner = f"{answer.distribution.name} {answer.distribution.version}  " if answer.distribution else ""
    reason = next((finding.message for finding in answer.findings if finding.cause != "not-asked"), "")
    if answer.outcome == "undetermined":
        if answer.found_at:
            return "found, not tried", owner + screen.path(answer.found_at)
        return ("not found by reading", screen.shown(reason)) if reason else (WORDS[answer.outcome][0], "")
    return WORDS[answer.outcome][0], screen.shown(reason) if reason else owner + screen.path(answer.found_at)


def place_of(screen: Screen, seat: Seat) -> str:
    """``notebook spring_weights.ipynb  (heath, 3.9.18)``."""
    name = screen.path(seat.name) if seat.seat in ("path", "program") else visible(seat.name)
    called = "the shell" if seat.seat == "shell" else name if seat.seat == "path" else f"{seat.seat} {name}"
    if seat.interpreter is None or seat.environment is None:
        return called
    return f"{called}  ({visible(seat.environment.name)}, {seat.interpreter.version})"


def draw_import(screen: Screen, answer: ImportAnswer, seat: Seat) -> None:
    """One import: whether it works, from where, or why not."""
    word, colour = WORDS[answer.outcome]
    screen.line((answer.statement, "bold"), "  ", (word, colour), "  in  ", place_of(screen, seat))
    screen.blank()
    if answer.outcome == "imports":
        _healthy(screen, answer)
    for number, finding in enumerate(answer.findings):
        if number:
            screen.blank()
            screen.line(("   and", BLUE))
        screen.finding(finding)
    for cause in answer.not_judged:
        screen.line(("   not judged  ", ORANGE), f"{cause.cause}: {visible(cause.reason)}")
    if answer.outcome == "fails" and not answer.findings:
        text = f"{answer.error.type}: {answer.error.text}" if answer.error else "it gave no reason"
        screen.line(("   it says  ", BLUE), screen.shown(text))
    elif answer.outcome == "undetermined" and not answer.findings:
        result = screen.path(answer.found_at) if answer.found_at else "nothing"
        screen.line(("   reading  ", BLUE), f"finds {result}; only the interpreter can show whether it loads")


def _healthy(screen: Screen, answer: ImportAnswer) -> None:
    path = screen.path(answer.found_at) if answer.found_at else ""
    screen.line(("   from     ", BLUE), path)
    if answer.distribution is not None:
        screen.line(
            ("   of       ", BLUE), f"{visible(answer.distribution.name)} {visible(answer.distribution.version)}"
        )
    for number, other in enumerate(answer.hides):
        screen.line((("   hides    " if number == 0 else "            "), BLUE), screen.path(other))
