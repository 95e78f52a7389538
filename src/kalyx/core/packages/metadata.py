"""Installed distributions by their metadata.

Core metadata and RECORD (the "Recording installed projects" specification of
the packaging documents), and the older ``.egg-info`` kin. A folder is listed
once; a distribution's files are read when they are asked for.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import FileStat
from kalyx.core.text.names import canonical
from kalyx.core.text.numbers import number_of
from kalyx.core.text.patterns import pattern

_RECORD_LIMIT = 32 * 1024 * 1024
_METADATA_LIMIT = 1024 * 1024
_ENTRY_POINTS_LIMIT = 64 * 1024
_HEAD = 16 * 1024
# The groups of entry points that are commands.
COMMANDS = ("console_scripts", "gui_scripts")


EGG = ".egg"
EGG_INFO = "EGG-INFO"
_ARCHIVE_LIMIT = 64 * 1024 * 1024  # of an archive, and of what its metadata unpacks to
_EMPTY = b"PK\x05\x06" + bytes(18)  # an archive of nothing (APPNOTE 4.3.16)
_READ = ("METADATA", "PKG-INFO", "RECORD", "INSTALLER", "WHEEL", "requires.txt", "top_level.txt")
_STEM = pattern(r"(.+?)-(\d[^-]*)(?:-py\d.*)?")


class Installed:
    """One installed distribution: where its metadata is and, on request, what that says.

    ``inside`` holds the files of its metadata where ``site`` is an archive.
    """

    def __init__(self, reader: Reader, site: str, entry: str, inside: dict[str, bytes] | None = None) -> None:
        self.reader = reader
        self.site = site
        self.entry = entry
        self.path = reader.join(site, entry)
        self.is_wheel = entry.endswith(".dist-info")
        self._inside = inside
        named = reader.name(site) if entry == EGG_INFO else entry  # an egg has a folder or an archive of its own
        self.stem_name, self.stem_version = _name_and_version(named.rpartition(".")[0])

    @property
    def has_parts(self) -> bool:
        """Whether its metadata is a folder of files, or a single file (as old installers wrote)."""
        return self._inside is not None or self.reader.is_folder(self.path)

    def _file(self, name: str) -> str:
        return self.reader.join(self.path, name)

    def _text(self, name: str, limit: int) -> str | None:
        if self._inside is not None:
            raw = self._inside.get(name)
            return raw[:limit].decode("utf-8", "surrogateescape") if raw is not None else None
        return self.reader.text_or_none(self._file(name), limit)

    @cached_property
    def _fields(self) -> list[tuple[str, str]]:
        if self.is_wheel:
            # The description follows the first empty line and is often long: it is not read.
            text = self._text("METADATA", _HEAD)
            if text and len(text) >= _HEAD // 4 and "\n\n" not in text and "\r\n\r\n" not in text:
                text = self._text("METADATA", _METADATA_LIMIT)
        else:
            text = self._text("PKG-INFO", _METADATA_LIMIT)
        if text is None and not self.has_parts:
            text = self.reader.text_or_none(self.path, _METADATA_LIMIT)
        fields: list[tuple[str, str]] = []
        for line in (text or "").partition("\n\n")[0].splitlines():
            if not line:
                break  # a line of blanks alone goes on with the field before it (a licence's text has such)
            if line[0] in " \t" and fields:
                key, value = fields[-1]
                fields[-1] = (key, value + " " + line.strip())
                continue
            key, colon, value = line.partition(":")
            if colon:
                fields.append((key.strip().lower(), value.strip()))
        return fields

    def field(self, name: str) -> str | None:
        """The first value of a metadata field; None where it is not written."""
        for key, value in self._fields:
            if key == name:
                return value
        return None

    def fields(self, name: str) -> list[str]:
        """Every value of a metadata field."""
        return [value for key, value in self._fields if key == name]

    @property
    def name(self) -> str:
        """The distribution's name, as it is written."""
        return self.field("name") or self.stem_name

    @property
    def version(self) -> str:
        """The distribution's version, as it is written."""
        return self.field("version") or self.stem_version

    @property
    def key(self) -> str:
        """The canonical name by the folder's own name: no file is read for it."""
        return canonical(self.stem_name)

    @cached_property
    def requires(self) -> list[str]:
        """Requirement lines as written."""
        if self.is_wheel or self.fields("requires-dist"):
            return self.fields("requires-dist")
        requires = []
        for extra, marker, line in self._sections():
            conditions = [marker] if marker else []
            if extra:
                conditions.append(f'extra == "{extra}"')
            requires.append(line + ("; " + " and ".join(conditions) if conditions else ""))
        return requires

    def _sections(self) -> Iterator[tuple[str, str, str]]:
        """The lines of an egg's ``requires.txt``, each with the extra and the marker of its section."""
        extra, marker = "", ""
        for line in (self._text("requires.txt", _METADATA_LIMIT) or "").splitlines():
            line = line.strip()
            if line.startswith("[") and line.endswith("]"):
                extra, _, marker = line[1:-1].partition(":")
            elif line:
                yield extra, marker, line

    @cached_property
    def extras(self) -> list[str]:
        """The names of its extras."""
        sections = [] if self.is_wheel else [extra for extra, _, _ in self._sections() if extra]
        return list(dict.fromkeys([*self.fields("provides-extra"), *sections]))

    @cached_property
    def installer(self) -> str | None:
        """The installer's name, as the metadata has it."""
        text = self._text("INSTALLER", 256)
        return text.strip() if text and text.strip() else None

    @cached_property
    def _record(self) -> bytes | None:
        """The record of an installed wheel, undecoded; None where there is none to read."""
        if self._inside is not None:
            return self._inside.get("RECORD")
        try:
            return self.reader.read(self._file("RECORD"), _RECORD_LIMIT)
        except Unreadable:
            return None

    @cached_property
    def files(self) -> list[str] | None:
        """The files it owns, relative to the site folder with ``/``; None when nothing lists them."""
        if self.is_wheel:
            raw = self._record
            if raw is None:
                return None
            text = raw.decode("utf-8", "surrogateescape")
            if '"' not in text and "\\" not in text:
                # Without quotes a line is cut at its first comma: ten times as quick as the general reader.
                names = [line.partition(",")[0] for line in text.splitlines()]
                return [name for name in names if name]
            import csv

            try:
                return [row[0].replace("\\", "/") for row in csv.reader(text.splitlines()) if row and row[0]]
            except csv.Error:
                return None
        text_or_none = self._text("installed-files.txt", _RECORD_LIMIT)
        if text_or_none is None:
            return None
        base = self.entry
        files = []
        for line in text_or_none.splitlines():
            if line.strip():
                files.append(self.reader.path.normpath(self.reader.join(base, line.strip())).replace("\\", "/"))
        return files

    @cached_property
    def recorded(self) -> dict[str, tuple[str, int | None]]:
        """What the record says of each file: its hash as written (``sha256=...``, or empty) and its size."""
        text = self._text("RECORD", _RECORD_LIMIT) if self.is_wheel else None
        import csv

        result = {}
        try:
            for row in csv.reader((text or "").splitlines()):
                if len(row) == 3 and row[0]:
                    result[row[0].replace("\\", "/")] = (row[1], number_of(row[2]))
        except csv.Error:
            return {}
        return result

    @cached_property
    def tags(self) -> list[str]:
        """The tags of the wheel it came from (PEP 427): which Python and which platform it is for."""
        text = self._text("WHEEL", 65536) or ""
        return [line.partition(":")[2].strip() for line in text.splitlines() if line.lower().startswith("tag:")]

    @property
    def requires_python(self) -> str:
        """The Pythons that it says it is for (core metadata, Requires-Python)."""
        return self.field("requires-python") or ""

    @cached_property
    def modules(self) -> list[str]:
        """The top-level modules it provides."""
        files = self.files
        modules: set[str] = set()
        if files is not None:
            for file in files:
                if file.partition("/")[0] not in modules:
                    name = _module_of(file)
                    if name:
                        modules.add(name)
        if not modules:
            text = self._text("top_level.txt", 65536)
            modules.update(line.strip() for line in (text or "").splitlines() if line.strip())
        modules.update(self._editable_modules())
        if not modules and files is None and not self.is_wheel:
            modules.add(self.stem_name)
        return sorted(modules)

    def provides(self, top: str) -> bool:
        """Whether ``modules`` has this one; most that do not are told by their record's bytes alone."""
        if "modules" not in self.__dict__ and "files" not in self.__dict__ and self.is_wheel:
            raw = self._record or b""
            if b".py," in raw and b".pth" not in raw and not _begins_a_line(raw, top):
                return False
        return top in self.modules

    def lists(self, file: str) -> bool:
        """Whether ``files`` has this one; a record that does not hold the name is not parsed."""
        if "files" not in self.__dict__ and self.is_wheel:
            raw = self._record or b""
            if file.encode("utf-8", "surrogateescape") not in raw and b'"' not in raw and b"\\" not in raw:
                return False
        return file in (self.files or ())

    @property
    def is_development_install(self) -> bool:
        """Whether a file of the build tools' own leads to its source elsewhere (PEP 660)."""
        if self.is_wheel and b"__editable__" not in (self._record or b""):
            return False
        return any(file.startswith("__editable__") for file in self.files or ())

    def _editable_modules(self) -> Iterator[str]:
        """Modules of a development install: its generated finder's mapping, or the folder it names."""
        for name in self.files or []:
            if "/" in name:
                continue
            if name.startswith("__editable___") and name.endswith("_finder.py"):
                from kalyx.core.packages.editable import finder_mapping

                yield from finder_mapping(self.reader, self.reader.join(self.site, name))
            elif name.endswith(".pth"):
                for line in (self.reader.text_or_none(self.reader.join(self.site, name), 65536) or "").splitlines():
                    folder = line.strip()
                    if self.reader.path.isabs(folder):
                        yield from _modules_in(self.reader, folder)


