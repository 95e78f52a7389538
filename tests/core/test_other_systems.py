"""Causes, records, pointing and removing by the rules of the two systems that these tests do not run on."""

import json
from types import SimpleNamespace

import pytest

from kalyx.core.actions import discarding, editor_settings
from kalyx.core.actions.recording import record
from kalyx.core.diagnosis.causes import unreadable
from kalyx.core.diagnosis.shared import dlls
from kalyx.core.environments.reading import read_environment
from kalyx.core.imports.names import parse_wanted
from kalyx.core.imports.trial import Raised
from kalyx.core.invocation import NAMED
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.packages import unowned
from kalyx.core.queries.why import why_import
from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell import read_shell
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.writer import Writer
from kalyx.core.targets import resolve
from tests.core.test_headers import ARM, X86, elf, mach
from tests.core.test_machines import BINARY
from tests.made import WINDOWS as PART

INFO = "Metadata-Version: 2.1\nName: {0}\nVersion: 2.1\n"


class Place:
    """An installation and the environments orchard and heath of one system, to which a test adds files."""

    def __init__(self, system: str) -> None:
        self.system, self.sign = system, "\\" if system == "windows" else "/"
        self.root = "D:\\moor" if system == "windows" else "/Users/keeper/moor"
        self.files: dict[str, object] = {}
        if system == "windows":
            self.base, self.site_of, self.python_of = "C:\\Python312", "Lib\\site-packages", "Scripts\\python.exe"
            start = PART + b"\x003.12.1\x00"
            self.files |= {
                f"{self.base}\\python.exe": start,
                f"{self.base}\\python312.dll": BINARY,
                f"{self.base}\\Lib\\os.py": b"",
            }
        else:
            self.base, self.site_of, self.python_of = "/usr/local/py", "lib/python3.12/site-packages", "bin/python"
            self.files |= {
                f"{self.base}/bin/python3.12": mach(ARM) + b"\x003.12.1\x00",
                f"{self.base}/lib/python3.12/os.py": b"",
            }
        library = "Lib" if system == "windows" else "lib/python3.12"
        self.files[self.sign.join([self.base, library, "ensurepip", "_bundled", "pip-2.1-py3-none-any.whl"])] = b""
        for name in ("orchard", "heath"):
            home = self.base if system == "windows" else f"{self.base}/bin"
            self.files[self.at(name, "pyvenv.cfg")] = (
                f"home = {home}\nversion = 3.12.1\ninclude-system-site-packages = false\n"
            )
            self.files[self.python(name)] = PART if system == "windows" else Link(f"{self.base}/bin/python3.12")
            self.package(name, "pip")
        self.files[self.at("spring", "weigh.py")] = b""

    def at(self, *names: str) -> str:
        return self.sign.join([self.root, *names])

    def python(self, name: str) -> str:
        return self.at(name, self.python_of)

    def site(self, name: str, *names: str) -> str:
        return self.at(name, self.site_of, *names)

    def package(self, where: str, name: str, *files: str) -> None:
        """A distribution of one package, with its record."""
        listed = [f"{name}/__init__.py", *files]
        self.files[self.site(where, f"{name}-2.1.dist-info", "METADATA")] = INFO.format(name)
        self.files[self.site(where, f"{name}-2.1.dist-info", "RECORD")] = "".join(f"{file},,\n" for file in listed)
        for file in listed:
            self.files[self.site(where, *file.split("/"))] = b""

    def machine(self, **variables: str) -> Machine:
        variables = (
            {"APPDATA": "C:\\Data", "Path": self.base, "PATHEXT": ".EXE"} | variables
            if self.system == "windows"
            else variables
        )
        home = "C:\\Users\\keeper" if self.system == "windows" else "/Users/keeper"
        return Machine(MemoryReader(self.system, self.files, variables=variables, folder=self.at("spring"), home=home), writer=Writer())


@pytest.fixture(params=["windows", "macos"])
def place(request) -> Place:
    return Place(request.param)


def first(place: Place, statement: str, **variables: str):
    machine = place.machine(**variables)
    (wanted,) = parse_wanted(statement)
    findings = why_import(machine, resolve(machine, place.at("heath")), wanted, NAMED).findings
    assert findings, statement
    for evidence in findings[0].evidence:
        assert evidence.path is None or machine.reader.kind(evidence.path) is not None, evidence
    return findings[0]


