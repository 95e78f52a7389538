"""What in an environment is the user's own: files that neither its maker nor a package brought.

Of an environment that a run of Kalyx left half made or half removed that is what came since.
"""

from __future__ import annotations

import json
from collections.abc import Iterator

from kalyx.core.environments.journal import COPIES, LOCKS, Record, Work, record_of
from kalyx.core.environments.reading import BROUGHT_MODULES, View, all_sites
from kalyx.core.packages.metadata import installed_in
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import FileStat
from kalyx.core.text.patterns import pattern

# What creating and filling an environment writes directly into its folder.
MAKERS_NAMES = {LOCKS["prepare"], "bin", "Scripts", "lib", "Lib", "lib64", "include", "Include", "share", "etc", "man",
                "pyvenv.cfg", ".gitignore"}  # fmt: skip
# What the programs that create environments write into them.
_MAKERS = {"pyvenv.cfg", ".gitignore", "CACHEDIR.TAG", ".lock", "lib64", ".Python", "pip-selfcheck.json"}
_MAKERS |= set(LOCKS.values())
_LEFT_HALF: tuple[Work, ...] = ("prepare", "discard")
_MAKERS_FOLDERS = ("conda-meta/", "share/jupyter/kernels/")
_SCRIPT = pattern(
    r"(bin|Scripts)/((python|pythonw|pypy|pip|easy_install|easy_install-|wheel)[\d.]*(-config)?(\.exe)?|\U0001d70bthon"
    r"|(activate|Activate|deactivate)([._][\w.]+)?|pydoc\.bat)$"
)
_IN_SITE = BROUGHT_MODULES | {"easy-install.pth", "distutils-precedence.pth", "_virtualenv.py", "_virtualenv.pth",
                              "README.txt", "README"}  # fmt: skip


def left_by(reader: Reader, folder: str) -> Record | None:
    """The record of a run that was stopped here, where the folder is locked by that very run."""
    return next((record for work in _LEFT_HALF if (record := record_of(reader, folder, work)) is not None), None)


def users_files(reader: Reader, view: View) -> Iterator[str]:
    """What in the environment is the user's own; of one that a run left half made or half removed what came since."""
    prefix = reader.real(view.environment.prefix)
    record = left_by(reader, prefix)
    if record is None:
        yield from unowned_files(reader, view)
        return
    for path in _files_below(reader, prefix):
        relative = _relative(path, prefix)
        if _SCRIPT.match(relative) and reader.kind(path) == "link":
            continue  # to an interpreter: a status would be that of its end, which may be gone already
        status = reader.status(path)
        is_new = not isinstance(status, FileStat) or max(status.changed_ns, status.modified_ns) > record.began
        foreign = relative.split("/")[0] not in MAKERS_NAMES if record.work == "prepare" else is_new
        if foreign and relative not in _MAKERS and not path.endswith(".pyc"):
            yield relative


def _relative(path: str, prefix: str) -> str:
    return path[len(prefix) :].strip("/\\").replace("\\", "/")


def unowned_files(reader: Reader, view: View) -> Iterator[str]:
    """Files in an environment that neither its maker nor a package brought, relative to it; all are looked at."""
    prefix = reader.real(view.environment.prefix)
    sites = list(dict.fromkeys(map(reader.real, [*view.environment.site_packages, *all_sites(reader, prefix)])))
    owned: set[str] = set()
    loose: set[str] = set()
    for site in sites:
        for installed in installed_in(reader, site):
            for file in installed.files or []:
                owned.add(str(reader.path.normpath(reader.join(site, *file.split("/")))))
            if installed.files is None:
                loose.update(reader.join(site, module) for module in installed.modules)
    owned |= _of_kept_records(reader, prefix)
    of_a_stopped_fill = f"{COPIES}/" if record_of(reader, prefix, "fill") else "\0"
    for path in _files_below(reader, prefix):
        relative = _relative(path, prefix)
        if path in owned or relative in _MAKERS or relative.startswith((*_MAKERS_FOLDERS, of_a_stopped_fill)):
            continue
        if path.endswith(".pyc") or _SCRIPT.match(relative):
            continue
        around = next((site for site in sites if reader.inside(path, site)), None)
        if around is None:
            yield relative
            continue
        site, inner = around, path[len(around) :].strip("/\\").replace("\\", "/")
        first = inner.split("/")[0]
        stem = first.split(".")[0]
        if (
            first in _IN_SITE
            or first.endswith((".dist-info", ".egg-info", ".egg-link", ".egg"))
            or first.startswith("~")
        ):
            continue
        if reader.join(site, stem) in loose or reader.join(site, first) in owned:
            continue
        yield relative


def _of_kept_records(reader: Reader, prefix: str) -> set[str]:
    """The files that the records of an environment manager list in its prefix (``conda-meta``)."""
    folder = reader.join(prefix, "conda-meta")
    of_kept_records: set[str] = set()
    for name in reader.names(folder):
        if name.endswith(".json"):
            try:
                listed = json.loads(reader.read_text(reader.join(folder, name), 32 * 1024 * 1024)).get("files", [])
            except (Unreadable, ValueError, AttributeError):
                continue
            of_kept_records.update(reader.join(prefix, *file.split("/")) for file in listed if isinstance(file, str))
    return of_kept_records


def _files_below(reader: Reader, folder: str) -> Iterator[str]:
    """Every file and link below, links not followed; folders that cannot be read count as one unreadable file."""
    pending = [folder]
    while pending:
        location = pending.pop()
        try:
            listing = reader.listing(location)
        except Unreadable:
            yield location
            continue
        for name, kind in sorted(listing.items()):
            path = reader.join(location, name)
            if kind == "folder":
                if name != "__pycache__":
                    pending.append(path)
            else:
                yield path
