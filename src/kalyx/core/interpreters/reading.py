"""What an executable is, without starting it.

The path is followed link by link; a script's first line and a version
manager's launcher are followed too. A PEP 405 environment is one whose
``pyvenv.cfg`` lies beside the executable or one folder up; its base is where
the executable's links end, or, for a copied executable, what ``home`` says.
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.doors import Facts, Unreadable
from kalyx.core.facts import Interpreter
from kalyx.core.interpreters import shims, versions
from kalyx.core.interpreters.versions import Installation

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
    """The path starts no interpreter: the links followed and the reason for people."""

    def __init__(self, path: str, reason: str, links: list[str] | None = None, dead: bool = True) -> None:
        super().__init__(f"{path}: {reason}")
        self.path = path
        self.reason = reason
        self.links = links or [path]
        self.dead = dead


class Settings(Struct):
    """A ``pyvenv.cfg`` as interpreters read it (PEP 405): where it lies, and its keys in lower case."""

    path: str
    folder: str
    keys: dict[str, tuple[str, int]]
    problem: str | None = None

    def get(self, key: str) -> str | None:
        found = self.keys.get(key)
        return found[0] if found else None

    def line(self, key: str) -> int | None:
        found = self.keys.get(key)
        return found[1] if found else None

    @property
    def sees_base(self) -> bool:
        """True only for the word ``true`` in any case; a missing key means true."""
        value = self.get("include-system-site-packages")
        return value is None or value.lower() == "true"


SETTINGS_NAME = "pyvenv.cfg"
_SETTINGS_LIMIT = 64 * 1024


def read_settings(facts: Facts, path: str) -> Settings | None:
    """The settings file at ``path``, or None where there is none. Of duplicate keys the last counts."""
    if facts.kind(path) is None:
        return None
    keys: dict[str, tuple[str, int]] = {}
    try:
        raw = facts.read(path, _SETTINGS_LIMIT + 1)
    except Unreadable as problem:
        return Settings(path, facts.parent(path), keys, problem.reason)
    problem_text = None
    if len(raw) > _SETTINGS_LIMIT:
        problem_text = f"longer than {_SETTINGS_LIMIT} bytes"
        raw = raw[:_SETTINGS_LIMIT]
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError:
        problem_text = "not UTF-8"
        text = raw.decode("utf-8", "surrogateescape")
    for number, line in enumerate(text.splitlines(), 1):
        key, equals, value = line.partition("=")
        if equals:
            keys[key.strip().lower()] = (value.strip(), number)
    return Settings(path, facts.parent(path), keys, problem_text)


def settings_for(facts: Facts, executable: str) -> Settings | None:
    """The settings an interpreter started by this path would take: beside it, else one folder up."""
    folder = facts.parent(executable)
    return read_settings(facts, facts.join(folder, SETTINGS_NAME)) or read_settings(
        facts, facts.join(facts.parent(folder), SETTINGS_NAME)
    )


class _Base(Struct):
    installation: Installation
    executable: str


def read_interpreter(facts: Facts, path: str) -> Interpreter:
    """What starts when ``path`` is executed. Raises NotAnInterpreter with the reason.

    ``executable`` is the path that the interpreter would call its own;
    ``links`` every hop from the path given to the real file.
    """
    links: list[str] = []
    executable = path
    for _ in range(8):
        hops = facts.hops(executable)
        links.extend(hop for hop in hops if hop not in links)
        real = facts.real(executable)
        if real not in links:
            links.append(real)
        start = _first_bytes(facts, executable, real, links)
        if start.startswith(_BINARY_STARTS):
            return _read_binary(facts, executable, real, links)
        following = shims.follow(facts, executable, start)
        if following is None:
            raise NotAnInterpreter(path, _script_reason(start), links, dead=not start.startswith(b"#!"))
        if isinstance(following, shims.Unknown):
            raise NotAnInterpreter(path, following.reason, links, dead=False)
        executable = following.path
        links.append(executable)
    raise NotAnInterpreter(path, "goes through more launchers than can be followed", links)


def _first_bytes(facts: Facts, executable: str, real: str, links: list[str]) -> bytes:
    status = facts.status(executable)
    if status is None:
        if facts.kind(executable) is None:
            raise NotAnInterpreter(executable, "there is nothing at this path", links)
        raise NotAnInterpreter(executable, f"a link that leads nowhere ({real} is not there)", links)
    if status.kind == "folder":
        raise NotAnInterpreter(executable, "a folder, not a program", links)
    try:
        start = facts.read(executable, 4096)
    except Unreadable as problem:
        raise NotAnInterpreter(executable, problem.reason, links) from None
    if not facts.may_run(executable):
        raise NotAnInterpreter(executable, "a file that may not be executed", links)
    return start


def _script_reason(start: bytes) -> str:
    if not start:
        return "an empty file, not a program"
    if start.startswith(b"#!"):
        line = start.splitlines()[0].decode("utf-8", "replace")
        return f"a script ({line}), not an interpreter"
    return "a file that is no program of any system known here"


def _read_binary(facts: Facts, executable: str, real: str, links: list[str]) -> Interpreter:
    settings = settings_for(facts, executable)
    base = _base_of(facts, executable, real, settings)
    if base is None:
        raise NotAnInterpreter(executable, _baseless_reason(facts, executable, settings), links)
    version = versions.full_version(facts, base.installation, base.executable)
    prefix = base.installation.prefix
    if settings is not None:
        # The site module takes the folder above the executable, wherever the file lies.
        prefix = facts.parent(facts.parent(executable))
    return Interpreter(
        executable=executable,
        real_executable=real,
        version=version or base.installation.minor,
        implementation=base.installation.implementation,
        prefix=prefix,
        base_prefix=base.installation.prefix,
        links=links,
    )


def _minor_in_name(name: str) -> str | None:
    """``python3.11`` and ``python3.7m`` tell their version; ``python3`` does not."""
    stem = name.lower().removesuffix(".exe")
    if not stem.startswith("python"):
        return None
    number = stem.removeprefix("python").rstrip("mtdu")
    major, dot, rest = number.partition(".")
    return number if dot and major.isdigit() and rest.isdigit() else None


def _base_of(facts: Facts, executable: str, real: str, settings: Settings | None) -> _Base | None:
    minor = _minor_in_name(facts.name(real))
    in_place = settings is not None and facts.inside(real, settings.folder)
    if not in_place or settings is None:
        found = versions.installation_above(facts, facts.parent(real), minor)
        if found is not None:
            return _Base(found, real)
    if settings is None:
        return None
    # A copied executable: its settings name the installation it was copied from.
    home = settings.get("home")
    if not home:
        return None
    home = facts.absolute(home, settings.folder)
    minor = minor or _minor_in_settings(settings)
    found = versions.installation_above(facts, home, minor)
    if found is None:
        return None
    beside = settings.get("executable") or facts.join(home, facts.name(real))
    return _Base(found, beside if facts.is_file(beside) else real)


def _minor_in_settings(settings: Settings) -> str | None:
    for key in ("version", "version_info"):
        value = settings.get(key)
        if value and value[0].isdigit() and "." in value:
            return versions.minor_of(value)
    return None


def _baseless_reason(facts: Facts, executable: str, settings: Settings | None) -> str:
    if settings is not None and settings.get("home"):
        return f"an environment's interpreter whose base in {settings.get('home')} is gone"
    return "a program that belongs to no Python installation"
