"""A page about a folder, and the map alone: everything from outside is escaped and made visible at one place."""

from __future__ import annotations

import base64
import datetime
import hashlib
from collections.abc import Callable
from importlib.resources import files

from jinja2 import Environment as Templates
from jinja2 import FunctionLoader, StrictUndefined
from markupsafe import Markup

from kalyx import __version__
from kalyx.cli.render.survey import said_size
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Part, Seat
from kalyx.core.model.results import CauseText, WhyAnswer
from kalyx.core.queries.map import LEFT, MIDDLE, RIGHT
from kalyx.core.queries.overview import Overview
from kalyx.core.text.visible import visible

MARKS = {"same": "=", "differs": "≠", "dead": "∅", "unknown": "?"}
RELATIONS = {"same": "agrees with the reference", "differs": "runs something else", "dead": "does not start",
             "unknown": "not known"}  # fmt: skip
_OUTCOMES = {"imports": "imports", "fails": "fails", "undetermined": "not tested"}
_COLOURS = {"same": "#1f66a8", "differs": "#b35300", "dead": "#4a4f55", "unknown": "#7d838a"}
_DASHES = {"same": "", "differs": "9 4", "dead": "2 4", "unknown": "4 4"}
# How a page or a map begins that was made here: only such a file is written over.
SIGNS = (b'<meta name="generator" content="kalyx report">', b"<!-- kalyx report -->")


def _source(name: str) -> str:
    return files("kalyx.cli.render.page").joinpath(name).read_text("utf-8")


def _fit_for_a_page(value: object) -> object:
    """Every text that a template gives out, unless Kalyx marked it as its own markup: made visible, then escaped."""
    return visible(value) if isinstance(value, str) and not isinstance(value, Markup) else value


def _templates() -> Templates:
    return Templates(autoescape=True, loader=FunctionLoader(_source), finalize=_fit_for_a_page,
                     undefined=StrictUndefined, trim_blocks=True)  # fmt: skip


def fit(text: str, room: int, points: int) -> str:
    """A text cut in its middle, never at its end, to fit so many pixels in letters of this size."""
    shown = visible(text)
    most = max(4, int(room / (points * 0.6)))
    if sum(2 if ord(item) > 0x2E80 else 1 for item in shown) <= most:
        return shown
    most = most if shown.isascii() else most * 3 // 4
    front = most // 3
    return shown[:front] + "…" + shown[len(shown) - (most - front - 1) :]


def two_lines(text: str, room: int, points: int) -> list[str]:
    """The same in two lines, broken between words."""
    words, lines = visible(text).split(" "), [""]
    most = int(room / (points * 0.6))
    for word in words:
        if lines[-1] and len(lines[-1]) + 1 + len(word) > most:
            lines.append(word)
        else:
            lines[-1] = f"{lines[-1]} {word}".strip()
    if len(lines) <= 2:
        return [fit(line, room, points) for line in lines]
    return [fit(lines[0], room, points), fit(" ".join(lines[1:]), room, points)]


def map_alone(machine: Machine, overview: Overview) -> str:
    """The map as a drawing of its own."""
    drawn = _drawn(_templates(), machine, overview, alone=True)
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{SIGNS[1].decode()}\n{drawn}\n'


def _drawn(templates: Templates, machine: Machine, overview: Overview, alone: bool) -> str:
    title = f"Seats in {machine.reader.folder}, the interpreters they start, and environments"
    heads = [(LEFT[0], "seats"), (MIDDLE[0], "interpreters"), (RIGHT[0], "environments")]
    return templates.get_template("map.svg").render(
        picture=overview.picture, title=title, alone=alone, heads=heads, middle=MIDDLE[1], marks=MARKS,
        relations=RELATIONS, colours=_COLOURS, dashes=_DASHES, fit=fit, two_lines=two_lines, short=_shortener(machine),
        map_style=Markup(_source("map.css")),
    )  # fmt: skip


def _shortener(machine: Machine) -> Callable[[str | None], str]:
    """What writes the home folder as ``~``."""
    reader = machine.reader

    def short(text: str | None) -> str:
        return (text or "").replace(reader.home + reader.path.sep, "~" + reader.path.sep) if reader.home else text or ""

    return short


