"""A case: one import that was asked about, with all that was read and tried.

What can be wrong depends on the kind of case, so the kinds are types, and a cause says by the type that it takes when
it can hold at all: ``DeadSeat``, where nothing starts; ``Case``, where something does; of those ``Failing``, which is
not known to import; ``Missing``, where nothing answers to a name; ``Tried``, where the real interpreter failed;
``Raising``, where it said with what.
"""

from __future__ import annotations

import re
from typing import ClassVar, TypeVar

from msgspec import Struct

from kalyx.core.data import PROBE_PATH
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import SearchPath
from kalyx.core.imports.experiment import Experiment
from kalyx.core.imports.names import ImportStatement
from kalyx.core.imports.resolver import Resolution, Resolver
from kalyx.core.imports.trial import Frame, Raised, Trial, missing_name
from kalyx.core.model.records import Environment, Interpreter, Kernel, Seat
from kalyx.core.packages.metadata import Installed, owner_of


def is_in_a_file(frame: Frame) -> bool:
    """Whether a frame is in a file of somebody's: not in the import system, and not in the probe."""
    return not frame.file.startswith("<") and frame.file != PROBE_PATH


class DeadSeat(Struct):
    """The seat starts nothing, so nothing was read or tried; ``kernel``: the one that it is to start."""

    seat: Seat
    wanted: ImportStatement
    kernel: Kernel | None

    @property
    def source(self) -> str | None:
        """What the seat was to start, as it is written: a kernel's first word, a path."""
        return self.kernel.command[0] if self.kernel is not None and self.kernel.command else self.seat.source

    @property
    def program(self) -> str | None:
        """The program that the seat was to start, by its path where that is known."""
        return (self.seat.program if self.kernel is None else None) or self.source


