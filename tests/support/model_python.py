"""A model of an interpreter, for machines in memory: it answers the probe's ``try`` as CPython does, nothing is started.

A module is a file in memory. Its text is run with an import of our own; what CPython's words depend on the version is
followed (2.7 to 3.13). ``die("SIGSEGV")``, ``hang()`` and ``leave(3)`` end the program. A compiled module is a file
whose bytes hold ``ERROR(text)`` where the loader refuses it, and ``NAMES(a b)`` for what is in it.
"""

from __future__ import annotations

import ast
import builtins
import io
import re
import signal
import tokenize
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from types import CodeType, ModuleType

from kalyx.core.data import PROBE_PATH
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.system import Unreadable
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.system.runner import Ended, Runner


class _End(BaseException):
    """The program is over: ``status`` as the system tells it, negative for a signal; None: its time was up."""

    def __init__(self, status: int | None, words: str = "") -> None:
        super().__init__(words)
        self.status = status


def _die(name: str) -> None:
    raise _End(-signal.Signals[name])


def _hang() -> None:
    raise _End(None)


def _leave(status: int | None, words: str = "") -> None:
    raise _End(status, words)


class _Module(ModuleType):
    begun, tells_file = False, False

    def __getattr__(self, name: str) -> object:
        whole = not self.begun or name.startswith("__")
        file = f" from {self.__file__!r}" if self.tells_file and not whole else ""
        raise AttributeError(f"{'' if whole else 'partially initialized '}module {self.__name__!r}{file} has no attribute {name!r}{'' if whole else ' (most likely due to a circular import)'}", name=name, obj=self)


