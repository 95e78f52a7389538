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


def draw_packages(screen: Screen, answer: PackagesAnswer, options: argparse.Namespace) -> None:
    """``packages``, drawn: what can be imported, and what hides what."""
    if answer.fitness is not None and answer.project is not None:
        _draw_fitness(screen, answer)
        return
    distributions = [one for one in answer.packages if one.version is not None]
    screen.line(
        ("packages", "bold"),
        "  in  ",
        place_of(screen, answer.target),
        f"  {len(distributions)} distribution{'' if len(distributions) == 1 else 's'}",
    )
    screen.blank()
    width = min(max([cell_len(visible(one.name)) for one in answer.packages] + [8]) + 2, screen.width // 2)
    for one in answer.packages:
        same_name = [canonical(module) for module in one.modules] == [canonical(one.name)]
        notes = [] if same_name or not one.modules else ["import " + ", ".join(one.modules[:4])]
        notes += ["owned by no distribution"] if one.version is None else []
        notes += [f"by {one.installer}"] if one.installer else []
        notes += [said_size(one.size_bytes)] if one.size_bytes is not None else []
        wrong = [f"hidden by {screen.path(one.hidden_by)}"] if one.hidden_by else []
        asked = f" (asked for by {', by '.join(one.chain)})" if one.chain else ""
        wrong += [
            f"needs {u.requirement}, {'has ' + u.found if u.found else 'which is not here'}{asked}" for u in one.unmet
        ]
        version = screen.words(one.version or "-", 12).ljust(14)
        lead = 2 + width + 14 + 8
        room = max(20, screen.width - lead)
        screen.line(
            "  ",
            padded(screen.words(one.name, width - 2), width),
            version,
            one.origin.ljust(8),
            (screen.words("; ".join(notes), room), QUIET)
            if not wrong
            else (screen.words("; ".join(wrong), room), ORANGE),
        )
    screen.doubts(answer.unknown, "not known")
    for place in answer.unread:
        screen.line(("not read  ", ORANGE), screen.path(place.path), f": {visible(place.reason)}")
    if options.verbose:
        screen.blank()
        for one in answer.packages:
            if one.asked_by:
                screen.line("  ", visible(one.name), (" is asked for by ", QUIET), visible(", ".join(one.asked_by)))


def _draw_fitness(screen: Screen, answer: PackagesAnswer) -> None:
    """What a project asks for, one by one."""
    assert answer.fitness is not None and answer.project is not None
    fit, asks = answer.fitness, answer.project
    said = ("can run ", "bold") if fit.runs else ("cannot run ", ORANGE)
    screen.line(place_of(screen, answer.target), "  ", said, visible(asks.name), (f"  {screen.path(asks.path)}", QUIET))
    screen.blank()
    if asks.requires_python is not None:
        mark = "=" if fit.python_allowed else screen.marks["differs"]
        screen.line(" ", mark, "  Python ", visible(asks.requires_python), (f"   {fit.python} is here", QUIET))
    for one in fit.requirements:
        mark = "=" if one.is_met else "?" if one.group is not None else screen.marks["differs"]
        found = f"{visible(one.found)} is here" if one.found is not None else "not here"
        at = f"{screen.path(one.path)}, line {one.line}" if one.path is not None and one.line is not None else ""
        group = f"for {visible(one.group)}; " if one.group is not None else ""
        screen.line(
            " ", mark, "  ", padded(screen.words(one.requirement, 38), 40), padded(found, 20), (f"{group}{at}", QUIET)
        )
