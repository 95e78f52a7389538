"""The table of ``here``: seats grouped by what they run, the reference's block first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable
from functools import partial

from rich.cells import cell_len

from kalyx.cli.render.colours import ORANGE, QUIET
from kalyx.cli.render.folding import FEW, SHOWN, folded
from kalyx.cli.render.screen import COLOURS, LABEL, Screen, padded, wrap
from kalyx.core.model.records import Seat
from kalyx.core.model.results import HereAnswer
from kalyx.core.text.visible import visible

_LEADER = 12  # dots between a seat and the number of its finding: longer ones do not help the eye


def draw_here(screen: Screen, answer: HereAnswer, verbose: bool) -> None:
    """Draw the table and, below it, the findings that matter."""
    reference = answer.reference
    title = screen.path(answer.folder, screen.width - 30)
    text = f"reference: {_called(reference)}"
    gap = max(2, screen.width - cell_len(title) - cell_len(text))
    screen.line((title, "bold"), " " * gap, (text, QUIET))
    screen.blank()
    groups = _groups(answer)
    numbered = {finding.message: number for number, finding in enumerate(answer.findings, 1)}
    kinds = max([len(seat.seat) for seat in answer.seats] + [8]) + 2
    names = min(max([cell_len(visible(seat.name)) for seat in answer.seats] + [8]) + 2, max(20, screen.width // 3))
    heads = [_head(screen, group[0]) for group in groups]
    width = max([cell_len(name) for name, _, _ in heads] + [6]) + 2
    versions = max([cell_len(version) for _, version, _ in heads] + [6]) + 2
    for (name, version, path), group in zip(heads, groups, strict=True):
        room = max(16, screen.width - width - versions)
        screen.line(
            (padded(name, width), "bold"), padded(version, versions), (screen.without_middle(path, room), QUIET)
        )
        _fits(screen, group[0], answer, verbose)
        for seat, more in [(seat, 0) for seat in group] if verbose else folded(group, partial(_kind, screen)):
            _seat(screen, seat, numbered, kinds, names, verbose)
            if more:
                screen.line("      ", (f"and {more} more {_plural(seat.seat)} like these; -v lists each", QUIET))
    _beyond(screen, answer)
    if answer.project is not None and answer.fill is not None:
        screen.blank()
        what = f"install what {visible(answer.project.name)} requires and {_called(reference)} lacks"
        screen.line("   ", ("fix      ", LABEL), what)
        screen.line("            ", (answer.fill.line, "bold"))
    if answer.changes:
        screen.blank()
        for writer in answer.changes:
            screen.line(("changed  ", LABEL), screen.shown(writer))
    screen.not_read(answer.unread, LABEL)
    causes = Counter(finding.cause for finding in answer.findings)
    many = {cause for cause, count in causes.items() if count > FEW and not verbose}
    shown: dict[str, int] = {}
    for number, finding in enumerate(answer.findings, 1):
        shown[finding.cause] = shown.get(finding.cause, 0) + 1
        if finding.cause in many and shown[finding.cause] > SHOWN:
            continue
        screen.blank()
        lead = f"{number}".ljust(3)
        screen.line((lead, "bold"), visible(screen.shown(finding.message)))
        screen.finding(finding, indent=3, headline=True)
    for cause, count in shown.items():
        if cause in many:
            screen.blank()
            screen.line("   ", (f"and {count - SHOWN} more of {cause}; -v shows each", QUIET))


def _beyond(screen: Screen, answer: HereAnswer) -> None:
    """Which server answers for the notebooks and kernels shown, and how many kernels are not shown."""
    count = len(answer.other_kernels)
    if any(seat.seat in ("kernel", "notebook") for seat in answer.seats):
        screen.blank()
        screen.labelled(3, "server", screen.shown(answer.seen_by))
    if count:
        kernels = "1 other kernel is registered" if count == 1 else f"{count} other kernels are registered"
        text = f"{kernels}; nothing in this folder refers to {'it' if count == 1 else 'them'}: kalyx kernels"
        for part in wrap(text, screen.width - 3):
            screen.line("   ", (part, QUIET))


def _fits(screen: Screen, seat: Seat, answer: HereAnswer, verbose: bool) -> None:
    """Whether what this block starts can run the folder's project: in numbers, with -v by name."""
    fit, asks = seat.project, answer.project
    if fit is None or asks is None:
        return
    name = visible(asks.name)
    wrong = [] if fit.python_allowed else [f"it asks for Python {visible(fit.requires_python or '')}"]
    for words, names in (("missing", fit.missing), ("in another version", fit.other)):
        if names:
            listed = f": {', '.join(map(visible, names))}" if verbose else ""
            wrong.append(f"{len(names)} of {asks.requirements} requirements {words}{listed}")
    if not wrong:
        count = f", {fit.met} of {fit.met} requirements met" if fit.met else ""
        screen.line("   ", (f"can run {name}{count}", QUIET))
        return
    screen.line("   ", ("cannot run ", ORANGE), name, ": ", "; ".join(wrong))


