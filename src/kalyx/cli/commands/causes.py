"""``kalyx causes``: what Kalyx can find."""

from __future__ import annotations

import argparse

from kalyx.cli.context import Call
from kalyx.cli.render.colours import BLUE, QUIET
from kalyx.cli.render.screen import wrap
from kalyx.core.diagnosis import catalogue
from kalyx.core.model.records import KalyxError
from kalyx.core.model.results import CausesAnswer
from kalyx.core.text.nearness import ranked


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", nargs="?", metavar="NAME", help="one cause, explained with an example")


def run(call: Call) -> int:
    name = call.options.name
    if name is not None and name not in catalogue.ABOUT:
        raise KalyxError(f"there is no cause called {name!r}", ranked(name, catalogue.ABOUT))
    texts = [catalogue.text_of(item) for item in ([name] if name else catalogue.ABOUT)]
    if call.as_json:
        call.print_json(CausesAnswer(causes=texts))
        return 0
    screen = call.screen
    if name is None:
        width = max(len(text.name) for text in texts) + 2
        for text in texts:
            for number, line in enumerate(wrap(text.message, screen.width - width)):
                screen.line(((text.name if number == 0 else "").ljust(width), BLUE), line)
        screen.blank()
        screen.line("kalyx causes NAME explains one with an example")
        return 0
    text = texts[0]
    screen.line((text.name, "bold"), f"  {text.message}")
    screen.blank()
    for line in text.example.splitlines():
        screen.line("   ", line)
    screen.blank()
    for head, message in (("how to tell", text.how_to_tell), ("fix", text.fix)):
        for number, line in enumerate(wrap(message, screen.width - 17)):
            screen.line((f"   {(head if number == 0 else '').ljust(14)}", QUIET), line)
    return 0
