"""The content of a page about a folder: seats, environments, kernels, imports, the map."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from msgspec import Struct

from kalyx.core.diagnosis import catalogue
from kalyx.core.formats.headers import COMPILED
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import Picture
from kalyx.core.model.records import Environment, Finding, ImportAnswer, Kernel, Seat
from kalyx.core.model.results import CauseText, HereAnswer, SurveyAnswer, WhyAnswer
from kalyx.core.queries.here import look_here
from kalyx.core.queries.map import draw_map
from kalyx.core.queries.survey import survey


class Candidate(Struct):
    """One entry of a search path, and the names in it that could answer an import; ``taken``: one of them does."""

    entry: str
    origin: str
    exists: bool
    names: list[str]
    taken: bool


class Story(Struct):
    """An import with the path it is looked up on."""

    answer: ImportAnswer
    seat: Seat
    candidates: list[Candidate]


class Overview(Struct):
    """What a page shows."""

    here: HereAnswer
    survey: SurveyAnswer
    kernels: list[Kernel]
    stories: list[Story]
    causes: list[CauseText]
    picture: Picture


def overview(
    machine: Machine,
    reference: Seat | None,
    asked: Iterable[WhyAnswer],
    sizes: bool,
    watch: Callable[[int, int], None] | None = None,
) -> Overview:
    """The page's content.

    ``reference``: as for ``here``; ``sizes``: measure every environment, of which ``watch`` is told.
    """
    here = look_here(machine, reference, whole=True)
    kernels = [catalogue.judge_kernel(kernel, machine) for kernel in machine.kernels]
    survey_answer = survey(machine, [], sizes, watch)
    stories = [_story(machine, answer, item) for answer in asked for item in answer.imports]
    findings = [*here.findings, *(finding for story in stories for finding in story.answer.findings)]
    findings += [finding for kernel in kernels for finding in kernel.findings]
    findings += [finding for environment in survey_answer.environments for finding in environment.findings]
    return Overview(
        here=here,
        survey=survey_answer,
        kernels=kernels,
        stories=stories,
        causes=_explained(findings),
        picture=draw_map(
            here.seats, survey_answer.environments, _meant(machine, here.seats, survey_answer.environments)
        ),
    )


def _meant(machine: Machine, seats: list[Seat], environments: list[Environment]) -> dict[int, Environment]:
    """The environment that a seat means which starts nothing: its path is there, and its base is gone."""
    reader, result = machine.reader, dict[int, Environment]()
    commands = {f"kernel:{kernel.id}": kernel.command[0] for kernel in machine.kernels if kernel.command}
    for number, seat in enumerate(seats):
        path = commands.get(seat.via or "") or next((part.path for part in seat.parts if part.path), None)
        if seat.interpreter is None and path is not None and reader.path.isabs(path):
            inside = [
                environment
                for environment in environments
                if environment.condition != "sound" and reader.inside(path, environment.prefix)
            ]
            if inside:
                result[number] = inside[0]
    return result


def _explained(findings: Iterable[Finding]) -> list[CauseText]:
    """Each cause that was found, once, with its explanation."""
    return [
        catalogue.text_of(cause)
        for cause in sorted({finding.cause for finding in findings})
        if cause in catalogue.ABOUT
    ]


def _story(machine: Machine, answer: WhyAnswer, asked: ImportAnswer) -> Story:
    top, reader = asked.module.split(".")[0], machine.reader
    candidates, taken = [], False
    for entry in answer.target.search_path:
        names = [name for name in reader.names(entry.entry or reader.folder) if _answers(name, top)]
        here = bool(names) and not taken
        taken = taken or here
        candidates.append(
            Candidate(entry=entry.entry, origin=entry.origin, exists=entry.exists, names=sorted(names), taken=here)
        )
    return Story(answer=asked, seat=answer.target, candidates=candidates)


def _answers(name: str, top: str) -> bool:
    """Whether a file or folder of this name could be the module."""
    return name == top or (name.split(".")[0] == top and name.endswith((".py", ".pyc", *COMPILED)))
