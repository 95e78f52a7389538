"""What an executable is, without starting it.

The path is followed link by link; a script's first line and a version
manager's launcher are followed too. A PEP 405 environment is one whose
``pyvenv.cfg`` is next to the executable or one folder up; its base is where
the executable's links end, or, for a copied executable, what ``home`` says.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.formats.processors import processor_of
from kalyx.core.interpreters import shims, versions
from kalyx.core.interpreters.suffixes import suffixes_of
from kalyx.core.interpreters.versions import Installation
from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.once import once
from kalyx.core.system.reader import PATH_LIMIT, FileStat, Refused
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.lines import file_lines
from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern
from kalyx.core.text.versions import minor_of, pair_of

# Of a version as settings write it: 3.11.7, 3.13.0rc2.
_VERSION = pattern(r"[23]\.[0-9]{1,3}(?![0-9])(?:\.[0-9]{1,3}(?![0-9]))?(?:(?:a|b|rc)[0-9]{1,3})?")
# A word of options that leaves open what is run: none of -c and -m.
_OPTION = pattern(r"-(?:[abd-ln-zA-VY-Z?]+|[WX].+)")
_BINARY_STARTS = (
    b"\x7fELF",
    b"MZ",
    b"\xcf\xfa\xed\xfe",
    b"\xfe\xed\xfa\xcf",
    b"\xca\xfe\xba\xbe",
    b"\xbe\xba\xfe\xca",
    b"\xce\xfa\xed\xfe",
)


class NotAnInterpreter(Exception):
    """The path starts no interpreter: the links followed and the reason for people.

    ``dead``: that is certain; ``refused``: it is not certain, because this user may not read a part of the path.
    """

    def __init__(
        self, path: str, reason: str, links: list[str] | None = None, dead: bool = True, refused: bool = False
    ) -> None:
        super().__init__(f"{path}: {reason}")
        self.path = path
        self.reason = reason
        self.links = links or [path]
        self.dead = dead and not refused
        self.refused = refused


class PyvenvCfg(Struct):
    """A ``pyvenv.cfg`` as interpreters read it (PEP 405): where it is, and its keys in lower case."""

    path: str
    folder: str
    keys: dict[str, tuple[str, int]]
    problem: str | None = None

    def get(self, key: str) -> str | None:
        """A key's value; None where it is not written."""
        result = self.keys.get(key)
        return result[0] if result else None

    def line(self, key: str) -> int | None:
        """The line of a key."""
        result = self.keys.get(key)
        return result[1] if result else None

    @property
    def sees_base(self) -> bool:
        """True only for the word ``true`` in any case; a missing key means true."""
        value = self.get("include-system-site-packages")
        return value is None or value.lower() == "true"


SETTINGS_NAME = "pyvenv.cfg"
_SETTINGS_LIMIT = 64 * 1024


@once
def read_settings(reader: Reader, path: str) -> PyvenvCfg | None:
    """The settings file at ``path``, or None where there is none. Of duplicate keys the last counts."""
    kind = reader.kind(path)
    if kind is None or reader.is_folder(path) or (kind == "link" and not reader.exists(path)):
        return None  # an interpreter ignores a folder of that name and a broken link
    keys: dict[str, tuple[str, int]] = {}
    try:
        raw = reader.read_whole(path, _SETTINGS_LIMIT)
    except Unreadable as problem:
        return PyvenvCfg(path, reader.parent(path), keys, problem.reason)
    problem_text = None
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError:
        problem_text = "not UTF-8"
        text = raw.decode("utf-8", "surrogateescape")
    for number, line in enumerate(file_lines(text), 1):
        key, equals, value = line.partition("=")
        if equals and len(value) > PATH_LIMIT:
            problem_text = f"line {number}: a value of {len(value)} characters, and a path has at most {PATH_LIMIT}"
        elif equals:
            keys[key.strip().lower()] = (value.strip(), number)
    return PyvenvCfg(path, reader.parent(path), keys, problem_text)


def _folder_for_settings(reader: Reader, executable: str) -> PyvenvCfg | None:
    """A folder in the place of the settings file counts from 3.14 on, as a file without any word."""
    folder = reader.parent(executable)
    for above in (folder, reader.parent(folder)):
        if reader.is_folder(reader.join(above, SETTINGS_NAME)):
            # The site module, which would read the key, looks for a file: the base stays hidden.
            return PyvenvCfg(reader.join(above, SETTINGS_NAME), above, {"include-system-site-packages": ("false", 0)})
    return None


def settings_of(reader: Reader, interpreter: Interpreter) -> PyvenvCfg | None:
    """The settings that an interpreter goes by, which it was read with; None where there are none."""
    settings = settings_for(reader, interpreter.executable)
    newer = interpreter.pair >= (3, 14)
    return settings or (_folder_for_settings(reader, interpreter.executable) if newer else None)


