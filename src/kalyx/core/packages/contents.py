"""What a target can import: every distribution on its sys.path, its origin, hidden copies, unmet requirements.

Read from the metadata that installers leave, folder by folder in the order of
the search path; of two copies the first one wins, and the other is hidden.
"""

from __future__ import annotations

from kalyx.core.environments.searchpath import SearchPath
from kalyx.core.model.records import Interpreter, Package, PackageOrigin, PutBy, Unmet, Unread
from kalyx.core.packages.metadata import Installed, installed_in
from kalyx.core.packages.requirements import asked_by, satisfies
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.names import canonical

# The origin of a package by what put its entry on sys.path; a program's own folder holds no packages. Some Pythons have
# packages in the library's folder.
_ORIGINS: dict[PutBy, PackageOrigin] = {
    "library": "base",
    "own": "own",
    "base": "base",
    "user": "user",
    "linked": "linked",
    "start-up": "linked",
    "variable": "path",
}

# Files next to packages that are no modules.
_NO_MODULES = {"__pycache__", "README.txt", "README", "distutils-precedence.pth"}


def contents(reader: Reader, interpreter: Interpreter, search: SearchPath) -> tuple[list[Package], list[Unread]]:
    """Every package that this search path leads to, by name; and the places that could not be read."""
    unread: list[Unread] = []
    result: list[tuple[Installed, Package]] = []
    loose: list[Package] = []
    winners: dict[str, str] = {}
    libraries = {entry.entry for entry in search.entries if entry.put_by == "library"}
    for folder, origin in _folders(reader, interpreter, search):
        try:
            if not reader.is_file(folder):
                reader.listing(folder)
        except Unreadable as problem:
            if reader.may_be_there(folder):
                unread.append(Unread(path=folder, reason=problem.reason))
            continue
        owned: set[str] = set()
        for installed in installed_in(reader, folder):
            package = _package(reader, installed, origin)
            owned.update(package.modules)
            key = canonical(package.name)
            package.hidden_by = winners.get(key)
            winners.setdefault(key, folder)
            result.append((installed, package))
            if not package.version:
                unread.append(Unread(path=installed.path, reason="metadata without a version"))
        if (origin != "path" or result) and folder not in libraries:
            loose += _owned_by_none(reader, folder, origin, owned)
    _judge_requirements(reader, interpreter, result)
    paths = {refusal.path for refusal in unread}
    for path, reason in reader.all_refused_within(interpreter.prefix, *winners.values()):
        if path not in paths:
            unread.append(Unread(path=path, reason=reason))
    known = {canonical(package.name) for _, package in result}
    loose += [package for package in kept_records(reader, interpreter.prefix) if canonical(package.name) not in known]
    return sorted([package for _, package in result] + loose, key=lambda member: member.name.lower()), unread


def kept_records(reader: Reader, prefix: str) -> list[Package]:
    """What an environment manager's records list, by their file names (name-version-build)."""
    folder = reader.join(prefix, "conda-meta")
    packages = []
    for name in reader.names(folder):
        parts = name.removesuffix(".json").rsplit("-", 2)
        if name.endswith(".json") and len(parts) == 3 and all(parts):
            packages.append(
                Package(
                    name=parts[0], version=parts[1], modules=[], location=folder, origin="own", installer="conda-meta"
                )
            )
    return packages


def _folders(reader: Reader, interpreter: Interpreter, search: SearchPath) -> list[tuple[str, PackageOrigin]]:
    """The folders that may hold packages, in order, with the origin of what is in them."""
    result = []
    for entry in search.entries:
        origin = _ORIGINS.get(entry.put_by)
        if origin is not None and entry.entry and entry.exists:
            result.append((entry.entry, origin))
    # Start-up code that runs twice can name a folder twice: the first one counts.
    first: dict[str, PackageOrigin] = {}
    for folder, origin in result:
        if reader.may_be_there(folder):
            first.setdefault(folder, origin)
    return list(first.items())


def _package(reader: Reader, installed: Installed, origin: PackageOrigin) -> Package:
    if installed.is_development_install:
        origin = "linked"
    return Package(
        name=installed.name,
        version=installed.version or None,
        modules=[module for module in installed.modules if "/" not in module],
        location=installed.site,
        origin=origin,
        installer=installed.installer or _keeper(reader, installed),
    )


def _keeper(reader: Reader, installed: Installed) -> str | None:
    """Who put it there, where its metadata does not say: Debian's folder is Debian's."""
    if installed.site.endswith("/dist-packages") and installed.site.startswith("/usr/lib/"):
        return "debian"
    return None


def _owned_by_none(reader: Reader, folder: str, origin: PackageOrigin, owned: set[str]) -> list[Package]:
    """Modules in a site folder that no distribution's record lists."""
    packages = []
    for name in reader.names(folder):
        stem = name.split(".")[0]
        if name in _NO_MODULES or stem in owned or not stem.isidentifier() or name.endswith((".pth", ".start")):
            continue
        path = reader.join(folder, name)
        is_package = name == stem and reader.is_file(reader.join(path, "__init__.py"))
        if is_package or (name.endswith((".py", ".so", ".pyd")) and reader.is_file(path)):
            packages.append(Package(name=stem, version=None, modules=[stem], location=folder, origin=origin))
    return packages


def _judge_requirements(reader: Reader, interpreter: Interpreter, found: list[tuple[Installed, Package]]) -> None:
    """Fill in the requirements that do not hold, and who asks for each package."""
    versions: dict[str, Package] = {}
    for _, package in found:
        if package.hidden_by is None:
            versions.setdefault(canonical(package.name), package)
    for installed, package in found:
        if package.hidden_by is not None:
            continue
        if not satisfies(interpreter.version, installed.requires_python):
            asked_for = f"Python {installed.requires_python}"
            package.unmet.append(Unmet(requirement=asked_for, found=interpreter.version))
        for asked in asked_by(installed, interpreter, reader.system):
            there = versions.get(asked.key)
            if there is None:
                package.unmet.append(Unmet(requirement=asked.line, found=None))
                continue
            there.asked_by.append(package.name)
            if not satisfies(there.version or "", asked.specifier):
                package.unmet.append(Unmet(requirement=asked.line, found=there.version))
    for _, package in found:
        if package.unmet:
            package.chain = _chain(package, versions)


def _chain(package: Package, known: dict[str, Package]) -> list[str]:
    """Who asks for a package, who asks for that one, and so on up to one that nobody asks for."""
    chain: list[str] = []
    askers = package.asked_by
    while askers and len(chain) < 20:
        above = next((name for name in askers if name not in chain and name != package.name), None)
        if above is None:
            break
        chain.append(above)
        askers = known[canonical(above)].asked_by if canonical(above) in known else []
    return chain
