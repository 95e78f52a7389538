"""Kernels as a list, a plan, a rehearsal."""

from __future__ import annotations

import argparse

from kalyx.cli.render.colours import BLUE, ORANGE, QUIET
from kalyx.cli.render.screen import Screen, columns, padded, wrap
from kalyx.cli.render.stories import WORDS
from kalyx.core.model.action_results import RehearsalAnswer
from kalyx.core.model.records import ChangePlan, Interpreter, Kernel, RunningKernel
from kalyx.core.model.results import KernelsAnswer
from kalyx.core.text.visible import visible

# Noted in the list, and no fault.
_EXPLAINED = 20  # of more findings the evidence and the fixes are shown with --verbose
_ONLY_TO_KNOW = {"answers", "twin", "server-bound", "shell-elsewhere"}


def draw_kernels(screen: Screen, answer: KernelsAnswer, verbose: bool) -> None:
    """The list, then what is wrong with any of them."""
    if not answer.kernels:
        screen.line(f"no kernels are registered, as seen by {visible(answer.seen_by)}")
    elif answer.seen_by:
        for number, part in enumerate(wrap(f"as seen by {visible(answer.seen_by)}", screen.width - 9)):
            screen.line(("kernels" if number == 0 else "       ", "bold"), "  ", part)
        screen.blank()
    rows = [[visible(kernel.id), f'"{visible(kernel.label)}"', _runs(kernel), ""] for kernel in answer.kernels]
    widths = [min(width, screen.width // 3) for width in columns(rows)]
    for kernel, row in zip(answer.kernels, rows, strict=True):
        dead = kernel.interpreter is None and kernel.language in ("", "python")
        wrong = [name for name in kernel.conditions if name not in _ONLY_TO_KNOW]
        unknown = screen.marks["unknown"] if kernel.undecided else screen.marks["dead"]
        mark = unknown if dead else screen.marks["differs"] if wrong else " "
        screen.line(
            (f" {mark} ", ORANGE),
            (padded(screen.words(row[0], widths[0] - 2), widths[0]), "bold"),
            padded(screen.words(row[1], widths[1] - 2), widths[1]),
            padded(screen.words(row[2], widths[2] - 2), widths[2]),
            (", ".join(kernel.conditions), ORANGE if wrong else QUIET),
            (f"{', ' if kernel.conditions else ''}explains" if kernel.explains else "", QUIET),
        )
        for running in kernel.running:
            _running(screen, running)
    for running in answer.unregistered:
        screen.line((f" {screen.marks['unknown']} ", ORANGE), ("runs, and no kernel here explains it", ORANGE))
        _running(screen, running)
    screen.not_read(answer.unread)
    findings = [
        finding
        for kernel in answer.kernels
        for finding in kernel.findings
        if verbose or finding.cause not in _ONLY_TO_KNOW
    ]
    for finding in findings if verbose else findings[:_EXPLAINED]:
        screen.blank()
        screen.line(("   ", ""), (screen.shown(finding.message), "bold"))
        screen.finding(finding, headline=True)
    if not verbose and len(findings) > _EXPLAINED:
        screen.blank()
        screen.line(f"   {len(findings) - _EXPLAINED} more are only marked in the list; kalyx kernels -v explains each")
    if verbose:
        screen.blank()
        screen.line("folders looked in, the first one wins:")
        for folder in answer.folders:
            screen.line("   ", screen.path(folder))


def _running(screen: Screen, running: RunningKernel) -> None:
    notebook = f"notebook {screen.path(running.notebook)}" if running.notebook else "no notebook known"
    screen.line("      ", ("runs  ", BLUE), f"process {running.pid}  {notebook}  {screen.path(running.executable)}")


def _runs(kernel: Kernel) -> str:
    if kernel.undecided and kernel.interpreter is None:
        return visible(kernel.reason or "not known")
    if kernel.environment is None or kernel.interpreter is None:
        return kernel.language if kernel.argv and kernel.language not in ("", "python") else "nothing"
    return f"{visible(kernel.environment.name)}, {kernel.interpreter.version}"


def draw_plan(screen: Screen, changes: list[ChangePlan], notes: list[str]) -> None:
    """The plan: each path that will be changed."""
    screen.plan(changes)
    for note in notes:
        screen.line(("note  ", BLUE), screen.shown(note))


def draw_registration(screen: Screen, answer: RehearsalAnswer, options: argparse.Namespace) -> None:
    """What was registered, and its rehearsal; or why it was not."""
    if answer.kernel is None:
        if answer.findings:
            screen.line(("not registered", ORANGE), f"  {options.target}")
            screen.blank()
            for finding in answer.findings:
                screen.finding(finding)
            return
        draw_plan(screen, answer.plan, answer.notes)
        return
    kernel = answer.kernel
    if answer.done:
        screen.line(("registered", BLUE), f'  {visible(kernel.id)}  "{visible(kernel.label)}"')
        screen.line("   in       ", screen.path(kernel.folder))
    else:
        screen.line(("not registered", ORANGE), f"  {visible(kernel.id)}")
    for note in answer.notes:
        screen.line(("   note     ", BLUE), screen.shown(note))
    screen.blank()
    if options.static:
        screen.line("   not rehearsed: --static starts no program")
    else:
        draw_rehearsal(screen, answer, options.verbose, notes=False)
    if answer.done and answer.undo:
        for word, command in (("to undo", answer.undo), ("and", answer.undo_packages)):
            if command:
                screen.line(f"   {word.ljust(9)}", (screen.machine_line(command), "bold"))
    if answer.done and not any("the notebook server in" in note for note in answer.notes):
        screen.line("   reload the notebook page to see it in the list")


def draw_rehearsal(screen: Screen, answer: RehearsalAnswer, verbose: bool, *, notes: bool) -> None:
    """Who the kernel says it is, what its shell lines reach, what its imports found; ``notes``: its notes too."""
    kernel = answer.kernel
    name = visible(kernel.id) if kernel else ""
    if not answer.answered:
        screen.line((f"kernel {name} gave no answer", ORANGE))
        screen.blank()
        for finding in answer.findings:
            screen.finding(finding)
        if answer.output and verbose:
            for line in answer.output.splitlines()[-20:]:
                screen.line("   | ", visible(line))
        return
    took = f" after {answer.seconds:.2f} s" if answer.seconds is not None else ""
    screen.line((f"kernel {name} answers", BLUE), took)
    screen.labelled(3, "server", screen.shown(answer.seen_by))
    if answer.interpreter is not None:
        screen.line("   it is    ", f"{screen.path(answer.interpreter.executable)}  ({answer.interpreter.version})")
        screen.line("   prefix   ", screen.path(answer.interpreter.prefix))
        reach = answer.shell_reaches
        _reach(screen, "!python", reach.python, reach.python_path, answer.interpreter)
        _reach(screen, "!pip", reach.installer, reach.installer_path, answer.interpreter)
        _own_path_line(screen, answer)
    for item in answer.imports:
        word, colour = WORDS[item.outcome]
        what = f" from {screen.path(item.found_at)}" if item.found_at else ""
        owner = f"  ({item.distribution.name} {item.distribution.version})" if item.distribution else ""
        screen.line("   ", (visible(item.statement), "bold"), "  ", (word, colour), what, owner)
        for finding in item.findings:
            screen.finding(finding, indent=6)
    if notes:
        for note in answer.notes:
            screen.line("   ", ("note     ", QUIET), screen.shown(note))
    if answer.script_output is not None:
        screen.line("   the script printed:" if answer.script_output else "   the script printed nothing")
        for line in answer.script_output.splitlines()[-40:]:
            screen.line("   | ", visible(line))
    if answer.output and (verbose or answer.script_output is not None):
        screen.line("   it wrote:")
        for line in answer.output.splitlines()[-20:]:
            screen.line("   | ", visible(line))


def _own_path_line(screen: Screen, answer: RehearsalAnswer) -> None:
    """What makes shell lines reach the kernel's own environment, where they reach another."""
    kernel, own, reach = answer.kernel, answer.interpreter, answer.shell_reaches
    others = [
        interpreter
        for interpreter in (reach.python, reach.installer)
        if interpreter is not None and own and not interpreter.is_in_environment_of(own)
    ]
    if others and kernel is not None and kernel.environment is not None:
        keeps = ["--explain"] if kernel.explains else []
        argv = ["kalyx", "register", kernel.environment.target, "--id", kernel.id, "--own-path", *keeps, "--take-over"]
        what = "put the environment first on the kernel's PATH, so that !python and !pip use it"
        screen.line("   fix      ", what)
        screen.line("            ", (screen.machine_line(argv), "bold"))


def _reach(screen: Screen, word: str, interpreter: Interpreter | None, path: str | None, own: Interpreter) -> None:
    label = f"   {word.ljust(9)}"
    if path is None:
        screen.line(label, ("is not on its PATH", QUIET))
    elif interpreter is None:
        screen.line(label, screen.path(path))
    else:
        same = interpreter.is_in_environment_of(own)
        note = "the same environment" if same else f"another environment: {screen.path(interpreter.prefix)}"
        screen.line(label, f"{screen.path(path)}  ({interpreter.version}) ", (note, QUIET if same else ORANGE))
