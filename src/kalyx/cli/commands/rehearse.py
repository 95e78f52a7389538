"""``kalyx rehearse``: start a kernel for real, ask it, stop it."""

from __future__ import annotations

import argparse

from kalyx.cli.context import Call
from kalyx.core.diagnosis import catalogue
from kalyx.core.imports.names import parse_wanted
from kalyx.core.model.records import KalyxError
from kalyx.core.queries.rehearse import rehearse
from kalyx.core.system import Unreadable
from kalyx.core.text.nearness import ranked
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("id", metavar="ID", help="the kernel's id")
    parser.add_argument("--seen-by", metavar="TARGET", help="as this environment's server would start it")
    parser.add_argument(
        "--import", dest="imports", action="append", default=[], metavar="MODULE", help="try this import in it"
    )
    parser.add_argument("--script", metavar="FILE", help="run this file in it, and show what it prints")
    parser.add_argument("--ipc", action="store_true", help="talk to it over local sockets instead of TCP")


def run(call: Call) -> int:
    script = _script(call)
    wanted = [statement for text in call.options.imports for statement in parse_wanted(text)]
    identifier = call.options.id.removeprefix("kernel:")
    kernel = call.machine.kernel_by_id(identifier)
    if kernel is None:
        known = [kernel.id for kernel in call.machine.kernels]
        raise KalyxError(f"no kernel {identifier!r} is registered", ranked(identifier, known))
    kernel = catalogue.judge_kernel(kernel, call.machine, alone=True)
    transport = "ipc" if call.options.ipc else "tcp"
    with call.progress("rehearsing:") as tell:
        tell(kernel.id)
        answer = rehearse(call.machine, kernel, wanted, script=script, transport=transport)
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.kernels import draw_rehearsal

        draw_rehearsal(call.screen, answer, call.options.verbose, notes=True)
    return 0 if answer.answered and all(item.outcome == "imports" for item in answer.imports) else 1


def _script(call: Call) -> str | None:
    """The user's own script. Raises KalyxError where it cannot be read."""
    if call.options.script is None:
        return None
    reader = call.machine.reader
    path = reader.absolute(call.options.script)
    try:
        return reader.read_text(path, 4 * 1024 * 1024)
    except Unreadable as problem:
        raise KalyxError(f"{visible(path)}: {problem.reason}") from None
