"""The search path of an interpreter, in order, worked out by reading.

Follows what the ``site`` module of 2.7 and 3.6 to the newest does (the module's
documentation, PEP 370 for the user's own packages, PEP 405 for environments,
PEP 420 for empty entries), with the folders Debian adds. What only code can
know (a ``.pth`` line that runs something, a ``sitecustomize``) is named in
``unknown`` and never run.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.environments.invocation import Invocation
from kalyx.core.interpreters.reading import SETTINGS_NAME, read_settings, sees_base_without_settings, settings_of
from kalyx.core.interpreters.versions import installation_at
from kalyx.core.model.records import Evidence, Interpreter, PathEntry, PutBy
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.once import once
from kalyx.core.system.reader import variable_of
from kalyx.core.text.lines import file_lines
from kalyx.core.text.patterns import pattern
from kalyx.core.text.versions import numbers_of

# The origin of an entry that only the interpreter itself could name.
STARTUP = "start-up code"

# A site folder of its own, of the base, or of the user.
SitePutBy = Literal["own", "base", "user"]

_NOUGHT = pattern(r"[ \t\n\v\f\r]*[+-]?0+")
# A path with an empty name, a dot or two as a name, or a separator at its end.
_UNTIDY = pattern(r"[/\\]\.{0,2}(?:[/\\]|$)")
_PTH_LIMIT = 1024 * 1024

# The release of each minor that began to pass over hidden .pth files, and to read them as UTF-8 first.
_HIDDEN_SINCE = {(3, 8): 19, (3, 9): 19, (3, 10): 14, (3, 11): 8, (3, 12): 2}
_UTF8_SINCE = {(3, 12): 4}


class SearchPath(Struct, kw_only=True):
    """Entries in order; ``unknown`` holds what only running code would tell; ``code`` the .pth lines that run."""

    entries: list[PathEntry] = []
    unknown: list[Evidence] = []
    code: list[Evidence] = []
    site_packages: list[str] = []
    variables: Mapping[str, str] = {}

    @property
    def has_program(self) -> bool:
        """Whether the program's own folder stands first."""
        return any(entry.put_by == "program" for entry in self.entries[:1])


