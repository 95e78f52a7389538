"""Modules compiled into the interpreter, which no path shows.

The names every build of a version has; a build may compile in more, which then
answer from no file. Data, read off interpreters of each version.
"""

from __future__ import annotations

from functools import cache

from kalyx.core.text.versions import pair_of

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
    "_types": (14, 0),
}

# What some builds compile in and others keep in a file: only the interpreter's own file tells.
SOMETIMES = frozenset(
    (
        "_asyncio _bisect _blake2 _bz2 _codecs_cn _codecs_hk _codecs_iso2022 _codecs_jp _codecs_kr _codecs_tw "
        "_contextvars _crypt _csv _ctypes _curses _curses_panel _datetime _decimal _elementtree _hashlib "
        "_heapq _interpchannels _interpqueues _interpreters _json _lsprof _lzma _math_integer _md5 _multibytecodec "
        "_multiprocessing _opcode _pickle _posixshmem _posixsubprocess _queue _random _sha1 _sha2 _sha256 "
        "_sha3 _sha512 _socket _sqlite3 _ssl _statistics _struct _tkinter _typing _uuid _xxinterpchannels "
        "_xxsubinterpreters _zoneinfo _zstd array audioop binascii cmath fcntl grp math mmap nis "
        "ossaudiodev parser pyexpat readline resource select spwd syslog termios unicodedata zlib"
    ).split(" ")
)

# Written in Python and frozen into the image: found without a path, and with a file all the same.
_FROZEN = {"_frozen_importlib", "_frozen_importlib_external"}


@cache
def names(version: str) -> frozenset[str]:
    """The compiled-in module names of a version (``3.11.7``), for a POSIX build."""
    major, minor = pair_of(version)
    if major < 3:
        return frozenset(_OLD)
    result = set(_COMMON) | _FROZEN
    for name, (first, last) in _SINCE.items():
        if first <= minor and (last == 0 or minor < last):
            result.add(name)
    return frozenset(result)


def is_builtin(name: str, version: str) -> bool:
    """Whether a module is compiled into the interpreter of this version."""
    return name in names(version)
