"""What a distribution requires, judged against what is installed.

Requirement lines and markers are read by the standard package for them
(PEP 508); the marker environment is that of the examined interpreter.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from kalyx.core.facts import Interpreter
from kalyx.core.packages.metadata import Installed
from kalyx.core.text import canonical

_PLATFORMS = {"linux": ("linux", "posix", "Linux"), "macos": ("darwin", "posix", "Darwin"),
              "windows": ("win32", "nt", "Windows")}  # fmt: skip


class Asked(Struct):
    """One requirement that applies: its name, its line without markers, and the extra that asks for it."""

    key: str
    name: str
    line: str
    specifier: str
    extra: str | None = None


def marker_environment(interpreter: Interpreter, system: str) -> dict[str, str]:
    """The values that environment markers compare with, for this interpreter on this system."""
    sys_platform, os_name, platform_system = _PLATFORMS[system]
    implementation = interpreter.implementation
    return {
        "implementation_name": implementation,
        "implementation_version": interpreter.version,
        "os_name": os_name,
        "platform_machine": interpreter.architecture or "x86_64",
        "platform_python_implementation": "PyPy" if implementation == "pypy" else "CPython",
        "platform_release": "",
        "platform_system": platform_system,
        "platform_version": "",
        "python_full_version": interpreter.version,
        "python_version": ".".join(interpreter.version.split(".")[:2]),
        "sys_platform": sys_platform,
    }


def asked_by(installed: Installed, interpreter: Interpreter, system: str, extras: bool = False) -> list[Asked]:
    """The requirements of a distribution that apply here; with ``extras`` also those of its extras."""
    names = installed.fields("provides-extra") if extras else []
    return asked_by_lines(installed.requires, interpreter, system, names)


def asked_by_lines(
    lines: Iterable[str], interpreter: Interpreter, system: str, extras: Iterable[str] = ()
) -> list[Asked]:
    """The requirement lines that apply here; with names of ``extras`` also those of these extras."""
    from packaging.requirements import InvalidRequirement, Requirement

    environment = marker_environment(interpreter, system)
    extras = list(extras)
    found = []
    for line in lines:
        try:
            requirement = Requirement(line)
        except InvalidRequirement:
            continue
        extra = None
        if requirement.marker is not None and not requirement.marker.evaluate({**environment, "extra": ""}):
            for name in extras:
                if requirement.marker.evaluate({**environment, "extra": name}):
                    extra = name
                    break
            else:
                continue
        plain = requirement.name
        if requirement.extras:
            plain += "[" + ",".join(sorted(requirement.extras)) + "]"
        plain += str(requirement.specifier)
        found.append(Asked(canonical(requirement.name), requirement.name, plain, str(requirement.specifier), extra))
    return found


def satisfies(version: str, specifier: str) -> bool:
    """Whether a version meets a specifier; a version no rule accepts meets none but the empty one."""
    from packaging.specifiers import InvalidSpecifier, SpecifierSet
    from packaging.version import InvalidVersion

    if not specifier:
        return True
    try:
        return SpecifierSet(specifier).contains(version, prereleases=True)
    except (InvalidSpecifier, InvalidVersion):
        return False
