"""``kalyx record``: the packages of a target as requirement lines that rebuild it."""

from __future__ import annotations

import argparse
import sys

from kalyx.cli.context import Call
from kalyx.cli.start import changing
from kalyx.core.actions.record_reader import is_record
from kalyx.core.actions.recording import record
from kalyx.core.model.records import ChangePlan, KalyxError
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("target", nargs="?", metavar="TARGET", help="the seat or environment whose packages to write")
    parser.add_argument("-o", "--to", dest="to", metavar="FILE", help="write it to this file")
    parser.add_argument(
        "--used", metavar="FOLDER", help="only what the code in this folder imports, and what that needs"
    )
    parser.add_argument("--everything", action="store_true", help="also packages of the base Python and the user's own")
    changing(parser)


def run(call: Call) -> int:
    reader, options = call.machine.reader, call.options
    used = reader.absolute(options.used) if options.used else None
    answer = record(call.machine, call.target(options.target), used=used, everything=options.everything)
    if options.to is not None:
        path = answer.path = reader.absolute(options.to)
        there = reader.known_kind(path) is not None
        answer.plan = [ChangePlan(action="replace" if there else "write", path=path)]
        if there and (reader.kind(path) != "file" or not is_record(reader, path)) and not options.yes:
            raise KalyxError(
                f"{visible(path)} exists and is not a record; name another file, or say --yes to replace it"
            )
        if not options.dry_run:
            looked_at = reader.read(path, 64 * 1024 * 1024) if reader.is_file(path) else None
            content = answer.text.encode("utf-8", "surrogateescape")
            call.machine.writer.write(path, content, new=not there, over=looked_at)
            answer.done = True
    if call.as_json:
        call.print_json(answer)
    elif options.to is None:
        sys.stdout.write("".join(visible(line) + "\n" for line in answer.text.splitlines()))
        for refusal in answer.unread:
            print(f"kalyx: left out what is in {visible(refusal.path)}: {visible(refusal.reason)}", file=sys.stderr)
    else:
        count = sum(line.kind != "development" for line in answer.lines)
        _draw(call, count, answer.done, answer.left_out + answer.notes)
    return 1 if answer.unread else 0


def _draw(call: Call, count: int, done: bool, notes: list[str]) -> None:
    from kalyx.cli.render.colours import BLUE, QUIET

    screen = call.screen
    word = "written" if done else "write"
    screen.line((word.ljust(14), BLUE), screen.path(call.machine.reader.absolute(call.options.to)))
    screen.line("".ljust(14), "one package with its version" if count == 1 else f"{count} packages with their versions")
    for note in notes:
        screen.line(("note".ljust(14), QUIET), screen.shown(note))
