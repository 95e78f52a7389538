"""Where environments and interpreters usually are, and what is there.

Bounded: only folders with a known use are listed, a walk below ``--under`` has
a depth and a count, and what was not read is said.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from kalyx.core.environments.journal import COPIES
from kalyx.core.environments.managed_envs import made_prefixes
from kalyx.core.environments.reading import executables_of, is_a_strangers, looks_like_environment
from kalyx.core.environments.settings import named_prefixes
from kalyx.core.interpreters.versions import installation_at
from kalyx.core.model.records import Unread
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.numbers import are_numbers

# Folders of the home folder that hold environments, each one folder deep.
_HOME_COLLECTIONS = {
    "linux": [".virtualenvs", "envs", "venvs", ".venvs", "Envs", "miniconda3/envs", "anaconda3/envs",
              "miniforge3/envs", ".conda/envs", ".local/share/virtualenvs", ".local/pipx/venvs",
              ".local/share/pipx/venvs", ".cache/pypoetry/virtualenvs"],
    "macos": [".virtualenvs", "envs", "venvs", ".venvs", "Envs", "miniconda3/envs", "anaconda3/envs",
              "miniforge3/envs", ".conda/envs", ".local/share/virtualenvs", ".local/pipx/venvs",
              "Library/Caches/pypoetry/virtualenvs"],
    "windows": [".virtualenvs", "Envs", "envs", "venvs", "miniconda3\\envs", "anaconda3\\envs",
                "miniforge3\\envs", ".conda\\envs", "pipx\\venvs", "AppData\\Local\\pypoetry\\Cache\\virtualenvs"],
}  # fmt: skip

# Folders of the home folder that are installations with packages of their own.
_HOME_PREFIXES = ["miniconda3", "anaconda3", "miniforge3"]

# Version managers keep one installation a folder.
_HOME_VERSIONS = [".pyenv/versions", ".asdf/installs/python", ".local/share/mise/installs/python",
                  ".local/share/uv/python"]  # fmt: skip

_ROOT_FOLDERS = {
    "linux": ["/usr/bin", "/usr/local/bin", "/opt/python/bin"],
    "macos": ["/usr/bin", "/usr/local/bin", "/opt/homebrew/bin"],
    "windows": [],
}
_ROOT_VERSIONS = {
    "linux": ["/opt/python"],
    "macos": ["/Library/Frameworks/Python.framework/Versions"],
    "windows": ["C:\\Program Files", "C:\\"],
}

# Variables that a site's module system sets.
_MODULE_VARIABLES = {"MODULEPATH", "LOADEDMODULES", "PYTHON_ROOT", "PYTHON_HOME", "PYTHON_BASE", "EBROOTPYTHON",
                     "EBROOTPYTHON3"}  # fmt: skip

# Folders that hold no environment and are large.
_NEVER_BELOW = {"node_modules", ".git", ".hg", "__pycache__", "site-packages", "proc", "sys", "dev"}
# A variable: the survey then lists only what is below this folder, and the bases of that (the demo sets it).
ONLY_BELOW = "KALYX_ONLY_BELOW"
_PROCESSES, _LISTED_AT_MOST = 20_000, 5000
WALK_DEPTH = 6
# What programs that create environments write into them.
_OF_AN_ENVIRONMENT = set(
    "bin lib lib64 include share etc conda-meta pkgs man libexec sbin ssl var doc"
    " Scripts Lib Include Library DLLs Tools tcl Doc".split()
)
# Of these the folders of programs, and a manager's unpacked packages, in which no environment is looked for.
_NONE_INSIDE = {"bin", "Scripts", "pkgs"}
WALK_LIMIT = 20_000


def _is_python_name(name: str) -> bool:
    stem = name.lower().removesuffix(".exe")
    for start in ("python", "pypy"):
        if stem.startswith(start):
            remainder = stem[len(start) :].rstrip("mtdu")
            return remainder == "" or are_numbers(remainder)
    return False


def interpreter_candidates(reader: Reader) -> Iterator[tuple[str, str]]:
    """Every file that may be an interpreter, on PATH first, then in known roots; each also with its real folder."""
    pythons: dict[str, list[str]] = {}  # by a folder's real path: on many systems /bin and /usr/bin are one
    for folder in dict.fromkeys([*reader.path_folders(), *_ROOT_FOLDERS[reader.system]]):
        real = reader.real(folder)
        if real not in pythons:
            pythons[real] = [name for name in reader.names(real) if name[:1] in ("p", "P") and _is_python_name(name)]
        for name in pythons[real]:
            candidate = reader.join(folder, name)
            if reader.is_file(candidate) or reader.kind(candidate) == "link":
                yield candidate, reader.join(real, name)
    for prefix in version_prefixes(reader):
        for candidate in executables_of(reader, prefix):
            if reader.may_be_there(candidate):
                yield candidate, candidate
                break


def manager_roots(reader: Reader) -> list[str]:
    """The folders in which version managers keep installations, there or not."""
    roots = [reader.absolute(reader.path.normpath(reader.join(reader.home, root))) for root in _HOME_VERSIONS]
    manager = reader.variable("PYENV_ROOT")
    if manager:
        roots.insert(0, reader.join(reader.absolute(manager), "versions"))
    return list(dict.fromkeys(roots))


def version_prefixes(reader: Reader) -> Iterator[str]:
    """Installations that are one folder deep in a version manager's or the system's root."""
    roots = manager_roots(reader)
    if reader.system == "windows":
        local = reader.variable("LOCALAPPDATA") or reader.join(reader.home, "AppData", "Local")
        roots.append(reader.join(local, "Programs", "Python"))
        from kalyx.core.interpreters.registered import registered

        yield from dict.fromkeys(entry.prefix for entry in registered(reader))
    seen: set[str] = set()
    if reader.variables.keys() & _MODULE_VARIABLES:
        from kalyx.core.interpreters.sitemodules import module_prefixes

        yield from module_prefixes(reader)
    for root in [*roots, *_ROOT_VERSIONS[reader.system]]:
        if root in seen:
            continue
        seen.add(root)
        for name in reader.names(root):
            if reader.system == "windows" and not name.lower().startswith("python"):
                continue
            prefix = reader.join(root, name)
            # A link next to the folder (3.11 for 3.11.7) is another name of one installation.
            if reader.kind(prefix) == "folder":
                yield prefix


def environment_folders(
    reader: Reader, under: Iterable[str], unread: list[Unread], installations: list[str] | None = None
) -> Iterator[str]:
    """Folders that have the files of an environment.

    ``installations`` takes the prefixes of installations that are below ``under``.
    """
    seen: set[str] = set()

    def fresh(folder: str, *, is_named: bool = True) -> bool:
        if folder in seen or not looks_like_environment(reader, folder):
            return False
        if not is_named and is_a_strangers(reader, folder):
            return False
        seen.add(folder)
        return True

    for folder in _named_by_variables(reader):
        if fresh(folder):
            yield folder
    for root in reader.upward(reader.folder):
        for folder in named_prefixes(reader, root):
            if fresh(folder):
                yield folder
        for folder in [root, *_folders_in(reader, root, unread)]:
            if fresh(folder, is_named=False):
                yield folder
    for folder in [*listed_prefixes(reader), *made_prefixes(reader)]:
        if fresh(folder):
            yield folder
    for relative in _HOME_COLLECTIONS[reader.system]:
        for folder in _folders_in(reader, reader.path.normpath(reader.join(reader.home, relative)), None):
            if fresh(folder):
                yield folder
    for folder in (reader.join(reader.home, name) for name in _HOME_PREFIXES):
        if fresh(folder):
            yield folder
    for root in under:
        for folder in walk(reader, root, unread, installations):
            if fresh(folder):
                yield folder


def listed_prefixes(reader: Reader) -> list[str]:
    """The prefixes in the list of environments that an environment manager keeps in the home folder."""
    text = reader.text_or_none(reader.join(reader.home, ".conda", "environments.txt"), 1024 * 1024) or ""
    lines = [line.strip() for line in text.splitlines()]
    result = [reader.path.normpath(line) for line in lines if reader.path.isabs(line) and "\0" not in line]
    return list(reader.first_of(result, _LISTED_AT_MOST, "environments in the manager's list"))


def running_prefixes(reader: Reader) -> list[str]:
    """The prefixes of interpreters that processes of this user run now, from the word each was started by."""
    result = []
    for pid in reader.first_of(reader.processes(), _PROCESSES, "processes"):
        program = reader.program_of(pid) if pid != reader.pid else None  # Kalyx itself is no seat
        if program is None or not _is_python_name(reader.name(program).removesuffix(" (deleted)")):
            continue
        process = reader.process(pid)
        word = process.command[0] if process is not None and process.command else program
        if reader.path.isabs(word) and reader.exists(word):
            result.append(reader.parent(reader.parent(reader.path.normpath(word))))
    return list(dict.fromkeys(result))


def _named_by_variables(reader: Reader) -> Iterator[str]:
    for name in ("VIRTUAL_ENV", "CONDA_PREFIX"):
        value = reader.variable(name)
        if value and reader.path.isabs(value):
            yield reader.path.normpath(value)
    collection = reader.variable("WORKON_HOME")
    if collection:
        yield from _folders_in(reader, reader.absolute(collection), None)


def _folders_in(reader: Reader, folder: str, unread: list[Unread] | None) -> list[str]:
    try:
        listing = reader.listing(folder)
    except Unreadable as problem:
        if unread is not None and reader.may_be_there(folder):
            unread.append(Unread(path=folder, reason=problem.reason))
        return []
    folders = []
    for name, kind in sorted(listing.items()):
        path = reader.join(folder, name)
        if kind == "folder" or (kind == "link" and reader.is_folder(path)):
            folders.append(path)
    return folders


def walk(reader: Reader, root: str, unread: list[Unread], installations: list[str] | None = None) -> Iterator[str]:
    """Folders below ``root`` that carry an environment's mark; of those not the folders that every environment has."""
    pending = [(root, 0)]
    too_deep: list[str] = []
    visited: set[str] = set()
    count = 0
    while pending:
        folder, depth = pending.pop()
        real = reader.real(folder)
        if real in visited:
            continue
        visited.add(real)
        count += 1
        if count > WALK_LIMIT:
            unread.append(Unread(path=root, reason=f"stopped after {WALK_LIMIT} folders"))
            return
        try:
            listing = reader.listing(folder)
        except Unreadable as problem:
            unread.append(Unread(path=folder, reason=problem.reason))
            continue
        parts = ("Scripts", "Lib") if reader.system == "windows" else ("bin", "lib")
        older = all(part in listing for part in parts) and looks_like_environment(reader, folder)
        if "pyvenv.cfg" in listing or "conda-meta" in listing or older:
            yield folder
            # Further environments may be inside: in a user's folder, in a manager's folder, next to a library.
            pending += [(path, depth + 2) for path in _inside(reader, folder, listing)]
            listing = {name: kind for name, kind in listing.items() if name not in {*_OF_AN_ENVIRONMENT, COPIES}}
        elif installations is not None and _is_installation(reader, folder, listing):
            installations.append(folder)
            continue
        below = [n for n, kind in listing.items() if kind == "folder" and n not in _NEVER_BELOW]
        if depth >= WALK_DEPTH:
            too_deep += [folder] if below else []
            continue
        pending += [(reader.join(folder, name), depth + 1) for name in sorted(below, reverse=True)]
    if too_deep:
        others = f", nor below {len(too_deep) - 1} others" if len(too_deep) > 1 else ""
        unread.append(Unread(path=too_deep[0], reason=f"not looked below it, {WALK_DEPTH} folders deep{others}"))


def _inside(reader: Reader, prefix: str, listing: Mapping[str, object]) -> Iterator[str]:
    """Environments directly in one of the folders that each environment has; not in ``_NONE_INSIDE``."""
    folders = {name for name, kind in listing.items() if kind == "folder"}
    for part in sorted(_OF_AN_ENVIRONMENT & folders - _NONE_INSIDE):
        folder = reader.join(prefix, part)
        try:
            below = [name for name, kind in reader.listing(folder).items() if kind == "folder"]
        except Unreadable:
            continue  # the record of this environment says so
        for name in sorted(below):
            if not _is_python_name(name) and name not in _NEVER_BELOW:
                path = reader.join(folder, name)
                if looks_like_environment(reader, path):
                    yield path


def _is_installation(reader: Reader, folder: str, listing: Mapping[str, object]) -> bool:
    """Whether a folder is an installation's prefix: its library's landmark, and an interpreter."""
    parts = ("bin", "lib") if reader.system != "windows" else ("Lib", "python.exe")
    if not all(part in listing for part in parts) and not ("bin" in listing and "lib64" in listing):
        return False
    return installation_at(reader, folder, None) is not None and any(
        reader.may_be_there(executable) for executable in executables_of(reader, folder)
    )
