"""The text of ``prepare`` and ``fill``: the plan, and the result."""

from __future__ import annotations

import argparse

from rich.cells import cell_len

from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
from kalyx.cli.render.kernels import draw_rehearsal
from kalyx.cli.render.screen import Screen, padded
from kalyx.cli.render.stories import WORDS
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import FillAnswer, PrepareAnswer
from kalyx.core.model.records import ImportAnswer, Package, VersionChange
from kalyx.core.text.names import canonical
from kalyx.core.text.versions import change_of
from kalyx.core.text.visible import visible

# What was done to a package, by the word of the plan.
_DONE = {"install": "installed", "upgrade": "upgraded", "downgrade": "downgraded",
         "change": "changed", "remove": "removed"}  # fmt: skip


def draw_fill_plan(screen: Screen, answer: FillAnswer) -> None:
    """What would be installed, changed and removed, and which packages that would break."""
    _draw_head(screen, answer)
    _draw_moves(screen, answer, done=False)
    for unmet in answer.broken:
        has = f"but {visible(unmet.found)} would be installed" if unmet.found else "which would be missing"
        screen.line("   ", ("breaks    ", ORANGE), f"{visible(unmet.name)} {visible(unmet.version)}: requires "
                    f"{visible(unmet.requirement)}, {has}")  # fmt: skip


def _draw_head(screen: Screen, answer: FillAnswer) -> None:
    environment = answer.environment
    if environment is not None:
        screen.line(("fill", "bold"), f"  {visible(environment.name)}, {environment.version}  ",
                    screen.path(environment.prefix))  # fmt: skip


def _draw_moves(screen: Screen, answer: FillAnswer, done: bool) -> None:
    def shown(word: str) -> str:
        return (_DONE[word] if done else word).ljust(9) + " "

    width = max([cell_len(visible(move.name)) for move in answer.moves] + [0]) + 2
    for move in answer.moves:
        name = padded(visible(move.name), width)
        if move.before is None or move.hides is not None:
            after, hides = visible(move.after or ""), (_hidden(screen, move), QUIET)
            screen.line("   ", (shown("install"), BLUE), name, after, hides)
        elif move.after is None:
            screen.line("   ", (shown("remove"), ORANGE), name, visible(move.before))
        else:
            word = shown(change_of(move.before, move.after))
            screen.line("   ", (word, ORANGE), name, f"{visible(move.before)} to {visible(move.after)}")
    for package in answer.seen_below:
        _draw_seen_below(screen, package)


def _hidden(screen: Screen, move: VersionChange | None) -> str:
    if move is None or move.hides is None:
        return ""
    return f"  hides {visible(move.before or '')} in {screen.path(move.hides)}"


def _draw_seen_below(screen: Screen, package: Package) -> None:
    path = f"{screen.path(package.location)} ({package.origin})"
    seen = f"{_named(package)}, seen from {path}: nothing of its own is added"
    screen.line("   ", ("there".ljust(10), QUIET), seen)


def draw_fill(screen: Screen, machine: Machine, answer: FillAnswer, planned: list[VersionChange] | None) -> None:
    """The result, after the plan was shown where there was one."""
    if planned is None and not answer.moves:
        _draw_head(screen, answer)
    if not answer.done and answer.moves:
        for step in answer.steps:
            screen.line("   ", (visible(step), "bold"))
        _draw_notes(screen, answer.notes)
        return
    if answer.done and planned is not None and _same_moves(answer.moves, planned):
        screen.line("done", (", as planned", QUIET))
    elif answer.done and answer.moves:
        screen.line("done", ("; not as planned:", ORANGE))
        _draw_moves(screen, answer, done=True)
    elif not answer.notes or answer.seen_below:
        _draw_moves(screen, answer, done=True)
        screen.line("nothing to do")
    _draw_imports(screen, answer.imports)
    for unmet in answer.broken:
        has = f"but {visible(unmet.found)} is installed" if unmet.found else "which is missing"
        screen.line("   ", ("broken    ", ORANGE), f"{visible(unmet.name)} {visible(unmet.version)}: requires "
                    f"{visible(unmet.requirement)}, {has}")  # fmt: skip
    for process in answer.restart:
        screen.line("   ", ("restart   ", ORANGE), f"{screen.shown(process)}: it runs with the packages of before")
    draw_lacking(screen, answer.lacking)
    _draw_notes(screen, answer.notes)
    if answer.undo is not None:
        screen.line("   ", ("undo      ", QUIET), visible(machine.line(answer.undo)))
    if answer.undo_then is not None:
        screen.line("   ", ("then      ", QUIET), visible(machine.line(answer.undo_then)))


