"""An experiment: one thing changed about an import that fails, in a child process, so that a cause is proven or falls.

A cause that looks at a case proposes what would take it away (``Case.propose``). Nothing on the machine changes: an
entry of the path is put in or moved, a folder is added to a namespace, a variable is left out.
"""

from __future__ import annotations

from msgspec import Struct


class Experiment(Struct, frozen=True):
    """One thing changed. ``says`` completes "tried … :"; ``refutes``: the cause falls where nothing comes of it."""

    message: str
    put: tuple[str, ...] = ()
    front: tuple[str, ...] = ()
    extend: tuple[tuple[str, str], ...] = ()
    without: tuple[str, ...] = ()
    refutes: bool = True

    @property
    def leads(self) -> bool:
        """Whether a cause proven by this stands before those that were read only.

        What is only put in proves that it would help, not why it is not there.
        """
        return not self.put

    @property
    def changes(self) -> tuple[str, ...]:
        """The same as the probe takes it."""
        words = [f"{deed}={value}" for deed in ("put", "front") for value in getattr(self, deed)]
        return (*words, *(f"extend={package}={folder}" for package, folder in self.extend))