def _kind(screen: Screen, seat: Seat) -> Hashable:
    """What seats have in common that differ in little but their name; others stand for themselves."""
    if seat.seat not in ("notebook", "kernel"):
        return id(seat)
    note = _note(screen, seat).replace(visible(seat.name), "") if seat.seat == "notebook" else ""
    return seat.seat, note, tuple(finding.cause for finding in seat.findings)


def _plural(kind: str) -> str:
    return "processes" if kind == "process" else kind + "s"


def _called(seat: Seat) -> str:
    return "shell" if seat.seat == "shell" else f"{seat.seat} {visible(seat.name)}"


def _groups(answer: HereAnswer) -> list[list[Seat]]:
    """Seats by environment, in the order met; those that start nothing, or are not known, last."""
    groups: dict[str, list[Seat]] = {}
    for seat in answer.seats:
        if seat.interpreter is None or seat.environment is None:
            key = "\0" if seat.relation == "dead" else "\1"
        else:
            key = f"{seat.environment.key} {seat.interpreter.version}"
        groups.setdefault(key, []).append(seat)
    return sorted(groups.values(), key=lambda group: (group[0].interpreter is None, group[0].relation == "unknown"))


def _head(screen: Screen, seat: Seat) -> tuple[str, str, str]:
    if seat.interpreter is None or seat.environment is None:
        return ("nothing" if seat.relation == "dead" else "not known"), "", ""
    return visible(seat.environment.name), seat.interpreter.version, screen.path(seat.environment.prefix)


def _seat(screen: Screen, seat: Seat, numbered: dict[str, int], kinds: int, names: int, verbose: bool) -> None:
    result = sorted({numbered[own.message] for own in seat.findings if own.message in numbered})
    numbers = [str(number) for number in result]
    note = _note(screen, seat)
    name = visible(seat.name) if seat.seat != "shell" else _words(screen, seat)
    before = 3 + 1 + 2 + kinds
    tail = ("…" if not screen.plain else ".") * 3 + " " + ", ".join(numbers) if numbers else ""
    wide = names if note else max(names, screen.width - before - len(tail) - 1)
    name = screen.words(name, max(8, wide - 2)) if not note else screen.words(name, names - 2)
    shown = screen.words(note, max(6, screen.width - before - names - len(tail) - 1))
    body = padded(name, names) + shown if note else name
    filler = ""
    if tail:
        dot = "." if screen.plain else "…"
        room = screen.width - before - cell_len(body) - 2 - len(", ".join(numbers))
        filler = " " + dot * max(2, min(room, _LEADER)) + " "
    screen.line(
        "   ",
        screen.mark(seat.relation),
        "  ",
        (padded(seat.seat, kinds), COLOURS[seat.relation]),
        body,
        (filler, QUIET),
        (", ".join(numbers), "bold"),
    )
    if seat.changed_since:
        what = ", ".join(visible(item) for item in seat.changed_since[:4])
        screen.line(" " * before, ("changed since it started: ", LABEL), screen.words(what, screen.width - before - 26))
    if verbose and note != shown:
        screen.labelled(before, "in full", note)
    if verbose:
        _details(screen, seat, before)


