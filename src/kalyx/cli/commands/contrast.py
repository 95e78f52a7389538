"""``kalyx contrast``: two seats, environments, or earlier answers side by side."""

from __future__ import annotations

import argparse

import msgspec

from kalyx.cli.calls import Call
from kalyx.core.answers import NOT_READ, ContrastAnswer, PackagesAnswer
from kalyx.core.deeds.recorded import is_record, read_record, seat_of
from kalyx.core.doors import Facts, Unreadable
from kalyx.core.packages.contents import contents
from kalyx.core.questions.contrast import Side, contrast
from kalyx.core.records import Evidence, KalyxError
from kalyx.core.ways import search_of
from kalyx.core.words.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    kinds = "a seat, an environment, a record, a file kept from packages --json, or a capture: FILE or FILE#TARGET"
    parser.add_argument("left", metavar="TARGET", help=kinds)
    parser.add_argument("right", metavar="TARGET", help="the other one")


def run(call: Call) -> int:
    answer = contrast(_side(call, call.options.left), _side(call, call.options.right))
    if call.as_json:
        call.print_json(answer)
    else:
        _draw(call, answer)
    return 0 if answer.same else 1


def _side(call: Call, text: str) -> Side:
    facts = call.machine.facts
    path = facts.absolute(text)
    if text.endswith(".json") and facts.is_file(path):
        try:
            kept = msgspec.json.decode(facts.read(path, 64 * 1024 * 1024), type=PackagesAnswer)
        except (Unreadable, msgspec.MsgspecError, UnicodeDecodeError) as error:
            raise KalyxError(f"{visible(path)}: no answer of packages --json ({error})") from None
        return Side(kept.target, kept.packages, kept.unknown)
    if facts.is_file(path) and is_record(facts, path):
        kept_record = read_record(facts, path)
        return Side(seat_of(kept_record), kept_record.packages, is_record=True)
    file, _, target = text.partition("#")
    if _is_packed(facts, facts.absolute(file)):
        from kalyx.core.doors.captured import machine_of, read_capture

        return _of_seat(Call(call.options, *machine_of(read_capture(facts.absolute(file)))), target or "shell")
    return _of_seat(call, text)


def _is_packed(facts: Facts, path: str) -> bool:
    try:
        return facts.is_file(path) and facts.read(path, 2) == b"\x1f\x8b"
    except Unreadable:
        return False


def _of_seat(call: Call, text: str) -> Side:
    facts, seat = call.machine.facts, call.target(text)
    if seat.interpreter is None:
        raise KalyxError(f"{text} starts no interpreter: {seat.reason}")
    search = search_of(seat, call.machine, named=True)
    packages, unread = contents(facts, seat.interpreter, search)
    doubts = [Evidence(fact=f"{NOT_READ}{one.reason}", source=one.path, path=one.path) for one in unread]
    return Side(seat, packages, search.unknown + doubts)


def _draw(call: Call, answer: ContrastAnswer) -> None:
    from kalyx.cli.render.colours import ORANGE, QUIET
    from kalyx.cli.render.screen import padded
    from kalyx.cli.render.stories import place_of

    screen = call.screen
    screen.line(("left   ", QUIET), place_of(screen, answer.left))
    screen.line(("right  ", QUIET), place_of(screen, answer.right))
    screen.blank()
    if answer.same:
        by_record = "a record" in (answer.left.label, answer.right.label)
        rest = "platform and own packages" if by_record else "platform, search path, packages and variables"
        screen.line(("the same", "bold"), f": interpreter, version, {rest} compared")
        return
    screen.doubts(answer.unproved, "not proved")
    if not answer.differences:
        screen.line("no difference was found, and what is named above could hide one")
        return
    width = min(max(len(one.name) for one in answer.differences) + 2, screen.width // 3)
    widest = max(len(one.left or "-") for one in answer.differences) + 3
    room = max(12, min(widest, (screen.width - width - 14) // 2))
    for one in answer.differences:
        screen.line(
            (one.what.replace("_", " ").ljust(13), QUIET),
            padded(screen.words("" if one.what == "search_path" else one.name, width - 2), width),
            padded(screen.words(one.left or "-", room - 2), room),
            (screen.words(one.right or "-", room), ORANGE),
        )
