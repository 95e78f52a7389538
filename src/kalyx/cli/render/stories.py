"""The short story of ``why``: what was asked and where, because, seen, so."""

from __future__ import annotations

from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
from kalyx.cli.render.screen import Screen
from kalyx.core.facts import ImportAnswer, Seat, WhyAnswer
from kalyx.core.text import visible

WORDS = {"imports": ("imports", BLUE), "fails": ("fails", ORANGE), "undetermined": ("cannot be told", QUIET)}


def draw_why(screen: Screen, answer: WhyAnswer, verbose: bool) -> None:
    """Tell each import asked about."""
    for number, one in enumerate(answer.imports):
        if number:
            screen.blank()
        draw_import(screen, one, answer.target)
    if verbose and answer.target.search_path:
        screen.blank()
        screen.line(("   the search path", "bold"), ", in order")
        for entry in answer.target.search_path:
            gone = "" if entry.exists else "  (not there)"
            place = screen.path(entry.entry) or "the current folder"
            screen.line("   ", place.ljust(50), "  ", (visible(screen.shown(entry.origin)) + gone, QUIET))


def place_of(screen: Screen, seat: Seat) -> str:
    """``notebook spring_weights.ipynb  (heath, 3.9.18)``."""
    name = screen.path(seat.name) if seat.seat in ("path", "program") else visible(seat.name)
    called = "the shell" if seat.seat == "shell" else name if seat.seat == "path" else f"{seat.seat} {name}"
    if seat.interpreter is None or seat.environment is None:
        return called
    return f"{called}  ({visible(seat.environment.name)}, {seat.interpreter.version})"


def draw_import(screen: Screen, one: ImportAnswer, seat: Seat) -> None:
    word, colour = WORDS[one.outcome]
    screen.line((one.statement, "bold"), "  ", (word, colour), "  in  ", place_of(screen, seat))
    screen.blank()
    if one.outcome == "imports":
        _healthy(screen, one)
    for number, finding in enumerate(one.findings):
        if number:
            screen.blank()
            screen.line(("   and", BLUE))
        screen.finding(finding)
    if one.outcome == "fails" and not one.findings:
        said = f"{one.error.type}: {one.error.text}" if one.error else "it gave no reason"
        screen.line(("   it says  ", BLUE), screen.shown(said))
    elif one.outcome == "undetermined" and not one.findings:
        found = screen.path(one.found_at) if one.found_at else "nothing"
        screen.line(("   reading  ", BLUE), f"finds {found}; whether it loads only the interpreter can tell")


def _healthy(screen: Screen, one: ImportAnswer) -> None:
    place = screen.path(one.found_at) if one.found_at else ""
    screen.line(("   from     ", BLUE), place)
    if one.distribution is not None:
        screen.line(("   of       ", BLUE), f"{visible(one.distribution.name)} {visible(one.distribution.version)}")
    for number, other in enumerate(one.hides):
        screen.line((("   hides    " if number == 0 else "            "), BLUE), screen.path(other))
