"""The writing door in memory: the tree of a ``MemoryReader`` changes as a disk would."""

from __future__ import annotations

from kalyx.core.model.records import KalyxError
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.system.writer import Writer


class MemoryWriter(Writer):
    """Deeds on a machine in memory; ``full``: the system refuses whatever takes room."""

    def __init__(self, reader: MemoryReader, full: bool = False) -> None:
        super().__init__()
        self.reader = reader
        self.full = full
        self.modes: dict[str, int] = {}  # of the files that were written with a mode

    def _refuse(self, path: str, reason: str) -> KalyxError:
        return KalyxError(f"{path}: {reason}; nothing was changed there")

    def _beside(self, path: str) -> str:
        """The place that a path names in its folder, whose links are followed; raises where it cannot be written."""
        reader = self.reader
        upper = reader.real(reader.parent(path))
        if self.full:
            raise self._refuse(path, "no space left on device")
        if reader.kind(upper) != "folder":
            why = "not a directory" if self._stands_on_a_file(upper) else "there is nothing at this path"
            raise self._refuse(path, why)
        if reader.shut(upper):
            raise self._refuse(path, "permission denied")
        return reader.join(upper, reader.name(path))

    def _named(self, path: str) -> str:
        """The very place that a path names, the links above it followed; what is below a file is named by nothing."""
        upper = self.reader.real(self.reader.parent(path))
        if self._stands_on_a_file(upper):
            raise self._refuse(path, "not a directory")
        return self.reader.join(upper, self.reader.name(path))

    def _stands_on_a_file(self, folder: str) -> bool:
        """Whether the nearest thing that is there, at or above this path, is no folder."""
        while self.reader.kind(folder) is None and self.reader.parent(folder) != folder:
            folder = self.reader.parent(folder)
        return self.reader.kind(folder) in ("file", "other")

    def folder(self, path: str, private: bool = False) -> None:
        reader = self.reader
        if reader.is_folder(path):
            return
        upper = reader.parent(path)
        if not reader.is_folder(upper):
            if reader.exists(upper):
                raise self._refuse(path, "not a directory")
            if reader.kind(upper) == "link":
                raise self._refuse(path, "there is nothing at this path")
            self.folder(upper)
        location = self._beside(path)
        if reader.kind(location) is not None:
            raise self._refuse(path, "file exists")
        reader.put(location, None, folder=True)

    def write(self, path: str, content: bytes, mode: int | None = None, *, new: bool = False, over: bytes | None = None,
              times: tuple[int, int] | None = None) -> None:  # fmt: skip
        location = self._beside(path)
        if new and self.reader.kind(path) is not None:
            raise self._refuse(path, "a file of this name appeared meanwhile")
        if self.reader.kind(location) == "folder":
            raise self._refuse(path, "is a directory")
        if over is not None and (self.reader.kind(location) is None or self.reader.read(location) != over):
            raise self._refuse(path, "it was changed meanwhile")
        self.reader.put(location, content)
        self.reader.modified.pop(location, None)
        if times is not None:
            self.reader.modified[location] = times[1]
        if mode is not None:
            self.modes[location] = mode

    def set_times(self, path: str, times: tuple[int, int]) -> None:
        self.reader.modified[self._named(path)] = times[1]

    def mark(self, path: str, content: bytes) -> None:
        location = self.reader.real(path)
        if self.reader.kind(location) == "folder":
            raise self._refuse(path, "is a directory")
        self.reader.put(self._beside(location), content)

    def claim(self, path: str, content: bytes) -> bool:
        location = self._beside(path)
        if self.reader.kind(location) is not None:
            return False
        self.reader.put(location, content)
        return True

    def remove_file(self, path: str) -> None:
        location = self._named(path)
        kind = self.reader.kind(location)
        if kind is None or kind == "folder":
            raise self._refuse(path, "is a directory" if kind else "there is nothing at this path")
        self.reader.drop(location)

    def remove_folder(self, path: str) -> None:
        location = self._named(path)
        if self.reader.kind(location) == "file":
            raise self._refuse(path, "not a directory")
        self.reader.drop(location)

    def remove_empty_folder(self, path: str) -> None:
        reader = self.reader
        location = reader.join(reader.real(reader.parent(path)), reader.name(path))
        if reader.kind(location) == "folder" and not reader.names(location):
            reader.drop(location)

    def link(self, path: str, target: str) -> None:
        location = self._beside(path)
        if self.reader.kind(location) is not None:
            raise self._refuse(path, "file exists")
        self.reader.put(location, Link(target))

    def copy_folder(self, path: str, to: str, *, linked: bool) -> None:
        self._copy(self.reader.real(path), to)

    def _copy(self, path: str, to: str) -> None:
        reader = self.reader
        if reader.kind(path) != "folder":
            raise self._refuse(path, "there is nothing at this path")
        self.folder(to)
        for name, kind in dict(reader.listing(path)).items():
            item, other = reader.join(path, name), reader.join(to, name)
            if kind == "folder":
                self._copy(item, other)
            else:
                target = reader.link(item)
                reader.put(self._beside(other), Link(target) if target is not None else reader.read(item, 1 << 30))

    def move(self, path: str, to: str) -> None:
        reader = self.reader
        location = self._named(path)
        target = self._beside(to)
        kind = reader.kind(location)
        if kind is None:
            raise self._refuse(path, "there is nothing at this path")
        there = reader.kind(target)
        if there == "folder" and kind != "folder":
            raise self._refuse(path, "is a directory")
        if there is not None and kind == "folder" and there != "folder":
            raise self._refuse(path, "not a directory")
        if there == "folder" and reader.names(target):
            raise self._refuse(path, "directory not empty")
        reader.shift(location, target)


class SteadyWriter(MemoryWriter):
    """Its times and its chance are counted."""

    count = 0

    def now(self) -> float:
        return 60.0

    def stamp(self) -> str:
        self.count += 1
        return f"20260101-000000-{self.count:06}"

    def chance(self, count: int) -> str:
        self.count += 1
        return f"{self.count:0{2 * count}x}"
