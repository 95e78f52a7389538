"""What ``import a.b.c`` finds on a search path, by reading, and everything it passes over.

The order within one folder is the import system's: a package, then a compiled
module by exact suffix, then source, then bytecode; a plain folder counts only
as a portion of a namespace package (PEP 420), after every entry was tried.
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.doors import Facts, Unreadable
from kalyx.core.environments.searchpath import SearchPath
from kalyx.core.facts import Interpreter
from kalyx.core.imports import builtin, editable


class Place(Struct):
    """Something that answers to a module's name: what it is, its file, and the path entry it lies on."""

    module: str
    kind: str
    path: str
    entry: str
    portions: list[str] = []

    @property
    def is_package(self) -> bool:
        return self.kind in ("package", "namespace")


class Resolution(Struct):
    """What a name finds: the winner (None: nothing), what it passes over, and where it stopped."""

    place: Place | None
    others: list[Place]
    missing: str | None = None
    parents: list[Place] = []


def extension_suffixes(facts: Facts, interpreter: Interpreter) -> list[str]:
    """The endings of compiled modules that this interpreter accepts, in its order (PEP 3149)."""
    major, minor = (int(part) for part in interpreter.version.split(".")[:2])
    if facts.system == "windows":
        bits = "win_amd64" if (interpreter.architecture or "x86_64") in ("x86_64", "amd64") else "win32"
        if major < 3:
            return [".pyd"]
        return [f".cp{major}{minor}-{bits}.pyd", ".pyd"]
    if major < 3:
        return [".so", "module.so"]
    return [*_own_suffix(facts, interpreter, major, minor), ".abi3.so", ".so"]


def _own_suffix(facts: Facts, interpreter: Interpreter, major: int, minor: int) -> list[str]:
    """Read off the interpreter's own compiled modules, which all carry it."""
    for library_folder in ("lib", "lib64"):
        folder = facts.join(interpreter.base_prefix, library_folder, f"python{major}.{minor}", "lib-dynload")
        for name in facts.names(folder):
            stem, dot, rest = name.partition(".")
            if dot and rest.startswith("cpython-") and rest.endswith(".so"):
                return ["." + rest]
    return []


