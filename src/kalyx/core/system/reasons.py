"""Why the system refuses something, in words: one sentence for one state, wherever it is met."""

from __future__ import annotations

import errno

NOTHING_THERE = "there is nothing at this path"


def reason_of(error: OSError) -> str:
    """The system's words for an error, in small letters; for a path that names nothing Kalyx's own."""
    if error.errno == errno.ENOENT:
        return NOTHING_THERE
    return (error.strerror or str(error)).lower()
