"""What is drawn of made-up answers, word for word (rendered/*.txt): every form that a record can take, wide and narrow.

``KALYX_DRAW=1`` writes the files again; read the difference then.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import os
import re
from collections.abc import Callable, Iterable
from typing import Any
from unittest import mock

import pytest

from kalyx.cli.commands import contrast, discard, point, record, register, report, unregister
from kalyx.cli.context import Call
from kalyx.cli.render import kernels, lifecycle, packages, page, seats, stories, survey
from kalyx.core.model import action_results, results
from kalyx.core.model.records import Seat
from kalyx.core.queries.overview import Overview
from tests.made import Files
from tests.support.made_up import MadeUp
from tests.support.scenes import Scenes, on

SCENES = Scenes("cli/rendered")
# Columns, whether plain, whether in colour, whether with -v.
FORMS = ((100, False, False, False), (60, True, False, True), (160, False, True, True), (41, False, False, False), (400, False, False, True))


class Stream(io.TextIOWrapper):
    """A terminal, or no terminal, that keeps what is written."""

    def __init__(self, is_terminal: bool) -> None:
        super().__init__(io.BytesIO(), "utf-8", write_through=True)
        self.isatty = lambda: is_terminal  # type: ignore[method-assign]


def drawn(draw: Callable[[Call, Any], object], answer: object, columns: int, plain: bool, colour: bool, **options: Any) -> list[str]:
    """The lines that a drawing function writes on a screen of so many columns; colours as ``<1;34:``."""
    call = Call(argparse.Namespace(static=True, timeout=1.0, plain=plain, json=False, **options), on(Files()).reader)
    stream = Stream(colour)
    with mock.patch.dict(os.environ, {"COLUMNS": str(columns), "TERM": "xterm", "COLORTERM": "truecolor"}), contextlib.redirect_stdout(stream):
        os.environ.pop("NO_COLOR", None)
        draw(call, answer)
    return re.sub(r"\x1b\[([\d;]*)m", r"<\1:", stream.buffer.getvalue().decode()).splitlines()  # type: ignore[attr-defined]


def rendered(name: str, kind: type, draw: Callable[[Call, Any], object], many: int = 0, rounds: int = 2, **given: Any) -> None:
    """A scene: records of this type, drawn in each form."""

    def scene() -> Iterable[str]:
        for seed, (columns, plain, colour, verbose) in enumerate(FORMS * rounds):
            answer = MadeUp(seed, most=1 + seed % 4, many=many * (seed % 2), **given).one(kind)
            options = {"verbose": verbose, "dry_run": seed % 3 == 0, "unsound": seed % 4 == 1, "sizes": seed % 2 == 1, "unmet": seed % 5 == 3, "hidden": seed % 5 == 4, "target": "heath", "to": "heath.txt"}
            yield f"== {columns} columns{', plain' * plain}{', in colour' * colour}{', -v' * verbose}"
            yield from drawn(draw, answer, columns, plain, colour, **options)

    SCENES.add(scene, name)


def few_explained(call: Call, answer: results.KernelsAnswer) -> None:
    """The list of kernels, where more than two findings are too many to explain."""
    with mock.patch.object(kernels, "_EXPLAINED", 2):
        kernels.draw_kernels(call.screen, answer, call.options.verbose)


rendered("here", results.HereAnswer, lambda call, answer: seats.draw_here(call.screen, answer, call.options.verbose), many=14)
rendered("survey", results.SurveyAnswer, lambda call, answer: survey.draw_survey(call.screen, call.machine, answer, call.options), rounds=4)
rendered("kernels", results.KernelsAnswer, few_explained, many=7)
rendered("rehearsal", action_results.RehearsalAnswer, lambda call, answer: kernels.draw_rehearsal(call.screen, answer, call.options.verbose, notes=True), rounds=6)
rendered("registration", action_results.RehearsalAnswer, register._show, rounds=4)
rendered("why", results.WhyAnswer, lambda call, answer: stories.draw_why(call.screen, answer, call.options.verbose), seats=[[]], asked_at=[[]], rounds=4)
rendered("why_of_files", results.WhyAnswer, lambda call, answer: stories.draw_why(call.screen, answer, call.options.verbose), seats=[[]])
rendered("why_everywhere", results.WhyAnswer, lambda call, answer: stories.draw_why(call.screen, answer, call.options.verbose), rounds=4)
rendered("packages", results.PackagesAnswer, lambda call, answer: packages.draw_packages(call.screen, answer, call.options), rounds=4)
rendered("fill_plan", action_results.FillAnswer, lambda call, answer: lifecycle.draw_fill_plan(call.screen, answer))
rendered("fill", action_results.FillAnswer, lambda call, answer: lifecycle.draw_fill(call.screen, call.machine, answer, answer.moves if call.options.dry_run else []), rounds=4)
rendered("prepare", action_results.PrepareAnswer, lambda call, answer: lifecycle.draw_prepare(call.screen, call.machine, answer, call.options), rounds=4)
rendered("contrast", results.ContrastAnswer, lambda call, answer: contrast._draw(call, answer, call.options.verbose), rounds=4)
rendered("discard", action_results.DiscardAnswer, discard._show, action=["remove", "remove kernel"])
rendered("point", action_results.PointAnswer, point._show)
rendered("unregister", action_results.UnregisterAnswer, unregister._show)
rendered("report", action_results.ReportAnswer, report._draw)
rendered("record", action_results.RecordAnswer, lambda call, answer: record._draw(call, len(answer.lines), answer.done, answer.notes))


@SCENES.add
def summaries() -> Iterable[str]:
    """The sentence at the top of a page, by how the seats relate to the reference."""
    for relations in ("", "same", "differs", "same same", "same differs", "dead dead", "same differs differs dead", "unknown", "same unknown unknown"):
        whole = MadeUp(len(relations), most=2).one(Overview)
        whole.here.seats = [MadeUp(number, relation=[relation]).one(Seat) for number, relation in enumerate(relations.split())]
        yield f"{relations or 'none'}: {page._summary(whole)}"


@SCENES.add
def pages() -> Iterable[str]:
    """The page, the map and the answer as a part of another page."""
    machine = on(Files())
    for seed in range(4):
        made = MadeUp(seed, most=2 + seed)
        whole = made.one(Overview)
        for text in (page.page(machine, whole, seed % 2 == 1, None if seed % 2 else "moor.kalyx"), page.map_alone(machine, whole), page.answer_alone(machine, made.one(results.WhyAnswer), None if seed % 2 else "restart the kernel")):
            without = re.sub(r"(?s)<(style|script)\b[^>]*>.*?</\1>|'sha256-[^']*'", r"", text)
            yield from (line for line in re.sub(r"Kalyx [\d.]+( on [\d-]+ [\d:]+ \w+)?", "Kalyx {version}", without).splitlines() if line.strip())


@pytest.mark.parametrize("name", SCENES.names)
def test_rendered(name):
    assert not (difference := SCENES.difference(name)), difference[:6000]
