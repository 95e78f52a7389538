"""The trial: the real interpreter imports the module, under limits, and reports the result.

The seat's own variables, folder and flags are used; no bytecode is written. A
process without an answer was killed (by which signal), ended by itself, or did
not end in time.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from msgspec import Struct

from kalyx.core.interpreters.asking import ask_witness
from kalyx.core.text.numbers import leading_number
from kalyx.core.text.patterns import pattern

if TYPE_CHECKING:
    from kalyx.core.system.runner import Ended, Runner


_STOOD = pattern(r'\s+File "(.*)", line (\d+) in (.*)$')


class Frame(Struct, frozen=True, array_like=True):
    """A line of code that a failure passed through."""

    file: str
    line: int
    function: str


class Raised(Struct):
    """One exception of the chain, as the probe reports it, with the frames that it passed through."""

    type: str
    text: str
    name: str | None = None
    path: str | None = None
    import_error: bool = False
    frames: list[Frame] = []
    file: str | None = None
    line: int | None = None
    bases: list[str] = []
    members: list[str] = []


class Report(Struct):
    """What the probe reports of an import: where the module is, or the chain of exceptions (the last raised first)."""

    imports: bool = False
    file: str | None = None
    folders: list[str] | None = None
    members: int = 0
    chain: list[Raised] = []
    path: list[str] = []
    loaded: list[str] = []
    files: dict[str, str] = {}
    seconds: float = 0.0
    version: str | None = None
    limits: dict[str, int] = {}  # of resources, in the system's own units


class Trial(Report, kw_only=True):
    """An import that was tried: the probe's report, or how the process ended without one."""

    answered: bool
    output: str = ""
    signal: str | None = None
    timed_out: bool = False
    status: int | None = None
    problem: str | None = None
    stack: list[Frame] = []  # the stack when the process died or was stopped, innermost first

    @property
    def words(self) -> str:
        """Every text of the failure: the exceptions' own, and what was printed."""
        return "\n".join([raised.text for raised in self.chain] + [self.output])

    @property
    def root(self) -> Raised | None:
        """The exception that the others came from.

        An explicit cause is always followed (the probe lists it next); an
        implicit one only where the last error does not itself name a module.
        """
        if not self.chain:
            return None
        for raised in self.chain:
            if raised.import_error and missing_name(raised) is not None:
                return raised
        return self.chain[-1]


def missing_name(raised: Raised) -> str | None:
    """The module that an ImportError calls missing; None when it says something else."""
    text = raised.text
    if text.startswith("No module named "):
        if raised.name and raised.name in text:
            return raised.name
        word = text[len("No module named ") :].split(";")[0].split(",")[0].strip().strip("'\"")
        return word or None
    # A package that collects missing modules names them in a message of its own.
    before, message, after = text.partition("No module named ")
    if raised.import_error and message and after[:1] in "'\"":
        word = after[1:].split(after[0])[0]
        return word if word and all(part.isidentifier() for part in word.split(".")) else None
    return None


def lacking_name(raised: Raised) -> str | None:
    """The name that an import asked a module for and that is not in it; None when the error says something else."""
    start = "cannot import name "
    if raised.import_error and raised.text.startswith(start):
        word = raised.text[len(start) :].lstrip("'\"").split("'")[0].split('"')[0].split(" ")[0]
        return word or None
    return None


def try_import(
    runner: Runner,
    executable: str,
    module: str,
    names: tuple[str, ...] = (),
    *,
    first: str | None = None,
    changes: tuple[str, ...] = (),
    flags: tuple[str, ...] = (),
    variables: Mapping[str, str] | None = None,
    folder: str | None = None,
    seconds: float = 20.0,
    begun: Callable[[], None] | None = None,
) -> Trial:
    """Let ``executable`` import ``module`` (and ``names`` from it). ``first`` stands first on its path.

    ``changes``: what an experiment has another way, in the probe's words.
    ``begun`` is called while it runs.
    """
    began = "-" if first is None else "=" + first
    answer, ended = ask_witness(
        runner,
        executable,
        ["-B", *flags],
        # A little before the end, so that the stack is told.
        [f"try:{max(seconds * 0.9, seconds - 1):g}:{len(changes)}", began, *changes, module, *names],
        Report,
        variables=variables,
        folder=folder,
        seconds=seconds,
        begun=begun,
    )
    words = (ended.errors[-20_000:]).decode("utf-8", "replace")
    if answer is None:
        return _silent(ended, words)
    return Trial(answered=True, output=words, **{name: getattr(answer, name) for name in Report.__struct_fields__})


def _silent(ended: Ended, words: str) -> Trial:
    return Trial(
        answered=False,
        output=words,
        signal=ended.signal_name if not ended.timed_out else None,
        timed_out=ended.timed_out,
        status=ended.status,
        problem=ended.problem,
        seconds=ended.seconds,
        stack=_stack(words),
    )


def _stack(words: str) -> list[Frame]:
    """The stack of the main thread, as the interpreter's fault handler writes it."""
    frames: list[Frame] = []
    _, _, remainder = words.rpartition("(most recent call first):")
    for line in remainder.splitlines()[1:]:
        match = _STOOD.match(line)
        if match is None:
            break
        frames.append(Frame(match[1], leading_number(match[2]), match[3]))
    return frames
