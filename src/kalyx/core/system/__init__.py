"""Three doors to the machine, and nothing else touches it.

Facts  reads: folders, links, files, variables, processes, the time.
Runner starts: programs under limits, and loopback connections to kernels.
Change writes: atomic files, folders, removals; a planned Change only lists.

Each has a live form (``live``, ``runner``, ``change``) and an in-memory form
(``memory``). What can be derived from a few readings (real paths, words looked
up on a path) is worked out here once, by the examined machine's own path
rules, so that the live and the in-memory machine cannot differ in it.
"""

from kalyx.core.system.reader import Facts, Status, Unreadable

__all__ = ["Facts", "Status", "Unreadable"]
