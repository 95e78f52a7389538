"""``kalyx rehearse``: start a kernel for real, ask it, stop it."""

from __future__ import annotations

import argparse

from kalyx.cli.calls import Call
from kalyx.core.facts import KalyxError
from kalyx.core.findings import catalogue
from kalyx.core.imports.names import parse_wanted
from kalyx.core.kernels.rehearsal import rehearse


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("id", metavar="ID", help="the kernel's id")
    parser.add_argument("--seen-by", metavar="TARGET", help="as this environment's server would start it")
    parser.add_argument(
        "--import", dest="imports", action="append", default=[], metavar="MODULE", help="try this import in it"
    )


def run(call: Call) -> int:
    wanted = [one for text in call.options.imports for one in parse_wanted(text)]
    identifier = call.options.id.removeprefix("kernel:")
    kernel = call.machine.kernel_by_id(identifier)
    if kernel is None:
        raise KalyxError(f"no kernel {identifier!r} is registered", [one.id for one in call.machine.kernels[:8]])
    catalogue.judge_kernel(kernel, call.machine)
    answer = rehearse(call.machine, kernel, wanted)
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.kernels import draw_rehearsal

        draw_rehearsal(call.screen, answer, call.options.verbose)
    return 0 if answer.answered and all(one.outcome == "imports" for one in answer.imports) else 1