def page(machine: Machine, overview: Overview, measured: bool, source: str | None) -> str:
    """The whole page. ``source``: the capture that was examined; ``measured``: whether sizes are in it."""
    templates, short = _templates(), _shortener(machine)
    style, script = _source("page.css") + _source("map.css"), _source("page.js")
    most = max([environment.size_bytes or 0 for environment in overview.survey.environments] + [1])
    return templates.get_template("page.html").render(
        here=overview.here, survey=overview.survey, kernels=overview.kernels, stories=overview.stories,
        causes=overview.causes, marks=MARKS, relations=RELATIONS, outcomes=_OUTCOMES,
        title=f"Kalyx: {machine.reader.folder}",
        made=_made(source), summary=_summary(overview), svg=Markup(_drawn(templates, machine, overview, alone=False)),
        strays=any(way.kind == "strays" for way in overview.picture.ways), style=Markup(style), script=Markup(script),
        style_hash=_hash(style), script_hash=_hash(script), measured=measured, short=short, size=said_size,
        bar=lambda count: max(1, round(90 * count / most)), alone=False,
        **_words(overview.causes, overview.here.findings, short),
    )  # fmt: skip


def answer_alone(machine: Machine, answer: WhyAnswer, then: str | None) -> str:
    """The answer to ``why`` as a part of another page: everything from outside escaped, nothing that a click runs.

    ``then``: what is left to do after the fix.
    """
    short = _shortener(machine)
    return _templates().get_template("answer.html").render(
        answer=answer, then=then, alone=True, outcomes=_OUTCOMES, short=short, style=Markup(_source("answer.css")),
        version=__version__, **_words([], [], short),
    )  # fmt: skip


def _words(causes: list[CauseText], findings: list[Finding], short: Callable[[str | None], str]) -> dict[str, object]:
    """The page's words for a place, a seat and a cause."""
    explained = {cause.name for cause in causes}

    def where(seen: Evidence) -> str:
        path = short(seen.path) if seen.path is not None else short(seen.source)
        return f"{path}, line {seen.line}" if seen.path is not None and seen.line else path

    def hops(part: Part) -> list[str]:
        return list(dict.fromkeys([part.path, *part.links] if part.path else part.links))

    def numbers(seat: Seat) -> list[int]:
        own = {finding.message for finding in seat.findings}
        return [number for number, finding in enumerate(findings, 1) if finding.message in own]

    def cause_link(name: str) -> Markup | str:
        return Markup('<a href="#cause-{0}">{0}</a>').format(name) if name in explained else name

    def seat_said(seat: Seat) -> str:
        name = short(seat.name) if seat.seat in ("path", "program") else seat.name
        called = "the shell" if seat.seat == "shell" else name if seat.seat == "path" else f"{seat.seat} {name}"
        if seat.environment is None or seat.interpreter is None:
            return called
        return f"{called} ({seat.environment.name}, {seat.interpreter.version})"

    return {
        "where": where,
        "hops": hops,
        "numbers": numbers,
        "cause_link": cause_link,
        "seat_said": seat_said,
    }


def _hash(text: str) -> Markup:
    """What a page's policy names its own style and script by (Content Security Policy, level 2)."""
    digest = base64.b64encode(hashlib.sha256(text.encode("utf-8")).digest()).decode("ascii")
    return Markup("'sha256-{}'").format(digest)


def _made(source: str | None) -> str:
    now = datetime.datetime.now().astimezone().strftime("%Y-%m-%d %H:%M %Z")
    return f"Made by Kalyx {__version__} on {now}" + (f", of the machine in {source}." if source else ".")


def _summary(overview: Overview) -> str:
    seats = overview.here.seats
    counts = {relation: sum(seat.relation == relation for seat in seats) for relation in MARKS}
    details = [_counted(len(seats), "seat")]
    verbs = {"differs": ("run", "something else than the reference"), "dead": ("start", "nothing")}
    for relation, (verb, words) in verbs.items():
        if counts[relation] == 1:
            details.append(f"one {verb}s {words}")
        elif counts[relation]:
            details.append(f"{counts[relation]} {verb} {words}")
    details += [f"{counts['unknown']} not known"] if counts["unknown"] else []
    # As survey counts: an installation is an interpreter, and no environment.
    environments = [environment for environment in overview.survey.environments if environment.kind != "installation"]
    interpreters = len(overview.survey.interpreters)
    kinds = f"{_counted(interpreters, 'interpreter')} and {_counted(len(environments), 'environment')} are known"
    if len(details) == 1 and len(seats) > 1:
        details.append("all agree")
    findings = len(overview.here.findings)
    text = f" {_counted(findings, 'finding')}." if findings else ""
    return f"{', '.join(details)}; {kinds}.{text}"


def _counted(count: int, word: str) -> str:
    return f"{count} {word}" if count == 1 else f"{count} {word}s"