class _Builder:
    """Adds entries as the interpreter does: absolute, each once, with where it came from."""

    def __init__(self, reader: Reader, interpreter: Interpreter, invocation: Invocation) -> None:
        self.reader = reader
        self.interpreter = interpreter
        self.invocation = invocation
        self.minor = interpreter.pair
        self.micro = (numbers_of(interpreter.version) + [0] * 3)[2]
        self.tag = interpreter.tag
        self.result = SearchPath()
        self.known: set[str] = set()
        self.library = ""
        # A variable can name another library, whose site module runs and knows no environments.
        home = self.home_by_variable()
        self.older = sees_base_without_settings(reader, interpreter) if not home else None
        self.is_older = self.older is not None or (
            self.minor < (3, 0) and interpreter.prefix != interpreter.base_prefix and not home
        )

    def variable(self, name: str) -> str | None:
        if self.invocation.ignore_variables or self.invocation.isolated:
            return None
        return variable_of(self.invocation.variables, name, self.reader.system)

    def add(self, entry: str, origin: str, put_by: PutBy) -> None:
        # The site module makes each entry absolute; from 3.11 on the interpreter itself does.
        if (self.minor >= (3, 11) or not self.invocation.no_site) and _UNTIDY.search(entry):
            entry = str(self.reader.path.normpath(entry))
        case = self.reader.case(entry) if self.reader.system == "windows" else entry
        if case in self.known and not self.invocation.no_site:  # the site module removes what is there twice
            return
        self.known.add(case)
        exists = self.reader.exists(entry)
        self.result.entries.append(PathEntry(entry=entry, origin=origin, exists=exists, put_by=put_by))

    def home_by_variable(self) -> str | None:
        """The value of ``PYTHONHOME``, where this implementation reads the variable."""
        return self.variable("PYTHONHOME") if self.interpreter.implementation != "pypy" else None

    def safe_by_variable(self) -> bool:
        return self.minor >= (3, 11) and bool(self.variable("PYTHONSAFEPATH"))  # any text, "0" too

    def _switched_on(self, name: str) -> bool:
        return is_switched_on(self.variable(name), self.interpreter)

    def executable_by_variable(self) -> None:
        """Note a variable that, from 3.11 on, names the executable: only the interpreter knows the resulting prefix."""
        for name in ("PYTHONEXECUTABLE", "__PYVENV_LAUNCHER__"):
            value = variable_of(self.invocation.variables, name, self.reader.system)
            if value and self.minor >= (3, 11):  # no flag keeps these away
                fact = f"{name} says that it is {value}"
                self.result.unknown.append(Evidence(fact=fact, source=f"the variable {name}"))

    # -- before site ----------------------------------------------------------

    def base(self) -> None:
        reader = self.reader
        value = self.variable("PYTHONPATH")
        if value or (value == "" and self.minor < (3, 0)):
            for entry in value.split(reader.path.pathsep):
                full = str(reader.path.normpath(reader.join(self.invocation.folder or reader.folder, entry or ".")))
                if self.invocation.no_site:
                    # Without site nothing is tidied; the newer versions make entries absolute before it.
                    shown = full if self.minor >= (3, 11) else entry
                    exists = reader.exists(full)
                    result = PathEntry(entry=shown, origin="PYTHONPATH", exists=exists, put_by="variable")
                    self.result.entries.append(result)
                else:
                    self.add(full, "PYTHONPATH", "variable")
        home = self.home_by_variable()
        # An environment with its own library folder starts with that folder; its site module adds the base's.
        own = self.older is not None or (self.is_older and self.invocation.no_site)
        begins = self.interpreter.prefix if own else self.interpreter.base_prefix
        prefix, exec_prefix = self._by_home(home, begins)
        origin = "the standard library" + (" (by PYTHONHOME)" if home else "")
        if reader.system == "windows":
            self._windows_base(prefix, origin)
            return
        # A site module that follows settings puts the base's library in the place of its own.
        replaced = self.is_older and self.older is None and not self.invocation.no_site
        library = self.interpreter.library if not home and not replaced else ""
        library = library or self._library_below(prefix)
        library_folder, name = reader.name(reader.parent(library)), reader.name(library)
        self.library = library
        if self.interpreter.implementation == "pypy":
            self.add(library, origin, "library")
            return
        # Up to 3.10 the prefix of the archive is the library's folder two names up (getpath.c): of separators at the
        # end of the prefix one is lost.
        above = prefix[:-1] if prefix.endswith("/") and len(prefix) > 1 else prefix
        self.add(reader.join(above, library_folder, self._zip_name()), origin, "library")
        self.add(library, origin, "library")
        if self.minor < (3, 0):
            for extra in ("plat-linux2" if reader.system == "linux" else "plat-darwin", "lib-tk", "lib-old"):
                self.add(reader.join(library, extra), origin, "library")
        if self.invocation.no_site and self.minor == (3, 6):
            # This version names the library twice; its site module tidies that.
            exists = reader.exists(library)
            self.result.entries.append(PathEntry(entry=library, origin=origin, exists=exists, put_by="library"))
        compiled = reader.join(exec_prefix, library_folder, name)
        if not reader.path.isabs(compiled):
            compiled = reader.absolute(compiled, self.invocation.folder)
        self.add(reader.join(compiled, "lib-dynload"), origin + ", compiled part", "library")
        if self.older is not None and not self.invocation.no_site:
            self._base_below(reader.join(self.interpreter.base_prefix, library_folder, name))

    def _by_home(self, home: str | None, own: str) -> tuple[str, str]:
        """The prefix and that of the compiled part; from 3.11 an empty one is the interpreter's own."""
        if not home:
            return own, own
        prefix, is_two, exec_prefix = home.partition(self.reader.path.pathsep)
        if self.minor >= (3, 11):
            prefix = prefix or own
            exec_prefix = exec_prefix or prefix
        return prefix, exec_prefix if is_two else prefix

    def _base_below(self, library: str) -> None:
        """The base's library, as the site module of an environment before settings files adds it: what is there."""
        reader, text = self.reader, "the base's standard library"
        self.add(library, text, "library")
        names = ("plat-linux2" if reader.system == "linux" else "plat-darwin", "lib-tk")
        for extra in [reader.join(library, name) for name in names]:
            if self.minor < (3, 0) and reader.is_folder(extra):
                self.add(extra, text, "library")

    def written(self, path: str, lines: list[tuple[str, int]]) -> None:
        """The entries that a ``._pth`` file writes, each relative to the folder it is in."""
        self.library = self.interpreter.library
        for line, number in lines:
            if not line.startswith("import "):
                full = str(self.reader.path.normpath(self.reader.absolute(line, self.reader.parent(path))))
                self.add(full, f"{path}, line {number}", self._written_put_by(full))

    def _written_put_by(self, full: str) -> PutBy:
        """Such a distribution keeps its library in an archive or a folder, its compiled part next to the executable."""
        reader = self.reader
        mine = (self.library, self.interpreter.prefix)
        is_library = (
            any(reader.case(full) == reader.case(item) for item in mine) or reader.name(full) == self._zip_name()
        )
        return "library" if is_library else "own"

    def _library_below(self, prefix: str) -> str:
        """The library folder that a variable makes this interpreter take: its own of this version, there or not."""
        installation = installation_at(self.reader, prefix, self.interpreter.minor)
        name = ("pypy" if self.interpreter.implementation == "pypy" else "python") + self.tag
        return installation.library if installation is not None else self.reader.join(prefix, "lib", name)

    def _windows_base(self, prefix: str, origin: str) -> None:
        reader = self.reader
        self.library = reader.join(prefix, "Lib")
        # The archive is next to the interpreter's library, which the launcher of an environment loads from the base.
        own = reader.parent(self.interpreter.executable)
        number = self.tag.replace(".", "")
        if not reader.is_file(reader.join(own, f"python{number}.dll")):
            own = self.interpreter.base_prefix
        self.add(reader.join(own, self._zip_name()), origin, "library")
        if not (self.invocation.isolated or self.invocation.ignore_variables):
            # From 3.11 on an archive at this path is taken as the library, which is not searched for then.
            result = any(reader.is_file(reader.join(self.library, name)) for name in ("os.py", "os.pyc"))
            lost = self.minor >= (3, 11) and (not result or reader.is_file(reader.join(own, self._zip_name())))
            from kalyx.core.interpreters.registered import registered_paths

            for entry, key in registered_paths(reader, self.tag, core=lost and not self.home_by_variable()):
                self.add(entry, f"the registry, {key}", "own")
        # PYTHONHOME moves the library, and not the folder of the executable.
        program = reader.parent(self.interpreter.executable) if self.home_by_variable() else prefix
        # From 3.11 on the folder has the name that the variable gives (Modules/getpath.py, PLATSTDLIB_LANDMARK).
        ignored = self.invocation.isolated or self.invocation.ignore_variables or self.minor < (3, 11)
        named = None if ignored else self.invocation.variables.get("PYTHONPLATLIBDIR")
        compiled = reader.join(prefix, named or "DLLs")
        if self.minor >= (3, 11) and not reader.is_folder(compiled) and not self.home_by_variable():
            compiled = program  # the interpreter then expects its compiled modules in its own folder
        self.add(compiled, origin + ", compiled part", "library")
        self.add(self.library, origin, "library")
        if reader.case(program) not in self.known:  # the interpreter adds this folder only if no other rule did
            self.add(program, "the folder of the base interpreter", "library")

    def _zip_name(self) -> str:
        return "python" + self.tag.replace(".", "") + ".zip"

    # -- site -----------------------------------------------------------------

    def site(self) -> None:
        reader, interpreter = self.reader, self.interpreter
        base, _ = self._by_home(self.home_by_variable(), interpreter.base_prefix)
        settings = settings_of(reader, interpreter) if self.minor >= (3, 0) else None
        if self.is_older:
            self._older_site(base)
            return
        prefixes = [base]
        user_enabled = self._user_enabled()
        own = interpreter.prefix
        if settings is not None and self.minor >= (3, 14) and reader.is_folder(settings.path):
            prefixes = [own]  # such a folder decides the prefix, and the site module sees no file
        elif settings is not None:
            self._prefix_folders(own, "own")
            if settings.sees_base:
                prefixes = [own, base]
            else:
                prefixes, user_enabled = [own], False
        if user_enabled:
            folder = user_site(reader, interpreter, self.invocation.variables)
            if reader.is_folder(folder):
                self.site_folder(folder, "user")
        if user_enabled and self._has_local_prefix():
            prefixes.insert(0, "/usr/local")
        for prefix in prefixes:
            self._prefix_folders(prefix, "base" if settings is not None and prefix == base else "own")
        self._hooks()

    def _older_site(self, base: str) -> None:
        """What a site module of the environment's own does: its own packages, then the user's and the base's."""
        reader, interpreter = self.reader, self.interpreter
        sees = self.older
        if sees is None:
            settings = read_settings(reader, reader.join(interpreter.prefix, SETTINGS_NAME))
            sees = settings is not None and settings.sees_base
        self._prefix_folders(interpreter.prefix, "own")
        if sees:
            folder = user_site(reader, interpreter, self.invocation.variables)
            if self._user_enabled() and reader.is_folder(folder):
                self.site_folder(folder, "user")
            self._prefix_folders(base, "base")
        self._hooks()

    def _has_local_prefix(self) -> bool:
        """Systems with RPM packages look below /usr/local too, but not while such a package is built."""
        return (
            _site_module_says(self.reader, self.library, "RPM_BUILD_ROOT") and self.variable("RPM_BUILD_ROOT") is None
        )

    def _user_enabled(self) -> bool:
        if self.invocation.no_user or self.invocation.isolated:
            return False
        return not self._switched_on("PYTHONNOUSERSITE")

    def _prefix_folders(self, prefix: str, origin: SitePutBy) -> None:
        virtual = self.interpreter.prefix != self.interpreter.base_prefix
        for folder in site_folders(self.reader, prefix, self.interpreter, self.library, virtual):
            if self.reader.is_folder(folder):
                self.site_folder(folder, origin)

    def site_folder(self, folder: str, origin: SitePutBy) -> None:
        case = self.reader.case(folder) if self.reader.system == "windows" else folder
        remembered = case in self.known or self.minor >= (3, 0)
        self.add(folder, origin, origin)
        if not remembered:
            # Version 2 does not remember its own site folders: a blank line in a path file adds the folder again.
            self.known.discard(case)
        if folder not in self.result.site_packages:
            self.result.site_packages.append(folder)
        try:
            names = sorted(self.reader.listing(folder))
        except Unreadable:
            return
        for name in names:
            if name.endswith(".pth") and not (name.startswith(".") and self._passes_hidden()):
                self._path_file(folder, name)
        for name in names if self.minor >= (3, 15) else ():
            if name.endswith(".start") and not name.startswith("."):
                self._entry_points(self.reader.join(folder, name))

    def _passes_hidden(self) -> bool:
        since = _HIDDEN_SINCE.get(self.minor)
        return self.minor >= (3, 13) or (since is not None and self.micro >= since)

    def _path_file(self, folder: str, name: str) -> None:
        path = self.reader.join(folder, name)
        try:
            raw = self.reader.read(path, _PTH_LIMIT)
        except Unreadable:
            return
        since = _UTF8_SINCE.get(self.minor)
        newer = self.minor >= (3, 13) or (since is not None and self.micro >= since)
        try:
            text = raw.decode("utf-8-sig" if newer else "utf-8")
        except UnicodeDecodeError:
            if self.minor >= (3, 0) and not newer:
                self.result.unknown.append(Evidence.at(path, "a path file that is not UTF-8 may stop this version"))
            text = raw.decode("latin-1")
        # The newer ones split the text as such, which knows more ends of lines than files do.
        lines = text.splitlines() if newer else file_lines(text)
        # From 3.15 on (PEP 829) blanks before a line mean nothing, and a file of that stem takes the place of code.
        starts = self.minor >= (3, 15) and self.reader.is_file(path.removesuffix(".pth") + ".start")
        for number, line in enumerate(lines, 1):
            line = line.strip() if self.minor >= (3, 15) else line
            if line.startswith("#") or (not line.strip() and (self.minor >= (3, 0) or not line)):
                continue
            if line.startswith(("import ", "import\t")):
                if not starts:
                    self._code_line(path, number, line)
                continue
            entry = line.rstrip()
            full = entry if self.reader.path.isabs(entry) else self.reader.join(folder, entry)
            full = str(self.reader.path.normpath(full))
            if "\0" in full and self.minor < (3, 8):
                return  # reading fails at this line, and the rest of the file is skipped
            if "\0" not in full and self.reader.exists(full):
                self.add(full, f"{path}, line {number}", "linked")

    def _entry_points(self, path: str) -> None:
        """The entry points that Python 3.15 calls at start-up (PEP 829): named, not called."""
        text = self.reader.text_or_none(path, _PTH_LIMIT) or ""
        for number, line in enumerate(text.removeprefix("\ufeff").splitlines(), 1):
            if line.strip() and not line.strip().startswith("#"):
                self._code_line(path, number, line, "an entry point of a start-up file")

    def _code_line(self, path: str, number: int, line: str, kind: str = "a path file's line of code") -> None:
        evidence = Evidence(fact=line.strip()[:200], source=kind, path=path, line=number)
        if any(known.path == path and known.line == number for known in self.result.code):
            return
        self.result.code.append(evidence)
        if not _leaves_path_alone(line):
            self.result.unknown.append(evidence)

    def _hooks(self) -> None:
        """A ``sitecustomize`` or ``usercustomize`` on the path may change it: named, not run."""
        for name in ("sitecustomize", "usercustomize"):
            for entry in self.result.entries:
                for candidate in (f"{name}.py", self.reader.join(name, "__init__.py")):
                    path = self.reader.join(entry.entry, candidate)
                    if self.reader.is_file(path):
                        text = self.reader.text_or_none(path, 65536)
                        if text is None or "path" in text:
                            self.result.unknown.append(Evidence.at(path, f"{name} may change the search path"))
                        return


