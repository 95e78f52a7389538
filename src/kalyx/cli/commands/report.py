"""``kalyx report``: one page about a folder, with a drawn map; or the map alone."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from kalyx.cli.context import Call
from kalyx.cli.start import changing, command_parser
from kalyx.core.model.action_results import ReportAnswer
from kalyx.core.model.records import ChangePlan, KalyxError
from kalyx.core.model.results import WhyAnswer
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.text.visible import visible

_LARGEST = 256 * 1024 * 1024


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("-o", "--to", dest="to", metavar="FILE", required=True,
                        help="the page to write (.html), or the map alone (.svg)")  # fmt: skip
    parser.add_argument("--against", metavar="TARGET", help="the seat that the others are compared with")
    parser.add_argument("--why", action="append", default=[], metavar="WHAT",
                        help='add this import to the page (also "WHAT --in TARGET"); may be repeated')  # fmt: skip
    parser.add_argument("--sizes", action="store_true", help="measure what each environment takes on disk")
    changing(parser)


def run(call: Call) -> int:
    from kalyx.core.queries.overview import overview

    options = call.options
    own = LiveReader() if options.on else call.machine.reader  # the page is written here, whatever machine it is about
    path = own.absolute(options.to)
    kind = path.lower().rpartition(".")[2]
    if kind not in ("html", "htm", "svg"):
        raise KalyxError(f"{visible(path)}: a page ends in .html, the map alone in .svg")
    there = own.known_kind(path) is not None
    looked_at = own.read(path, _LARGEST) if there and own.is_file(path) else None
    if there and not options.yes and not _made_here(own, path):
        raise KalyxError(f"{visible(path)} exists and is not a page of Kalyx; name another file, or say --yes")
    with call.progress("looking:") as tell:
        reference = call.target(options.against) if options.against else None
        asked = [_why(call, text, tell) for text in options.why]
        result = overview(
            call.machine, reference, asked, options.sizes, lambda number, whole: tell(f"measuring, {number} of {whole}")
        )
    from kalyx.cli.render.page import map_alone, page

    text = map_alone(call.machine, result) if kind == "svg" else page(call.machine, result, options.sizes, options.on)
    content = text.encode("utf-8", "backslashreplace")
    environments = [
        environment for environment in result.survey.environments if environment.kind != "installation"
    ]  # as the survey counts
    answer = ReportAnswer(
        path=path, folder=call.machine.reader.folder, seats=len(result.here.seats), picture=result.picture,
        environments=len(environments), findings=len(result.here.findings), bytes=len(content),
        plan=[ChangePlan(action="replace" if there else "write", path=path)],
    )  # fmt: skip
    if not options.dry_run:
        call.machine.writer.write(path, content, new=not there, over=looked_at)
        answer.done = True
    if call.as_json:
        call.print_json(answer)
    else:
        _draw(call, answer)
    return 0


def _made_here(reader: Reader, path: str) -> bool:
    from kalyx.cli.render.page import SIGNS

    try:
        head = reader.read(path, 4096) if reader.is_file(path) else b""
    except Unreadable:
        return False
    page, drawing = SIGNS
    begins = head.lstrip()[:15].lower() == b"<!doctype html>" and page in head[:400]
    return begins or head.startswith(b'<?xml version="1.0" encoding="UTF-8"?>\n' + drawing)


def _why(call: Call, text: str, tell: Callable[[str], None]) -> WhyAnswer:
    """The answer of ``why`` to these words, on the machine that the page is about."""
    from kalyx.cli.commands import why

    options = command_parser("why").parse_args(why.words_of(text))
    if options.what == ["-"] or options.fix or options.everywhere:
        raise KalyxError(f"--why {visible(text)}: a page explains imports, files and folders, and changes nothing")
    options.static, options.timeout = call.options.static, call.options.timeout
    return why.answer_of(call.again(options), tell)


def _draw(call: Call, answer: ReportAnswer) -> None:
    from kalyx.cli.render.colours import BLUE
    from kalyx.cli.render.survey import said_size

    screen = call.screen
    screen.line(
        (("written" if answer.done else "write").ljust(14), BLUE),
        screen.path(answer.path),
        f"  {said_size(answer.bytes)}",
    )
    counts = {"seat": answer.seats, "environment": answer.environments, "finding": answer.findings}
    screen.line("".ljust(14), ", ".join(f"{count} {word}{'' if count == 1 else 's'}" for word, count in counts.items()))
