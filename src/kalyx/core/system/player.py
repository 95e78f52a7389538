"""A capture: the readings and answers of a machine in one file, and the Reader and Runner that replay them.

The format (docs/capture.md) is lines of JSON in a gzip file. The first line describes the capture; each other line is a
reading (``read``: the name of a primitive of Reader and its arguments) or an answer (``ran``: a program's words), with
the result. What is not in the file was not read: it is refused, and never taken for absent.
"""

from __future__ import annotations

import base64
import gzip
import json
import os
import stat
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from functools import cache
from typing import TypeVar, get_args

from msgspec import MsgspecError, Raw, Struct, convert, field
from msgspec.json import Decoder
from msgspec.structs import asdict

from kalyx.core.data import PROBE_PATH
from kalyx.core.model import System
from kalyx.core.model.records import KalyxError
from kalyx.core.system.reader import NOT_HERE, READ_LIMIT, FileKind, FileStat, Process, Reader, Refused, Unreadable
from kalyx.core.system.runner import Ended, Runner, Running
from kalyx.core.text.essence import needed
from kalyx.core.text.visible import visible

VERSION = 1
_FILE_LIMIT = 16 * 1024 * 1024
_WHOLE_LIMIT = 64 * 1024 * 1024
# How large the unpacked text may be: of a small file, and as a multiple of another's size (real captures: about ten).
_SMALL, _DENSEST = 8 * 1024 * 1024, 40
_LINES = 200_000
_KINDS: dict[str, FileKind] = {kind: kind for kind in get_args(FileKind)}


Key = tuple[object, ...]
Result = TypeVar("Result")


class Head(Struct, kw_only=True):
    """The captured machine: what its Reader holds besides readings."""

    system: System = "linux"
    folder: str = "/"
    home: str = "/"
    pid: int = 0
    user: int = -1
    variables: dict[str, str] = {}
    refusals: dict[str, str] = {}


