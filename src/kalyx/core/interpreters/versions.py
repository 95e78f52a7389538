"""What version and build an installation is, read from its files.

Quickest probe first: a manager's own record, the version header that was
installed with it, then the version text compiled into the binary itself.
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.once import once
from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern
from kalyx.core.text.versions import minor_of

# The interpreter keeps its version as a NUL-framed string in its own image.
_WINDOWS_LIBRARY = pattern(r"python(\d)(\d+)t?(?:_d)?\.dll")
_COMPILED_IN = rb"\x00([23]\.\d{1,2}\.\d{1,2}(?:(?:a|b|rc)\d{1,2})?\+?)(?=\x00| \()"


class Installation(Struct, frozen=True):
    """An installation as its files show it: prefix, ``X.Y``, library folder, implementation."""

    prefix: str
    minor: str
    library: str
    implementation: str
    library_folder: str = "lib"


@once
def installation_above(reader: Reader, folder: str, minor: str | None) -> Installation | None:
    """The installation whose landmark (its ``os`` module) is found going up from ``folder``.

    ``minor`` restricts it to one version, as the number in the executable's name does.
    """
    while True:
        upper = reader.parent(folder)
        if upper == folder:
            return None  # the root itself is never tried: no interpreter does
        installation = installation_at(reader, folder, minor)
        if installation is not None:
            return installation
        folder = upper


@once
def installation_at(reader: Reader, prefix: str, minor: str | None) -> Installation | None:
    """The installation with this very prefix, or None."""
    if reader.system == "windows":
        return _windows_installation(reader, prefix, minor)
    if minor is not None:
        # A free-threaded build keeps its library under a name of its own.
        for library_folder, letter in (("lib", ""), ("lib64", ""), ("lib", "t"), ("lib64", "t")):
            library = reader.join(prefix, library_folder, f"python{minor}{letter}")
            if _has_landmark(reader, library):
                return Installation(prefix, minor, library, "cpython", library_folder)
    for library_folder in ("lib", "lib64"):
        base = reader.join(prefix, library_folder)
        if not reader.is_folder(base):
            continue
        for name in reader.names(base):
            for start, implementation in (("python", "cpython"), ("pypy", "pypy")):
                number = name[len(start) :].rstrip("t")
                if name.startswith(start) and _is_minor(number) and minor in (None, number):
                    library = reader.join(base, name)
                    if _has_landmark(reader, library):
                        return Installation(prefix, number, library, implementation, library_folder)
    return None


def _is_minor(text: str) -> bool:
    major, dot, remainder = text.partition(".")
    return bool(dot) and is_number(major) and is_number(remainder)


def _has_landmark(reader: Reader, library: str) -> bool:
    return reader.is_file(reader.join(library, "os.py")) or reader.is_file(reader.join(library, "os.pyc"))


def library_beside(reader: Reader, executable: str) -> bool:
    """Whether a Windows program has the interpreter's library in its own folder."""
    return any(_WINDOWS_LIBRARY.fullmatch(name.lower()) for name in reader.names(reader.parent(executable)))


def _windows_installation(reader: Reader, prefix: str, minor: str | None) -> Installation | None:
    library = reader.join(prefix, "Lib")
    whole = _has_landmark(reader, library)
    for name in reader.names(prefix):
        match = _WINDOWS_LIBRARY.fullmatch(name.lower())
        result = f"{match[1]}.{match[2]}" if match is not None else None
        if result is None or minor not in (None, result):
            continue
        # A distribution to put into another program has its library in an archive, and a file that is its whole path.
        stem = name[: -len(".dll")]
        archive = reader.join(prefix, stem + ".zip")
        if whole or reader.is_file(archive):
            return Installation(prefix, result, library if whole else archive, "cpython", "Lib")
        listed = _library_listed(reader, prefix, (stem + "._pth", "python._pth"))
        if listed is not None:
            return Installation(prefix, result, listed, "cpython", "Lib")
    return Installation(prefix, minor, library, "cpython", "Lib") if minor and whole else None


def _library_listed(reader: Reader, prefix: str, names: tuple[str, ...]) -> str | None:
    """The library among the folders and archives that a ``._pth`` file lists; None without such a file or library."""
    text = next((text for name in names if (text := reader.text_or_none(reader.join(prefix, name)))), "")
    lines = [line.partition("#")[0].strip() for line in text.splitlines()]
    paths = [reader.absolute(line, prefix) for line in lines if line]
    return next((path for path in paths if _has_landmark(reader, path)), None)


