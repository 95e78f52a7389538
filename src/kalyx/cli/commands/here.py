"""``kalyx here``: what each seat in this folder really uses."""

from __future__ import annotations

import argparse
import sys

from kalyx.cli.context import Call
from kalyx.core.model.records import KalyxError
from kalyx.core.model.results import HereAnswer

_EVERY = 1.0


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", nargs="?", metavar="FOLDER", help="the folder to look at (this one)")
    parser.add_argument("--against", metavar="TARGET", help="the seat that the others are compared with")
    parser.add_argument("--seen-by", metavar="TARGET", help="list kernels as this environment's server would")
    parser.add_argument("--since", metavar="FILE", help="what changed since an earlier here --json kept in this file")
    parser.add_argument("--watch", action="store_true", help="look again and again, and say what changed")
    parser.add_argument("--live", action="store_true", help="run the shell's start files, and ask kernels that run")
    parser.add_argument("--paste", action="store_true", help="print code for another console; pipe its output back in")


def run(call: Call) -> int:
    pasted = ""
    if call.options.paste:
        pasted = "" if sys.stdin is None or sys.stdin.isatty() else sys.stdin.read(1024 * 1024)
        if not pasted.strip():
            return _lines(call)
    earlier = _earlier(call, call.options.since) if call.options.since else None
    answer = _look(call, pasted)
    if earlier is not None:
        from kalyx.core.queries.changes import changes

        answer.changes = changes(earlier, answer)
    if call.options.watch:
        return _watch(call, answer, pasted)
    _show(call, answer)
    agree = all(seat.relation == "same" for seat in answer.seats)
    fit = all(seat.project is None or seat.project.runs for seat in answer.seats if seat.relation == "same")
    return 0 if agree and fit and not answer.findings else 1


def _look(call: Call, pasted: str) -> HereAnswer:
    from kalyx.core.queries.here import look_here

    reference = call.target(call.options.against) if call.options.against else None
    ask = call.options.live and not call.options.static
    return look_here(call.machine, reference, ask=ask, pasted=pasted)


def _show(call: Call, answer: HereAnswer) -> None:
    if call.as_json:
        call.print_json(answer)
        return
    from kalyx.cli.render.seats import draw_here

    draw_here(call.screen, answer, call.options.verbose)


def _lines(call: Call) -> int:
    """The lines to run elsewhere; what they print is read back from standard input or a file of the folder."""
    from kalyx.core.seats.pasted import ENDING, lines_to_paste

    for where, line in lines_to_paste(call.machine.shell.name):
        print(f"# {where}:", file=sys.stderr)
        print(line)
    print(f"# then: kalyx here --paste, with what it printed on standard input; or leave it in NAME{ENDING} here",
          file=sys.stderr)  # fmt: skip
    return 0


def _earlier(call: Call, text: str) -> HereAnswer:
    import msgspec

    from kalyx.core.system import Unreadable
    from kalyx.core.text.visible import visible

    reader = call.machine.reader
    path = reader.absolute(text)
    try:
        return msgspec.json.decode(reader.read(path, 64 * 1024 * 1024), type=HereAnswer)
    except Unreadable as refusal:
        raise KalyxError(str(refusal)) from None
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise KalyxError(f"{visible(path)}: no answer of here --json ({error})") from None


def _watch(call: Call, answer: HereAnswer, pasted: str) -> int:
    """Print the answer again whenever something changed, until interrupted."""
    import time

    from kalyx.cli.streams import output_deserted
    from kalyx.core.queries.here import package_times

    _emit(call, answer)
    times = package_times(call.machine, answer)
    try:
        while not output_deserted():
            time.sleep(_EVERY)
            fresh, answer, times, result = looked_again(call, answer, times, pasted)
            if result:
                answer.changes = result
                _emit(fresh, answer)
                answer.changes = []
    except KeyboardInterrupt:
        pass
    return 0


def looked_again(
    call: Call, before: HereAnswer | None, times: dict[str, int], pasted: str
) -> tuple[Call, HereAnswer, dict[str, int], list[str]]:
    """One reading of ``--watch``: the call, its answer, when each environment's packages changed, and what changed."""
    import gc

    from kalyx.core.queries.changes import changes
    from kalyx.core.queries.here import package_times

    gc.collect()  # automatic collection is switched off for short runs; this run goes on
    fresh = call.reread()
    now = _look(fresh, pasted)
    new = package_times(fresh.machine, now)
    result = changes(before, now) if before is not None else []
    result += [f"packages of {prefix} changed" for prefix in new if prefix in times and new[prefix] != times[prefix]]
    return fresh, now, new, result


def _emit(call: Call, answer: HereAnswer) -> None:
    if call.as_json:
        import msgspec

        print(msgspec.json.encode(answer).decode("utf-8", "backslashreplace"), flush=True)
        return
    if sys.stdout.isatty() and not call.options.plain:
        sys.stdout.write("\x1b[H\x1b[2J")
    _show(call, answer)
    sys.stdout.flush()
