"""What a distribution requires, judged against what is installed.

Requirement lines and markers are read by the standard package for them
(PEP 508); the marker environment is that of the examined interpreter.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from msgspec import Struct

from kalyx.core.model import System
from kalyx.core.model.records import Interpreter
from kalyx.core.packages.metadata import Installed
from kalyx.core.text.names import canonical
from kalyx.core.text.numbers import is_number, leading_number
from kalyx.core.text.patterns import pattern

_PLATFORMS = {"linux": ("linux", "posix", "Linux"), "macos": ("darwin", "posix", "Darwin"),
              "windows": ("win32", "nt", "Windows")}  # fmt: skip

_LINE_LIMIT = 4096  # of one requirement


class MarkedRequirement(Struct):
    """One requirement that applies: its name, its line without markers, and the extra that asks for it."""

    key: str
    name: str
    line: str
    specifier: str
    extra: str | None = None


def marker_environment(interpreter: Interpreter, system: System) -> dict[str, str]:
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
        "python_version": interpreter.minor,
        "sys_platform": sys_platform,
    }


# The plain forms that nearly every line has. Reading them here avoids loading the standard package (a fifth of a whole
# answer); every other form goes to that package. A test compares the two.
_PLAIN = pattern(r"([A-Za-z0-9][A-Za-z0-9._-]*)\s*(\[[A-Za-z0-9._, -]*\])?\s*\(?([^;()@]*)\)?\s*(?:;\s*(.*))?$")
_CLAUSE = pattern(r"\s*(==|!=|<=|>=|<|>)\s*([0-9]{1,9}(?:\.[0-9]{1,9}){0,4})\s*$")
_NUMBERS = pattern(r"[0-9]{1,9}(?:\.[0-9]{1,9}){0,4}$")
_MARKER = pattern(r"""\s*(\w+)\s*(==|!=|<=|>=|<|>)\s*(['"])([^'"]*)\3\s*$""")
_TEXTS = {"sys_platform", "platform_system", "os_name", "implementation_name", "platform_python_implementation"}


def plain_requirement(line: str, environment: Mapping[str, str]) -> list[MarkedRequirement] | None:
    """A requirement line of the plain form, as a list of none or one that applies; None for any other form."""
    if " ".join(line.split()) != line.strip():
        return None  # runs of blanks, which the pattern could part in many ways
    match = _PLAIN.match(line)
    if match is None or not match[1][-1].isalnum():
        return None
    name, extras, specifier, marker = match.groups()
    if marker:
        holds = _plain_marker(marker, environment)
        if holds is None:
            return None
        if not holds:
            return []
    clauses = [clause for clause in specifier.split(",") if clause.strip()]
    if not all(_CLAUSE.match(clause) for clause in clauses) or len(clauses) != specifier.count(",") + bool(clauses):
        return None
    if len({clause.strip().rstrip(".0123456789").strip() for clause in clauses}) != len(clauses):
        return None  # the standard package makes one of two that say the same
    # Sorted as the standard package writes them.
    text = ",".join(sorted("".join(clause.split()) for clause in clauses))
    wanted = ""
    if extras:
        words = sorted(word.strip() for word in extras[1:-1].split(",") if word.strip())
        wanted = f"[{','.join(words)}]" if words else ""
    return [MarkedRequirement(canonical(name), name, f"{name}{wanted}{text}", text)]


def _plain_marker(marker: str, environment: Mapping[str, str]) -> bool | None:
    """Whether a marker of one comparison holds; None for any other form."""
    if "extra" in marker and " or " not in marker and re.search(r"""\bextra\s*==\s*['"][^'"]+['"]""", marker):
        return False  # no extra is asked for, and the marker needs one
    match = _MARKER.match(marker)
    if match is None:
        return None
    name, sign, _, value = match.groups()
    if name in _TEXTS and sign in ("==", "!=") and not is_number(value[:1]):
        return (environment[name] == value) == (sign == "==")
    if name in ("python_version", "python_full_version"):
        return plainly_satisfies(environment[name], sign + value)
    return None


def plainly_satisfies(version: str, specifier: str) -> bool | None:
    """Whether a version of numbers meets comparisons with numbers; None where anything else is said."""
    if not _NUMBERS.match(version):
        return None
    own = _release(version)
    for clause in specifier.split(","):
        match = _CLAUSE.match(clause)
        if match is None:
            return None
        sign, other = match[1], _release(match[2])
        holds = {"==": own == other, "!=": own != other, "<": own < other, "<=": own <= other, ">": own > other,
                 ">=": own >= other}[sign]  # fmt: skip
        if not holds:
            # Every clause must be of this form before one of them decides.
            return None if any(not _CLAUSE.match(part) for part in specifier.split(",")) else False
    return True


def _release(text: str) -> tuple[int, ...]:
    numbers = [leading_number(part) for part in text.split(".")]
    while len(numbers) > 1 and numbers[-1] == 0:
        numbers.pop()
    return tuple(numbers)


_NAME = pattern(r"([A-Za-z0-9][A-Za-z0-9._-]*)")


def name_of(requirement: str) -> str | None:
    """The name that a requirement begins with; None for an address, a path or an option."""
    match = _NAME.match(requirement)
    remainder = requirement[match.end() :].lstrip() if match is not None else ""
    return match[1] if match is not None and (not remainder or remainder[0] in "[=<>!~;@(") else None


def speaks_of(installed: Installed, key: str) -> bool:
    """Whether a distribution may require another, under any condition: its lines are searched, not parsed."""
    first = key[:1]
    near = (line for line in map(str.lstrip, installed.requires) if line[:1].lower() == first)
    return any(match is not None and canonical(match[1]) == key for match in map(_NAME.match, near))


def asked_by(
    installed: Installed, interpreter: Interpreter, system: System, extras: bool = False
) -> list[MarkedRequirement]:
    """The requirements of a distribution that apply here; with ``extras`` also those of its extras."""
    names = installed.extras if extras else []
    return asked_by_lines(installed.requires, interpreter, system, names)


def asked_by_lines(
    lines: Iterable[str], interpreter: Interpreter, system: System, extras: Iterable[str] = ()
) -> list[MarkedRequirement]:
    """The requirement lines that apply here; with names of ``extras`` also those of these extras."""
    environment = marker_environment(interpreter, system)
    extras = list(extras)
    requirements = []
    for line in lines:
        read = plain_requirement(line, environment) if not extras else None
        if read is not None:
            requirements += read
            continue
        from packaging.requirements import InvalidRequirement, Requirement

        if len(line) > _LINE_LIMIT:
            continue
        try:
            requirement = Requirement(line)
            extra = None
            if requirement.marker is not None and not requirement.marker.evaluate({**environment, "extra": ""}):
                holds = (extra for extra in extras if requirement.marker.evaluate({**environment, "extra": extra}))
                extra = next(holds, None)
                if extra is None:
                    continue
        except (InvalidRequirement, ValueError, LookupError, TypeError, RecursionError):
            continue  # a line that the standard does not allow, or that compares what cannot be compared
        plain = requirement.name
        if requirement.extras:
            plain += "[" + ",".join(sorted(requirement.extras)) + "]"
        plain += str(requirement.specifier)
        requirements.append(
            MarkedRequirement(canonical(requirement.name), requirement.name, plain, str(requirement.specifier), extra)
        )
    return requirements


def satisfies(version: str, specifier: str) -> bool:
    """Whether a version meets a specifier; a version no rule accepts meets none but the empty one."""
    if not specifier:
        return True
    plain = plainly_satisfies(version, specifier)
    if plain is not None:
        return plain
    from packaging.specifiers import InvalidSpecifier, SpecifierSet
    from packaging.version import InvalidVersion

    try:
        return SpecifierSet(specifier).contains(version, prereleases=True)
    except (InvalidSpecifier, InvalidVersion):
        return False