class _Import:
    """One program: its sys.path and what it has loaded. ``fresh``: sources that are compiled again."""

    def __init__(self, reader: MemoryReader, executable: str, path: list[str], folder: str, variables: dict[str, str], flags: list[str], limits: list[str]) -> None:
        self.reader, self.path, self.folder, self.variables = reader, path, folder, variables
        self.fresh: list[str] = []
        self.printed: list[str] = []
        self.python = read_interpreter(reader, executable)
        self.version = tuple(int(part) for part in self.python.version.split(".")[:2])
        self.modules: dict[str, ModuleType] = {}
        self.names = {**vars(builtins), "__import__": self.statement, "die": _die, "hang": _hang, "leave": _leave, "read": self.read,
                      "environ": variables, "flags": flags, "limits": limits, "print": self.printed.append}  # fmt: skip
        self.given = ModuleType("sys")
        self.given.path, self.given.modules, self.given.version_info = self.path, self.modules, (*self.version, 0)

    def statement(self, name: str, context: Mapping[str, object] | None = None, _: object = None, names: tuple[str, ...] = (), level: int = 0) -> ModuleType:
        """What ``import`` and ``from … import`` call."""
        if level:
            package = [part for part in str((context or {})["__package__"]).split(".") if part]
            if len(package) < level:
                raise self.beyond(package)
            name = ".".join([*package[: len(package) - level + 1], *([name] if name else [])])
        module = self.load(name)
        if not names:
            return self.modules[name.split(".")[0]] if name != "sys" else module
        for wanted in filter(None, names):
            if not hasattr(module, wanted) and hasattr(module, "__path__"):
                try:
                    self.load(f"{name}.{wanted}")
                except ModuleNotFoundError as missing:
                    if missing.name != f"{name}.{wanted}":
                        raise
            if not hasattr(module, wanted):
                raise self.lacks(module, name, wanted)
        return module

    def beyond(self, package: list[str]) -> Exception:
        """The dots of a relative import lead nowhere."""
        if self.version[0] == 2:
            return ValueError("Attempted relative import beyond toplevel package" if package else "Attempted relative import in non-package")
        text = "attempted relative import beyond top-level package" if package else "attempted relative import with no known parent package"
        return (ImportError if self.version >= (3, 9) or not package else ValueError)(text)

    def lacks(self, module: ModuleType, name: str, wanted: str) -> ImportError:
        if self.version < (3, 7):
            quoted = f"'{wanted}'" if self.version[0] == 3 else wanted
            return ImportError(f"cannot import name {quoted}", name=name)
        place = getattr(module, "__file__", None) or "unknown location"
        of = f"'{name}'" if not getattr(module, "begun", False) or self.version < (3, 8) else f"partially initialized module '{name}'"
        why = f" (most likely due to a circular import) ({place})" if of[0] == "p" else f" ({place})"
        return ImportError(f"cannot import name '{wanted}' from {of}{why}", name=name, path=getattr(module, "__file__", None))

    def load(self, name: str) -> ModuleType:
        if name == "sys":
            return self.given
        if name in self.modules:
            return self.modules[name]
        above, _, last = name.rpartition(".")
        parent = self.load(above) if above else None
        if name in self.modules:
            return self.modules[name]
        if parent is not None and not hasattr(parent, "__path__"):
            raise self.absent(name, f"; '{above}' is not a package" if self.version[0] == 3 else "")
        module = self.find(name, last, self.path if parent is None else list(parent.__path__))
        if module is None:
            raise self.absent(name)
        if parent is not None:
            setattr(parent, last, module)
        return module

    def absent(self, name: str, more: str = "") -> ImportError:
        if self.version[0] == 2:
            return ImportError(f"No module named {name.rpartition('.')[2]}")
        return ModuleNotFoundError(f"No module named '{name}'{more}", name=name)

    def find(self, name: str, last: str, path: list[str]) -> ModuleType | None:
        join, portions = self.reader.join, []
        for entry in path:
            folder = join(entry or self.folder, last)
            files = self.reader.names(entry or self.folder)
            package = join(folder, "__init__.py")
            if last in files and self.reader.is_file(package):
                return self.run(name, package, [folder])
            for suffix in self.python.suffixes:
                if last + suffix in files:
                    return self.compiled(name, folder + suffix)
            if last + ".py" in files and self.reader.kind(self.reader.real(folder + ".py")) == "file":
                return self.run(name, folder + ".py", None)
            if last in files and self.reader.is_folder(folder):
                portions.append(folder)
        if not portions or self.version[0] == 2:
            return None
        module = self.modules[name] = _Module(name)
        module.__path__ = portions
        return module

    def read(self, path: str) -> str:
        """A file's text; ``~`` is what HOME says."""
        path = path.replace("~", self.variables.get("HOME", "/"))
        try:
            return self.reader.read_whole(self.reader.join(self.folder, path), 1 << 20).decode()
        except Unreadable:
            raise FileNotFoundError(2, "No such file or directory", path) from None

    def start(self, files: list[str], prefix: str) -> None:
        """What ``site`` runs: the lines of path files that are code, and hooks."""
        for path in files:
            hook = self.reader.name(path).removesuffix(".py")
            lines = [f"import {hook}"] if path.endswith(".py") else self.reader.read_whole(path, 1 << 20).decode().splitlines()
            for number, line in enumerate(lines, 1):
                line = line.strip() if self.version >= (3, 15) else line
                if line.startswith(("import ", "import\t")):
                    try:
                        exec(compile(line, path, "exec"), {"__builtins__": self.names})
                    except Exception as error:
                        if self.version >= (3, 15):  # PEP 829: it is told, and the other lines count
                            self.printed.append(f"Error in import line from {path}: {line}\n  Traceback (most recent call last):\n  {type(error).__name__}: {error}")
                            continue
                        where = f"Error processing line {number} of {path}:\n\n" if path.endswith(".pth") else "Error in sitecustomize; set PYTHONVERBOSE for traceback:\n"
                        self.printed.append(f"{where}  {type(error).__name__}: {error}\n\nRemainder of file ignored")
                        left = [self.reader.join(self.reader.parent(path), later.strip()) for later in lines[number:]]
                        self.path[:] = [entry for entry in self.path if entry not in left]
                        break

    def compile(self, raw: bytes, path: str) -> CodeType:
        """The code of a source, by the grammar of this version as far as the parser of the tests' own Python knows."""
        if b"\0" in raw:
            raise SyntaxError("source code string cannot contain null bytes") if self.version >= (3, 12) else ValueError("source code string cannot contain null bytes")
        try:
            text = raw.decode(tokenize.detect_encoding(io.BytesIO(raw).readline)[0])
        except (SyntaxError, UnicodeDecodeError):
            raise SyntaxError("(unicode error) 'utf-8' codec can't decode bytes", (path, 1, 0, None)) from None
        if self.version >= (3, 4):
            try:
                ast.parse(text, path, feature_version=self.version)
            except SyntaxError as error:
                raise SyntaxError(error.msg, (path, error.lineno, 0, None)) from None
        return compile(text, path, "exec", dont_inherit=True)

    def compiled(self, name: str, path: str) -> ModuleType:
        content = self.reader.read(path).decode("latin-1")
        refused = re.search(r"ERROR\((.*)\)", content)
        if refused is not None:
            raise ImportError(refused[1], name=name, path=path)
        module = self.modules[name] = _Module(name)
        module.__file__ = path
        for word in (re.search(r"NAMES\((.*?)\)", content) or ["", ""])[1].split():
            setattr(module, word, None)
        return module

    def run(self, name: str, path: str, folders: list[str] | None) -> ModuleType:
        kept = self.reader.join(self.reader.parent(path), "__pycache__", f"{self.reader.name(path)[:-3]}.cpython-{self.version[0]}{self.version[1]}.pyc")
        chosen = kept if self.reader.is_file(kept) and path not in self.fresh else path
        try:
            raw = self.reader.read_whole(chosen, 1 << 20)
        except Unreadable:
            raise PermissionError(13, "Permission denied", path) from None
        module = self.modules[name] = _Module(name)
        module.__file__, module.__package__, module.begun = path, name if folders else name.rpartition(".")[0], True
        module.tells_file = self.version >= (3, 13)
        module.__builtins__ = self.names
        if folders is not None:
            module.__path__ = folders
        try:
            exec(self.compile(raw, path), vars(module))
        except BaseException:
            del self.modules[name]
            raise
        module.begun = False
        return module