def test_it_is_elsewhere_or_among_the_users_own(place):
    place.package("orchard", "hivescale")
    found = first(place, "import hivescale")
    assert found.cause == "elsewhere" and found.fixes[0].steps[-1].command[0] == place.python("heath")
    user = (
        "C:\\Data\\Python\\Python312\\site-packages"
        if place.system == "windows"
        else "/Users/keeper/.local/lib/python3.12/site-packages"
    )
    place.files[place.sign.join([user, "hivescale", "__init__.py"])] = b""
    assert first(place, "import hivescale").cause == "user-site-off"


def test_a_compiled_part_for_another(place):
    place.package("heath", "hivescale", "hivescale/_core.cpython-312-x86_64-linux-gnu.so")
    place.files[place.site("heath", "hivescale", "_core.cpython-312-x86_64-linux-gnu.so")] = elf(62)
    found = first(place, "import hivescale._core")
    assert found.cause == "other-platform" and "for Linux, and this is" in found.message
    assert found.fixes[0].steps[-1].command[-1] == "hivescale==2.1"


def test_a_mac_of_the_other_processor():
    place = Place("macos")
    place.package("heath", "hivescale", "hivescale/_core.cpython-310-darwin.so")
    path = place.site("heath", "hivescale", "_core.cpython-310-darwin.so")
    place.files[path] = mach(X86)
    assert first(place, "import hivescale._core").cause == "other-platform"
    place.files[path] = mach(ARM)
    assert first(place, "import hivescale._core").cause == "other-build"


def test_a_link_to_a_folder_that_moved(place):
    gone = place.at("work", "combs")
    place.files[place.site("heath", "combs.pth")] = gone + "\r\n"
    place.files[place.at("work", "combs-2", "pyproject.toml")] = b""
    place.files[place.at("work", "combs-2", "combs", "__init__.py")] = b""
    found = first(place, "import combs")
    assert found.cause == "link-broken" and found.fixes[0].steps[-1].command[-2:] == [
        "-e",
        place.at("work", "combs-2"),
    ]


def test_the_sources_of_the_project_are_not_searched(place):
    place.files[place.at("spring", "src", "combs.py")] = b""
    found = first(place, "import combs")
    line = found.fixes[0].steps[0].line
    assert (
        found.cause == "path-cut"
        and "PYTHONPATH=" in line
        and line.startswith("set " if place.system == "windows" else "env ")
    )


def test_standard_modules_of_other_versions(place):
    assert first(place, "import distutils").cause == "stdlib-gone"
    assert first(place, "import urllib2").fixes[0].steps[0].line == "write: import urllib.request"


def test_a_record_of_it(place):
    place.package("heath", "hivescale")
    place.files[place.site("heath", "hivescale-2.1.dist-info", "direct_url.json")] = json.dumps(
        {"url": "file:///x", "dir_info": {"editable": True}}
    )
    place.package("heath", "nectarflow")
    machine = place.machine()
    answer = record(machine, resolve(machine, place.at("heath")), used=None, everything=False)
    assert [line.line for line in answer.lines if line.kind == "pinned"] == ["nectarflow==2.1"]
    assert answer.text.splitlines()[1] == "# python 3.12.1 cpython" and f"# platform {place.system} " in answer.text
    assert "# not in these lines: hivescale: a development install of file:///x" in answer.text


def test_settings_are_written_in_the_systems_own_paths(place):
    old = place.python("heath")
    text = '{\r\n "python.defaultInterpreterPath": %s // mine\r\n}' % json.dumps(old)
    file = place.at("spring", ".vscode", "settings.json")
    place.files[file] = text
    machine = place.machine()
    change = editor_settings.plan(machine, file, None, resolve(machine, place.at("orchard")))
    assert change.after.decode() == text.replace(json.dumps(old), json.dumps(place.python("orchard")))


