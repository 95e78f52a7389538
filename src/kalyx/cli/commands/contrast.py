"""``kalyx contrast``: two seats, environments, or earlier answers side by side."""

from __future__ import annotations

import argparse

import msgspec
from msgspec.structs import replace

from kalyx.cli.context import Call, captured_system
from kalyx.core.actions.record_reader import is_record, read_record, seat_of
from kalyx.core.actions.recording import unrecorded
from kalyx.core.diagnosis import catalogue
from kalyx.core.invocation import NAMED, interpreter_of, search_of
from kalyx.core.model.records import KalyxError, Unread
from kalyx.core.model.results import ContrastAnswer, PackagesAnswer
from kalyx.core.packages.contents import contents
from kalyx.core.queries.contrast import Side, contrast
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    kinds = "a seat, an environment, a record, a file kept from packages --json, or a capture: FILE or FILE#TARGET"
    parser.add_argument("left", metavar="TARGET", help=kinds)
    parser.add_argument("right", metavar="TARGET", help="the other one")


def run(call: Call) -> int:
    words = (call.options.left, call.options.right)
    # A capture without a target is compared as a whole machine: its kernels count too.
    whole = all(word == "shell" or _is_capture(call, word) for word in words) and "#" not in "".join(words)
    records = [_is_record(call, word) for word in words]
    left, right = (
        _of_record(call, word) if is_record else _side(call, word, whole, any(records))
        for word, is_record in zip(words, records, strict=True)
    )
    answer = contrast(left, right)
    if call.as_json:
        call.print_json(answer)
    else:
        _draw(call, answer, whole)
    return 0 if answer.same else 1


def _is_capture(call: Call, text: str) -> bool:
    from kalyx.demo.machines import MACHINES

    reader = call.machine.reader
    file = text.partition("#")[0]
    return _is_packed(reader, reader.absolute(file)) or file in MACHINES


def _is_record(call: Call, text: str) -> bool:
    path = call.machine.reader.absolute(text)
    return call.machine.reader.is_file(path) and is_record(call.machine.reader, path)


def _of_record(call: Call, text: str) -> Side:
    kept = read_record(call.machine.reader, call.machine.reader.absolute(text))
    return Side(seat_of(kept), kept.packages, is_record=True)


def _side(call: Call, text: str, whole: bool, by_record: bool) -> Side:
    reader = call.machine.reader
    path = reader.absolute(text)
    if text.endswith(".json") and reader.is_file(path):
        try:
            kept = msgspec.json.decode(reader.read(path, 64 * 1024 * 1024), type=PackagesAnswer)
        except (Unreadable, msgspec.MsgspecError, UnicodeDecodeError) as error:
            raise KalyxError(f"{visible(path)}: no answer of packages --json ({error})") from None
        return Side(kept.target, kept.packages, kept.unknown, _could_hide_packages(reader, kept))
    file, _, target = text.partition("#")
    if _is_capture(call, text):
        return _of_seat(
            Call(call.options, *captured_system(_file_path(call, file))), target or "shell", whole, by_record
        )
    return _of_seat(call, text, whole, by_record)


def _could_hide_packages(reader: Reader, kept: PackagesAnswer) -> list[Unread]:
    """What a kept answer says was not read on its search path, or in its environment."""
    environment = kept.target.environment
    own = [entry.entry for entry in kept.target.search_path] + ([environment.prefix] if environment is not None else [])
    return [
        place
        for place in kept.unread
        if any(reader.inside(place.path, folder) or reader.inside(folder, place.path) for folder in own if folder)
    ]


def _file_path(call: Call, file: str) -> str:
    path = call.machine.reader.absolute(file)
    return path if call.machine.reader.exists(path) else file


def _is_packed(reader: Reader, path: str) -> bool:
    try:
        return reader.is_file(path) and reader.read(path, 2) == b"\x1f\x8b"
    except Unreadable:
        return False


def _of_seat(call: Call, text: str, whole: bool, by_record: bool) -> Side:
    reader, seat = call.machine.reader, call.target(text)
    interpreter = interpreter_of(seat, call.machine)
    search = search_of(seat, call.machine, NAMED)
    packages, unread = contents(reader, interpreter, search)
    seat = replace(seat, search_path=search.entries)
    kernels = [catalogue.judge_kernel(kernel, call.machine) for kernel in call.machine.kernels] if whole else None
    left_out = unrecorded(call.machine, seat) if by_record else set()
    return Side(seat, packages, search.unknown, unread, system=reader.system, kernels=kernels, unrecorded=left_out)


def _heads(answer: ContrastAnswer) -> tuple[str, str]:
    """What the two columns are called: by the environments, where their names differ."""
    seats = (answer.left, answer.right)
    names = [seat.environment.name if seat.environment is not None else seat.name for seat in seats]
    return ("left", "right") if names[0] == names[1] else (f"left: {names[0]}", f"right: {names[1]}")


def _draw(call: Call, answer: ContrastAnswer, whole: bool) -> None:
    from kalyx.cli.render.colours import ORANGE, QUIET
    from kalyx.cli.render.screen import padded
    from kalyx.cli.render.stories import place_of

    screen = call.screen
    screen.line(("left   ", QUIET), place_of(screen, answer.left))
    screen.line(("right  ", QUIET), place_of(screen, answer.right))
    screen.blank()
    if answer.same:
        by_record = "a record" in (answer.left.label, answer.right.label)
        remainder = "platform and own packages" if by_record else "platform, search path, packages and variables"
        remainder = "platform, search path, packages, variables and kernels" if whole else remainder
        screen.line(("the same", "bold"), f": interpreter, version, {remainder} compared")
        return
    screen.doubts(answer.unproved, "not proved")
    screen.not_read(answer.unread)
    if not answer.differences:
        screen.line("no difference was found, and what is named above could hide one")
        return
    rows = [difference for difference in answer.differences if difference.what != "search_path"] or answer.differences
    width = min(max(len(difference.name) for difference in rows) + 2, screen.width // 3)
    widest = max(len(text) for text in [*_heads(answer), *(difference.left or "-" for difference in rows)]) + 3
    room = max(12, min(widest, (screen.width - width - 14) // 2))
    heads = [screen.words(head, room - 2) for head in _heads(answer)]
    screen.line(" " * 13, padded("", width), (padded(heads[0], room), "bold"), (heads[1], "bold"))
    for difference in answer.differences:
        if difference.what == "search_path" and (difference.left is None) != (difference.right is None):
            side, path = ("left", difference.left) if difference.right is None else ("right", difference.right)
            what = ("search path".ljust(13), QUIET)
            screen.line(what, padded(side, 8), screen.without_middle(path or "", screen.width - 23))
            continue
        screen.line(
            (difference.what.replace("_", " ").ljust(13), QUIET),
            padded(screen.words("" if difference.what == "search_path" else difference.name, width - 2), width),
            padded(screen.words(difference.left or "-", room - 2), room),
            (screen.words(difference.right or "-", room), ORANGE),
        )
