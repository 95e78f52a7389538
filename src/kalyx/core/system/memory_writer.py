"""The writing door in memory: the tree of a ``MemoryFacts`` changes as a disk would."""

from __future__ import annotations

from kalyx.core.records import KalyxError
from kalyx.core.system.memory_reader import Link, MemoryFacts
from kalyx.core.system.writer import Change


class MemoryChange(Change):
    """Deeds on a machine in memory; ``full``: the system refuses whatever takes room."""

    def __init__(self, facts: MemoryFacts, full: bool = False) -> None:
        super().__init__()
        self.facts = facts
        self.full = full

    def _refuse(self, path: str, reason: str) -> KalyxError:
        return KalyxError(f"{path}: {reason}; nothing was changed there")

    def _beside(self, path: str) -> str:
        """The place that a path names in its folder, whose links are followed; raises where it cannot be written."""
        facts = self.facts
        upper = facts.real(facts.parent(path))
        if self.full:
            raise self._refuse(path, "no space left on device")
        if facts.kind(upper) != "folder":
            why = "not a directory" if self._stands_on_a_file(upper) else "no such file or directory"
            raise self._refuse(path, why)
        if facts.shut(upper):
            raise self._refuse(path, "permission denied")
        return facts.join(upper, facts.name(path))

    def _named(self, path: str) -> str:
        """The very place that a path names, the links above it followed; what is below a file is named by nothing."""
        upper = self.facts.real(self.facts.parent(path))
        if self._stands_on_a_file(upper):
            raise self._refuse(path, "not a directory")
        return self.facts.join(upper, self.facts.name(path))

    def _stands_on_a_file(self, folder: str) -> bool:
        """Whether the nearest thing that is there, at or above this path, is no folder."""
        while self.facts.kind(folder) is None and self.facts.parent(folder) != folder:
            folder = self.facts.parent(folder)
        return self.facts.kind(folder) in ("file", "other")

    def folder(self, path: str, private: bool = False) -> None:
        facts = self.facts
        if facts.is_folder(path):
            return
        self._note("make folder", path)
        upper = facts.parent(path)
        if not facts.is_folder(upper):
            if facts.exists(upper):
                raise self._refuse(path, "not a directory")
            if facts.kind(upper) == "link":
                raise self._refuse(path, "no such file or directory")
            self.folder_quietly(upper)
        place = self._beside(path)
        if facts.kind(place) is not None:
            raise self._refuse(path, "file exists")
        facts.put(place, None, folder=True)

    def folder_quietly(self, path: str) -> None:
        """A folder above one that is made: it is no deed of its own."""
        count = len(self.deeds)
        self.folder(path)
        del self.deeds[count:]

    def write(self, path: str, content: bytes, mode: int | None = None, *, new: bool = False, **more: object) -> None:
        self._note("replace" if self.facts.kind(path) is not None else "write", path)
        place = self._beside(path)
        if new and self.facts.kind(path) is not None:
            raise self._refuse(path, "a file of this name appeared meanwhile")
        if self.facts.kind(place) == "folder":
            raise self._refuse(path, "is a directory")
        self.facts.put(place, content)

    def mark(self, path: str, content: bytes) -> None:
        self._note("write", path)
        place = self.facts.real(path)
        if self.facts.kind(place) == "folder":
            raise self._refuse(path, "is a directory")
        self.facts.put(self._beside(place), content)

    def claim(self, path: str, content: bytes) -> bool:
        place = self._beside(path)
        if self.facts.kind(place) is not None:
            return False
        self.facts.put(place, content)
        return True

    def remove_file(self, path: str) -> None:
        self._note("remove", path)
        place = self._named(path)
        kind = self.facts.kind(place)
        if kind is None or kind == "folder":
            raise self._refuse(path, "is a directory" if kind else "no such file or directory")
        self.facts.drop(place)

    def remove_folder(self, path: str) -> None:
        self._note("remove", path)
        place = self._named(path)
        if self.facts.kind(place) == "file":
            raise self._refuse(path, "not a directory")
        self.facts.drop(place)

    def remove_empty_folder(self, path: str) -> None:
        facts = self.facts
        place = facts.join(facts.real(facts.parent(path)), facts.name(path))
        if facts.kind(place) == "folder" and not facts.names(place):
            facts.drop(place)
            self._note("remove", path)

    def link(self, path: str, target: str) -> None:
        self._note("link", path)
        place = self._beside(path)
        if self.facts.kind(place) is not None:
            raise self._refuse(path, "file exists")
        self.facts.put(place, Link(target))

    def copy_folder(self, path: str, to: str, *, linked: bool) -> None:
        self._note("copy", path)
        self._copy(self.facts.real(path), to)

    def _copy(self, path: str, to: str) -> None:
        facts = self.facts
        if facts.kind(path) != "folder":
            raise self._refuse(path, "no such file or directory")
        self.folder_quietly(to)
        for name, kind in dict(facts.listing(path)).items():
            one, other = facts.join(path, name), facts.join(to, name)
            if kind == "folder":
                self._copy(one, other)
            else:
                target = facts.link(one)
                facts.put(self._beside(other), Link(target) if target is not None else facts.read(one, 1 << 30))

    def move(self, path: str, to: str) -> None:
        self._note("move away", path)
        facts = self.facts
        place = self._named(path)
        target = self._beside(to)
        kind = facts.kind(place)
        if kind is None:
            raise self._refuse(path, "no such file or directory")
        there = facts.kind(target)
        if there == "folder" and kind != "folder":
            raise self._refuse(path, "is a directory")
        if there is not None and kind == "folder" and there != "folder":
            raise self._refuse(path, "not a directory")
        if there == "folder" and facts.names(target):
            raise self._refuse(path, "directory not empty")
        facts.shift(place, target)