def test_removing_it_looks_at_the_same_things(place):
    place.package("heath", "hivescale")
    scripts = "Scripts" if place.system == "windows" else "bin"
    for name in ("activate", "activate.bat", "Activate.ps1", "pip.exe", "pip3.12", "deactivate.bat"):
        place.files[place.at("heath", scripts, name)] = b""
    machine = place.machine()
    assert list(unowned.unowned_files(machine.reader, read_environment(machine.reader, place.at("heath")))) == []
    leaving = discarding.plan(machine, place.at("heath"), own_prefix=place.base, with_own_files=False)
    assert [item.path for item in leaving.answer.plan] == [place.at("heath")]
    for own in (
        ("notes.txt",),
        (scripts, "pipeline.bat"),
        ("Include", "bees.h"),
        (*place.site_of.split(place.sign), "hivescale", "bees.csv"),
    ):
        place.files[place.at("heath", *own)] = b""
    with pytest.raises(KalyxError, match="holds files that no package installed"):
        discarding.plan(place.machine(), place.at("heath"), own_prefix=place.base, with_own_files=False)
    told = discarding.plan(
        place.machine(), place.at("heath"), own_prefix=place.base, with_own_files=True
    ).answer.unowned
    assert len(told) == 4 and all("\\" not in item for item in told)
    for refused in (place.base, place.at("spring")):
        with pytest.raises(KalyxError):
            discarding.plan(place.machine(), refused, own_prefix=place.at("elsewhere"), with_own_files=True)
    with pytest.raises(KalyxError, match="Kalyx itself"):
        discarding.plan(place.machine(), place.at("heath"), own_prefix=place.at("heath"), with_own_files=True)


KEEPER = "C:\\Users\\Ærik the keeper"
LOCAL = f"{KEEPER}\\AppData\\Local"
NEWER, OLDER = f"{LOCAL}\\Programs\\Python\\Python312", "C:\\Program Files (x86)\\Python39-32"
ALIASES = f"{LOCAL}\\Microsoft\\WindowsApps"
# As the installers for one user and for all (32 bits) leave a machine: no Python on PATH but the store's aliases.
AS_INSTALLED = {
    f"{NEWER}\\python.exe": PART + b"\x003.12.4\x00", f"{NEWER}\\python312.dll": PART + b"\x003.12.4\x00", f"{NEWER}\\Lib\\os.py": b"", f"{NEWER}\\DLLs\\_ssl.pyd": b"",
    f"{OLDER}\\python.exe": PART + b"\x003.9.13\x00", f"{OLDER}\\python39.dll": PART, f"{OLDER}\\Lib\\os.py": b"",
    "C:\\Windows\\py.exe": b"MZ", f"{ALIASES}\\python.exe": b"", f"{ALIASES}\\python3.exe": b"",
    "D:\\moor\\.venv\\pyvenv.cfg": f"home = \\\\?\\{NEWER}\r\nversion = 3.12.4\r\n", "D:\\moor\\.venv\\Scripts\\python.exe": b"MZ a starter",
    "D:\\moor\\.venv\\Lib\\site-packages\\hivescale\\__init__.py": b"",
    "D:\\far\\linked\\pyvenv.cfg": f"home = {NEWER}\r\nversion = 3.12.4\r\n", "D:\\far\\linked\\Scripts\\python.exe": Link(f"{NEWER}\\python.exe"),
    "D:\\links\\python.exe": Link(f"\\\\?\\{NEWER}\\python.exe"),
}  # fmt: skip
ENTERED = {
    "HKEY_CURRENT_USER\\Software\\Python\\PythonCore\\3.12\\InstallPath": {"": f"{NEWER}\\", "ExecutablePath": f"{NEWER}\\python.exe"},
    "HKEY_LOCAL_MACHINE\\Software\\WOW6432Node\\Python\\PythonCore\\3.9-32\\InstallPath": {"": OLDER},
    "HKEY_LOCAL_MACHINE\\Software\\Python\\PythonCore\\3.7\\InstallPath": {"": "C:\\Gone"},
}
LAUNCHED = [
    ({}, "", NEWER, "3.12.4"),
    ({"PY_PYTHON": "3.9-32"}, "", OLDER, "3.9.13"),
    ({"PY_PYTHON": "3"}, "", NEWER, "3.12.4"),
    ({"PY_PYTHON": "3", "PY_PYTHON3": "3.9-32"}, "", OLDER, "3.9.13"),
    ({}, "[defaults]\r\npython=3.9-32\r\n", OLDER, "3.9.13"),
    ({"PY_PYTHON": "3.12"}, "[defaults]\npython=3.9-32\n", NEWER, "3.12.4"),
    ({"VIRTUAL_ENV": "D:\\moor\\.venv", "PY_PYTHON": "3.9-32"}, "", "D:\\moor\\.venv", "3.12.4"),
    ({"VIRTUAL_ENV": "D:\\far\\linked"}, "", "D:\\far\\linked", "3.12.4"),
    ({"PY_PYTHON": "3.8"}, "", None, "3.8, which is not entered"),
    ({"PY_PYTHON": "3.7"}, "", None, "there is nothing at this path"),
    ({"PY_PYTHON": "3.9"}, "", OLDER, "3.9.13"),
    ({"PY_PYTHON": "3.9-64"}, "", None, "which is not entered"),
    ({}, "python=3.9-32", NEWER, "3.12.4"),
]


