"""``kalyx why``: why an import fails, or where it comes from."""

from __future__ import annotations

import argparse

from kalyx.cli.calls import Call
from kalyx.core.facts import KalyxError, WhyAnswer
from kalyx.core.imports.names import Wanted, parse_wanted
from kalyx.core.imports.why import why_import
from kalyx.core.packages.names import distributions_named, modules_of_listed


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("what", nargs="+", metavar="WHAT", help='a module (a.b) or a statement ("from a import b")')
    parser.add_argument("--in", dest="target", metavar="TARGET", help="the seat or environment to ask in")
    parser.add_argument("--as", dest="command_line", metavar="COMMANDLINE", help='as run by it ("python -I -m tool")')
    parser.add_argument("--from", dest="folder", metavar="FOLDER", help="as a script in this folder would")


def _wanted(call: Call, text: str) -> list[Wanted]:
    """The imports a word asks for; a distribution's name that is no module name gets its module named."""
    try:
        return parse_wanted(text)
    except KalyxError:
        if "-" not in text or not text.replace("-", "").replace(".", "").isalnum():
            raise
        modules = [name for installed, _ in distributions_named(call.machine, text) for name in installed.modules]
        modules = [name for name in modules if not name.startswith("_")] or modules_of_listed(text)
        if not modules:
            raise
        raise KalyxError(
            f"{text} is the name of a distribution; the module in it is called {modules[0]}: kalyx why {modules[0]}"
        ) from None


def run(call: Call) -> int:
    wanted = [one for text in call.options.what for one in _wanted(call, text)]
    seat = call.target(call.options.target)
    named = call.options.target is not None
    answers = [why_import(call.machine, seat, one, named=named, command=call.options.command_line) for one in wanted]
    answer = WhyAnswer(target=seat, imports=answers)
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.stories import draw_why

        draw_why(call.screen, answer, call.options.verbose)
    return 0 if all(one.outcome == "imports" and not one.findings for one in answers) else 1