def is_switched_on(value: str | None, interpreter: Interpreter) -> bool:
    """Whether a variable that is a switch is on: any text, from 3.7 any text but the number nought."""
    if not value or interpreter.pair < (3, 7) or interpreter.implementation != "cpython":
        return bool(value)
    # As the C library's strtol reads a number, to the text's end.
    return not _NOUGHT.fullmatch(value)


def _leaves_path_alone(line: str) -> bool:
    """Lines written by installers that are known to install an import hook and no path entry."""
    if "_distutils_hack" in line or "SETUPTOOLS_USE_DISTUTILS" in line:
        return True
    if line.startswith(("import __editable__", "__editable__")):
        return True
    return "importlib.machinery" in line and "types.ModuleType" in line or "_virtualenv" in line


def site_folders(reader: Reader, prefix: str, interpreter: Interpreter, library: str, virtual: bool) -> list[str]:
    """The site folders of a prefix in the order of ``site.getsitepackages``, present or not."""
    if reader.system == "windows":
        prefix = str(reader.path.normpath(prefix))  # as site makes each folder absolute
        return [prefix, reader.join(prefix, "Lib", "site-packages")]
    major = interpreter.pair[0]
    tag = interpreter.tag
    name = interpreter.implementation if interpreter.implementation == "pypy" else "python"
    library_folder = reader.name(reader.parent(library)) if library else "lib"
    own = reader.join(prefix, "lib", f"{name}{tag}", "site-packages")
    if _is_debian(reader, library):
        local = reader.join(prefix, "local", "lib", f"{name}{tag}", "dist-packages")
        shared = reader.join(prefix, "lib", "python3" if major >= 3 else f"python{tag}", "dist-packages")
        versioned = reader.join(prefix, "lib", f"python{tag}", "dist-packages")
        return [*([own] if virtual else []), local, shared, *([versioned] if name == "python" else [])]
    folders = [own]
    if library_folder == "lib64":
        folders.insert(0, reader.join(prefix, "lib64", f"python{tag}", "site-packages"))
    if major < 3:
        folders.append(reader.join(prefix, "lib", "site-python"))
    return folders


