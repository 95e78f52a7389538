"""Where a notebook server looks for kernels, in its order, on three systems.

The variables and folders are those of the notebook system's own documentation
("Common directories and file locations"). The server is an interpreter with
variables: its prefix decides the environment's folder and which of the user's
and the environment's folders comes first.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import SearchPath, is_switched_on, search_path, user_site
from kalyx.core.interpreters.reading import settings_of
from kalyx.core.model.records import Interpreter, KalyxError, Reach
from kalyx.core.packages.metadata import entry_points
from kalyx.core.system import Reader
from kalyx.core.system.reader import FileStat, variable_of
from kalyx.core.text.numbers import number_of

_FALSE_WORDS = {"no", "n", "false", "off", "0", "0.0"}


# The group of entry points by which packages register provisioners.
_PROVISIONERS = "jupyter_client.kernel_provisioners"


class Server(Struct):
    """The server whose view is taken: its interpreter (None: no particular one) and its variables."""

    interpreter: Interpreter | None
    variables: Mapping[str, str]
    said_as: str = ""
    folder: str | None = None  # its current folder, which relative paths start from
    why: str = ""  # why this server answers

    @property
    def answers(self) -> str:
        """Which server answers, and why, in one line."""
        return f"{self.said_as}: {self.why}" if self.why else self.said_as


class KernelFolder(Struct):
    """A folder of kernel specs and who it is for."""

    path: str
    reach: Reach
    source: str


# The release of the server's own library ("core" of the notebook system) from which each rule holds.
_PREFERS_BY_VARIABLE, _USER_PACKAGES, _PREFERS_ENVIRONMENT = (4, 7), (4, 9), (5, 0)
_ASKS_OWNER, _PROGRAM_DATA_ASKED_FOR = (5, 1), (5, 8)
_NEWEST = (99, 0)


def _search(reader: Reader, server: Server) -> SearchPath | None:
    """What the server itself can import, by reading; None where no server is known."""
    if server.interpreter is None:
        return None
    return search_path(reader, server.interpreter, Invocation(variables=server.variables))


def own_search(reader: Reader, server: Server) -> list[str]:
    """The entries of the server's own search path, by reading; without a folder of a program."""
    search = _search(reader, server)
    return [entry.entry for entry in search.entries if entry.entry] if search is not None else []


def library_release(reader: Reader, search: SearchPath | None) -> tuple[int, int]:
    """The release of the notebook system's library that a server has, by its metadata; else the newest."""
    for entry in search.entries if search is not None else []:
        for name in reader.names(entry.entry) if entry.entry else []:
            if name.lower().startswith("jupyter_core-") and name.endswith((".dist-info", ".egg-info")):
                numbers = name.split("-")[1].removesuffix(".dist").split(".")
                first, second = (number_of(part) for part in [*numbers, "", ""][:2])
                if first is not None and second is not None:
                    return first, second
    return _NEWEST


def provisioners(reader: Reader, server: Server) -> list[str]:
    """The provisioners that packages of the server bring, by their entry points (Entry points specification)."""
    search = _search(reader, server)
    sites = search.site_packages if search is not None else []
    infos = [reader.join(site, name) for site in sites for name in reader.names(site) if name.endswith(".dist-info")]
    return [name for info in infos for name in entry_points(reader, info, _PROVISIONERS)]