def _words(screen: Screen, seat: Seat) -> str:
    """The words of the shell that start this environment."""
    if seat.environment is None:
        return seat.name
    own = [p.word for p in seat.parts if p.environment is not None and p.environment.key == seat.environment.key]
    arrow = "->" if screen.plain else "→"
    strays = [
        f"{p.word} {arrow} {p.environment.name}"
        for p in seat.parts
        if p.environment is not None and p.environment.key != seat.environment.key
    ]
    text = ", ".join(visible(word) for word in own + strays)
    taken = next((p for p in seat.parts if p.defined is not None and p.word in own), None)
    if taken is None or taken.defined is None or taken.defined.path is None:
        return text
    file = taken.defined.path.replace("\\", "/").rpartition("/")[2]
    return f"{text}   ({visible(taken.word)}: {visible(file)}, line {taken.defined.line})"


def _note(screen: Screen, seat: Seat) -> str:
    if seat.interpreter is None:
        return screen.shown(seat.reason or "")
    if seat.seat == "kernel" and seat.label:
        return f'labelled "{visible(seat.label)}"'
    if seat.seat == "process" and seat.via:
        return visible(seat.via)
    return visible(seat.label or "")


def _details(screen: Screen, seat: Seat, indent: int) -> None:
    """Every word of the seat, hop by hop; where a choice is written; who started a process."""
    if seat.source is not None and seat.seat in ("editor", "notebook"):
        at = f", line {seat.line}" if seat.line else ""
        screen.line(" " * indent, ("written   ", LABEL), (screen.path(seat.source) + at, QUIET))
    if seat.started_by:
        screen.line(" " * indent, ("started by ", LABEL), (visible(", ".join(seat.started_by)), QUIET))
    for folder in seat.compiled:
        screen.line(" " * indent, ("loaded    ", LABEL), (screen.path(folder), QUIET))
    for part in seat.parts:
        own = part.role in ("python", "python3", "installer")
        if part.defined is not None:
            at = f"{screen.path(part.defined.path)}, line {part.defined.line}"
            screen.line(
                " " * indent,
                (padded(visible(part.word), 10), LABEL),
                (visible(part.defined.fact), QUIET),
                (f"   {at}", QUIET),
            )
        if part.path is None or not own:
            other = f"{part.role} {screen.shown(part.word)}  "
            word = other if not own else part.word if part.defined is None else ""
            reason = part.reason or (screen.path(part.path) if part.path else "")
            screen.line(" " * indent, (padded(visible(word), 10), LABEL), (visible(reason), QUIET))
            continue
        word = part.word if part.defined is None else ""
        first, *more = _hops(screen, [part.path, *part.links], screen.width - indent - 10)
        screen.line(" " * indent, (padded(visible(word), 10), LABEL), (first, QUIET))
        for line in more:
            screen.line(" " * (indent + 10), (line, QUIET))
        if part.reason:
            screen.line(" " * (indent + 10), visible(part.reason))
    if not seat.parts and seat.interpreter is not None:
        screen.line(" " * indent, (screen.path(seat.interpreter.executable), QUIET))


def _hops(screen: Screen, paths: list[str], room: int) -> list[str]:
    """Hop by hop, in lines that break before an arrow."""
    arrow = "->" if screen.plain else "→"
    lines: list[str] = []
    for path in dict.fromkeys(paths):
        text = f"{arrow} {screen.path(path)}" if lines else screen.path(path)
        if lines and cell_len(lines[-1]) + 1 + cell_len(text) <= room:
            lines[-1] += " " + text
        else:
            lines.append(text)
    return lines