def settings_for(reader: Reader, executable: str) -> PyvenvCfg | None:
    """The settings file of an interpreter that is started by this path: next to it, else one folder up."""
    folder = reader.parent(executable)
    return read_settings(reader, reader.join(folder, SETTINGS_NAME)) or read_settings(
        reader, reader.join(reader.parent(folder), SETTINGS_NAME)
    )


class _Base(Struct):
    installation: Installation
    executable: str


def interpreter_at(reader: Reader, path: str | None) -> Interpreter | None:
    """The interpreter that a path starts; None where it starts none, or that is not known."""
    try:
        return read_interpreter(reader, path) if path is not None else None
    except NotAnInterpreter:
        return None


def read_interpreter(reader: Reader, path: str, variables: Mapping[str, str] | None = None) -> Interpreter:
    """What starts when ``path`` is executed. Raises NotAnInterpreter with the reason.

    ``executable`` is the path that the interpreter would call its own;
    ``links`` every hop from the path given to the real file. ``variables``: those that a script which starts Python
    gets, where they are others than this process has. Read once in a run; each caller has a record of its own.
    """
    result = _read_or_refused(reader, path) if variables is None else _read(reader, path, variables)
    if isinstance(result, NotAnInterpreter):
        raise NotAnInterpreter(result.path, result.reason, list(result.links), result.dead, result.refused)
    return replace(result, links=list(result.links), suffixes=list(result.suffixes))


@once
def _read_or_refused(reader: Reader, path: str) -> Interpreter | NotAnInterpreter:
    try:
        return _read(reader, path, None)
    except NotAnInterpreter as refusal:
        return refusal


def _read(reader: Reader, path: str, variables: Mapping[str, str] | None) -> Interpreter:
    links: list[str] = []
    executable = str(reader.path.normpath(path))
    given: list[str] = []
    sets: dict[str, str] = {}
    for _ in range(8):
        hops = reader.hops(executable)
        links.extend(hop for hop in hops if hop not in links)
        real = reader.real(executable)
        if real not in links:
            links.append(real)
        start = _first_bytes(reader, executable, real, links)
        following = shims.system_starter(reader, executable)
        if following is None and start.startswith(_BINARY_STARTS):
            return replace(_read_binary(reader, executable, hops[-1], real, links), given=given, sets=sets)
        following = following or shims.follow(reader, executable, start, variables)
        if following is None:
            raise NotAnInterpreter(path, _script_reason(start), links, dead=not start.startswith(b"#!"))
        if isinstance(following, shims.Unknown):
            raise NotAnInterpreter(path, following.reason, links, dead=False)
        executable = following.path
        links.append(executable)
        given, sets = [*following.words, *given], sets | dict(following.sets)
        program = next((word for word in following.words if not _OPTION.fullmatch(word)), None)
        if program is not None:
            raise NotAnInterpreter(path, f"a script that starts {program} by {executable}", links, dead=False)
    raise NotAnInterpreter(path, "goes through more launchers than can be followed", links)


def _first_bytes(reader: Reader, executable: str, real: str, links: list[str]) -> bytes:
    status = reader.status(executable)
    kind = reader.kind(executable) if status is None else None
    if refused := next((reading for reading in (status, kind) if isinstance(reading, Refused)), None):
        raise NotAnInterpreter(executable, f"this user may not look at it ({refused.reason})", links, refused=True)
    if not isinstance(status, FileStat):
        if kind is None:
            raise NotAnInterpreter(executable, NOTHING_THERE, links)
        if reader.kind(real) == "link":
            raise NotAnInterpreter(executable, "a link that leads back to itself", links)
        raise NotAnInterpreter(executable, f"a link to a path that does not exist ({real})", links)
    if status.kind == "folder":
        raise NotAnInterpreter(executable, "a folder, not a program", links)
    if reader.system == "windows" and status.size == 0 and "\\windowsapps\\" in executable.lower():
        raise NotAnInterpreter(executable, "an alias that opens the store, no interpreter", links, dead=False)
    start = _beginning(reader, real)
    if isinstance(start, str):
        raise NotAnInterpreter(executable, start, links, refused=real in reader.refusals)
    return start


@once  # hundreds of environments link to one file
def _beginning(reader: Reader, real: str) -> bytes | str:
    """The first bytes of a program, or why it is none."""
    try:
        start = reader.read(real, 4096)
    except Unreadable as problem:
        return problem.reason
    return start if reader.may_run(real) else "a file that may not be executed"


def _script_reason(start: bytes) -> str:
    if not start:
        return "an empty file, not a program"
    if start.startswith(b"#!"):
        line = start.splitlines()[0].decode("utf-8", "replace")
        return f"a script ({line}), not an interpreter"
    return "a file that is not a program of any system known here"


