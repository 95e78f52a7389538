"""Reading a record back: its base Python, and the packages it pins."""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.model.records import Interpreter, KalyxError, Package, Seat
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.visible import visible

HEAD = "# kalyx record 1"
_LIMIT = 4 * 1024 * 1024


class Recorded(Struct):
    """A record: the Python and the platform it was made on, and its packages with their exact versions."""

    path: str
    version: str
    implementation: str
    abi_flags: str
    system: str
    architecture: str | None
    sees_base: bool
    packages: list[Package]


def is_record(reader: Reader, path: str) -> bool:
    """Whether a file is a record that ``record`` wrote, by its first lines."""
    return (reader.text_or_none(path, _LIMIT) or "").startswith(HEAD + "\n")


def read_record(reader: Reader, path: str) -> Recorded:
    """A record read back. Raises KalyxError for a file that is none."""
    try:
        text = reader.read(path, _LIMIT).decode("utf-8")
    except (Unreadable, UnicodeDecodeError) as problem:
        raise KalyxError(f"{visible(path)}: {problem}") from None
    lines = text.splitlines()
    if not lines or lines[0] != HEAD:
        raise KalyxError(f"{visible(path)} is not a record of Kalyx: its first line would be {HEAD!r}")
    head = {words[1]: words[2:] for line in lines if line.startswith("# ") and len(words := line.split()) > 2}
    python, platform = head.get("python", []), head.get("platform", [])
    if len(python) < 2 or len(platform) < 2:
        raise KalyxError(f"{visible(path)}: the record does not say which Python and platform it is of")
    return Recorded(
        path=path,
        version=python[0],
        implementation=python[1],
        abi_flags=python[2] if len(python) > 2 else "",
        system=platform[0],
        architecture=None if platform[1] == "unknown" else platform[1],
        sees_base="# sees its base: yes" in lines,
        packages=[package for line in lines if (package := _package(line, path)) is not None],
    )


def _package(line: str, path: str) -> Package | None:
    from packaging.requirements import InvalidRequirement, Requirement

    if not line.strip() or line.startswith("#"):
        return None
    line, _, text = line.partition("  # ")
    address, egg, name = line.partition("#egg=")
    if egg:
        line = f"{name.partition('&')[0]} @ {address}"
    try:
        requirement = Requirement(line)
    except InvalidRequirement:
        return None
    pins = [specifier.version for specifier in requirement.specifier if specifier.operator in ("==", "===")]
    version = pins[0] if len(pins) == 1 else text or requirement.url
    return Package(name=requirement.name, version=version, modules=[], location=path, origin="own")


def seat_of(recorded: Recorded) -> Seat:
    """A record in the place of a seat, to be compared with one."""
    interpreter = Interpreter(
        executable=recorded.path,
        real_executable=recorded.path,
        version=recorded.version,
        implementation=recorded.implementation,
        prefix=recorded.path,
        base_prefix=recorded.path,
        abi_flags=recorded.abi_flags,
        architecture=recorded.architecture,
    )
    return Seat(seat="path", name=recorded.path, interpreter=interpreter, label="a record", source=recorded.path)