class ModelPython(Runner):
    """Runs the probe's trials on the files of a machine in memory. ``limits``: the names of those that are low."""

    def __init__(self, reader: MemoryReader, limits: Sequence[str] = ()) -> None:
        self.reader, self.limits = reader, list(limits)
        self.temporary = "C:\\Temp" if reader.system == "windows" else "/tmp"
        self.count = 0
        self.asked: list[str] = []  # each trial's changes, flags and variables, in order

    def chance(self, count: int) -> str:
        return "0" * 2 * count

    @contextmanager
    def empty_folder(self) -> Iterator[str]:
        self.count += 1
        folder = self.reader.join(self.temporary, str(self.count))
        self.reader.put(folder, None, folder=True)
        try:
            yield folder
        finally:
            self.reader.drop(folder)

    def link_all(self, real: str, folder: str, instead: Mapping[str, str], deep: str = "") -> None:
        reader = self.reader.again()
        self.reader.put(folder, None, folder=True)
        for name in reader.names(real):
            path = reader.join(real, name)
            if path in instead:
                if instead[path]:
                    self.reader.put(reader.join(folder, reader.name(instead[path])), Link(path))
            elif any(reader.inside(other, path) for other in instead) or (name == deep and reader.is_folder(path)):
                self.link_all(path, reader.join(folder, name), instead)
            elif name != "__pycache__":
                self.reader.put(reader.join(folder, name), Link(path))

    def run(self, argv: list[str], *, variables: Mapping[str, str] | None = None, folder: str | None = None, begun: object = None, **_: object) -> Ended:
        if begun is not None:
            begun()
        at = argv.index(PROBE_PATH) if PROBE_PATH in argv else 0
        if not at or not argv[at + 2].startswith(("try:", "who")):
            return Ended(None, b"", b"", 0.0, problem="the model starts nothing else")
        mark, question, *words = argv[at + 1 :]
        count = int(question.split(":")[2]) if words else 0
        changes = words[1 : count + 1]
        flags = [flag for flag in argv[1:at] if flag != "-B"]
        given = dict(variables or {})
        self.asked.append(self.shown(flags, changes, given, folder or ""))
        program = None
        try:
            path, program = self.program(argv[0], flags, given, folder or self.reader.folder, words[0] if words else "-", changes)
            answer = self.attempt(program, words[count + 1], words[count + 2 :], path) if words else {
                "executable": argv[0], "version": program.python.version, "implementation": "cpython", "prefix": "/usr", "base_prefix": "/usr", "path": path}  # fmt: skip
        except NotAnInterpreter as problem:
            return Ended(1, b"", f"{problem}\n".encode(), 0.5)
        except _End as end:
            printed = [*(program.printed if program is not None else []), str(end)]
            return Ended(end.status if end.status is not None else -9, b"", "\n".join(printed).encode(), 0.5, timed_out=end.status is None)
        return Ended(0, f"\n{mark}{answer!r}{mark}\n".encode(), "\n".join(program.printed).encode(), 0.5)

    def program(self, executable: str, flags: list[str], variables: dict[str, str], folder: str, first: str, changes: list[str]) -> tuple[list[str], _Import]:
        words = {"-E": "ignore_variables", "-s": "no_user", "-S": "no_site", "-I": "isolated"}
        home = variables.get("PYTHONHOME") if "-E" not in flags and "-I" not in flags else None
        if home is not None and not self.reader.is_folder(self.reader.join(home, "lib")):
            raise _End(1, f"Could not find platform independent libraries <prefix>\nPYTHONHOME = '{home}'\nFatal Python error: init_fs_encoding: failed to get the Python codec")
        foreign = [entry for entry in variables.get("PYTHONPATH", "").split(self.reader.path.pathsep) if self.reader.is_file(self.reader.join(entry, "encodings", "__init__.py"))]
        if foreign and "-E" not in flags and "-I" not in flags:  # what an interpreter needs first is another one's
            raise _End(1, "Fatal Python error: init_fs_encoding: failed to get the Python codec of the filesystem encoding\nSyntaxError: invalid syntax")
        python = read_interpreter(self.reader, executable)
        search = search_path(self.reader, python, Invocation(variables=variables, **{words[flag]: True for flag in flags if flag in words}))
        path = [entry.entry for entry in search.entries if entry.exists]
        if first.startswith("="):
            path.insert(0, first[1:])
        limits = [name for name in self.limits if f"limit={name}" not in changes]
        program = _Import(self.reader, executable, path, folder, variables, flags, limits)
        hooks = [self.reader.join(entry, f"{name}.py") for entry in path for name in ("sitecustomize", "usercustomize")]
        at_start = list(dict.fromkeys([*(item.path for item in search.code if item.path and item.path.endswith(".pth")), *filter(self.reader.is_file, hooks)]))
        whole = list(path)
        program.start([] if "-S" in flags else at_start, python.prefix)
        for word in changes:
            self.change(program, path, folder, *word.partition("=")[::2])
        return whole, program

    def change(self, program: _Import, path: list[str], folder: str, action: str, value: str) -> None:
        if action == "before":
            new, _, old = value.partition("=")
            path.insert(path.index(old) if old in path else len(path), new)
        elif action in ("put", "front", "drop", "clear"):
            path[:] = [entry for entry in path if action != "clear" and (entry or folder) != value]
        if action in ("put", "last"):
            path.append(value)
        elif action == "front":
            path.insert(0, value)
        elif action == "extend":
            package, _, portion = value.partition("=")
            program.load(package).__path__.append(portion)
        elif action == "swap":
            new, _, old = value.partition("=")
            path[:] = [new if entry == old else entry for entry in path]
        elif action == "source":
            program.fresh.append(value)
        elif action == "start":
            program.start([value], "")
        elif action not in ("before", "drop", "clear", "limit", "prefix"):
            raise AssertionError(f"the model does not know {action}={value}")

    def attempt(self, program: _Import, module: str, names: list[str], path: list[str]) -> dict[str, object]:
        answer: dict[str, object] = {"path": path, "imports": False, "chain": [], "seconds": 0.5, "loaded": [], "files": {}}
        try:
            program.statement(module)
            result = program.modules.get(module, program.given)
            if names:
                program.statement(module, None, None, tuple(name for name in names if name != "*"))
            answer |= {"imports": True, "file": getattr(result, "__file__", None), "folders": getattr(result, "__path__", None),
                       "members": len([name for name in dir(result) if not name.startswith("_") and name not in vars(_Module)])}  # fmt: skip
        except _End:
            raise
        except BaseException as error:
            answer["chain"] = [self.link(program, item) for item in _chain(error)]
            answer["limits"] = dict.fromkeys(self.limits, 64 << 20)
        answer["loaded"] = sorted(program.modules)
        answer["files"] = {name: item.__file__ for name, item in sorted(program.modules.items()) if getattr(item, "__file__", None)}
        return answer

    def shown(self, flags: list[str], changes: list[str], variables: dict[str, str], folder: str) -> str:
        """One trial in a line: what it does another way, and which variables of Python's it has."""
        limits = [word for word in changes if word.startswith("limit=")]
        words = [*flags, *(word for word in changes if len(limits) < 2 or word not in limits), *(["every limit"] if len(limits) > 1 else [])]
        words += [f"{key}={value}" for key, value in sorted(variables.items()) if key.startswith("PYTHON") or (key == "HOME" and value.startswith(self.temporary))]
        return " ".join([*words, *([f"in {folder}"] if folder.startswith(self.temporary) else [])]) or "as it is"

    def text(self, program: _Import, error: BaseException) -> str:
        """Its words; the file of a SyntaxError by its last part on the modelled system, whatever system this one is."""
        if isinstance(error, SyntaxError) and error.filename and error.lineno:
            return f"{error.msg} ({program.reader.name(error.filename)}, line {error.lineno})"
        return str(error)

    def link(self, program: _Import, error: BaseException) -> dict[str, object]:
        lacking = str(error).startswith("cannot import name")
        members = vars(program.modules[error.name]) if lacking and error.name in program.modules else {}
        return {
            "type": type(error).__name__ if program.version >= (3, 6) or not isinstance(error, ModuleNotFoundError) else "ImportError", "text": self.text(program, error), "name": getattr(error, "name", None), "path": getattr(error, "path", None), "import_error": isinstance(error, ImportError),
            "frames": list(_frames(error)), "file": getattr(error, "filename", None) if isinstance(error, SyntaxError | OSError) else None, "line": getattr(error, "lineno", None) if isinstance(error, SyntaxError) else None,
            "members": sorted(name for name in members if name not in ("begun", "tells_file", "__builtins__")), "bases": [base.__name__ for base in type(error).__mro__[:6]],
        }  # fmt: skip


def _frames(error: BaseException) -> Iterator[tuple[str, int, str]]:
    trace = error.__traceback__
    while trace is not None:
        code = trace.tb_frame.f_code
        if code.co_filename != __file__:
            yield code.co_filename, trace.tb_lineno, code.co_name
        trace = trace.tb_next


def _chain(error: BaseException | None) -> Iterator[BaseException]:
    while error is not None:
        yield error
        error = error.__cause__ or (None if error.__suppress_context__ else error.__context__)