def as_installed(settings: str = "", **variables: str) -> MemoryReader:
    files = {**AS_INSTALLED, **({f"{LOCAL}\\py.ini": settings} if settings else {})}
    base = {"PATH": f"C:\\Windows;{ALIASES}", "PATHEXT": ".COM;.EXE", "LOCALAPPDATA": LOCAL, "APPDATA": f"{KEEPER}\\AppData\\Roaming"}
    return MemoryReader("windows", files, variables=base | variables, folder="D:\\moor", home=KEEPER, registry=ENTERED)


@pytest.mark.parametrize("variables, settings, prefix, message", LAUNCHED)
def test_what_the_launcher_starts(variables, settings, prefix, message):
    """The store's aliases start nothing; ``py`` starts an active environment, the default it is told, else the newest."""
    seat = read_shell(as_installed(settings, **variables), ShellFound("powershell", None, "test"))
    by_word = {part.word: part for part in seat.parts}
    assert "alias" in by_word["python"].reason and "alias" in by_word["python3"].reason
    part = by_word["py"]
    if prefix is None:
        assert part.interpreter is None and message in part.reason, part.reason
    else:
        assert (part.interpreter.prefix, part.interpreter.version) == (prefix, message) and part.path == "C:\\Windows\\py.exe"
        assert seat.interpreter == part.interpreter
        assert part.links[-1] == part.interpreter.real_executable


def test_a_windows_environment_of_too_long_a_path():
    """Refused before anything is created; one letter less is not."""
    from kalyx.core.actions.preparing import _refuse_what_is_there

    machine = Machine(MemoryReader("windows", {"C:\\x\\y": b""}), None)
    longest = "C:\\x\\" + "n" * (259 - len("C:\\x\\\\Scripts\\python.exe"))
    _refuse_what_is_there(machine, longest)
    with pytest.raises(KalyxError, match="shorter folder"):
        _refuse_what_is_there(machine, longest + "n")


def test_paths_with_the_mark_of_windows():
    """A path marked as taken literally names what its plain form names: in settings, in links, as a target."""
    reader = as_installed()
    machine = Machine(reader)
    assert {interpreter.prefix: interpreter.version for interpreter in machine.interpreters} == {NEWER: "3.12.4", OLDER: "3.9.13"}
    assert [(environment.prefix, environment.condition) for environment in machine.environments.known if environment.kind == "virtual"] == [("D:\\moor\\.venv", "sound")]
    for target in ("\\\\?\\D:\\moor\\.venv", "d:\\MOOR\\.venv\\Scripts\\PYTHON.exe"):
        assert resolve(machine, target).environment.prefix.lower() == "d:\\moor\\.venv"
    assert resolve(machine, "D:\\links\\python.exe").interpreter.base_prefix == NEWER
    assert reader.real("d:\\moor\\none") == "D:\\moor\\none"
    assert reader.absolute("\\\\?\\UNC\\barn\\moor") == "\\\\barn\\moor" and reader.absolute("\\\\?\\Volume{7}\\x").startswith("\\\\?\\Volume")


