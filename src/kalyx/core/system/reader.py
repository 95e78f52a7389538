"""Reader: the facts of a machine, as an abstract class over a few primitives."""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from types import ModuleType
from typing import Any, Literal, TypeVar

from msgspec import Struct

from kalyx.core.model import System

Item = TypeVar("Item")

READ_LIMIT = 8 * 1024 * 1024
SCAN_LIMIT = 192 * 1024 * 1024
LINK_LIMIT = 40
PATH_LIMIT = 4096  # PATH_MAX of limits.h: what is longer is no path, and no link in it is followed
LISTING_LIMIT = 200_000


class Unreadable(Exception):
    """A place that could not be read: the path, and the reason for people."""

    def __init__(self, path: str, reason: str) -> None:
        super().__init__(f"{path}: {reason}")
        self.path = path
        self.reason = reason


# Why a reading that a capture does not hold is refused.
NOT_HERE = "it is not in the capture"


class Refused(Struct, frozen=True):
    """What a reading gives where the system does not tell whether anything is at the path, with the reason for people.

    Absent is None, and present is what was asked for: which of the three it is, the type says.
    """

    reason: str


class _Loop(Exception):
    """More links than a path may have: a loop. The first link stays as written."""


FileKind = Literal["file", "folder", "link", "other"]


class FileStat(Struct, frozen=True):
    """The system's facts about a file after following links: kind, bytes, time (ns), identity."""

    kind: FileKind
    size: int
    modified_ns: int
    inode: int
    device: int
    mode: int
    owner: int
    changed_ns: int = 0  # the last change of anything, the name too (ctime); not kept in a capture


class Process(Struct, frozen=True):
    """A live process as the system shows it; fields that may not be read are None."""

    pid: int
    parent: int | None
    executable: str | None
    command: tuple[str, ...]
    folder: str | None
    variables: Mapping[str, str] | None
    started: float | None
    name: str = ""
    leads_terminal: bool = False  # first process of a terminal of its own
    ticks: str = ""  # when it began, in the system's own count since a start of the system, which no clock changes