class Capture:
    """What a capture holds: its head, readings and answers."""

    def __init__(self, head: Head | None = None) -> None:
        self.head = head or Head()
        self.readings: dict[Key, object] = {}
        self.answers: dict[Key, object] = {}

    def write(
        self, blind: Callable[[bytes], bytes], entry: Callable[[str, str], str] = lambda folder, name: name
    ) -> bytes:
        """The file's bytes; every text and all content without what ``blind`` takes out.

        ``entry``: what a name in the listing of a folder becomes.
        """
        lines: list[object] = [{"kalyx capture": VERSION, **asdict(self.head)}]
        lines += [{"read": key, "is": _renamed(key, value, entry)} for key, value in self.readings.items()]
        lines += [{"ran": key, "is": value} for key, value in self.answers.items()]
        shown = cache(lambda text: blind(text.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape"))
        text = "".join(json.dumps(_blinded(line, blind, shown)) + "\n" for line in lines)
        return gzip.compress(text.encode("ascii"), 6, mtime=0)


def _renamed(key: Key, value: object, entry: Callable[[str, str], str]) -> object:
    """A listing with the names in it as they stand in paths; any other reading as it is."""
    if key[:1] != ("listing",) or not isinstance(value, dict) or not isinstance(value.get("map"), dict):
        return value
    return {"map": {entry(str(key[1]), name): kind for name, kind in value["map"].items()}}


def _blinded(value: object, blind: Callable[[bytes], bytes], shown: Callable[[str], str]) -> object:
    """The same shape, each text in it and each name blinded; bytes that are no text are unpacked for it."""
    if isinstance(value, str):
        return shown(value)
    if isinstance(value, (list, tuple)):
        return [_blinded(item, blind, shown) for item in value]
    if isinstance(value, dict):
        if set(value) == {"bytes"} and isinstance(value["bytes"], str):
            return {"bytes": base64.b64encode(blind(base64.b64decode(value["bytes"]))).decode("ascii")}
        return {shown(name): _blinded(item, blind, shown) for name, item in value.items()}
    return value


def load(content: bytes, name: str) -> Capture:
    """A capture from a file's bytes. Raises KalyxError, in one line, for what is none, is cut, or is too much."""
    shown = visible(name)
    if not content:
        raise KalyxError(f"{shown} is not a capture: it is empty")
    text = _unpacked_file(content, shown)
    if text.count(b"\n") > _LINES:
        raise KalyxError(f"{shown} has more than {_LINES} lines, which no capture has")
    capture: Capture | None = None
    for number, line in enumerate(_lines_of(text), 1):
        if not line:
            raise KalyxError(f"{shown}, line {number}: this is not a line of a capture")
        try:
            if capture is None:
                capture = Capture(_head(json.loads(line), shown))
                continue
            read, ran, value = _line(line)
            if read is not None:
                primitive, *words = read
                capture.readings[key_of([str(primitive), *words])] = value
            else:
                argv, *more = ran or []
                capture.answers[key_of([[str(word) for word in _list(argv)], *more])] = value
        except (ValueError, TypeError, KeyError, RecursionError):
            raise KalyxError(f"{shown}, line {number}: this is not a line of a capture") from None
    if capture is None:
        raise KalyxError(f"{shown} is not a capture: it is empty")
    return capture


def _unpacked_file(content: bytes, shown: str) -> bytes:
    """The text of a packed file, which is bounded by its size. Raises KalyxError."""
    most = min(_WHOLE_LIMIT, max(_SMALL, _DENSEST * len(content)))
    try:
        unpacker = zlib.decompressobj(31)
        text = unpacker.decompress(content, most)
    except zlib.error:
        raise KalyxError(f"{shown} is not a capture: it is not packed as one") from None
    if unpacker.unconsumed_tail:
        raise KalyxError(f"{shown} unpacks to more than {most // 1024 // 1024} MiB, which no capture of its size does")
    if not unpacker.eof:
        raise KalyxError(f"{shown} is cut short: capture or copy it again")
    return text


def _lines_of(text: bytes) -> Iterator[bytes]:
    """The lines one by one: a list of all would be larger than the text."""
    at = 0
    while at < len(text):
        end = text.find(b"\n", at)
        end = len(text) if end < 0 else end
        yield text[at:end]
        at = end + 1


class _Line(Struct, forbid_unknown_fields=True):
    """A line whose result is left unread until somebody asks for it."""

    value: Raw = field(name="is")
    read: list[object] | None = None
    ran: list[object] | None = None


_quick = Decoder(_Line)


def _line(line: bytes) -> tuple[list[object] | None, list[object] | None, object]:
    """What was read, or else what ran, and the result. Raises ValueError, TypeError or KeyError for no such line."""
    try:
        quick = _quick.decode(line)
        return quick.read, quick.ran, quick.value
    except (MsgspecError, RecursionError):
        pass
    document = json.loads(line)  # a name that is no text, among others, only the general reader takes
    read, ran = (_list(document[name]) if name in document else None for name in ("read", "ran"))
    return read, ran, document["is"]


def _list(value: object) -> list[object]:
    if not isinstance(value, list):
        raise TypeError
    return value


def value_of(value: object) -> object:
    """The result of a reading or a program, which is decoded when it is first needed."""
    return json.loads(bytes(value)) if isinstance(value, Raw) else value


def read_capture(path: str) -> Capture:
    """The capture in a file of this machine. Raises KalyxError."""
    try:
        # Without O_NONBLOCK a named pipe would hold the run for ever.
        flags = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
        with open(os.open(path, flags), "rb") as file:
            if not stat.S_ISREG(os.fstat(file.fileno()).st_mode):
                raise KalyxError(f"{visible(path)} is not a capture: it is no regular file")
            content = file.read(_FILE_LIMIT + 1)
    except OSError as error:
        raise KalyxError(f"{visible(path)}: {(error.strerror or str(error)).lower()}") from None
    if len(content) > _FILE_LIMIT:
        raise KalyxError(f"{visible(path)} is larger than {_FILE_LIMIT // 1024 // 1024} MiB, which no capture is")
    return load(content, os.path.basename(path))


def _head(head: object, name: str) -> Head:
    version = head.get("kalyx capture") if isinstance(head, dict) else None
    if not isinstance(version, int):
        raise KalyxError(f"{name} is not a capture: its first line does not say so")
    if version != VERSION:
        raise KalyxError(f"{name} is a capture of form {version}, and this Kalyx reads form {VERSION}: use the other's")
    try:
        if isinstance(head, dict) and set(Head.__struct_fields__) <= set(head):
            return convert(head, Head)
    except MsgspecError:
        pass
    raise KalyxError(f"{name} is not a capture: its first line lacks what a machine has")


def key_of(words: Iterable[object]) -> Key:
    """The key of a reading or an answer: texts, numbers, and lists of these; bytes as Latin-1."""
    return tuple(
        key_of(word) if isinstance(word, (list, tuple)) else word.decode("latin-1") if isinstance(word, bytes) else word
        for word in words
    )


# -- what a reading gives, as JSON ----------------------------------------------


def packed(value: object) -> object:
    """A reading's result in JSON's own types."""
    if isinstance(value, bytes):
        try:
            return {"text": value.decode("utf-8")}
        except UnicodeDecodeError:
            return {"bytes": base64.b64encode(value).decode("ascii")}
    if isinstance(value, Refused):
        return None  # the reason is among the refusals of the machine
    if isinstance(value, FileStat):
        return {
            "status": [value.kind, value.size, value.modified_ns, value.inode, value.device, value.mode, value.owner]
        }
    if isinstance(value, Process):
        fields = {name: getattr(value, name) for name in Process.__struct_fields__}
        fields["variables"] = dict(value.variables) if value.variables is not None else None
        return {"process": fields}
    if isinstance(value, Mapping):
        return {"map": dict(value)}
    if isinstance(value, tuple):
        return {"words": [packed(item) for item in value]}
    if isinstance(value, list):
        return {"list": [packed(item) for item in value]}
    return value


def unpacked(value: object) -> object:
    """The result that ``packed`` made JSON of."""
    if not isinstance(value, dict):
        return value
    ((kind, text),) = value.items()
    if kind == "text":
        return text.encode("utf-8")
    if kind == "bytes":
        return base64.b64decode(text)
    if kind == "status":
        return convert(dict(zip(FileStat.__struct_fields__, text, strict=False)), FileStat)
    if kind == "process":
        return convert(text, Process)
    if kind == "map":
        return dict(text)
    if kind == "words":
        return tuple(unpacked(item) for item in text)
    return [unpacked(item) for item in text]


# -- playing back ------------------------------------------------------------------


class Player(Reader):
    """The machine that a capture was made of."""

    def __init__(self, capture: Capture) -> None:
        head = capture.head
        self._readings = capture.readings
        self._refused = head.refusals
        self.system, self.folder, self.home = head.system, head.folder, head.home
        self.pid, self.user = head.pid, head.user
        self.variables = head.variables
        self.refusals: dict[str, str] = {}

    def _held(self, primitive: str, *words: object) -> object:
        """What the capture holds of a reading. Raises Unreadable: refused there, not held, or no reading's result."""
        path = words[0] if words and isinstance(words[0], str) else primitive
        if path in self._refused:
            self.refusals[path] = self._refused[path]
        value = self._readings.get(key_of([primitive, *words]), _NOTHING)
        if value is _NOTHING:
            if path is not primitive:
                self.refusals[path] = NOT_HERE
            raise Unreadable(path, NOT_HERE)
        value = value_of(value)
        if isinstance(value, dict) and "refused" in value:
            raise Unreadable(str(value.get("path", path)), str(value["refused"]))
        try:
            return unpacked(value)
        except (MsgspecError, ValueError, TypeError, KeyError, AttributeError):
            raise Unreadable(path, _SOMETHING_ELSE) from None

    def _whole(self, kind: type[Result], primitive: str, *words: object) -> Result:
        """A result of this kind. Raises Unreadable."""
        result = self._held(primitive, *words)
        if not isinstance(result, kind):
            raise Unreadable(str(words[0]), _SOMETHING_ELSE)
        return result

    def _or_none(self, kind: type[Result], primitive: str, *words: object) -> Result | None:
        """A result of this kind; None where the capture holds none, or something else. Raises Unreadable: refused."""
        try:
            result = self._held(primitive, *words)
        except Unreadable as refusal:
            if refusal.reason != NOT_HERE:
                raise
            return None
        return result if isinstance(result, kind) else None

    def _or_refused(self, kind: type[Result], primitive: str, path: str) -> Result | Refused | None:
        """A result of this kind, or None; refused where the capture does not hold the reading, or something else."""
        try:
            result = self._held(primitive, path)
        except Unreadable as refusal:
            return Refused(refusal.reason)
        return result if result is None or isinstance(result, kind) else Refused(_SOMETHING_ELSE)

    def _each(self, kind: type[Result], primitive: str, *words: object) -> list[Result]:
        """The items of this kind of a list; none where the capture holds none."""
        items = self._or_none(list, primitive, *words) or self._or_none(tuple, primitive, *words) or ()
        return [item for item in items if isinstance(item, kind)]

    def listing(self, folder: str) -> Mapping[str, FileKind]:
        return {name: _KINDS.get(str(kind), "other") for name, kind in self._whole(dict, "listing", folder).items()}

    def kind(self, path: str) -> FileKind | Refused | None:
        kind = self._or_refused(str, "kind", path)
        if kind == "refused":
            return Refused(self._refused.get(path, "permission denied"))
        return kind if kind is None or isinstance(kind, Refused) else _KINDS.get(kind, Refused(_SOMETHING_ELSE))

    def link(self, path: str) -> str | None:
        return self._or_none(str, "link", path)

    def status(self, path: str) -> FileStat | Refused | None:
        status = self._or_refused(FileStat, "status", path)
        return Refused(self._refused[path]) if status is None and path in self._refused else status

    def read(self, path: str, limit: int = READ_LIMIT, start: int = 0) -> bytes:
        return self._whole(bytes, "read", path, limit, start)

    def digest(self, path: str, limit: int) -> str:
        return self._whole(str, "digest", path, limit)

    def may_read(self, path: str) -> bool:
        return bool(self._or_none(bool, "may_read", path))

    def may_run(self, path: str) -> bool:
        return bool(self._or_none(bool, "may_run", path))

    def process(self, pid: int) -> Process | None:
        return self._or_none(Process, "process", pid)

    def processes(self) -> list[int]:
        return self._each(int, "processes")

    def command_of(self, pid: int) -> tuple[str, ...]:
        return tuple(self._each(str, "command_of", pid))

    def loaded_by(self, pid: int) -> list[str]:
        return self._each(str, "loaded_by", pid)

    def program_of(self, pid: int) -> str | None:
        return self._or_none(str, "program_of", pid)

    def listens(self, pid: int, port: int) -> bool | None:
        return self._or_none(bool, "listens", pid, port)

    def registry(self, key: str) -> Mapping[str, str] | None:
        return self._or_none(dict, "registry", key)

    def registry_keys(self, key: str) -> list[str]:
        return self._each(str, "registry_keys", key)

    def usage_of_files(self, paths: list[str]) -> int:
        return self._or_none(int, "usage_of_files", paths) or 0

    def usage(self, folder: str) -> tuple[int, int]:
        usage = self._each(int, "usage", folder)
        return (usage[0], usage[1]) if len(usage) == 2 else (0, 1)

    def scan(self, path: str, pattern: bytes) -> list[bytes]:
        return [item for item in self._whole(list, "scan", path, pattern) if isinstance(item, bytes)]

    def served(self, words: list[object], ask: Callable[[], object]) -> object:
        try:
            return json.loads(self._whole(str, "served", *words))
        except ValueError:
            raise Unreadable("served", _SOMETHING_ELSE) from None


_SOMETHING_ELSE = "the capture holds something else in its place"
_NOTHING = object()


class Normal:
    """A program's words without what differs at each start: temporary folders, random marks, Kalyx's own path."""

    def __init__(self) -> None:
        self.folders: list[str] = []
        self.marks: list[str] = []

    def words(self, text: str) -> str:
        """The text with stand-ins."""
        text = text.replace(PROBE_PATH, "<probe>")
        for folder in self.folders:
            text = text.replace(folder, "<empty>")
        for mark in self.marks:
            text = text.replace(mark, "<mark>")
        return text

    def key(
        self, argv: list[str], base: Mapping[str, str], variables: Mapping[str, str] | None, folder: str | None
    ) -> list[object]:
        """The words, the variables that are others than the machine's own, and the folder."""
        base = needed(base)
        given = base if variables is None else needed(variables)
        other = sorted([name, self.words(value)] for name, value in given.items() if base.get(name) != value)
        without = sorted(name for name in base if name not in given)
        return [[self.words(word) for word in argv], other, without, self.words(folder or "")]


class PlayerRunner(Runner):
    """Gives the answers that a capture holds; other programs do not exist."""

    def __init__(self, capture: Capture, reader: Player) -> None:
        self._answers, self._reader = capture.answers, reader
        self._normal, self._number = Normal(), 0

    @contextmanager
    def empty_folder(self) -> Iterator[str]:
        self._number += 1
        folder = f"/kalyx-captured-{self._number}"
        self._normal.folders.append(folder)
        yield folder

    def link_all(self, real: str, folder: str, instead: Mapping[str, str], deep: str = "") -> None:
        """Nothing: no program runs in the folder."""

    @property
    def is_live(self) -> bool:
        return False

    def chance(self, count: int) -> str:
        self._number += 1
        mark = f"{self._number:0{count * 2}x}"
        self._normal.marks.append(mark)
        return mark

    def run(
        self,
        argv: list[str],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        begun: Callable[[], None] | None = None,
        **_: object,
    ) -> Ended:
        if begun is not None:
            begun()
        text = value_of(self._answers.get(key_of(self._normal.key(argv, self._reader.variables, variables, folder))))
        if not isinstance(text, list) or len(text) != 7:
            return Ended(None, b"", b"", 0.0, problem=f"was not started: {NOT_HERE}")
        try:
            status, output, errors, *more = text
            output, errors = unpacked(output), unpacked(errors)
            if not isinstance(output, bytes) or not isinstance(errors, bytes):
                raise TypeError
            ended = Ended(status, output, errors, *more)
        except (MsgspecError, TypeError, ValueError, KeyError, AttributeError):
            return Ended(None, b"", b"", 0.0, problem="was asked, and the capture holds something else as its answer")
        mark = next((mark for mark in self._normal.marks if any(mark in word for word in argv)), "").encode()
        own = os.fsencode(PROBE_PATH)
        ended.output, ended.errors = (
            item.replace(b"<mark>", mark).replace(b"<probe>", own) for item in (ended.output, ended.errors)
        )
        return ended

    def start(self, argv: list[str], **_: object) -> Running:
        raise OSError(f"nothing is started on a captured machine: {argv[0]}")


def machine_of(capture: Capture) -> tuple[Player, PlayerRunner]:
    """The Reader and Runner of a captured machine."""
    reader = Player(capture)
    return reader, PlayerRunner(capture, reader)


def _unpacked_or_none(value: object) -> object:
    try:
        return unpacked(value)
    except (MsgspecError, ValueError, TypeError, KeyError, AttributeError):
        return None


def contents_of(capture: Capture) -> list[tuple[str, str, int]]:
    """What it holds, to be read before it is sent: kind, name, bytes of its content."""
    files: dict[str, int] = {}
    folders, others = set(), set()
    for key, kept in capture.readings.items():
        primitive, *words = key
        value = value_of(kept)
        if primitive == "listing":
            folders.add(str(words[0]) if words else "")
        elif primitive == "read" and isinstance(value, dict) and "refused" not in value:
            path = str(words[0]) if words else ""
            files[path] = files.get(path, 0) + sum(len(str(item)) for item in value.values())
        elif primitive == "process" and isinstance(process := _unpacked_or_none(value), Process):
            others.add(" ".join(map(str, process.command))[:200])
    contents = [("variables", f"{name}={value}"[:300], 0) for name, value in sorted(capture.head.variables.items())]
    contents += [("files, with their content", path, size) for path, size in sorted(files.items())]
    contents += [("folders, with the names in them", path, 0) for path in sorted(folders)]
    contents += [("processes", line, 0) for line in sorted(others) if line]
    asked = [" ".join(map(str, words)) for words, *_ in capture.answers if isinstance(words, tuple)]
    contents += [("programs that were asked", line[:200], 0) for line in asked]
    return contents