def _draw_notes(screen: Screen, notes: list[str]) -> None:
    for note in notes:
        screen.line("   ", ("note      ", QUIET), screen.shown(note))


def _named(package: Package) -> str:
    return visible(" ".join(filter(None, (package.name, package.version))))


def _same_moves(moves: list[VersionChange], other: list[VersionChange]) -> bool:
    return {(m.name.lower(), m.before, m.after) for m in moves} == {(m.name.lower(), m.before, m.after) for m in other}


def _draw_imports(screen: Screen, imports: list[ImportAnswer]) -> None:
    for answer in imports:
        word, colour = WORDS[answer.outcome]
        text = f"  {answer.error.type}: {screen.shown(answer.error.text)}" if answer.error else ""
        screen.line("   ", (visible(answer.statement), "bold"), "  ", (word, colour), text)


def draw_lacking(screen: Screen, names: list[str]) -> None:
    """What was requested and is not installed."""
    for name in names:
        screen.line("   ", ("lacking   ", ORANGE), f"{visible(name)} was requested and is not installed")


def draw_prepare(screen: Screen, machine: Machine, answer: PrepareAnswer, options: argparse.Namespace) -> None:
    """The plan of a dry run; or the environment, its packages, its imports, its kernel."""
    if not answer.done:
        screen.plan(answer.plan)
        for step in answer.steps:
            screen.line("   ", (visible(step), "bold"))
        return
    environment = answer.environment
    if environment is not None:
        named = f"  {visible(environment.name)}, {environment.version}  "
        screen.line(("created", BLUE), named, screen.path(environment.prefix))
    hiding = {canonical(move.name): move for move in answer.moves if move.hides is not None}
    asked = {canonical(package.name) for package in answer.packages}
    for package in answer.packages:
        move = hiding.get(canonical(package.name))
        if package.origin in ("own", "linked"):
            screen.line("   ", ("installed ", BLUE), _named(package), (_hidden(screen, move), QUIET))
        else:
            _draw_seen_below(screen, package)
    others = [change for change in answer.moves if canonical(change.name) not in asked]
    came = [f"{change.name} {change.after}" for change in others if change.before is None]
    if came:
        screen.line("   ", ("with      ", QUIET), visible(", ".join(came)))
    for change in others:
        if change.hides is not None:
            text = visible(f"{change.name} {change.after}")
            screen.line("   ", ("installed ", BLUE), text, (_hidden(screen, change), QUIET))
        elif change.before is not None:
            word = _DONE[change_of(change.before, change.after or "")] if change.after else _DONE["remove"]
            screen.line("   ", (word.ljust(9) + " ", ORANGE), f"{visible(change.name)} {visible(change.before)} to "
                        f"{visible(change.after or 'nothing')}")  # fmt: skip
    _draw_imports(screen, answer.imports)
    draw_lacking(screen, answer.lacking)
    for note in answer.notes:
        screen.line("   ", ("note      ", ORANGE), screen.shown(note))
    if answer.rehearsal is not None:
        screen.blank()
        draw_rehearsal(screen, answer.rehearsal, options.verbose, notes=False)
    if environment is not None:
        screen.blank()
        screen.line("   to activate it: ", (machine.line_to_enter(environment.prefix), "bold"))
