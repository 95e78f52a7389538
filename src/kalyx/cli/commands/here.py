"""``kalyx here``: what each seat in this folder really uses."""

from __future__ import annotations

import argparse

from kalyx.cli.calls import Call


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", nargs="?", metavar="FOLDER", help="the folder to look at (this one)")
    parser.add_argument("--against", metavar="TARGET", help="the seat that the others are compared with")
    parser.add_argument("--seen-by", metavar="TARGET", help="list kernels as this environment's server would")


def run(call: Call) -> int:
    from kalyx.core.here import look_here

    reference = call.target(call.options.against) if call.options.against else None
    answer = look_here(call.machine, reference)
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.seats import draw_here

        draw_here(call.screen, answer, call.options.verbose)
    agree = all(seat.relation == "same" for seat in answer.seats)
    return 0 if agree and not answer.findings else 1
