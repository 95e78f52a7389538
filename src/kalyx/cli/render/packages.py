"""Packages as a table: name, version, origin, who put it there, and what is wrong with it."""

from __future__ import annotations

import argparse

from rich.cells import cell_len

from kalyx.cli.render.colours import ORANGE, QUIET
from kalyx.cli.render.screen import Screen, padded
from kalyx.cli.render.stories import place_of
from kalyx.cli.render.survey import said_size
from kalyx.core.model.results import PackagesAnswer
from kalyx.core.text.names import canonical
from kalyx.core.text.visible import visible


def _counted(count: int, answer: PackagesAnswer, options: argparse.Namespace) -> str:
    """How many packages are shown, and of how many where only some are asked for."""
    whole = f"{answer.searched} package{'' if answer.searched == 1 else 's'}"
    if not answer.packages and options.unmet:
        return f"no unmet requirements in {whole}"
    if not answer.packages and options.hidden:
        return f"no hidden copies among {whole}"
    return whole if count == answer.searched else f"{count} of {whole}"


def draw_packages(screen: Screen, answer: PackagesAnswer, options: argparse.Namespace) -> None:
    """``packages``, drawn: what can be imported, and what hides what."""
    if answer.fitness is not None and answer.project is not None:
        _draw_fitness(screen, answer)
        return
    count = sum(package.version is not None for package in answer.packages)
    counted = _counted(count, answer, options)
    screen.line(("packages", "bold"), "  in  ", place_of(screen, answer.target), f"  {counted}")
    screen.blank()
    width = min(max([cell_len(visible(package.name)) for package in answer.packages] + [8]) + 2, screen.width // 2)
    for package in answer.packages:
        same_name = [canonical(module) for module in package.modules] == [canonical(package.name)]
        notes = [] if same_name or not package.modules else ["import " + ", ".join(package.modules[:4])]
        notes += ["owned by no distribution"] if package.version is None else []
        notes += [f"by {package.installer}"] if package.installer else []
        notes += [said_size(package.size_bytes)] if package.size_bytes is not None else []
        wrong = [f"hidden by {screen.path(package.hidden_by)}"] if package.hidden_by else []
        asked = f" (asked for by {', by '.join(package.chain)})" if package.chain else ""
        wrong += [
            f"needs {u.requirement}, {'has ' + u.found if u.found else 'which is not here'}{asked}"
            for u in package.unmet
        ]
        version = padded(screen.words(package.version or "-", 12), 14)
        lead = 2 + width + 14 + 8
        room = max(20, screen.width - lead)
        screen.line(
            "  ",
            padded(screen.words(package.name, width - 2), width),
            version,
            package.origin.ljust(8),
            (screen.words("; ".join(notes), room), QUIET)
            if not wrong
            else (screen.words("; ".join(wrong), room), ORANGE),
        )
    screen.doubts(answer.unknown, "not known")
    screen.not_read(answer.unread)
    if options.verbose:
        screen.blank()
        for package in answer.packages:
            if package.asked_by:
                screen.line(
                    "  ", visible(package.name), (" is asked for by ", QUIET), visible(", ".join(package.asked_by))
                )


def _draw_fitness(screen: Screen, answer: PackagesAnswer) -> None:
    """What a project asks for, one by one."""
    assert answer.fitness is not None and answer.project is not None
    fit, asks = answer.fitness, answer.project
    verdict = ("can run ", "bold") if fit.runs else ("cannot run ", ORANGE)
    target = place_of(screen, answer.target)
    screen.line(target, "  ", verdict, visible(asks.name), (f"  {screen.path(asks.path)}", QUIET))
    screen.blank()
    if asks.requires_python is not None:
        mark = "=" if fit.python_allowed else screen.marks["differs"]
        screen.line(" ", mark, "  Python ", visible(asks.requires_python), (f"   {fit.python} is here", QUIET))
    for status in fit.requirements:
        mark = "=" if status.is_met else "?" if status.group is not None else screen.marks["differs"]
        result = f"{visible(status.found)} is here" if status.found is not None else "not here"
        notes = [f"for {visible(status.group)}"] if status.group is not None else []
        notes += [f"{screen.path(status.path)}, line {status.line}"] if status.path and status.line is not None else []
        screen.line(
            " ",
            mark,
            "  ",
            padded(screen.words(status.requirement, 38), 40),
            padded(result, 18) + "  ",
            ("; ".join(notes), QUIET),
        )
