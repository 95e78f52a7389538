"""Writing the journal of what Kalyx does to environments (``environments/journal``)."""

from __future__ import annotations

import json
import os
import time

from kalyx.core.doors import Facts
from kalyx.core.doors.changing import Change
from kalyx.core.environments.journal import Work, entry_file
from kalyx.core.records import KalyxError


def new_mark() -> str:
    """A mark that nobody can guess."""
    return os.urandom(16).hex()


def begin(facts: Facts, place: str, work: Work, mark: str, change: Change) -> None:
    """Write the entry about an environment.

    Where the state folder cannot be written the work goes on without one: a run that is stopped then leaves a mark that
    no later run believes, and the user removes what is left.
    """
    path = entry_file(facts, place, mark)
    entry = {"schema": "kalyx.journal/1", "place": facts.real(place), "work": work, "mark": mark,
             "began": time.time_ns()}  # fmt: skip
    try:
        change.folder(facts.parent(path), private=True)
        change.write(path, json.dumps(entry).encode("utf-8", "surrogatepass"), mode=0o600)
    except (KalyxError, UnicodeEncodeError):
        pass


def end(facts: Facts, place: str, mark: str, change: Change) -> None:
    """The work is done, or was taken back: its entry goes."""
    path = entry_file(facts, place, mark)
    if facts.again().kind(path) is not None:
        try:
            change.remove_file(path)
        except KalyxError:
            pass