def data_folder(reader: Reader, variables: Mapping[str, str], release: tuple[int, int] = _NEWEST) -> tuple[str, str]:
    """The user's data folder of the notebook system, and the source of that."""

    def get(name: str) -> str | None:
        return variable_of(variables, name, reader.system)

    named = get("JUPYTER_DATA_DIR")
    if named:
        return named, "JUPYTER_DATA_DIR"
    home = get("USERPROFILE" if reader.system == "windows" else "HOME") or reader.home
    if _is_set(get("JUPYTER_PLATFORM_DIRS")) and release >= _PREFERS_ENVIRONMENT:
        # This folder alone is named by the home folder as it is written, without following links.
        return _platform_data_folder(reader, get("LOCALAPPDATA"), get("XDG_DATA_HOME"), home), "JUPYTER_PLATFORM_DIRS"
    home = reader.real(home)
    if reader.system == "macos":
        return reader.join(home, "Library", "Jupyter"), "the home folder"
    if reader.system == "windows":
        appdata = get("APPDATA")
        if appdata:
            return reader.join(appdata, "jupyter"), "APPDATA"
        return reader.join(get("JUPYTER_CONFIG_DIR") or reader.join(home, ".jupyter"), "data"), "the home folder"
    base = get("XDG_DATA_HOME")
    if base:
        return reader.join(base, "jupyter"), "XDG_DATA_HOME"
    return reader.join(home, ".local", "share", "jupyter"), "the home folder"


def _platform_data_folder(reader: Reader, local: str | None, xdg: str | None, home: str) -> str:
    if reader.system == "macos":
        return reader.join(home, "Library", "Application Support", "jupyter")
    if reader.system == "windows":
        return reader.join(local or reader.join(home, "AppData", "Local"), "jupyter")
    usual = reader.join(home, ".local", "share")
    return reader.join(xdg if xdg and reader.path.isabs(xdg) else usual, "jupyter")


def _is_set(value: str | None) -> bool:
    return value is not None and value.lower() not in _FALSE_WORDS


def machine_folders(
    reader: Reader, variables: Mapping[str, str], prefix: str | None, release: tuple[int, int] = _NEWEST
) -> list[str]:
    """The system-wide data folders; on Windows they are the environment's own unless PROGRAMDATA is trusted."""
    if reader.system != "windows":
        if _is_set(variables.get("JUPYTER_PLATFORM_DIRS")) and release >= _PREFERS_ENVIRONMENT:
            if reader.system == "macos":
                return ["/Library/Application Support/jupyter"]
            roots = [root for root in variables.get("XDG_DATA_DIRS", "").split(":") if reader.path.isabs(root)]
            return [reader.join(root, "jupyter") for root in roots or ["/usr/local/share", "/usr/share"]]
        return ["/usr/local/share/jupyter", "/usr/share/jupyter"]
    if release < _PROGRAM_DATA_ASKED_FOR or _is_set(variable_of(variables, "JUPYTER_USE_PROGRAMDATA", "windows")):
        program_data = variable_of(variables, "PROGRAMDATA", "windows")
        if program_data:
            return [reader.join(program_data, "jupyter")]
    return [reader.join(prefix, "share", "jupyter")] if prefix else []


def kernel_folders(reader: Reader, server: Server) -> list[KernelFolder]:
    """The folders this server looks in, first the one that wins."""
    variables = server.variables
    prefix = server.interpreter.prefix if server.interpreter else None
    search = _search(reader, server)
    release = library_release(reader, search)
    folders: list[KernelFolder] = []

    def add(path: str, reach: Reach, source: str) -> None:
        # Relative paths start from the folder that the server was started in.
        folder = reader.within(reader.join(path, "kernels"))
        if all(known.path != folder for known in folders):
            folders.append(KernelFolder(folder, reach, source))

    listed = variable_of(variables, "JUPYTER_PATH", reader.system)
    for entry in listed.split(reader.path.pathsep) if listed else []:
        add(entry.rstrip(reader.path.sep), "me", "JUPYTER_PATH")
    user_data, source = data_folder(reader, variables, release)
    user: list[tuple[str, Reach, str]] = [(user_data, "me", source)]
    if server.interpreter is not None and release >= _USER_PACKAGES and _user_packages_on(reader, server):
        base = user_base(reader, server.interpreter, variables)
        user.append((reader.join(base, "share", "jupyter"), "me", "the user's own packages"))
    machine = machine_folders(reader, variables, prefix, release)
    own: list[tuple[str, Reach, str]] = []
    if prefix:
        own = [(reader.join(prefix, "share", "jupyter"), "env", "the server's environment")]
    if reader.system != "windows":
        own = [entry for entry in own if entry[0] not in machine]
    pairs = own + user if _environment_first(reader, server, release) else user + own
    for entry, reach, why in pairs:
        add(entry, reach, why)
    for entry in machine:
        add(entry, "machine", "the system's folders")
    older = _older_folder(reader, server, search)
    if older is not None:
        add(older, "me", "the older place in the home folder")
    return folders