TOOLS = "/Library/Developer/CommandLineTools"
TOOLS_PYTHON = f"{TOOLS}/Library/Frameworks/Python3.framework/Versions/3.9"
BREWED = "/opt/homebrew/Cellar/python@3.12/3.12.4/Frameworks/Python.framework/Versions/3.12"
MAC = {
    "/usr/bin/python3": mach(ARM),
    f"{TOOLS}/usr/bin/python3": Link("../../Library/Frameworks/Python3.framework/Versions/3.9/bin/python3"),
    f"{TOOLS_PYTHON}/bin/python3": Link("python3.9"), f"{TOOLS_PYTHON}/bin/python3.9": mach(ARM) + b"\x003.9.6\x00",
    f"{TOOLS_PYTHON}/lib/python3.9/os.py": b"",
    "/opt/homebrew/bin/python3": Link("../Cellar/python@3.12/3.12.4/bin/python3"),
    "/opt/homebrew/Cellar/python@3.12/3.12.4/bin/python3": Link("../Frameworks/Python.framework/Versions/3.12/bin/python3"),
    f"{BREWED}/bin/python3": Link("python3.12"), f"{BREWED}/bin/python3.12": mach(ARM) + b"\x003.12.4\x00", f"{BREWED}/lib/python3.12/os.py": b"",
    "/Users/keeper/moor/.venv/pyvenv.cfg": "home = /opt/homebrew/opt/python@3.12/bin\nversion = 3.12.4\n",
    "/opt/homebrew/opt/python@3.12": Link("../Cellar/python@3.12/3.12.4"),
    "/Users/keeper/moor/.venv/bin/python": Link("/opt/homebrew/opt/python@3.12/bin/python3"),
    "/Users/keeper/moor/.venv/lib/python3.12/site-packages/x.py": b"",
}  # fmt: skip


@pytest.mark.parametrize("path, more, prefix, version", [
    ("/usr/bin/python3", {}, TOOLS_PYTHON, "3.9.6"),
    ("/usr/bin/python3", {"/var/db/xcode_select_link": Link("/Applications/Tools.app/Contents/Developer")}, None, "have no such program"),
    ("/opt/homebrew/bin/python3", {}, BREWED, "3.12.4"),
    ("/Users/keeper/moor/.venv/bin/python", {}, "/Users/keeper/moor/.venv", "3.12.4"),
    ("/users/KEEPER/moor/.venv/BIN/python", {}, "/users/KEEPER/moor/.venv", "3.12.4"),
])  # fmt: skip
def test_interpreters_of_a_mac(path, more, prefix, version):
    """The system's starter goes on to the developer tools; a home-brewed one is a framework behind three links."""
    seat = resolve(Machine(MemoryReader("macos", {**MAC, **more}, folder="/Users/keeper/moor", home="/Users/keeper")), path)
    if prefix is None:
        assert seat.interpreter is None and seat.undecided and version in seat.reason
    else:
        assert (seat.interpreter.prefix, seat.interpreter.version) == (prefix, version)


def test_a_dll_that_may_not_be_looked_at_counts_as_there(monkeypatch):
    """Of two DLLs that a module needs one lies nowhere: that is the missing one, unless a folder may not be looked into."""
    place = Place("windows")
    module = place.site("heath", "hivescale", "_core.pyd")
    place.files |= {module: PART, place.site("heath", "hivescale", "honey.dll"): PART}
    needed = SimpleNamespace(needed=["honey.dll", "libwax.dll"])
    monkeypatch.setattr(dlls, "read_header", lambda reader, path: needed if path == module else SimpleNamespace(needed=[]))

    def missing():
        machine = place.machine()
        seat = resolve(machine, place.at("heath"))
        case = SimpleNamespace(interpreter=seat.interpreter, sites=[place.site("heath")])
        return dlls.missing_dll(case, machine, [module])

    assert missing() == ("libwax.dll", module)
    place.files["C:\\Windows\\System32"] = Shut()
    assert missing() is None


@pytest.mark.parametrize("words, remedy", [
    ("An Application Control policy has blocked this file.", "administers"),
    ("Access is denied.", "administers"),
    ("The cloud file provider is not running.", "synchronises"),
    ("The specified module could not be found.", None),
])  # fmt: skip
def test_a_file_that_windows_does_not_load(words, remedy):
    place = Place("windows")
    path = place.site("heath", "_core.pyd")
    place.files[path] = PART
    raised = Raised("ImportError", f"DLL load failed while importing _core: {words}", name="_core", path=path, import_error=True)
    found = unreadable._blocked(SimpleNamespace(raised=raised), place.machine())
    if remedy is None:
        assert found is None
        return
    assert found.cause == "unreadable" and words[:-1] in found.message and remedy in found.fixes[0].steps[0].line
