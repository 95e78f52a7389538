"""What ``import a.b.c`` finds on a search path, by reading, and everything it passes over.

The order within one folder is the import system's: a package, then a compiled
module by exact suffix, then source, then bytecode; a plain folder counts only
as a portion of a namespace package (PEP 420), after every entry was tried.
"""

from __future__ import annotations

from functools import cached_property
from typing import Literal

from msgspec import Struct

from kalyx.core.environments.searchpath import SearchPath
from kalyx.core.imports import builtin
from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader, Unreadable

_DEEP = 200  # packages in packages: no path of a file system holds more
_ARCHIVE_LIMIT = 64 * 1024 * 1024
_CHOICE = "SETUPTOOLS_USE_DISTUTILS"


ModuleKind = Literal["builtin", "package", "namespace", "module", "bytecode", "extension"]


_ANSWERS: dict[str, ModuleKind] = {".py": "module", ".pyc": "bytecode"}


class Location(Struct):
    """What an import of a name would load: its kind, its file, and the entry of sys.path."""

    module: str
    kind: ModuleKind
    path: str
    entry: str
    portions: list[str] = []

    @property
    def is_package(self) -> bool:
        """Whether modules can be below it."""
        return self.kind in ("package", "namespace")


class Resolution(Struct):
    """The result for a name: what is loaded (None: nothing), what is hidden, and the first part that is not found."""

    location: Location | None
    others: list[Location]
    missing: str | None = None
    parents: list[Location] = []


