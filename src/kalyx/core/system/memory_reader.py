"""An in-memory machine: Reader over a dictionary, for any of the three systems.

Paths are in the form of that system. Windows and macOS names ignore case, as
their file systems do. ``Link`` values are links; None is an unreadable place.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from kalyx.core.model import System
from kalyx.core.system.reader import LINK_LIMIT, READ_LIMIT, FileKind, FileStat, Process, Reader, Refused, Unreadable
from kalyx.core.system.reasons import NOTHING_THERE

_NAME_LIMIT, _PATH_LIMIT = 255, 4095


class Link(str):
    """The target of a link, as written."""


class Pipe:
    """Something that is neither a file nor a folder."""


class Shut:
    """A folder that may neither be listed nor entered; the files below it exist all the same.

    ``owner``: the number of the user that the folder belongs to; by default the one that looks.
    """

    def __init__(self, owner: int | None = None) -> None:
        self.owner = owner


class MemoryReader(Reader):
    """A machine made of ``files``: path to bytes, text, ``Link``, ``Pipe()`` or None (no permission)."""

    def __init__(
        self,
        system: System,
        files: Mapping[str, object],
        *,
        variables: Mapping[str, str] | None = None,
        folder: str | None = None,
        home: str | None = None,
        processes: Mapping[int, Process] | None = None,
        pid: int = 1,
        registry: Mapping[str, Mapping[str, str]] | None = None,
    ) -> None:
        self.system = system
        self.variables = dict(variables or {})
        self.home = home or {"windows": "C:\\Users\\keeper", "macos": "/Users/keeper"}.get(system, "/home/keeper")
        self.folder = folder or self.home
        self.pid = pid
        self.user = 1000
        self.refusals: dict[str, str] = {}
        self._processes = dict(processes or {})
        self._registry = {key.lower(): dict(values) for key, values in (registry or {}).items()}
        self._keys: dict[str, str] = {}
        self._nodes: dict[str, object] = {}
        self._children: dict[str, dict[str, str]] = {}
        self._shut: dict[str, int] = {}  # to its owner
        self.modified: dict[str, int] = {}  # of a path, in nanoseconds; 0 of the others
        self.changed: dict[str, int] = {}  # the same of the last change of anything
        self.modes: dict[str, int] = {}  # of a path; 0o755 of the others
        for path, content in files.items():
            if isinstance(content, Shut):
                self._shut[self._key(path)] = self.user if content.owner is None else content.owner
            else:
                self._add(path, content)

    def _key(self, path: str) -> str:
        key = self._keys.get(path)
        if key is None:
            key = self._keys[path] = self.case(str(self.path.normpath(path)))
        return key

    def _add(self, path: str, content: object) -> None:
        path = str(self.path.normpath(path))
        self._nodes[self._key(path)] = content
        while True:
            upper = self.parent(path)
            if upper == path:
                return
            self._children.setdefault(self._key(upper), {})[self._key(path)] = self.name(path)
            path = upper

    def put(self, path: str, content: object, *, folder: bool = False) -> None:
        """A file, link or (``folder``) an empty folder at this very place, whose folder is there."""
        if folder:
            self._add(self.join(path, "x"), b"")
            self.drop(self.join(path, "x"))
        else:
            self._add(path, content)
        self.memory.clear()

    def drop(self, path: str) -> None:
        """Remove what is at this path, with everything below."""
        key = self._key(path)
        for child in list(self._children.pop(key, {}).values()):
            self.drop(self.join(path, child))
        self._nodes.pop(key, None)
        self._children.get(self._key(self.parent(path)), {}).pop(key, None)
        self.memory.clear()

    def shift(self, path: str, to: str) -> None:
        """Move what is at this path to another, over what is there."""
        whole = self._taken(path, to)
        empty = self.kind(path) == "folder" and not whole
        self.drop(path)
        self.drop(to)
        if empty:
            self.put(to, None, folder=True)
        for location, content, folder in whole:
            self.put(location, content, folder=folder)

    def _taken(self, path: str, to: str) -> list[tuple[str, object, bool]]:
        key = self._key(path)
        if key not in self._children:
            return [(to, self._nodes.get(key), False)]
        result = []
        for name in list(self._children[key].values()):
            inner = self.join(path, name)
            result += self._taken(inner, self.join(to, name)) or [(self.join(to, name), None, True)]
        return result

    def shut(self, path: str) -> bool:
        """Whether this folder may not be entered, or written."""
        return self._key(path) in self._shut or self._is_shut(path)

    def _place(self, path: str) -> str | None:
        """The very place that a path names: what comes before its last word must be a folder, as the system has it."""
        known: dict[str, str] = self.memory.setdefault("place", {})
        place = known.get(path) or self._walked_to(path)
        if place is not None:
            known[path] = place
        return place

    def _walked_to(self, path: str) -> str | None:
        if len(self.name(path)) > _NAME_LIMIT or len(path) > _PATH_LIMIT:
            return None
        drive, remainder = self.path.splitdrive(path)
        here = str(drive + self.path.sep)
        names = (name for name in remainder.replace(self.path.sep, "/").split("/") if name not in ("", "."))
        for number, name in enumerate(names):
            if number:
                here = self.real(here)
                if self._key(here) not in self._children:
                    return None
            here = self.parent(here) if name == ".." else self.join(here, name)
        ends_above = remainder.replace(self.path.sep, "/").rpartition("/")[2] in (".", "..")
        if ends_above and self._key(self.real(here)) not in self._children:
            return None
        return self.real(here) if ends_above else here

    def _end(self, path: str) -> str | None:
        """The place at the end of every link in ``path``; None where it leads to nothing."""
        location = self._place(path)
        for _ in range(LINK_LIMIT):
            node = self._nodes.get(self._key(location)) if location is not None else None
            if location is None or not isinstance(node, Link):
                return location
            location = self._place(self._beside(node, location))
        return None

    def _is_shut(self, real: str) -> bool:
        """Whether a folder above may not be entered."""
        upper = self.parent(real)
        while upper != real:
            if self._key(upper) in self._shut:
                return True
            real, upper = upper, self.parent(upper)
        return False

    def _refused(self, path: str, full: str) -> bool:
        if self._shut and self._is_shut(full):
            self.refusals[path] = "permission denied"
            return True
        return False

    def listing(self, folder: str) -> Mapping[str, FileKind]:
        path = self._end(folder)
        key = self._key(path) if path is not None else ""
        is_closed = path is not None and (key in self._shut or self._nodes.get(key, b"") is None)
        if is_closed or self._refused(folder, path or self.real(folder)):
            self.refusals[folder] = "permission denied"
            raise Unreadable(folder, "permission denied")
        if path is None or key not in self._children:
            raise Unreadable(folder, "not a directory" if key in self._nodes else NOTHING_THERE)
        kinds = {name: self.kind(self.join(path, name)) for name in self._children[key].values()}
        return {name: kind if isinstance(kind, str) else "other" for name, kind in kinds.items()}

    def kind(self, path: str) -> FileKind | Refused | None:
        location = self._place(path)
        # Where nothing is found, it may be that a folder above may not be entered.
        if self._refused(path, location or self.real(path)):
            return Refused(self.refusals[path])
        if location is None:
            return None
        key = self._key(location)
        if key in self._children:
            return "folder"
        if key not in self._nodes:
            return None
        node = self._nodes[key]
        if isinstance(node, Link):
            return "link"
        return "other" if isinstance(node, Pipe) else "file"

    def link(self, path: str) -> str | None:
        location = self._place(path) if self.parent(path) != path else path
        node = self._nodes.get(self._key(location)) if location is not None else None
        return str(node) if isinstance(node, Link) else None

    def status(self, path: str) -> FileStat | Refused | None:
        location = self._end(path)
        kind = self.kind(path if location is None else location)
        if isinstance(kind, Refused):
            self.refusals[path] = kind.reason
            return kind
        if location is None or kind is None or kind == "link":
            return None
        size = len(self._content(location)) if kind == "file" else 0
        key = self._key(location)
        mode, owner = self.modes.get(key, 0o755), self._shut.get(key, self.user)
        return FileStat(kind, size, self.modified.get(key, 0), abs(hash(key)), 1, mode, owner,
                        self.changed.get(key, 0))  # fmt: skip

    def _content(self, path: str) -> bytes:
        node = self._nodes.get(self._key(path))
        if isinstance(node, bytes):
            return node
        return node.encode("utf-8", "surrogateescape") if isinstance(node, str) else b""

    def read(self, path: str, limit: int = READ_LIMIT, start: int = 0) -> bytes:
        location = self._end(path)
        if location is None or self._shut:
            if self._refused(path, location or self.real(path)):
                raise Unreadable(path, "permission denied")
        if location is None:
            raise Unreadable(path, NOTHING_THERE)
        key = self._key(location)
        if key in self._children:
            raise Unreadable(path, "not a regular file")
        if key not in self._nodes:
            raise Unreadable(path, NOTHING_THERE)
        if self._nodes[key] is None:
            self.refusals[path] = "permission denied"
            raise Unreadable(path, "permission denied")
        if isinstance(self._nodes[key], Pipe):
            raise Unreadable(path, "not a regular file")
        return self._content(location)[start : start + limit]

    def scan(self, path: str, pattern: bytes) -> list[bytes]:
        return [match.group(1) for match in re.finditer(pattern, self.read(path, 1 << 30))]

    def may_read(self, path: str) -> bool:
        if self._key(self.real(path)) in self._shut or self._is_shut(self.real(path)):
            return False
        return self._nodes.get(self._key(self.real(path)), b"") is not None

    def may_run(self, path: str) -> bool:
        return self.may_read(path) and bool(self.modes.get(self._key(self.real(path)), 0o755) & 0o111)

    def processes(self) -> list[int]:
        return list(self._processes)

    def registry(self, key: str) -> Mapping[str, str] | None:
        return self._registry.get(key.lower())

    def registry_keys(self, key: str) -> list[str]:
        start = key.lower() + "\\"
        return sorted({known[len(start) :].split("\\")[0] for known in self._registry if known.startswith(start)})

    def usage_of_files(self, paths: list[str]) -> int:
        return sum(len(self._content(path)) for path in set(paths))

    def usage(self, folder: str) -> tuple[int, int]:
        inside = [path for path in self._nodes if self.inside(path, folder)]
        return sum(len(self._content(path)) for path in inside), 0

    def process(self, pid: int) -> Process | None:
        return self._processes.get(pid)
