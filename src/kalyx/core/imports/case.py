"""A case: one import that was asked about, with all that was read and tried."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from kalyx.core.data import WITNESS_PATH
from kalyx.core.environments.searchpath import SearchPath, Way
from kalyx.core.imports.names import Wanted
from kalyx.core.imports.resolver import Resolution, Resolver
from kalyx.core.imports.trial import Frame, Raised, Trial, missing_name
from kalyx.core.packages.metadata import Installed, owner_of
from kalyx.core.records import Environment, Interpreter, Kernel, Seat


def is_in_a_file(frame: Frame) -> bool:
    """Whether a frame lies in a file of somebody's: not in the import system, and not in the witness."""
    return not frame.file.startswith("<") and frame.file != WITNESS_PATH


class Case(Struct):
    """What the findings look at. ``interpreter`` is None when the seat starts nothing."""

    seat: Seat
    wanted: Wanted
    interpreter: Interpreter | None = None
    environment: Environment | None = None
    search: SearchPath | None = None
    resolver: Resolver | None = None
    resolution: Resolution | None = None
    trial: Trial | None = None
    kernel: Kernel | None = None
    way: Way | None = None
    memory: dict[str, Any] = {}  # what one finding worked out and another needs

    @property
    def module(self) -> str:
        return self.wanted.module

    @property
    def raised(self) -> Raised | None:
        return self.trial.root if self.trial is not None and not self.trial.imports else None

    @property
    def missing(self) -> str | None:
        """The module that nothing answers to: by the trial's word, without a trial by reading."""
        if self.trial is not None and self.trial.answered:
            return missing_name(self.raised) if self.raised is not None else None
        if self.trial is None and self.resolution is not None and self.resolution.place is None:
            return self.resolution.missing
        return None

    @property
    def missing_is_asked(self) -> bool:
        """Whether what is missing is the asked module itself (or a package above it), not something it needs."""
        missing = self.missing
        return missing is not None and (self.module == missing or self.module.startswith(missing + "."))

    @property
    def sites(self) -> list[str]:
        return self.search.site_packages if self.search is not None else []

    def importer(self) -> Frame | None:
        """The line of code that asked for what is missing: the innermost frame that lies in a file of somebody's."""
        return next(reversed(self.frames()), None)

    def frames(self) -> list[Frame]:
        """The frames that the failure passed through in files: without the import system's, and without our own."""
        return [one for one in self.raised.frames if is_in_a_file(one)] if self.raised is not None else []

    def asker(self) -> Installed | None:
        """The distribution whose code asked for what is missing."""
        frame = self.importer()
        return self.owner(frame.file) if frame is not None else None

    def asking_line(self) -> str:
        """The text of the line that asked; where no file did, the statement that was asked about."""
        frame = self.importer()
        if frame is None or self.resolver is None:
            return self.wanted.statement
        lines = (self.resolver.facts.text_or_none(frame.file) or "").splitlines()
        return lines[frame.line - 1].strip() if 0 < frame.line <= len(lines) else ""

    def blamed(self) -> Frame | None:
        """The innermost frame outside the standard library: the code that did what the library refused."""
        if self.raised is None or self.resolver is None or self.search is None:
            return None
        standard = [entry.entry for entry in self.search.entries if entry.origin.startswith("the standard library")]
        for frame in reversed(self.frames()):
            inside = [entry for entry in standard if self.resolver.facts.inside(frame.file, entry)]
            if not inside or any(self.resolver.facts.inside(frame.file, site) for site in self.sites):
                return frame
        return self.importer()

    def owner(self, path: str) -> Installed | None:
        return owner_of(self.resolver.facts, self.sites, path) if self.resolver is not None else None
