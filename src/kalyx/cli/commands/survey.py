"""``kalyx survey``: every interpreter and environment on this machine."""

from __future__ import annotations

import argparse

from kalyx.cli.calls import Call
from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
from kalyx.core.facts import Environment, Interpreter, SurveyAnswer
from kalyx.core.surveying import survey
from kalyx.core.text import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--under", action="append", default=[], metavar="DIR", help="look below this folder too")
    parser.add_argument("--unsound", action="store_true", help="only what needs care, with its remedies")


def run(call: Call) -> int:
    under = [call.machine.facts.absolute(folder) for folder in call.options.under]
    answer = survey(call.machine, under)
    if call.options.unsound:
        answer.environments = [one for one in answer.environments if one.condition != "sound"]
    unsound = any(one.condition != "sound" for one in answer.environments)
    if call.as_json:
        call.print_json(answer)
    else:
        _draw(call, answer)
    return 1 if unsound and call.options.unsound else 0


def _draw(call: Call, answer: SurveyAnswer) -> None:
    screen = call.screen
    if not call.options.unsound:
        _interpreters(call, answer)
    by_base: dict[str, list[Environment]] = {}
    for environment in answer.environments:
        if environment.kind != "installation" or environment.findings:
            by_base.setdefault(environment.base_prefix or "", []).append(environment)
    if by_base:
        screen.line(("environments", "bold"), "  by the installation they stand on")
        widths = [max([len(visible(e.name)) for g in by_base.values() for e in g]) + 2, 10]
        for base, group in sorted(by_base.items(), key=lambda item: item[0] == ""):
            screen.line("  ", (screen.path(base) if base else "no installation that is there", BLUE))
            for environment in sorted(group, key=lambda one: one.name):
                _environment(call, environment, widths)
    elif call.options.unsound:
        screen.line("every environment found is sound")
    else:
        screen.line("no environments found in the usual places; look elsewhere with --under DIR")
    for place in answer.unread:
        screen.line(("not read  ", ORANGE), screen.path(place.path), f": {visible(place.reason)}")


def _interpreters(call: Call, answer: SurveyAnswer) -> None:
    screen = call.screen
    screen.line(("interpreters", "bold"))
    for interpreter in answer.interpreters:
        names = _names(call, interpreter)
        room = screen.width - 12 - 4
        screen.line("  ", interpreter.version.ljust(10), screen.path(interpreter.executable, room))
        if names:
            also = ", ".join(screen.path(name) for name in names)
            screen.line(" " * 12, (screen.words("also " + also, room), QUIET))
    screen.blank()


def _names(call: Call, interpreter: Interpreter) -> list[str]:
    """The other names under which people meet it: on PATH, and outside its own prefix."""
    folders = set(call.machine.facts.path_folders())
    names = [name for name in interpreter.links if name != interpreter.executable]
    return [name for name in names if call.machine.facts.parent(name) in folders]


def _environment(call: Call, environment: Environment, widths: list[int]) -> None:
    screen = call.screen
    sound = environment.condition == "sound"
    mark = "  " if sound else screen.marks["dead"] + " "
    notes = []
    if environment.sees_base:
        notes.append("sees its base")
    if environment.kind == "conda":
        notes.append("conda-style")
    if environment.kernels:
        notes.append("kernel " + ", ".join(visible(call.machine.facts.name(key)) for key in environment.kernels))
    if not sound:
        notes.insert(0, environment.condition)
    tail = "  " + "; ".join(notes) if notes else ""
    room = max(20, screen.width - 4 - sum(widths) - len(tail))
    screen.line(
        "  ",
        (mark, ORANGE),
        visible(environment.name).ljust(widths[0]),
        (environment.version or "?").ljust(widths[1]),
        screen.path(environment.prefix, room),
        (tail, QUIET if sound else ORANGE),
    )
    if not sound and (call.options.unsound or call.options.verbose):
        for finding in environment.findings:
            screen.finding(finding, indent=8)