class Case(Struct):
    """What the findings look at. ``environment``: None for an interpreter in none; ``trial``: None when not tried."""

    # What a cause names in LOOKS_AT to be asked about such a case.
    kind: ClassVar[str] = "case"

    seat: Seat
    wanted: ImportStatement
    interpreter: Interpreter
    invocation: Invocation
    search: SearchPath
    resolver: Resolver
    resolution: Resolution
    environment: Environment | None = None
    trial: Trial | None = None
    kernel: Kernel | None = None
    memory: dict[object, object] = {}  # what one cause worked out and another needs (``once``)
    experiments: dict[str, Experiment] = {}  # proposed, by cause
    runs: tuple[str, ...] = ()  # the words after the interpreter, where a script or a command line was asked about

    @property
    def command(self) -> list[str]:
        """The command that what was asked about is run by; of an import alone one that makes just that."""
        return [self.interpreter.executable, *(self.runs or ("-c", self.wanted.statement))]

    def flags_of(self, words: list[str]) -> tuple[str, ...]:
        """The flags of the interpreter in a command line that begins with it."""
        return Invocation.of_command(words[1:], self.resolver.reader, self.interpreter, self.invocation.variables).flags

    @property
    def notebook(self) -> str | None:
        """The path of the notebook that asks; None where no notebook does."""
        reader = self.resolver.reader
        return reader.join(self.resolver.folder, self.seat.name) if self.seat.seat == "notebook" else None

    def propose(self, cause: str, experiment: Experiment) -> None:
        """Keep the experiment that would remove this cause."""
        self.experiments[cause] = experiment

    def proposed(self, cause: str) -> Experiment | None:
        """What was proposed for a cause."""
        return self.experiments.get(cause)

    def kinds(self) -> list[Case]:
        """This case as each of the kinds that it is."""
        cases: list[Case] = [self]
        if self.trial is not None and self.trial.imports:
            return cases
        cases.append(_as(Failing, self))
        if self.missing is not None:
            cases.append(_as(Missing, self))
        if self.trial is not None:
            cases.append(_as(Tried, self))
        if self.raised is not None:
            cases.append(_as(Raising, self))
        return cases

    @property
    def module(self) -> str:
        """The module asked for, in full."""
        return self.wanted.module

    @property
    def raised(self) -> Raised | None:
        """The first exception in the trial's chain; None where it imports, or died without one."""
        return self.trial.root if self.trial is not None and not self.trial.imports else None

    @property
    def missing(self) -> str | None:
        """The module that is not found: by the trial, or where there was none by reading."""
        if self.trial is not None and self.trial.answered:
            name = missing_name(self.raised) if self.raised is not None else None
            return self._whole_name(name) if name and self.interpreter.version.startswith("2.") else name
        if self.trial is None and self.resolution.location is None:
            return self.resolution.missing
        return None

    def _whole_name(self, name: str) -> str:
        """The module that version 2 calls by its last words (``x`` for ``json.x``): as the line that asks has it."""
        words = re.findall(r"[A-Za-z_][\w.]*", self.asking_line())
        missing = [self.resolver.resolve(word).missing or "" for word in words if "." in word]
        return next((whole for whole in missing if whole.rpartition(".")[2] == name.partition(".")[0]), name)

    @property
    def missing_is_asked(self) -> bool:
        """Whether what is missing is the asked module itself (or a package above it), not something it needs."""
        missing = self.missing
        return missing is not None and (self.module == missing or self.module.startswith(missing + "."))

    @property
    def sites(self) -> list[str]:
        """The site folders on the path, in order."""
        return self.search.site_packages

    @property
    def here(self) -> str:
        """The name for people: the environment's name, or the interpreter's prefix."""
        return self.environment.name if self.environment is not None else self.interpreter.prefix

    @property
    def standard(self) -> list[str]:
        """The entries of the path that are the standard library's."""
        return [entry.entry for entry in self.search.entries if entry.put_by == "library"]

    @property
    def folders(self) -> list[str]:
        """The entries of the path as folders: an empty one is the current folder."""
        return [entry.entry or self.resolver.folder for entry in self.search.entries]

    def importer(self) -> Frame | None:
        """The line of code that imports what is missing: the innermost frame outside Python and the probe."""
        return next(reversed(self.frames()), None)

    def frames(self) -> list[Frame]:
        """The frames that the failure passed through in files: without the import system's, and without our own."""
        if self.raised is None:
            return []
        reader = self.resolver.reader
        own = [reader.join(entry, "importlib") for entry in self.standard]
        passed = [frame for frame in self.raised.frames if is_in_a_file(frame)]
        return [frame for frame in passed if not any(reader.inside(frame.file, folder) for folder in own)]

    def asker(self) -> Installed | None:
        """The distribution whose code asked for what is missing."""
        frame = self.importer()
        return self.owner(frame.file) if frame is not None else None

    def asking_line(self) -> str:
        """The text of the line that asked; where no file did, the statement that was asked about."""
        frame = self.importer()
        if frame is None:
            return self.wanted.statement
        lines = (self.resolver.reader.text_or_none(frame.file) or "").splitlines()
        return lines[frame.line - 1].strip() if 0 < frame.line <= len(lines) else ""

    def blamed(self) -> Frame | None:
        """The innermost frame outside the standard library."""
        reader = self.resolver.reader
        for frame in reversed(self.frames()):
            inside = any(reader.inside(frame.file, entry) for entry in self.standard)
            if not inside or any(reader.inside(frame.file, site) for site in self.sites):
                return frame
        return self.importer()

    def owner(self, path: str) -> Installed | None:
        """The distribution whose record lists a file."""
        return owner_of(self.resolver.reader, self.sites, path)


class Failing(Case):
    """It is not known to import: it was tried and failed, or was not tried."""

    kind: ClassVar[str] = "failing"


class Missing(Failing):
    """Nothing answers to a name: that of the module asked for, or of one that it needs."""

    kind: ClassVar[str] = "missing"

    @property
    def missing(self) -> str:
        """The module that nothing answers to."""
        missing = super().missing
        assert missing is not None, "only such a case is made into one"
        return missing


class Tried(Failing):
    """The real interpreter tried, and failed: it raised, died or gave no answer in time."""

    kind: ClassVar[str] = "tried"

    @property
    def failed(self) -> Trial:
        """How the attempt ended."""
        assert self.trial is not None, "only such a case is made into one"
        return self.trial


class Raising(Tried):
    """The real interpreter tried, and said with what it failed."""

    kind: ClassVar[str] = "raising"

    @property
    def raised(self) -> Raised:
        """The first exception in the attempt's chain."""
        raised = super().raised
        assert raised is not None, "only such a case is made into one"
        return raised


_Kind = TypeVar("_Kind", bound=Case)


def _as(kind: type[_Kind], case: Case) -> _Kind:
    return kind(**{name: getattr(case, name) for name in case.__struct_fields__})