def _is_python(reader: Reader, real: str, links: list[str]) -> bool:
    """Whether a program is an interpreter: by a name on the way to it, else by the entry point it calls or holds."""
    names = [reader.name(path).lower() for path in [real, *links]]
    return any(name.startswith(("python", "pypy")) for name in names) or _entry(reader, real) is not None


@once
def _entry(reader: Reader, real: str) -> str | None:
    try:
        result = reader.scan(real, rb"\x00(Py_BytesMain|Py_Main|pypy_main_startup)(?=\x00)")
    except Unreadable:
        return None
    return result[0].decode() if result else None


def _read_binary(reader: Reader, executable: str, end: str, real: str, links: list[str]) -> Interpreter:
    """``end``: where the executable's own links lead; ``real``: that with the links of folders followed too."""
    if not _is_python(reader, real, links):
        raise NotAnInterpreter(executable, "a program, but no Python interpreter", links, dead=False)
    settings = settings_for(reader, executable)
    base = _base_of(reader, end, real, settings)
    if base is None:
        home = settings.get("home") if settings is not None else None
        refused = reader.refused_within(reader.parent(reader.parent(real)), reader.parent(home) if home else None)
        if refused is not None:
            reason = f"this user may not look at {refused[0]} ({refused[1]})"
            raise NotAnInterpreter(executable, reason, links, refused=True)
        raise NotAnInterpreter(executable, _baseless_reason(reader, executable, settings), links)
    version = _version(reader, base, real)
    abi_flags = _abi_flags(reader, base.installation) or ""
    architecture = _architecture(reader, real)
    prefix = base.installation.prefix
    base_prefix = base.installation.prefix
    newer = pair_of(base.installation.minor) >= (3, 14)
    settings = settings or (_folder_for_settings(reader, executable) if newer else None)
    if settings is None or base.installation.minor.startswith("2."):
        # Python 2 reads no settings file itself; the site module that the environment tool installed reads one.
        base_prefix = older_layout_base(reader, base.installation) or base_prefix
    else:
        # Before 3.14 the site module takes the folder above the executable, wherever the file is; since then only
        # where one is there.
        above = reader.parent(reader.parent(executable))
        is_above = not newer or reader.exists(reader.join(above, SETTINGS_NAME))
        prefix = above if is_above else settings.folder
    return Interpreter(
        executable=executable,
        real_executable=real,
        version=version or base.installation.minor,
        implementation=base.installation.implementation,
        prefix=prefix,
        base_prefix=base_prefix,
        links=links,
        abi_flags=abi_flags,
        architecture=architecture,
        library=base.installation.library,
        suffixes=_suffixes(reader, base.installation, abi_flags, architecture),
    )


def _version(reader: Reader, base: _Base, real: str) -> str | None:
    """The full version: that of the executable's own making, which need not be that of the library it is sent to."""
    own = base.installation
    if reader.system != "windows":
        own = versions.installation_above(reader, reader.parent(real), own.minor) or own
    if base.executable != real:
        # A copy keeps its version when its base is upgraded; a copy of the same size as the base is unchanged.
        copy, beside = reader.status(real), reader.status(base.executable)
        if isinstance(copy, FileStat) and isinstance(beside, FileStat) and copy.size != beside.size:
            inside = versions.in_binary(reader, own, real)
            if inside is not None:
                return inside
    return versions.full_version(reader, own, base.executable)


@once
def _suffixes(reader: Reader, installation: Installation, abi_flags: str, architecture: str | None) -> list[str]:
    minor, implementation, library = installation.minor, installation.implementation, installation.library
    return suffixes_of(reader, minor, implementation, library, abi_flags, architecture)


@once
def older_layout_base(reader: Reader, installation: Installation) -> str | None:
    """The base of an environment with a library folder and a site module of its own.

    Those of the days before settings files wrote the base's prefix next to their library; later ones for version 2 read
    it from their settings.
    """
    if installation.implementation != "cpython" or reader.system == "windows":
        return None
    text = reader.text_or_none(reader.join(installation.library, "orig-prefix.txt"), 4096)
    if text and reader.path.isabs(text.strip()):
        return text.strip()
    settings = read_settings(reader, reader.join(installation.prefix, SETTINGS_NAME))
    if settings is None or not follows_settings(reader, installation.library, installation.minor):
        return None
    home = settings.get("home")
    written = settings.get("base-prefix") or (reader.parent(home) if home else None)
    return written if written and reader.path.isabs(written) else None


def follows_settings(reader: Reader, library: str, minor: str) -> bool:
    """Whether an interpreter of this library heeds a settings file: version 2 by a site module of its own alone."""
    return not minor.startswith("2.") or "pyvenv.cfg" in (reader.text_or_none(reader.join(library, "site.py")) or "")


