"""``kalyx survey``: every interpreter and environment on this machine."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from kalyx.cli.context import Call
from kalyx.core.model.records import KalyxError
from kalyx.core.queries.survey import survey
from kalyx.core.system.nearest_path import near_paths
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--under", action="append", default=[], metavar="DIR", help="look below this folder too")
    parser.add_argument("--sizes", action="store_true", help="measure what each takes on disk")
    parser.add_argument("--unsound", action="store_true", help="only what needs care, with its fixes")


def run(call: Call) -> int:
    reader = call.machine.reader
    under = [reader.absolute(folder) for folder in call.options.under]
    for folder in under:
        if not reader.is_folder(folder) and reader.refusal(folder) is None:
            raise KalyxError(f"{visible(folder)}: {NOTHING_THERE}", near_paths(reader, folder))
    with call.progress("measuring") as watch:
        answer = survey(call.machine, under, call.options.sizes, _of(watch))
    if call.options.unsound:
        answer.environments = [environment for environment in answer.environments if environment.findings]
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.survey import draw_survey

        draw_survey(call.screen, call.machine, answer, call.options)
    return 1 if call.options.unsound and answer.environments else 0


def _of(watch: Callable[[str], None]) -> Callable[[int, int], None]:
    return lambda number, whole: watch(f"{number} of {whole}")