def _is_debian(reader: Reader, library: str) -> bool:
    """Debian's own ``site`` module names its folders; no other file tells more surely."""
    return _site_module_says(reader, library, "dist-packages")


def _site_module_says(reader: Reader, library: str, word: str) -> bool:
    """Whether the library's own ``site`` module, which makers of systems change, holds a word."""
    return reader.system == "linux" and bool(library) and word in _site_module(reader, library)


@once
def _site_module(reader: Reader, library: str) -> str:
    return reader.text_or_none(reader.join(library, "site.py"), 262144) or ""


def user_site(reader: Reader, interpreter: Interpreter, variables: Mapping[str, str]) -> str:
    """The folder of the user's own packages for this version (PEP 370), present or not."""
    tag = interpreter.tag
    base = variable_of(variables, "PYTHONUSERBASE", reader.system)
    if reader.system == "windows":
        base = base or reader.join(variable_of(variables, "APPDATA", "windows") or reader.home, "Python")
        return reader.join(base, "Python" + tag.replace(".", ""), "site-packages")
    home = variable_of(variables, "HOME", reader.system) or reader.home
    if reader.system == "macos" and "Python.framework" in interpreter.base_prefix and not base:
        return reader.join(home, "Library", "Python", tag, "lib", "python", "site-packages")
    base = reader.within(base) if base else reader.join(home, ".local")
    name = "pypy" if interpreter.implementation == "pypy" else "python"
    return reader.join(base, "lib", name + tag, "site-packages")