def sees_base_without_settings(reader: Reader, interpreter: Interpreter) -> bool | None:
    """For an environment of the days before settings files whether it sees the base's packages; None: it is none."""
    library = interpreter.library
    if interpreter.prefix == interpreter.base_prefix or not reader.is_file(reader.join(library, "orig-prefix.txt")):
        return None
    return not reader.is_file(reader.join(library, "no-global-site-packages.txt"))


@once
def _abi_flags(reader: Reader, installation: Installation) -> str:
    """The letters an installation's headers and library add to its version: d, m, t, u."""
    if reader.system == "windows":
        number = installation.minor.replace(".", "")
        return "t" if reader.is_file(reader.join(installation.prefix, f"python{number}t.dll")) else ""
    if installation.library.endswith("t"):
        return "t"
    for folder in versions.header_folders(reader, installation):
        if reader.is_folder(folder):
            return reader.name(folder).removeprefix(f"python{installation.minor}")
    return "m" if installation.minor in ("3.6", "3.7") and installation.implementation == "cpython" else ""


@once
def _architecture(reader: Reader, path: str) -> str | None:
    try:
        return processor_of(reader.read(path, 4096))
    except Unreadable:
        return None


def _minor_in_name(name: str) -> str | None:
    """``python3.11`` and ``python3.7m`` tell their version; ``python3`` does not."""
    stem = name.lower().removesuffix(".exe")
    if not stem.startswith(("python", "pypy")):
        return None
    number = stem.removeprefix("python").removeprefix("pypy").rstrip("mtdu")
    major, dot, remainder = number.partition(".")
    return number if dot and is_number(major) and is_number(remainder) else None


def _base_of(reader: Reader, end: str, real: str, settings: PyvenvCfg | None) -> _Base | None:
    """The installation an executable belongs to, found as the interpreter finds it.

    From 3.11 on ``home`` of the settings decides; before, the links of the
    file are followed first and ``home`` counts only for a copied executable.
    Where neither leads to an installation, the prefix compiled in does.
    """
    minor = _minor_in_name(reader.name(real)) or _minor_in_name(reader.name(end))
    copied = settings is not None and reader.inside(end, settings.folder)
    # The program of a Windows environment starts its home's program, of any version, unless it has a library.
    own = reader.system != "windows" or (copied and versions.library_beside(reader, real))
    if minor is None and own:
        minor = versions.minor_inside(reader, real) if reader.system != "windows" else None
        minor = minor or (_minor_in_settings(settings) if settings is not None else None)
    if minor is not None and minor.startswith("2.") and reader.system != "windows":
        settings, copied = None, False  # it knows no such file
    newer = reader.system == "windows" or (minor is not None and pair_of(minor) >= (3, 11))
    home = settings.get("home") if settings is not None else None
    starts = []
    if home and settings is not None and (newer or copied):
        starts.append(reader.absolute(home, settings.folder))
        if reader.system == "macos":
            # A framework's launcher finds the framework by its library, also when it was started through a link.
            names = [f"python{minor}"] if minor else ["python3", "python"]
            starts += [reader.parent(reader.real(reader.join(starts[0], name))) for name in names]
    # From 3.11 on a home without a library leaves the compiled-in prefix (a framework finds itself by its library).
    if not (home and (copied or (newer and reader.system == "linux"))):
        # Before 3.11 a linked folder on the way is not looked through, only the file's own links are followed.
        through = newer or reader.name(real).startswith("pypy")
        starts += [reader.parent(end), *([reader.parent(real)] if through else [])]
    for start in starts:
        installation = versions.installation_above(reader, start, minor)
        if installation is not None:
            beside = (settings.get("executable") if settings is not None else None) or reader.join(
                start, reader.name(real)
            )
            return _Base(installation, beside if copied and reader.is_file(beside) else real)
    installation = versions.compiled_in(reader, real, minor) if reader.system != "windows" and minor else None
    return _Base(installation, real) if installation is not None else None


def version_in(settings: PyvenvCfg) -> str | None:
    """The version that an environment's settings name, where it is one: of ``3.11.7.final.0`` the first three parts."""
    for key in ("version", "version_info"):
        match = _VERSION.match(settings.get(key) or "")
        if match is not None:
            return match[0]
    return None


def _minor_in_settings(settings: PyvenvCfg) -> str | None:
    version = version_in(settings)
    return minor_of(version) if version is not None else None


def _baseless_reason(reader: Reader, executable: str, settings: PyvenvCfg | None) -> str:
    if settings is not None and settings.get("home"):
        return f"an environment's interpreter whose base in {settings.get('home')} is gone"
    return "a program that belongs to no Python installation"