class Reader:
    """Reads a machine. Subclasses implement the primitives; the rest is derived here.

    ``system`` is ``linux``, ``macos`` or ``windows``; all path arithmetic
    follows it through ``self.path`` (posixpath or ntpath), never the system
    Kalyx happens to run on.
    """

    system: System = "linux"
    # What the system refused to show in this run (no permission, an error of the disk, a mount that does not
    # answer): path to reason. Whether such a path exists is not known, and no finding may assume either.
    refusals: Mapping[str, str] = {}
    variables: Mapping[str, str] = {}
    folder: str = "/"
    home: str = "/"
    pid: int = 0
    user: int = -1

    # -- primitives ---------------------------------------------------------

    def listing(self, folder: str) -> Mapping[str, FileKind]:
        """Names in ``folder`` with their kind (file, folder, link, other). Raises Unreadable."""
        raise NotImplementedError

    def kind(self, path: str) -> FileKind | Refused | None:
        """The kind of ``path`` itself (links not followed): file, folder, link or other; None where nothing is."""
        raise NotImplementedError

    def link(self, path: str) -> str | None:
        """Where the link ``path`` points, as written, or None when it is no link."""
        raise NotImplementedError

    def status(self, path: str) -> FileStat | Refused | None:
        """The file at the end of all links; None where nothing is."""
        raise NotImplementedError

    def read(self, path: str, limit: int = READ_LIMIT, start: int = 0) -> bytes:
        """At most ``limit`` bytes of a regular file. Raises Unreadable (pipes and devices too)."""
        raise NotImplementedError

    def may_read(self, path: str) -> bool:
        """Whether the system lets this process read (and enter, for a folder) the path."""
        raise NotImplementedError

    def may_run(self, path: str) -> bool:
        """Whether the system lets this process execute the file."""
        raise NotImplementedError

    def process(self, pid: int) -> Process | None:
        """A process by number, or None when it is gone."""
        raise NotImplementedError

    def processes(self) -> list[int]:
        """The numbers of the processes that this user may look into."""
        return []

    def command_of(self, pid: int) -> tuple[str, ...]:
        """The words a process was started with, without reading anything else of it."""
        process = self.process(pid)
        return process.command if process is not None else ()

    def loaded_by(self, pid: int) -> list[str]:
        """The files that a process has mapped, where the system tells."""
        return []

    def opened_by(self, pid: int) -> list[str]:
        """The files that a process has open, where the system tells."""
        return []

    def program_of(self, pid: int) -> str | None:
        """The file that a process runs, without reading more of it."""
        process = self.process(pid)
        return process.executable if process is not None else None

    def listens(self, pid: int, port: int) -> bool | None:
        """Whether a process listens on this port of this machine; None where the system does not tell."""
        return None

    def seen_by(self, variables: Mapping[str, str], folder: str | None) -> Reader:
        """The same machine, as a process with these variables and this current folder sees it."""
        seen = self.__class__.__new__(self.__class__)
        seen.__dict__.update(self.__dict__, cut=self.cut, passed_over=self.passed_over)
        # Readings are the same for both; results that depend on variables and folder are not.
        seen.__dict__.pop("memory", None)
        seen.variables = variables
        seen.folder = folder or self.folder
        seen.home = seen.variable("USERPROFILE" if self.system == "windows" else "HOME") or self.home
        return seen

    def registry(self, key: str) -> Mapping[str, str] | None:
        """The text values of a Windows registry key (``""`` is its default one); None where it is not."""
        return None

    def registry_keys(self, key: str) -> list[str]:
        """The names of the keys below a Windows registry key."""
        return []

    def digest(self, path: str, limit: int) -> str:
        """The SHA-256 of a file's content up to a limit, in hexadecimal digits. Raises Unreadable.

        A primitive of its own, because a capture holds content only without secrets and names.
        """
        import hashlib

        return hashlib.sha256(self.read(path, limit)).hexdigest()

    def usage_of_files(self, paths: list[str]) -> int:
        """Bytes on disk of these files, hard links counted once; what is not there counts nothing."""
        raise NotImplementedError

    def usage(self, folder: str) -> tuple[int, int]:
        """Bytes that a folder takes on disk, hard links counted once, and the places that could not be read."""
        raise NotImplementedError

    def scan(self, path: str, pattern: bytes) -> list[bytes]:
        """All first groups of the regular expression ``pattern`` in a large regular file."""
        raise NotImplementedError

    def served(self, words: list[object], ask: Callable[[], object]) -> object:
        """What a notebook server of this machine answers; ``words`` say which one was asked what. Raises Unreadable."""
        return ask()

    def again(self) -> Reader:
        """The same machine with nothing read yet, for use after a change."""
        return self

    def variable(self, name: str) -> str | None:
        """A variable of Kalyx's own process environment; names ignore case on Windows."""
        return variable_of(self.variables, name, self.system)

    # -- path arithmetic ----------------------------------------------------

    @cached_property
    def path(self) -> ModuleType:
        """The path rules of the examined system: ``posixpath`` or ``ntpath``."""
        if self.system != "windows":
            return posixpath
        import ntpath

        return ntpath

    def join(self, *parts: str) -> str:
        """Paths joined by those rules."""
        # Nearly every call joins two plain words on a POSIX system: a sum is ten times as quick.
        if len(parts) == 2 and self.system != "windows" and parts[1][:1] != "/":
            base = parts[0]
            return base + parts[1] if base == "" or base[-1] == "/" else f"{base}/{parts[1]}"
        return str(self.path.join(*parts))

    def parent(self, path: str) -> str:
        """The folder that a path is in, by its words; a root is its own."""
        if self.system == "windows":
            return str(self.path.dirname(path))
        head = path.rpartition("/")[0]
        return head.rstrip("/") or ("/" if path[:1] == "/" else "")

    def upward(self, folder: str, tops: Sequence[str] = ()) -> Iterator[str]:
        """A folder and those above it, by their words: to the root, or to the first that holds one of these names."""
        while True:
            yield folder
            upper = self.parent(folder)
            if upper == folder or any(self.exists(self.join(folder, name)) for name in tops):
                return
            folder = upper

    def name(self, path: str) -> str:
        """The last word of a path."""
        return path.rpartition("/")[2] if self.system != "windows" else str(self.path.basename(path))

    @cached_property
    def memory(self) -> dict[object, Any]:
        """Results that other packages computed from these facts; they are valid for this reading."""
        return {}

    def absolute(self, path: str, folder: str | None = None) -> str:
        """``path`` made absolute from ``folder`` and tidied, links untouched; ``~`` is the home."""
        if path == "~" or path.startswith(("~/", "~\\") if self.system == "windows" else "~/"):
            path = self.home + path[1:]
        path = self._short_form(path)
        if not self.path.isabs(path):
            path = self.join(folder or self.folder, path)
        return str(self.path.normpath(path))

    def _short_form(self, path: str) -> str:
        """Without the mark of Windows for paths that are taken as they stand, where the plain form names the same."""
        if self.system != "windows" or not path.startswith("\\\\?\\"):
            return path
        remainder = path[4:]
        return (
            "\\\\" + remainder[4:]
            if remainder[:4].upper() == "UNC\\"
            else remainder
            if remainder[1:3] == ":\\"
            else path
        )

    def within(self, path: str) -> str:
        """``path`` from the current folder, tidied; a ``~`` in it is a name like any other."""
        return str(self.path.normpath(self.join(self.folder, path or ".")))

    def case(self, path: str) -> str:
        """The form in which two spellings of one path are equal: where names ignore case, in one case."""
        return path if self.system == "linux" else str(self.path.normcase(path)).lower()

    def same_path(self, path: str, other: str) -> bool:
        """Whether two spellings name one path, where names may ignore case."""
        return self.case(path) == self.case(other)

    def inside(self, path: str, folder: str) -> bool:
        """Whether ``path`` is ``folder`` or is below it, by its words alone."""
        item, other = self.case(path), self.case(folder).rstrip(self.path.sep)
        return bool(item == other or item.startswith(other + self.path.sep))

    # -- derived readings ---------------------------------------------------

    @cached_property
    def cut(self) -> dict[str, str]:
        """What was read only up to a limit (a file, the processes), and that limit."""
        return {}

    @cached_property
    def passed_over(self) -> set[str]:
        """Refused paths that no answer names: nothing led there but a look at all that stands in a folder."""
        return set()

    def refusal(self, path: str) -> str | None:
        """Why it is not known whether ``path`` exists, links followed; None where that is known."""
        for reading in (self.status(path), self.kind(path)):
            if isinstance(reading, Refused):
                return reading.reason
        return None

    def first_of(self, items: Sequence[Item], most: int, what: str) -> Sequence[Item]:
        """The first items of a list; where there are more, ``cut`` notes that under ``what``: a path, or a plural."""
        if len(items) > most:
            self.note_cut(what, f"only the first {most} of {len(items)} were looked at")
        return items[:most]

    def note_cut(self, what: str, message: str) -> None:
        """Note that a path, or what a plural names, was read only in part; the note is printed after the answer."""
        self.cut[what] = message

    def refused_places(self) -> dict[str, str]:
        """What was refused in this run, with the reason: a folder that may not be entered, not each path below it.

        Without what a capture does not hold: nobody refused that.
        """
        places: dict[str, str] = {}
        for path, reason in list(self.refusals.items()):
            upper, is_passed_over = self.parent(path), path in self.passed_over
            while upper != path and isinstance(self.kind(path), Refused) and self._refuses_to_list(upper, reason):
                path, upper = upper, self.parent(upper)
            if reason != NOT_HERE and not is_passed_over:
                places.setdefault(path, reason)
        return places

    def _refuses_to_list(self, folder: str, reason: str) -> bool:
        """Whether a folder may not be listed, for this very reason."""
        try:
            self.listing(folder)
        except Unreadable as refusal:
            return refusal.reason == reason
        return False

    def refused_within(self, *folders: str | None) -> tuple[str, str] | None:
        """The first path at or below one of these folders that was refused in this run, with the reason."""
        return next(self.all_refused_within(*folders), None)

    def all_refused_within(self, *folders: str | None) -> Iterator[tuple[str, str]]:
        """Each path at or below one of these folders that was refused in this run, with the reason."""
        if not self.refusals:
            return
        reals = [self.real(folder) for folder in folders if folder]
        for path, reason in list(self.refusals.items()):
            if any(folder and self.inside(path, folder) for folder in folders) or any(
                self.inside(self.real(path), folder) for folder in reals
            ):
                yield path, reason

    def known_kind(self, path: str) -> str | None:
        """The kind of ``path``, links not followed; None where nothing is. Raises Unreadable where it is refused."""
        kind = self.kind(path)
        if isinstance(kind, Refused):
            raise Unreadable(path, kind.reason)
        return kind

    def is_there(self, path: str) -> bool:
        """Whether anything is at ``path`` itself, a broken link too; False where that is not known."""
        return isinstance(self.kind(path), str)

    def may_be_there(self, path: str) -> bool:
        """The same, and True where that is not known: for what is written, moved or removed there."""
        return self.kind(path) is not None

    def exists(self, path: str) -> bool:
        """Whether anything is at the end of all links; True where that is not known."""
        kind = self.kind(path)
        return kind is not None and (kind != "link" or self.status(path) is not None)

    def _ends_as(self, path: str, wanted: str) -> bool:
        kind = self.kind(path)
        if kind != "link":
            return kind == wanted
        status = self.status(path)
        return isinstance(status, FileStat) and status.kind == wanted

    def is_file(self, path: str) -> bool:
        """Whether a regular file stands at the end of all links."""
        return self._ends_as(path, "file")

    def is_folder(self, path: str) -> bool:
        """Whether a folder stands at the end of all links."""
        return self._ends_as(path, "folder")

    def is_dangling(self, path: str) -> bool:
        """Whether the path is a broken link; a link to where this user may not look is not called broken."""
        return self.kind(path) == "link" and self.status(path) is None

    def names(self, folder: str) -> list[str]:
        """The sorted names in a folder; none when it is absent or may not be read."""
        try:
            return sorted(self.listing(folder))
        except Unreadable:
            return []

    def hops(self, path: str) -> list[str]:
        """The path and each file its last component links to, in order; ends at a non-link.

        A loop or a dangling link ends the list with the last name written.
        """
        seen = [path]
        for _ in range(LINK_LIMIT):
            target = self.link(seen[-1])
            if target is None:
                break
            following = self._beside(target, seen[-1])
            if ".." in following:
                # What is above a folder is above where its links lead, which the words alone do not tell.
                following = self.join(self.real(self.parent(following)), self.name(following))
            following = str(self.path.normpath(following))
            if following in seen:
                break
            seen.append(following)
        return seen

    def real(self, path: str) -> str:
        """The path with every link in it followed; components that do not exist stay as written.

        Where names ignore case, each is spelled as its folder lists it: one place has one real path. On Windows ``..``
        is taken off by its words first, as the system does (``ntpath.realpath``).
        """
        known: dict[str, str] = self.memory.setdefault("real", {})
        result = known.get(path)
        if result is None:
            is_none = len(path) > PATH_LIMIT and self.system != "windows"
            result = path if is_none else self._walked(path, known, LINK_LIMIT)
        return result

    def _beside(self, target: str, link: str) -> str:
        """What a link's target names: a relative one goes by the link's folder, and a ``~`` in it is just a name."""
        target = self._short_form(target)
        return target if self.path.isabs(target) else self.join(self.parent(link), target)

    def _walked(self, path: str, known: dict[str, str], budget: int) -> str:
        """Step by step where ``..`` stands in it: what is above a folder is above where its links lead."""
        if self.system == "windows":
            path = str(self.path.normpath(path))
        plain = not {".", ".."} & set(path.split(self.path.sep)) if self.path.sep + "." in path else True
        if plain or not self.path.isabs(path):
            return self._real(path, known, budget)
        drive, remainder = self.path.splitdrive(path)
        here = str(drive + self.path.sep)
        for name in remainder.split("/"):
            if name == "..":
                here = self.parent(here)
            elif name not in ("", "."):
                here = self._real(self.join(here, name), known, budget)
        return here

    def _real(self, path: str, known: dict[str, str], budget: int) -> str:
        """From the nearest folder above that is known downwards: a loop, for a path may be a thousand folders deep."""
        names: list[str] = []
        while path not in known:
            upper = self.parent(path)
            if upper in (path, ""):
                known[path] = path[:1].upper() + path[1:] if path[1:2] == ":" and self.system == "windows" else path
                break
            names.append(self.name(path))
            path = upper
        here = known[path]
        for name in reversed(names):
            path, here, looped = self.join(path, name), self.join(here, name), False
            target = self.link(here)
            if target is None and self.system != "linux":
                here = self._spelled(here, name)
            elif target is not None:
                if not budget:
                    raise _Loop
                try:
                    here = self._walked(self._beside(target, here), known, budget - 1)
                except _Loop:
                    if budget < LINK_LIMIT:
                        raise
                    looped = True
            if not looped:  # of a loop another link is the first, seen from another one
                known[path] = here
        return here

    def _spelled(self, path: str, name: str) -> str:
        """The path with its last name as the folder lists it; as given where nothing of that name is listed."""
        folder = self.parent(path)
        try:
            listed = self.listing(folder)
        except Unreadable:
            return path
        if name in listed:
            return path
        folded = name.lower()
        return next((self.join(folder, item) for item in listed if item.lower() == folded), path)

    def read_text(self, path: str, limit: int = READ_LIMIT) -> str:
        """A file as text; bytes that are not UTF-8 are kept by ``surrogateescape``."""
        return self.read(path, limit).decode("utf-8", "surrogateescape")

    def read_whole(self, path: str, most: int) -> bytes:
        """All bytes of a regular file. Raises Unreadable also where there are more than ``most``."""
        raw = self.read(path, most + 1)
        if len(raw) > most:
            size = f"{most >> 20} MiB" if most >= 1 << 20 else f"{most / 1024:g} KiB"
            raise Unreadable(path, f"larger than {size}")
        return raw

    def text_or_none(self, path: str, limit: int = READ_LIMIT) -> str | None:
        """A file as text, or None where it cannot be read."""
        try:
            return self.read_text(path, limit)
        except Unreadable:
            return None

    def path_folders(self, value: str | None = None) -> list[str]:
        """The folders of a ``PATH`` value in order, made absolute; an empty entry is the current folder."""
        if value is None:
            value = self.variable("PATH") or ""
        if not value:
            return []
        path_folders = []
        for entry in value.split(self.path.pathsep):
            if self.system == "windows":
                entry = entry.strip('"')
                if not entry:
                    continue
            # A literal ~ in PATH is a folder of that name to most shells: it is not expanded.
            path_folders.append(str(self.path.normpath(self.join(self.folder, entry or "."))))
        return path_folders

    def not_on_path(self, word: str, path: str | None = None) -> str:
        """Why ``lookup`` gives nothing for a program's name, in words: also that a file of the name may not be run."""
        found = (self.join(folder, word) for folder in self.path_folders(path))
        passed = next((path for path in found if self.is_file(path)), None)
        return f"no {word} on PATH" if passed is None else f"{passed} may not be run, and no other {word} is on PATH"

    def broken_on_path(self, word: str, path: str | None = None) -> str | None:
        """The first file of this name on ``PATH`` that is a link to nothing, which a shell passes over."""
        found = (self.join(folder, word) for folder in self.path_folders(path))
        return next((path for path in found if self.is_dangling(path)), None)

    def has_separator(self, word: str) -> bool:
        """Whether a word is written as a path: on Windows with either slash."""
        return "/" in word or self.path.sep in word

    def lookup(self, word: str, path: str | None = None, *, current_first: bool = False) -> Iterator[str]:
        """Every file that ``word`` could start by this ``PATH``, first the one that wins.

        A word with a separator is a path from the current folder. Windows: the endings of PATHEXT are tried;
        ``current_first`` looks in the current folder before the path, as its command interpreter does.
        """
        endings = [""]
        if self.system == "windows":
            known = (self.variable("PATHEXT") or ".COM;.EXE;.BAT;.CMD").lower().split(";")
            if self.path.splitext(word)[1].lower() not in known:
                endings = known
        folders = self.path_folders(path)
        if self.has_separator(word):
            word, folders = self.within(word), [self.folder]
        elif current_first:
            folders.insert(0, self.folder)
        seen: set[str] = set()
        for folder in folders:
            if folder in seen:
                continue
            seen.add(folder)
            for ending in endings:
                candidate = self.join(folder, word + ending)
                if self.is_file(candidate) and self.may_run(candidate):
                    yield candidate


def variable_of(variables: Mapping[str, str], name: str, system: System) -> str | None:
    """A variable by name; on Windows names ignore case."""
    if system != "windows":
        return variables.get(name)
    for key, value in variables.items():
        if key.upper() == name.upper():
            return value
    return None
