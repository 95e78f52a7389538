"""The survey as a table: installations, then environments by their base Python, the unsound ones marked."""

from __future__ import annotations

import argparse

from rich.cells import cell_len

from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
from kalyx.cli.render.screen import Screen, padded
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Interpreter
from kalyx.core.model.results import SurveyAnswer
from kalyx.core.text.visible import visible

# So many packages of an environment are listed with their sizes, the largest first.
_LARGEST = 20


def draw_survey(screen: Screen, machine: Machine, answer: SurveyAnswer, options: argparse.Namespace) -> None:
    """Draw all of it, or with ``--unsound`` only what needs care."""
    if not options.unsound:
        _interpreters(screen, machine, answer)
    groups: dict[str, list[Environment]] = {}
    for environment in answer.environments:
        if environment.kind != "installation" or environment.findings:
            groups.setdefault(environment.base_prefix or "", []).append(environment)
    if groups:
        _environments(screen, machine, groups, options)
    elif options.unsound:
        screen.line("every environment found is sound")
    else:
        screen.line("no environments found in the usual places; look elsewhere with --under DIR")
    for user in answer.user_packages if not options.unsound else []:
        size = f", {said_size(user.size_bytes)}" if user.size_bytes is not None else ""
        count = f"{user.distributions} distribution{'s' * (user.distributions != 1)}"
        screen.line(("your own packages ", "bold"), f"for {user.version}  ", screen.path(user.folder),
                    (f"  {count}{size}", QUIET))  # fmt: skip
    screen.not_read(answer.unread)


def _interpreters(screen: Screen, machine: Machine, answer: SurveyAnswer) -> None:
    screen.line(("interpreters", "bold"))
    folders = set(machine.reader.path_folders())
    for interpreter in answer.interpreters:
        others = [name for name in interpreter.links if name != interpreter.executable]
        names = [name for name in others if machine.reader.parent(name) in folders]
        notes = _notes(interpreter)
        room = screen.width - 14 - len(notes)
        path = screen.path(interpreter.executable, room)
        screen.line("  ", padded(visible(interpreter.version), 10), path, (notes, QUIET))
        if names:
            also = "also " + ", ".join(screen.path(name) for name in names)
            screen.line(" " * 12, (screen.words(also, screen.width - 12), QUIET))
    screen.blank()


def _notes(interpreter: Interpreter) -> str:
    words = [] if interpreter.implementation == "cpython" else [interpreter.implementation]
    words += ["free-threaded"] if "t" in interpreter.abi_flags else []
    words += ["debug"] if "d" in interpreter.abi_flags else []
    return "  " + ", ".join(words) if words else ""


def _environments(
    screen: Screen, machine: Machine, groups: dict[str, list[Environment]], options: argparse.Namespace
) -> None:
    whole = sum(len(group) for group in groups.values())
    unsound = sum(1 for group in groups.values() for environment in group if environment.condition != "sound")
    text = f"  {whole}" + (f", {unsound} of them unsound" if unsound else "") + ", by base Python"
    screen.line(("environments", "bold"), text)
    names = [cell_len(visible(environment.name)) for group in groups.values() for environment in group]
    width = min(max(names) + 2, max(16, screen.width // 3))
    for base, group in sorted(groups.items(), key=lambda item: (item[0] == "", item[0])):
        screen.line("  ", (screen.path(base) if base else "base Python not found", BLUE))
        for environment in sorted(group, key=lambda member: member.name):
            _environment(screen, machine, environment, width, options)


def _environment(
    screen: Screen, machine: Machine, environment: Environment, width: int, options: argparse.Namespace
) -> None:
    sound = environment.condition == "sound"
    marked = not sound or any(finding.cause == "in-version-control" for finding in environment.findings)
    notes = [] if sound else [environment.condition]
    notes += [finding.cause for finding in environment.findings if finding.cause == "in-version-control"]
    notes += ["sees its base"] if environment.sees_base else []
    notes += ["managed by an environment manager"] if environment.kind == "kept" else []
    if environment.kernels:
        notes.append("kernel " + ", ".join(visible(machine.reader.name(key)) for key in environment.kernels))
    if environment.size_bytes is not None:
        notes.append(said_size(environment.size_bytes))
    tail = "  " + "; ".join(notes) if notes else ""
    lead = 4 + 2 + width + 10
    room = max(14, screen.width - lead - cell_len(tail))
    path = screen.path(environment.prefix, room)
    if lead + cell_len(path) + cell_len(tail) > screen.width:
        tail = screen.words(tail, max(12, screen.width - lead - cell_len(path)))
    screen.line(
        "    ",
        ((screen.marks["dead"] if not sound else screen.marks["differs"]) + " " if marked else "  ", ORANGE),
        padded(screen.words(environment.name, width - 2), width),
        padded(visible(environment.version or "?")[:9], 10),
        path,
        (tail, ORANGE if marked else QUIET),
    )
    if options.unsound or options.verbose:
        for finding in environment.findings:
            screen.finding(finding, indent=8)
    if options.sizes and options.verbose:
        for package in environment.package_sizes[:_LARGEST]:
            size = said_size(package.size_bytes) if package.size_bytes is not None else "not recorded"
            screen.line(" " * 10, size.rjust(10), "  ", visible(f"{package.name} {package.version}"))
        if len(environment.package_sizes) > _LARGEST:
            screen.line(" " * 10, f"and {len(environment.package_sizes) - _LARGEST} more")


def said_size(count: int) -> str:
    """Bytes in words, by thousands: ``14.2 MB``."""
    value = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 1000 or unit == "GB":
            return f"{value:.0f} {unit}" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1000
    return f"{count} B"