@once
def full_version(reader: Reader, installation: Installation, executable: str) -> str | None:
    """The full version, ``3.11.7`` or ``3.13.0rc2``; None when no file of it tells."""
    if installation.implementation == "pypy":
        return in_binary(reader, installation, executable)
    for read in (_from_kept_record, _from_header):
        version = read(reader, installation)
        if version is not None:
            return version
    return in_binary(reader, installation, executable)


def _from_kept_record(reader: Reader, installation: Installation) -> str | None:
    records = reader.join(installation.prefix, "conda-meta")
    if not reader.is_folder(records):
        return None
    for name in reader.names(records):
        parts = name.split("-")
        if name.endswith(".json") and len(parts) == 3 and parts[0] == "python":
            if minor_of(parts[1]) == installation.minor:
                return parts[1]
    return None


def compiled_in(reader: Reader, executable: str, minor: str | None) -> Installation | None:
    """The installation whose prefix, or library folder, is written in the executable itself."""
    try:
        words = reader.scan(executable, rb"(?<=\x00)(/[\x20-\x7e]{1,300})(?=\x00)")
    except Unreadable:
        return None
    for word in dict.fromkeys(words[:5000]):
        for path in word.decode("ascii").split(":"):
            for prefix in (path, reader.parent(path)):
                if len(prefix) > 1 and reader.is_folder(prefix):
                    installation = installation_at(reader, prefix, minor)
                    if installation is not None:
                        return installation
    return None


def minor_inside(reader: Reader, executable: str) -> str | None:
    """The ``X.Y`` that an executable carries: of the library it needs, or its own version text."""
    for form in (rb"\x00libpy(?:thon|py)(\d\.\d{1,2})(?:[a-z]{0,3}\.so|-c\.so)", _COMPILED_IN):
        try:
            result = reader.scan(executable, form)
        except Unreadable:
            return None
        if result:
            return minor_of(result[0].decode("ascii"))
    return None


def header_folders(reader: Reader, installation: Installation) -> list[str]:
    """Where this installation keeps its C headers, whatever letters its ABI adds."""
    if reader.system == "windows":
        return [reader.join(installation.prefix, "include")]
    base = reader.join(installation.prefix, "include")
    wanted = f"python{installation.minor}"
    return [reader.join(base, name) for name in (wanted, wanted + "m", wanted + "t", wanted + "d", wanted + "mu")]


def _from_header(reader: Reader, installation: Installation) -> str | None:
    for folder in header_folders(reader, installation):
        try:
            text = reader.read(reader.join(folder, "patchlevel.h"), 16384).decode("utf-8", "replace")
        except Unreadable:
            continue
        for line in text.splitlines():
            words = line.split(None, 2)
            if len(words) == 3 and words[0] == "#define" and words[1] == "PY_VERSION":
                version = words[2].strip().strip('"').rstrip("+")
                if minor_of(version) == installation.minor:
                    return version
    return None


def in_binary(reader: Reader, installation: Installation, executable: str) -> str | None:
    """The version that is written in an executable, else in its shared library; None where neither says it."""
    for candidate in (executable, *_shared_libraries(reader, installation)):
        try:
            result = reader.scan(candidate, _COMPILED_IN)
        except Unreadable:
            continue
        for text in result:
            version = text.decode("ascii").rstrip("+")
            if minor_of(version) == installation.minor:
                return version
    return None


def _shared_libraries(reader: Reader, installation: Installation) -> list[str]:
    if reader.system == "windows":
        number = installation.minor.replace(".", "")
        return [reader.join(installation.prefix, f"python{number}.dll")]
    folder = reader.join(installation.prefix, installation.library_folder)
    start = "libpypy" if installation.implementation == "pypy" else f"libpython{installation.minor}"
    names = [n for n in reader.names(folder) if n.startswith(start) and (".so" in n or n.endswith(".dylib"))]
    if reader.system == "macos":
        framework = reader.join(installation.prefix, "Python")
        return [reader.join(folder, n) for n in names] + [framework]
    return [reader.join(folder, name) for name in names]
