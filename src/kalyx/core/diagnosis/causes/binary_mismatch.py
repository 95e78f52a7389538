"""The package was compiled against another version of a package that its compiled part calls.

How to tell: the message is one of a compiled part that checks whom it was built against, and that package is here in
another version.
Fix: install releases that were built for each other: reinstall the compiled one.

Example:
    heath has combcore 1.0 compiled against hivescale 2.1, and hivescale 1.0
    asked in heath: import combcore

Not this (its own code raises for another reason):
    heath has combcore 1.0 that raises on import
    asked in heath: import combcore
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.failing import broken_requirement, compiled_of, files_of, owned, reinstall
from kalyx.core.imports.case import Case, Tried
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import Installed
from kalyx.core.text.names import canonical
from kalyx.core.text.numbers import leading_number
from kalyx.core.text.patterns import pattern

_SIZE = pattern(
    r"(?<![\w.])([\w.]+)\.\w+ size changed, may indicate binary incompatibility\."
    r" Expected (\d+) from C header, got (\d+)"
)
_API = pattern(r"compiled against (?:API|ABI) version (0x[0-9a-f]+) but this version of (\w+) is (0x[0-9a-f]+)")
_MAJOR = pattern(r"compiled (?:using|against|with) (\w+) (\d+)\.x cannot be run in")
_PLAIN = pattern(
    r"(?:compiled|built) (?:against|with|for|using) (?:version )?([A-Za-z][\w.-]*?) (?:version )?v?(\d+(?:\.\d+)*)"
)
_LACKS = (
    "_ARRAY_API not found",
    "numpy.core.multiarray failed to import",
    "numpy._core.multiarray failed to import",
    "_UFUNC_API not found",
)


class _Mismatch(Struct):
    """The other package, the words that say so, and which way it must move: newer, older, or to a version."""

    module: str
    words: str
    newer: bool | None = None
    below_major: bool = False
    version: str | None = None


LOOKS_AT = "tried"


def look(case: Tried, machine: Machine) -> Finding | None:
    trial = case.failed
    if not (trial.chain or trial.output):
        return None
    details = _mismatch_in(trial.words)
    if details is None:
        return None
    other = machine.distribution_of_module(details.module, case.sites) or next(
        (
            distribution
            for distribution in machine.installed(case.sites)
            if distribution.key == canonical(details.module)
        ),
        None,
    )
    if other is None:
        return None
    paths = [
        path for path in compiled_of(case) + files_of(case) if (owner := case.owner(path)) and owner.key != other.key
    ]
    asker = case.owner(paths[0]) if paths else machine.distribution_of_module(case.module, case.sites)
    if asker is None or asker.key == other.key:
        return None
    evidence = [
        Evidence(fact=details.words[:300], source="the trial"),
        Evidence.at(other.path, f"{other.name} {other.version} is here"),
        owned(asker) if not paths else Evidence.at(paths[0], f"it belongs to {asker.name} {asker.version}"),
    ]
    message = f"{asker.name} {asker.version} was compiled against another {other.name} than the {other.version} here"
    return Finding.proven("binary-mismatch", message, evidence, _ways_out(case, machine, asker, other, details))


def _mismatch_in(words: str) -> _Mismatch | None:
    if match := _MAJOR.search(words):
        return _Mismatch(match[1].lower(), match[0], newer=False, below_major=True)
    if match := _API.search(words):
        newer = int(match[1][:16], 16) > int(match[3][:16], 16)
        return _Mismatch(match[2].lower(), match[0], newer=newer, below_major=not newer)
    if match := _SIZE.search(words):
        # A smaller object than expected: compiled for a newer one, or for the last major whose object was larger.
        return _Mismatch(match[1].split(".")[0], match[0])
    for lack in _LACKS:
        if lack in words:
            return _Mismatch("numpy", lack)
    if (match := _PLAIN.search(words)) and not match[1].lower().startswith(("python", "gcc", "openssl")):
        return _Mismatch(match[1].lower().replace("-", "_"), match[0], version=match[2])
    return None


def _ways_out(case: Case, machine: Machine, asker: Installed, other: Installed, mismatch: _Mismatch) -> list[Fix]:
    again = reinstall(machine, case.interpreter, asker)
    again = again.called(f"install {asker.name} again: a build for this {other.name} may be there").guessed()
    broken = broken_requirement(case, machine, asker)
    if broken is not None and broken[1].key == other.key:
        fix = fixes.install(machine, case.interpreter, broken[0])
        return [fix.called(f"install {broken[0]}, as {asker.name} {asker.version} requires"), again]
    major = other.version.split(".")[0]
    if mismatch.version is not None:
        line = (
            f"{other.name}=={mismatch.version}"
            if mismatch.version.count(".") > 1
            else f"{other.name}=={mismatch.version}.*"
        )
        fix = fixes.install(machine, case.interpreter, line)
    elif mismatch.newer is True:
        fix = fixes.install(machine, case.interpreter, other.name, "--upgrade")
    elif leading_number(major) >= (1 if mismatch.below_major else 2):
        fix = fixes.install(machine, case.interpreter, f"{other.name}<{major}")
    else:
        fix = fixes.install(machine, case.interpreter, other.name, "--upgrade")
    fix = fix.called(f"install the {other.name} it was compiled against")
    return [fix, again]
