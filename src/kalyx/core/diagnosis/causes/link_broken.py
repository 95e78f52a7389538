"""A development install points to a folder that is gone or moved.

How to tell: the path file or import hook of the development install names a folder that does not exist.
Fix: install the project for development again from where its folder is now.

Example:
    heath links hivescale to /home/keeper/gone, which is not there
    asked in heath: import hivescale

Not this (the link is for another module):
    heath links nectarflow to /home/keeper/gone, which is not there
    asked in heath: import hivescale
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.diagnosis import fixes
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.editable import finder_mapping
from kalyx.core.text.names import canonical

_LIMIT = 65536


class _Link(Struct):
    """Where a development install is written down, the line, the folder it names, and the distribution's name."""

    path: str
    line: int
    folder: str
    name: str


LOOKS_AT = "case"


def look(case: Case, machine: Machine) -> Finding | None:
    subject = case.missing or _emptied(case)
    if subject is None:
        return None
    top = subject.split(".")[0]
    for link in _broken(case, machine, top):
        return _finding(case, machine, subject, link)
    return _of_a_file(case, machine, subject)


def _of_a_file(case: Case, machine: Machine, subject: str) -> Finding | None:
    """The module's own file is a link, and what the link leads to is not there."""
    reader, parent = machine.reader, subject.rpartition(".")[0]
    above = case.resolver.resolve(parent).location if parent else None
    folders = above.portions if above is not None else [] if parent else case.folders
    stem = subject.rpartition(".")[2]
    for folder in folders:
        for name in (stem, f"{stem}.py", *(stem + suffix for suffix in case.interpreter.suffixes)):
            path = reader.join(folder, name)
            path = reader.join(path, "__init__.py") if reader.is_folder(path) else path
            if not reader.is_dangling(path):
                continue
            owner, target = case.owner(path), reader.link(path) or ""
            evidence = [Evidence.at(path, f"this is a link to {target}, which is not there")]
            if owner is not None:
                from kalyx.core.diagnosis.shared.failing import owned, reinstall

                evidence.append(owned(owner))
                fix = reinstall(machine, case.interpreter, owner)
            else:
                step = fixes.by_hand(f"put {target} back, or remove the link {path}")
                fix = Fix(message="restore what the link leads to", steps=[step], changes=[path])
            message = f"the file of {subject} is a link to {target}, which is not there"
            return Finding.proven("link-broken", message, evidence, [fix])
    return None


def _emptied(case: Case) -> str | None:
    """A name that only a plain folder answers to, where the real one is linked to something that is gone."""
    location = case.resolution.location
    return case.module if location is not None and location.kind == "namespace" else None


def _broken(case: Case, machine: Machine, top: str) -> list[_Link]:
    reader, links = machine.reader, []
    for site in case.sites:
        for name in reader.names(site):
            path = reader.join(site, name)
            if name.endswith("_finder.py") and name.startswith("__editable__"):
                target = finder_mapping(reader, path).get(top)
                gone = target is not None and not reader.exists(target) and not reader.exists(target + ".py")
                if target is not None and gone:
                    links.append(_Link(path, 1, target, _called(case, machine, name, top)))
            elif name.endswith((".pth", ".egg-link")) and _is_for(case, machine, name, top):
                text = reader.text_or_none(path, _LIMIT) or ""
                for number, line in enumerate(text.splitlines(), 1):
                    folder = line.strip()
                    if reader.path.isabs(folder) and not reader.exists(folder):
                        links.append(_Link(path, number, folder, _called(case, machine, name, top)))
                        break
    return links


def _is_for(case: Case, machine: Machine, name: str, top: str) -> bool:
    """Whether a link file is about this module: by the record that lists it, by its name, or by the folder's."""
    for distribution in machine.installed(case.sites):
        if distribution.is_wheel and distribution.lists(name):
            listed = [
                line.strip()
                for line in (
                    machine.reader.text_or_none(machine.reader.join(distribution.path, "top_level.txt")) or ""
                ).split()
            ]
            return top in listed if listed else canonical(distribution.name) == canonical(top)
    stem = name.rpartition(".")[0]
    if name.endswith(".egg-link"):
        return canonical(stem) == canonical(top)
    words = {canonical(part) for part in (stem, stem.strip("_"), stem.removeprefix("__editable__.").split("-")[0])}
    if stem == "easy-install":
        return any(
            other.endswith(".egg-link") and canonical(other[:-9]) == canonical(top)
            for site in case.sites
            for other in machine.reader.names(site)
        )
    return canonical(top) in words


def _called(case: Case, machine: Machine, name: str, top: str) -> str:
    for distribution in machine.installed(case.sites):
        if distribution.is_wheel and distribution.lists(name):
            return distribution.name
    return top


def _finding(case: Case, machine: Machine, subject: str, link: _Link) -> Finding:
    evidence = [
        Evidence.at(link.path, f"{link.name} is linked to {link.folder}", link.line),
        Evidence(fact="that folder is not there", source=link.folder),
    ]
    moved, offered = _moved_to(machine, link.folder, subject.split(".")[0]), list[Fix]()
    if moved is not None:
        evidence.append(Evidence.at(moved, f"a project with {subject.split('.')[0]} is at {moved}"))
        offered = fixes.for_development(machine, case.interpreter, moved, f"install it again from {moved}", "--no-deps")
    if not offered:
        line = f"put {link.folder} back, or install {link.name} from where its sources are now"
        offered = [Fix(message="find its sources and install them again", steps=[fixes.by_hand(line)])]
    message = f"{link.name} is a development install, and its folder {link.folder} is gone"
    return Finding.proven("link-broken", message, evidence, offered)


def _moved_to(machine: Machine, folder: str, top: str) -> str | None:
    """A project that holds the module, next to a folder above the one that is gone."""
    reader, gone = machine.reader, folder
    for _ in range(3):
        upper = reader.parent(gone)
        if reader.is_folder(upper):
            for name in reader.names(upper):
                root = reader.join(upper, name)
                has_code = any(
                    reader.exists(reader.join(root, *inner, last))
                    for inner in ((), ("src",))
                    for last in (top, top + ".py")
                )
                if has_code and any(reader.is_file(reader.join(root, item)) for item in ("pyproject.toml", "setup.py")):
                    return root
            return None
        gone = upper
    return None