def _name_and_version(stem: str) -> tuple[str, str]:
    """What the name of a metadata folder says: ``name-version``, of an egg ``name-version-pyX.Y`` (or no version)."""
    match = _STEM.fullmatch(stem)
    return (match[1], match[2]) if match else (stem, "")


def _in_archive(reader: Reader, path: str) -> list[Installed]:
    """The distributions whose metadata is in this archive; none where it is no archive."""
    import io
    import zipfile
    import zlib

    inside: dict[str, dict[str, bytes]] = {}
    status = reader.status(path)
    left = _ARCHIVE_LIMIT if isinstance(status, FileStat) and status.size <= _ARCHIVE_LIMIT else 0
    try:
        with zipfile.ZipFile(io.BytesIO(reader.read(path, _ARCHIVE_LIMIT) if left else _EMPTY)) as archive:
            for member in archive.infolist():
                entry, slash, name = member.filename.partition("/")
                if slash and name in _READ and (entry == EGG_INFO or entry.endswith((".dist-info", ".egg-info"))):
                    content = archive.open(member).read(min(left, _METADATA_LIMIT)) if left else b""
                    left -= len(content)
                    if left:
                        inside.setdefault(entry, {})[name] = content
    except (Unreadable, zipfile.BadZipFile, OSError, ValueError, NotImplementedError, RuntimeError, zlib.error):
        return []
    if not left:
        reader.note_cut(path, f"packages in this archive beyond {_ARCHIVE_LIMIT // (1024 * 1024)} MiB were not read")
    return [Installed(reader, path, entry, files) for entry, files in inside.items()]