def _older_folder(reader: Reader, server: Server, search: SearchPath | None) -> str | None:
    """The interactive shell's own folder, where servers look last; None where the server has no such shell."""
    variables = server.variables
    if search is not None and not _has_shell(reader, search):
        return None
    home = variable_of(variables, "USERPROFILE" if reader.system == "windows" else "HOME", reader.system) or reader.home
    home = reader.real(home)
    named = variable_of(variables, "IPYTHONDIR", reader.system)
    if named is not None:
        # Named and empty is the current folder.
        return home + named[1:] if named == "~" or named.startswith("~/") else named or "."
    usual = reader.join(home, ".ipython")
    if reader.system == "linux":
        other = reader.join(variables.get("XDG_CONFIG_HOME") or reader.join(home, ".config"), "ipython")
        if reader.is_folder(other) and not reader.exists(usual) and reader.kind(other) != "link":
            return other
    return usual


def _has_shell(reader: Reader, search: SearchPath) -> bool:
    """Whether the server's interpreter has the interactive shell, by its search path."""
    return any(reader.is_folder(reader.join(entry.entry, "IPython")) for entry in search.entries if entry.entry)


def user_base(reader: Reader, interpreter: Interpreter, variables: Mapping[str, str]) -> str:
    """The base folder of the user's own packages (PEP 370)."""
    site = user_site(reader, interpreter, variables)
    levels = 2 if reader.system == "windows" else 3
    for _ in range(levels):
        site = reader.parent(site)
    return site


def _user_packages_on(reader: Reader, server: Server) -> bool:
    if server.interpreter is None:
        return False
    if is_switched_on(variable_of(server.variables, "PYTHONNOUSERSITE", reader.system), server.interpreter):
        return False
    settings = settings_of(reader, server.interpreter)
    return settings is None or settings.sees_base


def _environment_first(reader: Reader, server: Server, release: tuple[int, int]) -> bool:
    text = variable_of(server.variables, "JUPYTER_PREFER_ENV_PATH", reader.system)
    if text is not None and release >= _PREFERS_BY_VARIABLE:
        return _is_set(text)
    interpreter = server.interpreter
    if interpreter is None or release < _PREFERS_ENVIRONMENT:
        return False
    if release >= _ASKS_OWNER and not _owned(reader, interpreter.prefix):
        return False
    if interpreter.prefix != interpreter.base_prefix:
        return True
    own = variable_of(server.variables, "CONDA_PREFIX", reader.system)
    if own is None or not interpreter.prefix.startswith(own):
        return False
    name = variable_of(server.variables, "CONDA_DEFAULT_ENV", reader.system)
    return release < _ASKS_OWNER or (name if name is not None else "base") != "base"


def _owned(reader: Reader, prefix: str) -> bool:
    status = reader.status(prefix)
    return reader.system == "windows" or (isinstance(status, FileStat) and status.owner == reader.user)


def reach_folder(reader: Reader, reach: Reach, prefix: str, variables: Mapping[str, str]) -> str:
    """Where a kernel for this reach is registered: ``me``, ``env`` (in ``prefix``) or ``machine``."""
    if reach == "env":
        return reader.join(prefix, "share", "jupyter", "kernels")
    if reach == "me":
        return reader.join(data_folder(reader, variables)[0], "kernels")
    folders = machine_folders(reader, variables, None)
    if not folders:
        raise KalyxError(
            "on this system there is no folder for all users unless JUPYTER_USE_PROGRAMDATA is set;"
            " use --reach me or --reach env"
        )
    return reader.join(folders[0], "kernels")
