"""An experiment: a failing import is tried with a change, in a child process, to prove or refute a cause.

A cause proposes the experiment that would remove it (``Case.propose``); a search leaves out what may decide
(``diagnosis/difference``). Nothing on the machine changes: an entry of sys.path is added or moved, a folder is added to
a namespace package, a variable is left out.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec import Struct


class Experiment(Struct, frozen=True):
    """What is changed. ``message`` completes "tried … :"; ``refutes``: an experiment without effect refutes the cause.

    ``words``: further changes as the probe takes them; ``given``: variables that are set; ``flags_out`` and
    ``flags_in``: flags of the interpreter that are left out or added; ``folder``: where it runs instead.
    """

    message: str
    put: tuple[str, ...] = ()
    front: tuple[str, ...] = ()
    extend: tuple[tuple[str, str], ...] = ()
    without: tuple[str, ...] = ()
    refutes: bool = True
    words: tuple[str, ...] = ()
    given: tuple[tuple[str, str], ...] = ()
    flags_out: tuple[str, ...] = ()
    flags_in: tuple[str, ...] = ()
    folder: str | None = None

    @property
    def leads(self) -> bool:
        """Whether a cause proven by this stands before those that were read only.

        What is only put in proves that it would help, not why it is not there.
        """
        return not self.put

    @property
    def changes(self) -> tuple[str, ...]:
        """The same as the probe takes it."""
        words = [f"{action}={value}" for action in ("put", "front") for value in getattr(self, action)]
        return (*words, *(f"extend={package}={folder}" for package, folder in self.extend), *self.words)


def together(message: str, experiments: Iterable[Experiment]) -> Experiment:
    """All the changes of several experiments at once."""
    each = list(experiments)

    def all_of(name: str) -> tuple[Any, ...]:
        return tuple(item for experiment in each for item in getattr(experiment, name))

    return Experiment(
        message,
        put=all_of("put"),
        front=all_of("front"),
        extend=all_of("extend"),
        without=all_of("without"),
        words=all_of("words"),
        given=all_of("given"),
        flags_out=all_of("flags_out"),
        flags_in=all_of("flags_in"),
        folder=next((experiment.folder for experiment in each if experiment.folder is not None), None),
    )