def _whole_path_of(reader: Reader, interpreter: Interpreter) -> tuple[str, list[tuple[str, int]]] | None:
    """The lines of the ``._pth`` file next to a Windows interpreter, or its library's, with their numbers; None: none.

    The interpreter looks for a file named after its library first, then for one named after the executable
    (Modules/getpath.py), and heeds no variable where it finds one (Using Python on Windows, "Finding modules").
    """
    if reader.system != "windows":
        return None
    executable = interpreter.real_executable
    folder, stem = reader.parent(executable), reader.name(executable).rpartition(".")[0]
    for name in ("python" + interpreter.tag.replace(".", "") + "._pth", stem + "._pth"):
        path = reader.join(folder, name)
        if reader.may_be_there(path):
            text = (reader.text_or_none(path, _PTH_LIMIT) or "").removeprefix("\ufeff")
            lines = [(line.partition("#")[0].strip(), number) for number, line in enumerate(text.splitlines(), 1)]
            return path, [(line, number) for line, number in lines if line]
    return None


def search_path(reader: Reader, interpreter: Interpreter, invocation: Invocation) -> SearchPath:
    """The search path of ``interpreter`` for this way of running, each entry with its origin."""
    known: dict[object, tuple[SearchPath, bool]] = reader.memory.setdefault("search paths", {})
    invocation = invocation.by(interpreter)
    # Names of variables ignore case on Windows.
    named = [(name.upper(), name, value) for name, value in invocation.variables.items()]
    relevant = tuple(sorted(item for item in named if item[0].startswith("PYTHON") or item[0] in _USED))
    itself = interpreter.executable, interpreter.prefix, interpreter.base_prefix, interpreter.version
    key = *itself, invocation.flags, relevant
    if key not in known:
        known[key] = _worked_out(reader, interpreter, invocation)
    search, keeps_first_away = known[key]
    # Each caller has its own lists: one may put the interpreter's own word in their place.
    result = SearchPath(entries=list(search.entries), unknown=list(search.unknown), code=search.code,
                        site_packages=search.site_packages, variables=invocation.variables)  # fmt: skip
    if invocation.first is not None and (invocation.is_program or not keeps_first_away):
        exists = reader.is_folder(invocation.first or reader.folder) or reader.exists(invocation.first or reader.folder)
        result.entries.insert(0, PathEntry(entry=invocation.first, origin=invocation.first_origin, exists=exists))
    add_by_program(reader, result.entries, invocation)
    return result


