"""The only code that touches the machine.

Reader  reads: folders, links, files, variables, processes, the time.
Runner starts: programs under limits, and loopback connections to kernels.
Writer writes: atomic files, folders, removals.

Each has a live form (``live_reader``, ``live_runner``, ``live_writer``); a made-up
machine is a ``memory_reader``, a captured one a ``player``. What can be derived
from a few readings (real paths, words looked up on a path) is worked out here
once, by the examined machine's own path rules, so that no form can differ in it.
"""

from kalyx.core.system.reader import FileStat, Reader, Unreadable

__all__ = ["FileStat", "Reader", "Unreadable"]
