"""Three doors to the machine, and nothing else touches it.

Reader  reads: folders, links, files, variables, processes, the time.
Runner starts: programs under limits, and loopback connections to kernels.
Writer writes: atomic files, folders, removals; a planning Writer only lists.

Each has a live form (``live_reader``, ``live_runner``, ``live_writer``) and one
in memory (``memory_reader``, ``scripted_runner``, ``memory_writer``). What can be
derived from a few readings (real paths, words looked up on a path) is worked out
here once, by the examined machine's own path rules, so that the live and the
in-memory machine cannot differ in it.
"""

from kalyx.core.system.reader import FileStat, Reader, Unreadable

__all__ = ["FileStat", "Reader", "Unreadable"]
