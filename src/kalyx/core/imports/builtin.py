"""Modules compiled into the interpreter, which no path shows.

The names every build of a version has; a build may compile in more, which then
answer from no file. Data, read off interpreters of each version.
"""

from __future__ import annotations

from functools import cache

_COMMON = (
    "_ast _codecs _collections _functools _imp _io _locale _operator _signal _sre _stat _string _symtable _thread"
    " _tracemalloc _warnings _weakref atexit builtins errno faulthandler gc itertools marshal posix pwd sys time"
).split(" ")

_OLD = (
    "__builtin__ __main__ _ast _codecs _sre _symtable _warnings _weakref errno exceptions gc imp marshal posix"
    " pwd signal sys thread xxsubtype zipimport"
).split(" ")

# First minor of 3 that has the name compiled in, and the first that has it no more (0: it still has).
_SINCE = {
    "zipimport": (0, 8),
    "xxsubtype": (0, 12),
    "_abc": (7, 0),
    "_peg_parser": (9, 10),
    "_tokenize": (11, 0),
    "_typing": (12, 0),
    "_sysconfig": (13, 0),
    "_suggestions": (13, 0),
}

# Written in Python and frozen into the image: found without a path, and with a file all the same.
_FROZEN = {"_frozen_importlib", "_frozen_importlib_external"}


@cache
def names(version: str) -> frozenset[str]:
    """The compiled-in module names of a version (``3.11.7``), for a POSIX build."""
    major, minor = (int(part) for part in version.split(".")[:2])
    if major < 3:
        return frozenset(_OLD)
    found = set(_COMMON) | _FROZEN
    for name, (first, last) in _SINCE.items():
        if first <= minor and (last == 0 or minor < last):
            found.add(name)
    return frozenset(found)


def is_builtin(name: str, version: str) -> bool:
    return name in names(version)
