"""An in-memory machine: Facts over a dictionary, for any of the three systems.

Paths are in the form of that system. Windows and macOS names ignore case, as
their file systems do. ``Link`` values are links; None is an unreadable place.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from kalyx.core.doors.reading import READ_LIMIT, Facts, Process, Status, Unreadable


class Link(str):
    """The target of a link, as written."""


class Pipe:
    """Something that is neither a file nor a folder."""


class Shut:
    """A folder that may neither be listed nor entered; what else is given below it is there all the same."""


class MemoryFacts(Facts):
    """A machine made of ``files``: path to bytes, text, ``Link``, ``Pipe()`` or None (no permission)."""

    def __init__(
        self,
        system: str,
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
        self._nodes: dict[str, object] = {}
        self._children: dict[str, dict[str, str]] = {}
        self._shut: set[str] = set()
        for path, content in files.items():
            if isinstance(content, Shut):
                self._shut.add(self._key(path))
            else:
                self._add(path, content)

    def _key(self, path: str) -> str:
        tidy = str(self.path.normpath(path))
        return tidy if self.system == "linux" else tidy.lower()

    def _add(self, path: str, content: object) -> None:
        path = str(self.path.normpath(path))
        self._nodes[self._key(path)] = content
        while True:
            upper = self.parent(path)
            if upper == path:
                return
            self._children.setdefault(self._key(upper), {})[self._key(path)] = self.name(path)
            path = upper

    def _resolve(self, path: str) -> str:
        """The key of what stands at the end of every link in ``path``."""
        return self._key(self.real(path))

    def _is_shut(self, real: str) -> bool:
        """Whether a folder above may not be entered."""
        upper = self.parent(real)
        while upper != real:
            if self._key(upper) in self._shut:
                return True
            real, upper = upper, self.parent(upper)
        return False

    def listing(self, folder: str) -> Mapping[str, str]:
        key = self._resolve(folder)
        if key in self._shut or self._is_shut(self.real(folder)):
            self.refusals[folder] = "permission denied"
            raise Unreadable(folder, "permission denied")
        if self._nodes.get(key, b"") is None:
            self.refusals[folder] = "permission denied"
            raise Unreadable(folder, "permission denied")
        if key not in self._children:
            raise Unreadable(folder, "not a directory" if key in self._nodes else "no such file or directory")
        real = self.real(folder)
        return {name: self.kind(self.join(real, name)) or "other" for name in self._children[key].values()}

    def kind(self, path: str) -> str | None:
        upper = self.parent(path)
        key = self._key(self.join(self.real(upper), self.name(path))) if upper != path else self._key(path)
        if self._shut and upper != path and self._is_shut(self.join(self.real(upper), self.name(path))):
            self.refusals[path] = "permission denied"
            return "refused"
        if key in self._children:
            return "folder"
        if key not in self._nodes:
            return None
        node = self._nodes[key]
        if isinstance(node, Link):
            return "link"
        return "other" if isinstance(node, Pipe) else "file"

    def link(self, path: str) -> str | None:
        node = self._nodes.get(self._key(path))
        return str(node) if isinstance(node, Link) else None

    def status(self, path: str) -> Status | None:
        real = self.real(path)
        kind = self.kind(real)
        if kind == "refused":
            self.refusals[path] = "permission denied"
        if kind in (None, "link", "refused"):
            return None
        assert kind is not None
        size = len(self._content(real)) if kind == "file" else 0
        return Status(kind, size, 0, abs(hash(self._key(real))), 1, 0o755, self.user)

    def _content(self, path: str) -> bytes:
        node = self._nodes.get(self._key(path))
        if isinstance(node, bytes):
            return node
        return node.encode("utf-8", "surrogateescape") if isinstance(node, str) else b""

    def read(self, path: str, limit: int = READ_LIMIT, start: int = 0) -> bytes:
        key = self._resolve(path)
        if self._shut and self._is_shut(self.real(path)):
            self.refusals[path] = "permission denied"
            raise Unreadable(path, "permission denied")
        if key in self._children:
            raise Unreadable(path, "is a directory")
        if key not in self._nodes:
            raise Unreadable(path, "no such file or directory")
        if self._nodes[key] is None:
            self.refusals[path] = "permission denied"
            raise Unreadable(path, "permission denied")
        if isinstance(self._nodes[key], Pipe):
            raise Unreadable(path, "not a regular file")
        return self._content(self.real(path))[start : start + limit]

    def scan(self, path: str, pattern: bytes) -> list[bytes]:
        return [match.group(1) for match in re.finditer(pattern, self.read(path, 1 << 30))]

    def may_read(self, path: str) -> bool:
        if self._key(self.real(path)) in self._shut or self._is_shut(self.real(path)):
            return False
        return self._nodes.get(self._resolve(path), b"") is not None

    def may_run(self, path: str) -> bool:
        return self.may_read(path)

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
