"""The starting door in memory: programs that answer as they were told to, and the list of what was started."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager

from kalyx.core.system.runner import OUTPUT_LIMIT, Ended, Runner

# What a program answers: its words go in, how it ended comes out; None where no such program is.
Answer = Callable[[list[str]], Ended | None]


def message(output: str | bytes, status: int = 0, errors: str = "") -> Ended:
    """A program's end with these words."""
    whole = output.encode() if isinstance(output, str) else output
    return Ended(status, whole, errors.encode(), 0.0)


class ScriptedRunner(Runner):
    """``answers``: a program's path, or its path and first words, to its end, or to what makes one of its words."""

    def __init__(self, answers: Mapping[str, Ended | Answer]) -> None:
        self.answers = dict(answers)
        self.started: list[list[str]] = []
        self._number = 0

    @contextmanager
    def empty_folder(self) -> Iterator[str]:
        yield "/empty"

    def chance(self, count: int) -> str:
        self._number += 1
        return f"{self._number:0{count * 2}x}"

    def run(
        self,
        argv: list[str],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        seconds: float = 10.0,
        limit: int = OUTPUT_LIMIT,
        bounded: bool = False,
        heard: Callable[[bytes], None] | None = None,
        begun: Callable[[], None] | None = None,
    ) -> Ended:
        self.started.append(list(argv))
        if begun is not None:
            begun()
        for count in range(len(argv), 0, -1):
            result = self.answers.get(" ".join(argv[:count]))
            ended = result(argv) if callable(result) else result
            if ended is not None:
                kept = ended.output[:limit], ended.errors[:limit]
                cut = len(ended.output) > limit or len(ended.errors) > limit
                if heard is not None:
                    heard(kept[0])
                return Ended(ended.status, *kept, ended.seconds, ended.timed_out, cut, ended.problem)
        return Ended(None, b"", b"", 0.0, problem="cannot be started: no such file or directory")