class Resolver:
    """Finds modules on one search path. Each folder is listed once."""

    def __init__(self, facts: Facts, interpreter: Interpreter, search: SearchPath, folder: str) -> None:
        self.facts = facts
        self.interpreter = interpreter
        self.search = search
        self.folder = folder
        self.suffixes = extension_suffixes(facts, interpreter)
        self.mappings = self._editable_mappings()

    def _editable_mappings(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for line in self.search.code:
            words = line.fact.replace(";", " ").split()
            if len(words) > 1 and words[1].startswith("__editable___") and line.path:
                finder = self.facts.join(self.facts.parent(line.path), words[1] + ".py")
                found.update(editable.finder_mapping(self.facts, finder))
        return found

    def resolve(self, module: str) -> Resolution:
        """What ``import module`` finds, parents first."""
        parts = module.split(".")
        if builtin.is_builtin(parts[0], self.interpreter.version):
            place = Place(parts[0], "builtin", "(built in)", "")
            if len(parts) == 1:
                return Resolution(place, [])
        entries = list(dict.fromkeys(entry.entry or self.folder for entry in self.search.entries))
        parents: list[Place] = []
        resolution = Resolution(None, [], module)
        for depth in range(1, len(parts) + 1):
            dotted = ".".join(parts[:depth])
            resolution = self._on(entries, dotted, parts[depth - 1])
            resolution.parents = parents
            if resolution.place is None:
                resolution.missing = dotted
                return resolution
            if depth < len(parts):
                if not resolution.place.is_package:
                    return Resolution(None, [], ".".join(parts[: depth + 1]), [*parents, resolution.place])
                parents = [*parents, resolution.place]
                entries = resolution.place.portions
        return resolution

    def in_folder(self, folder: str, module: str) -> Place | None:
        """What would answer to a module if this folder alone were searched."""
        entries, place = [folder], None
        for depth, name in enumerate(module.split("."), 1):
            place = self._on(entries, ".".join(module.split(".")[:depth]), name).place
            if place is None:
                return None
            entries = place.portions
        return place

    def _on(self, entries: list[str], dotted: str, name: str) -> Resolution:
        winner: Place | None = None
        others: list[Place] = []
        portions: list[Place] = []
        for entry in entries:
            place = self._in_entry(entry, dotted, name)
            if place is None:
                continue
            if place.kind == "namespace":
                portions.append(place)
            elif winner is None:
                winner = place
            else:
                others.append(place)
        if winner is None and dotted in self.mappings:
            winner = self._mapped(dotted)
        if winner is not None:
            return Resolution(winner, others + portions)
        if portions and int(self.interpreter.version.split(".")[0]) >= 3:
            whole = Place(dotted, "namespace", portions[0].path, portions[0].entry, [p.path for p in portions])
            return Resolution(whole, [])
        return Resolution(None, others, dotted)

    def _mapped(self, dotted: str) -> Place | None:
        target = self.mappings[dotted]
        init = self.facts.join(target, "__init__.py")
        if self.facts.is_file(init):
            return Place(dotted, "package", init, self.facts.parent(target), [target])
        for path in (target, target + ".py"):
            if self.facts.is_file(path):
                return Place(dotted, "module", path, self.facts.parent(path))
        return None

    def _in_entry(self, entry: str, dotted: str, name: str) -> Place | None:
        facts = self.facts
        if entry.endswith((".zip", ".egg", ".whl")) and facts.is_file(entry):
            return self._in_zip(entry, dotted, name)
        try:
            listing = facts.listing(entry)
        except Unreadable:
            return None
        folder = facts.join(entry, name)
        is_folder = name in listing and facts.is_folder(folder)
        if is_folder:
            init = self._file_in(folder, "__init__")
            if init is not None:
                return Place(dotted, "package", init[1], entry, [folder])
        found = self._file_in(entry, name)
        if found is not None:
            return Place(dotted, found[0], found[1], entry)
        return Place(dotted, "namespace", folder, entry, [folder]) if is_folder else None

    def _file_in(self, folder: str, stem: str) -> tuple[str, str] | None:
        """The file that answers to ``stem`` in a folder: its kind and path, by the import system's order."""
        try:
            listing = self.facts.listing(folder)
        except Unreadable:
            return None
        for suffix in self.suffixes:
            if stem + suffix in listing:
                return "extension", self.facts.join(folder, stem + suffix)
        for suffix, kind in ((".py", "module"), (".pyc", "bytecode")):
            if stem + suffix in listing:
                path = self.facts.join(folder, stem + suffix)
                if self.facts.is_file(path):
                    return kind, path
        return None

    def _in_zip(self, entry: str, dotted: str, name: str) -> Place | None:
        import io
        import zipfile

        try:
            raw = self.facts.read(entry, 64 * 1024 * 1024)
            members = set(zipfile.ZipFile(io.BytesIO(raw)).namelist())
        except (Unreadable, zipfile.BadZipFile, OSError, ValueError):
            return None
        for inner, kind in ((f"{name}/__init__", "package"), (name, "module")):
            for suffix in (".pyc", ".py"):
                if inner + suffix in members:
                    return Place(dotted, kind, self.facts.join(entry, inner + suffix), entry)
        return None

    def top_level_names(self) -> set[str]:
        """Every name that answers at the top of this path: for words typed nearly right."""
        found = set(self.mappings) | builtin.names(self.interpreter.version)
        for entry in self.search.entries:
            try:
                listing = self.facts.listing(entry.entry or self.folder)
            except Unreadable:
                continue
            for name, kind in listing.items():
                stem = name.split(".")[0]
                if not stem.isidentifier():
                    continue
                if name.endswith((".py", ".pyc", *self.suffixes)) or (
                    kind in ("folder", "link")
                    and name == stem
                    and self._file_in(self.facts.join(entry.entry or self.folder, name), "__init__")
                ):
                    found.add(stem)
        return found