def _begins_a_line(record: bytes, top: str) -> bool:
    """Whether a line of a record may begin with this name, in quotes or not."""
    name = top.encode("utf-8", "surrogateescape")
    return record.startswith((name, b'"' + name)) or b"\n" + name in record or b'\n"' + name in record


def _module_of(file: str) -> str | None:
    """The top-level module that a recorded file makes importable, or None."""
    first, slash, remainder = file.partition("/")
    if first in ("..", "__pycache__", "") or first.endswith((".dist-info", ".egg-info", ".data")):
        return None
    if first.startswith("__editable__"):
        return None
    if slash:
        if remainder.endswith((".py", ".so", ".pyd", ".pyc", ".pyi")) and first.isidentifier():
            return first
        return None
    if first.endswith((".py", ".pyd", ".so")):
        stem = first.split(".")[0]
        return stem if stem.isidentifier() else None
    return None


def _modules_in(reader: Reader, folder: str) -> Iterator[str]:
    for name in reader.names(folder):
        path = reader.join(folder, name)
        if name.endswith(".py") and name != "setup.py" and name[:-3].isidentifier():
            yield name[:-3]
        elif name.isidentifier() and reader.is_file(reader.join(path, "__init__.py")):
            yield name


def installed_in(reader: Reader, site: str) -> list[Installed]:
    """Every distribution whose metadata is in this site folder or archive, by name; of an egg on the path, itself."""
    names = reader.names(site)
    if not names and reader.is_file(site):
        return _in_archive(reader, site)
    distributions: list[Installed] = []
    for name in names:
        if name.startswith(("~", "-")):
            continue  # an installer's leftover of an interrupted removal, not a package
        if name.endswith((".dist-info", ".egg-info")) or (name == EGG_INFO and site.endswith(EGG)):
            distributions.append(Installed(reader, site, name))
    return distributions


def owner_of(reader: Reader, sites: list[str], path: str) -> Installed | None:
    """The distribution that owns the file, by its record; None when no record lists it."""
    if EGG + reader.path.sep in path:
        egg = path.partition(EGG + reader.path.sep)[0] + EGG
        return next(iter(installed_in(reader, egg)), None)
    for site in sites:
        if not reader.inside(path, site):
            continue
        relative = path[len(site) :].strip("/\\").replace("\\", "/")
        top = relative.split("/")[0].split(".")[0]
        likely = canonical(top)
        # The distribution named like the folder first: nearly always the owner.
        for installed in sorted(installed_in(reader, site), key=lambda distribution: distribution.key != likely):
            files = installed.files
            if files is not None and relative in files:
                return installed
            if files is None and top in installed.modules:
                return installed
    return None


def entry_points(reader: Reader, info: str, *groups: str) -> list[str]:
    """The names of a distribution's entry points in some groups (Entry points specification).

    ``info``: its metadata folder.
    """
    names, group = [], ""
    for line in (reader.text_or_none(reader.join(info, "entry_points.txt"), _ENTRY_POINTS_LIMIT) or "").splitlines():
        line = line.strip()
        if line.startswith("["):
            group = line.strip("[] ")
        elif group in groups and "=" in line and not line.startswith(("#", ";")):
            names.append(line.partition("=")[0].strip())
    return names