BEHIND, PUT = "behind=", "put="
_PACKAGES = ("site-packages", "dist-packages")


def add_by_program(reader: Reader, entries: list[PathEntry], invocation: Invocation) -> None:
    """Add the program's own entries: before the first site folder (at the front where there is none), or last."""
    for word in invocation.changes:
        behind = word.startswith(BEHIND)
        folder = word.removeprefix(BEHIND if behind else PUT)
        origin = invocation.first_origin if behind else f"put there by {invocation.module}"
        entry = PathEntry(entry=folder, origin=origin, exists=reader.exists(folder or reader.folder))
        names = [reader.name(item.entry) for item in entries]
        at = next((number for number, name in enumerate(names) if name in _PACKAGES), 0)
        entries.insert(at if behind else len(entries), entry)


def as_it_is_now(reader: Reader, search: SearchPath, path: list[str]) -> SearchPath:
    """Replace the path that was read by the one that a running process has now."""
    known = {entry.entry: entry for entry in search.entries}
    origin = "put there by the running process"
    entries = [known.get(item) or PathEntry(entry=item, origin=origin, exists=reader.exists(item)) for item in path]
    return replace(search, entries=entries, unknown=[])


# Variables besides PYTHON* that change where something is looked for.
_USED = {"HOME", "APPDATA", "USERPROFILE", "RPM_BUILD_ROOT", "SETUPTOOLS_USE_DISTUTILS"}


def _worked_out(reader: Reader, interpreter: Interpreter, invocation: Invocation) -> tuple[SearchPath, bool]:
    """The path without the program's own first entry, and whether the flags exclude that entry."""
    given = _whole_path_of(reader, interpreter)
    if given is not None:
        # Such a file is the whole sys.path: nothing is added, and the file itself decides whether ``site`` runs.
        site = any(line == "import site" for line, _ in given[1])
        invocation = replace(invocation, isolated=True, no_site=invocation.no_site or not site)
    builder = _Builder(reader, interpreter, invocation)
    builder.executable_by_variable()
    if given is not None:
        builder.written(*given)
    else:
        builder.base()
    if not invocation.no_site:
        builder.site()
    return builder.result, invocation.keeps_first_away or builder.safe_by_variable()