class Resolver:
    """Finds modules on one search path. Each folder is listed once."""

    def __init__(self, reader: Reader, interpreter: Interpreter, search: SearchPath, folder: str) -> None:
        self.reader = reader
        self.interpreter = interpreter
        self.search = search
        self.folder = folder
        self.suffixes = interpreter.suffixes
        self.mappings = self._editable_mappings()
        self.in_front = self._mappings_in_front()
        self._entries = list(dict.fromkeys(entry.entry or folder for entry in search.entries))
        self._archives: dict[str, set[str]] = {}
        self._known: dict[str, Resolution] = {}

    def _editable_mappings(self) -> dict[str, str]:
        editable_mappings: dict[str, str] = {}
        for line in self.search.code:
            words = line.fact.replace(";", " ").split()
            if len(words) > 1 and words[1].startswith("__editable___") and line.path:
                from kalyx.core.packages import editable

                finder = self.reader.join(self.reader.parent(line.path), words[1] + ".py")
                editable_mappings.update(editable.finder_mapping(self.reader, finder))
        return editable_mappings

    def _mappings_in_front(self) -> dict[str, str]:
        """Modules that a start-up line of the build tools provides before sys.path is searched."""
        for line in self.search.code:
            _, named, remainder = line.fact.partition(_CHOICE)
            default, asked, remainder = remainder.partition("get(var, '")[2].partition("')")
            if not named or not asked or "_distutils_hack" not in remainder or not line.path:
                continue
            chosen = self.search.variables.get(_CHOICE, default)
            target = self.reader.join(self.reader.parent(line.path), "setuptools", "_distutils")
            if chosen == "local" and self.reader.is_folder(target):
                return {"distutils": target}
        return {}

    @cached_property
    def _compiled_in(self) -> frozenset[str]:
        """The modules whose entry points are in the interpreter's own file or library."""
        minor, folder = self.interpreter.minor, self.reader.parent(self.interpreter.library)
        names = [name for name in self.reader.names(folder) if name.startswith(f"libpython{minor}") and ".so" in name]
        result: set[str] = set()
        for path in {
            self.reader.real(path)
            for path in [self.interpreter.real_executable, *(self.reader.join(folder, n) for n in names)]
        }:
            try:
                result.update(name.decode() for name in self.reader.scan(path, rb"\x00PyInit_(\w+)(?=\x00)"))
            except Unreadable:
                continue
        return frozenset(result)

    def _is_builtin(self, name: str) -> bool:
        if name in builtin.SOMETIMES and not self.interpreter.version.startswith("2."):
            return name in self._compiled_in
        return builtin.is_builtin(name, self.interpreter.version)

    def resolve(self, module: str) -> Resolution:
        """What ``import module`` finds, parents first."""
        if module == "os.path":  # a name that the module os gives to another
            module = "ntpath" if self.reader.system == "windows" else "posixpath"
        parts = module.split(".")
        if len(parts) > _DEEP:
            return Resolution(None, [], module)
        if self._is_builtin(parts[0]):
            location = Location(parts[0], "builtin", "(built in)", "")
            if len(parts) == 1:
                return Resolution(location, [])
            return Resolution(None, [], ".".join(parts[:2]), [location])  # no package: it has no submodules
        return self._resolve(module)

    def _resolve(self, module: str) -> Resolution:
        """What a name finds, worked out once: the parent first, whose folders are then the path."""
        known = self._known.get(module)
        if known is None:
            known = self._known[module] = self._worked_out(module)
        return known

    def _worked_out(self, module: str) -> Resolution:
        parent, _, name = module.rpartition(".")
        if not parent:
            resolution = self._on(self._entries, module, name)
        else:
            upper = self._resolve(parent)
            if upper.location is None:
                return upper
            parents = [*upper.parents, upper.location]
            if not upper.location.is_package:
                return Resolution(None, [], module, parents)
            resolution = self._on(upper.location.portions, module, name)
            resolution.parents = parents
        if resolution.location is None:
            resolution.missing = module
        return resolution

    def has_code(self, location: Location) -> bool:
        """Whether a place is a file, or a folder with code of its own."""
        folders = location.portions if location.kind == "namespace" else []
        return not folders or any(name.endswith(".py") for folder in folders for name in self.reader.names(folder))

    def in_folder(self, folder: str, module: str) -> Location | None:
        """What would answer to a module if this folder alone were searched, without links from elsewhere."""
        entries, location = [folder], None
        for depth, name in enumerate(module.split("."), 1):
            location = self._on(entries, ".".join(module.split(".")[:depth]), name, linked=False).location
            if location is None:
                return None
            entries = location.portions
        return location

    def _on(self, entries: list[str], dotted: str, name: str, linked: bool = True) -> Resolution:
        winner = self._mapped(dotted, self.in_front) if linked and dotted in self.in_front else None
        others: list[Location] = []
        portions: list[Location] = []
        for entry in entries:
            location = self._in_entry(entry, dotted, name)
            if location is None:
                continue
            if location.kind == "namespace":
                portions.append(location)
            elif winner is None:
                winner = location
            else:
                others.append(location)
        if winner is None and linked and dotted in self.mappings:
            winner = self._mapped(dotted, self.mappings)
        if winner is not None:
            if winner.kind == "package" and others + portions and self._declares_a_namespace(winner):
                winner.portions += [folder for location in others + portions for folder in location.portions]
                return Resolution(winner, [])
            return Resolution(winner, others + portions)
        if portions and self.interpreter.pair[0] >= 3:
            whole = Location(dotted, "namespace", portions[0].path, portions[0].entry, [p.path for p in portions])
            return Resolution(whole, [])
        return Resolution(None, others, dotted)

    def _declares_a_namespace(self, location: Location) -> bool:
        """Whether a package's own file says that its other folders count too (both ways from before PEP 420)."""
        text = self.reader.text_or_none(location.path, 65536) or ""
        return "extend_path" in text or "declare_namespace" in text

    def _mapped(self, dotted: str, mappings: dict[str, str]) -> Location | None:
        target = mappings[dotted]
        init = self.reader.join(target, "__init__.py")
        if self.reader.is_file(init):
            return Location(dotted, "package", init, self.reader.parent(target), [target])
        for path in (target, target + ".py"):
            if self.reader.is_file(path):
                return Location(dotted, "module", path, self.reader.parent(path))
        return None

    def _in_entry(self, entry: str, dotted: str, name: str) -> Location | None:
        reader = self.reader
        try:
            listing = reader.listing(entry)
        except Unreadable:
            if reader.is_file(entry) or any(entry.startswith(archive + reader.path.sep) for archive in self._archives):
                return self._in_archive(entry, dotted, name)
            return None
        kind, folder = listing.get(name), ""
        if kind == "folder" or (kind == "link" and reader.is_folder(reader.join(entry, name))):
            folder = reader.join(entry, name)
            init = self._file_in(folder, "__init__")
            if init is not None:
                return Location(dotted, "package", init[1], entry, [folder])
        result = self._file_in(entry, name)
        if result is not None:
            return Location(dotted, result[0], result[1], entry)
        return Location(dotted, "namespace", folder, entry, [folder]) if folder else None

    def _file_in(self, folder: str, stem: str) -> tuple[ModuleKind, str] | None:
        """The file that answers to ``stem`` in a folder: its kind and path, by the import system's order."""
        try:
            listing = self.reader.listing(folder)
        except Unreadable:
            return None
        for suffix in self.suffixes:
            if stem + suffix in listing:
                return "extension", self.reader.join(folder, stem + suffix)
        for suffix, answers_as in _ANSWERS.items():
            kind = listing.get(stem + suffix)
            if kind is not None:
                path = self.reader.join(folder, stem + suffix)
                if kind == "file" or (kind == "link" and self.reader.is_file(path)):
                    return answers_as, path
        return None

    def _in_archive(self, entry: str, dotted: str, name: str) -> Location | None:
        """A module in a zip file on the path, or in a folder of one (the importer of zip files' own order)."""
        archive, inner = entry, ""
        while not self.reader.is_file(archive):
            archive, inner = self.reader.parent(archive), f"{self.reader.name(archive)}/{inner}"
        members = self._members(archive)
        stem = inner + name
        places: list[tuple[str, ModuleKind]] = [(f"{stem}/__init__", "package"), (stem, "module")]
        for candidate, kind in places:
            for suffix in (".pyc", ".py"):
                if candidate + suffix in members:
                    path = self.reader.join(archive, *(candidate + suffix).split("/"))
                    folder = [self.reader.join(archive, *stem.split("/"))] if kind == "package" else []
                    return Location(dotted, kind, path, entry, folder)
        # A folder counts where the archive lists it as one; from 3.14 on where anything in it is listed.
        newer = self.interpreter.pair >= (3, 14)
        if stem + "/" in members or (newer and any(member.startswith(stem + "/") for member in members)):
            folder = [self.reader.join(archive, *stem.split("/"))]
            return Location(dotted, "namespace", folder[0], entry, folder)
        return None

    def _members(self, archive: str) -> set[str]:
        """The names in a zip file; none where it is no such file."""
        import io
        import zipfile

        if archive not in self._archives:
            try:
                raw = self.reader.read(archive, _ARCHIVE_LIMIT)
                self._archives[archive] = set(zipfile.ZipFile(io.BytesIO(raw)).namelist())
            except (Unreadable, zipfile.BadZipFile, OSError, ValueError, NotImplementedError):
                self._archives[archive] = set()
        return self._archives[archive]

    def top_level_names(self) -> set[str]:
        """Every name that may answer at the top of this path, plain folders too: for words typed nearly right."""
        top_level_names = set(self.mappings) | builtin.names(self.interpreter.version)
        for entry in self.search.entries:
            try:
                listing = self.reader.listing(entry.entry or self.folder)
            except Unreadable:
                continue
            for name, kind in listing.items():
                stem = name.split(".")[0]
                if not stem.isidentifier():
                    continue
                if name.endswith((".py", ".pyc", *self.suffixes)) or (kind in ("folder", "link") and name == stem):
                    top_level_names.add(stem)
        return top_level_names
