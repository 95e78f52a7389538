"""The packages of an environment before and after a change: the differences, and the requirements that fail then."""

from __future__ import annotations

from kalyx.core.actions.installer import PlannedInstall
from kalyx.core.model.records import Broken, Interpreter, Package, VersionChange
from kalyx.core.packages.metadata import Installed, installed_in
from kalyx.core.packages.requirements import asked_by_lines, satisfies
from kalyx.core.system import Reader
from kalyx.core.text.names import canonical

_OWN = ("own", "linked")


def visible_of(packages: list[Package]) -> dict[str, Package]:
    """The packages that an import finds, by canonical name: distributions that nothing hides."""
    return {
        canonical(package.name): package
        for package in packages
        if package.version is not None and package.hidden_by is None
    }


def moves(before: list[Package], after: list[Package]) -> list[VersionChange]:
    """Every distribution that an import now finds in another version or folder, by name."""
    item, other = visible_of(before), visible_of(after)
    changes = []
    for key in sorted(item.keys() | other.keys()):
        was, now = item.get(key), other.get(key)
        if was and now and (was.version, was.location) == (now.version, now.location):
            continue
        name = now.name if now else was.name if was else key
        # Where the environment's own copy is removed, the copy that it hid is imported: nothing was downgraded.
        own_goes = was is not None and was.origin in _OWN and now is not None and now.origin not in _OWN
        version = None if own_goes else _version_of(now)
        changes.append(VersionChange(name=name, before=_version_of(was), after=version, hides=_hidden(was, now)))
    return changes


def _version_of(package: Package | None) -> str | None:
    return package.version if package is not None else None


def _hidden(was: Package | None, now: Package | None) -> str | None:
    """Where the copy is that the new one hides, when that one stays."""
    if was is not None and now is not None and was.location != now.location and now.origin == "own":
        return was.location
    return None


def foreseen_moves(packages: list[Package], coming: list[PlannedInstall]) -> list[VersionChange]:
    """The moves that an installation would make."""
    there = visible_of(packages)
    result = []
    for install in coming:
        was = there.get(canonical(install.name))
        hides = was.location if was is not None and was.origin != "own" and was.origin != "linked" else None
        result.append(VersionChange(name=install.name, before=_version_of(was), after=install.version, hides=hides))
    return sorted(result, key=lambda move: move.name.lower())


def broken(
    reader: Reader, interpreter: Interpreter, packages: list[Package], coming: list[PlannedInstall], going: set[str]
) -> list[Broken]:
    """Requirements that fail once ``coming`` is installed and the names in ``going`` are removed."""
    versions = {key: package.version or "" for key, package in visible_of(packages).items() if key not in going}
    lines: dict[str, tuple[str, str, list[str]]] = {}
    records: dict[tuple[str, str], Installed] = {}
    for folder in dict.fromkeys(package.location for package in packages if package.version is not None):
        for installed in installed_in(reader, folder):
            records.setdefault((folder, canonical(installed.name)), installed)
    for key, package in visible_of(packages).items():
        record = records.get((package.location, key))
        if record is not None and key not in going:
            lines[key] = (package.name, package.version or "", record.requires)
    for install in coming:
        key = canonical(install.name)
        versions[key] = install.version
        lines[key] = (install.name, install.version, list(install.requires))
    requirements = []
    for name, version, requires in lines.values():
        for asked in asked_by_lines(requires, interpreter, reader.system):
            there = versions.get(asked.key)
            if there is None or not satisfies(there, asked.specifier):
                requirements.append(Broken(name=name, version=version, requirement=asked.line, found=there))
    return requirements


def newly(before: list[Broken], after: list[Broken]) -> list[Broken]:
    """What is broken after and was not before."""
    known = {(unmet.name, unmet.requirement) for unmet in before}
    return [unmet for unmet in after if (unmet.name, unmet.requirement) not in known]
