"""Search paths on Windows and macOS: machines made by chance, and the interpreter's own code says where they lead.

From 3.11 on CPython finds its folders by a program that is the same on every system ("The initialization of the
sys.path module search path"); its own tests carry it out over made-up files, and so does this, over the same files
that Kalyx reads. What comes after it, the site module, goes by its documented rules.
"""

import json
import os
import random
import subprocess

import pytest

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.system.memory_reader import Link, MemoryReader
from tests.core.test_headers import ARM, mach
from tests.equipment import BY_VERSION, SEED
from tests.made import WINDOWS as EXECUTABLE

ASKED = r"""
import json, sys
import _testinternalcapi
from test import test_getpath as own

own.verbose = False
CODE = _testinternalcapi.get_getpath_codeobject()
SHORT = "%d.%d" % sys.version_info[:2]

class Registry(own.MockWinreg):
    HKEY_LOCAL_MACHINE, HKEY_CURRENT_USER = "HKEY_LOCAL_MACHINE", "HKEY_CURRENT_USER"

answers = []
for given in json.load(sys.stdin):
    windows = given["system"] == "windows"
    kind = own.MockNTNamespace if windows else own.MockPosixNamespace
    more = {"winreg": Registry(given["registry"]), "PYWINVER": SHORT} if windows else {"os_name": "darwin", "WITH_NEXT_FRAMEWORK": 1}
    more.update(given["names"])
    place = kind(argv0=given["names"]["real_executable"], VERSION_MAJOR=sys.version_info[0], VERSION_MINOR=sys.version_info[1], **more)
    place["config"].update(given["config"])
    for path, text in given["files"].items():
        place.add_known_xfile(path)
        if text:
            place._files[path.casefold() if windows else path] = text.splitlines()
    for path in given["folders"]:
        place.add_known_dir(path)
    for path, target in given["links"].items():
        place.add_known_xfile(path)
        place.add_known_link(path, target)
    exec(CODE, place)
    config = place["config"]
    answers.append({"prefix": config["prefix"], "path": config["module_search_paths"]})
json.dump(answers, sys.stdout)
"""


def carriers() -> list[str]:
    """The versions here whose interpreter hands out that program."""
    found = []
    for version in ("3.11", "3.12", "3.13"):
        if version in BY_VERSION:
            asked = [BY_VERSION[version].real_executable, "-c", "import _testinternalcapi as t, test.test_getpath; t.get_getpath_codeobject"]
            if subprocess.run(asked, capture_output=True, check=False).returncode == 0:
                found.append(version)
    return found


class Made:
    """One machine: its files for both readers, how the interpreter is started, and which one."""

    def __init__(self, chance: random.Random, version: str) -> None:
        self.chance, self.version, self.number = chance, version, version.replace(".", "")
        self.files: dict[str, object] = {}
        self.registry: dict[str, dict[str, str]] = {}
        self.variables: dict[str, str] = {}
        self.names: dict[str, object] = {}
        self.flags = chance.choice([(), (), (), ("I",), ("E",)])

    def some(self, odds: float = 0.5) -> bool:
        return self.chance.random() < odds

    def question(self) -> dict[str, object]:
        home, path = self.variables.get("PYTHONHOME"), self.variables.get("PYTHONPATH")
        uses = not self.flags
        config = {"use_environment": int(uses), "isolated": int(self.flags == ("I",)), "pythonpath_env": path if uses else None}
        if home:
            self.names["ENV_PYTHONHOME"] = home
        texts = {path: text if isinstance(text, str) else "" for path, text in self.files.items() if not isinstance(text, Link)}
        registry: dict[str, object] = {key: values.get("") for key, values in self.registry.items()}
        links = {path: str(text) for path, text in self.files.items() if isinstance(text, Link)}
        return {"system": self.system, "names": self.names, "config": config, "files": texts, "folders": [], "links": links, "registry": registry}

    def reader(self) -> MemoryReader:
        return MemoryReader(self.system, self.files, variables=self.variables, folder=self.folder, registry=self.registry)


class Windows(Made):
    system, folder = "windows", "D:\\moor"

    def __init__(self, chance: random.Random, version: str) -> None:
        super().__init__(chance, version)
        made = EXECUTABLE + f"\0{version}.4\0".encode()
        base = chance.choice([f"C:\\Python{self.number}", f"C:\\Users\\Ærik the keeper\\AppData\\Local\\Programs\\Python\\Python{self.number}", "D:\\apps\\py"])
        library = f"{base}\\python{self.number}.dll"
        self.executable = f"{base}\\python.exe"
        self.files |= {self.executable: made, library: made}
        if self.some(0.9):
            self.files[f"{base}\\Lib\\os.py"] = b""
        if self.some(0.8):
            self.files[f"{base}\\DLLs\\_ssl.pyd"] = b""
        if self.some(0.2) or f"{base}\\Lib\\os.py" not in self.files:
            self.files[f"{base}\\python{self.number}.zip"] = b"PK"
        real, self.environment = self.executable, None
        if self.some(0.25):
            text = chance.choice([f"python{self.number}.zip\n.\n# import site\n#import site\n", "Lib\nDLLs\n.\nimport site\n", "..\\heath\n.\n", "D:\\moor\\heath\nLib\n"])
            for name in chance.choice([[f"python{self.number}"], ["python"], ["python", f"python{self.number}"]]):
                self.files[f"{base}\\{name}._pth"] = text if name == "python" else text.replace(".\n", "more\n")
        elif self.some(0.6):
            self.environment = chance.choice(["D:\\moor\\.venv", "D:\\the moor\\orchard"])
            home = base
            self.files[f"{self.environment}\\pyvenv.cfg"] = f"home = {home}\nversion = {version}.4\n"
            self.executable = f"{self.environment}\\Scripts\\python.exe"
            self.files[self.executable] = made
            if self.some(0.3):
                real, library = self.executable, f"{self.environment}\\Scripts\\python{self.number}.dll"
                self.files[library] = made  # a copy, as its maker was told to
            else:
                self.names["ENV___PYVENV_LAUNCHER__"] = self.executable
        for hive in ("HKEY_CURRENT_USER", "HKEY_LOCAL_MACHINE"):
            if self.some(0.3):
                key = f"{hive}\\Software\\Python\\PythonCore\\{version}\\PythonPath"
                self.registry[key] = {"": f"{base}\\Lib;{base}\\DLLs"}
                for name in ("Hives", "Tools"):
                    if self.some():
                        self.registry[f"{key}\\{name}"] = {"": chance.choice(["D:\\apps\\hives", "D:\\apps\\hives;D:\\apps\\tools"])}
        if self.some(0.2):
            self.variables["PYTHONPATH"] = "D:\\moor\\lib;C:\\tools"
        if self.some(0.1):
            self.variables["PYTHONHOME"] = chance.choice([base, "D:\\moor\\home"])
            self.files["D:\\moor\\home\\Lib\\os.py"] = b""
        self.names |= {"real_executable": real, "library": library}


class MacOS(Made):
    system, folder = "macos", "/Users/keeper/moor"

    def __init__(self, chance: random.Random, version: str) -> None:
        super().__init__(chance, version)
        made = mach(ARM) + f"\0{version}.4\0".encode()
        base = f"/Library/Frameworks/Python.framework/Versions/{version}"
        starter = f"{base}/Resources/Python.app/Contents/MacOS/Python"
        self.executable = f"{base}/bin/python{version}"
        self.files |= {starter: made, f"{base}/Python": made, self.executable: made, f"{base}/bin/python3": Link(f"{base}/bin/python{version}"),
                       f"{base}/lib/python{version}/os.py": b"", f"{base}/lib/python{version}/lib-dynload/x.so": b""}  # fmt: skip
        self.files[f"/usr/local/bin/python{version}"] = Link(self.executable)
        self.names |= {"PREFIX": base, "EXEC_PREFIX": base, "real_executable": starter, "library": f"{base}/Python"}
        if self.some(0.6):
            environment = chance.choice(["/Users/keeper/moor/.venv", "/Users/keeper/the moor/orchard"])
            home = chance.choice([f"{base}/bin", "/usr/local/bin"])
            self.files[f"{environment}/pyvenv.cfg"] = f"home = {home}\nversion = {version}.4\n"
            self.executable = f"{environment}/bin/python"
            self.files[self.executable] = Link(f"{base}/bin/python{version}") if self.some(0.7) else made
            self.files[f"{environment}/lib/python{version}/site-packages/x.py"] = b""
        elif self.some(0.3):
            self.executable = f"/usr/local/bin/python{version}"
        self.names["ENV___PYVENV_LAUNCHER__"] = self.executable
        if self.some(0.2):
            self.variables["PYTHONPATH"] = "/Users/keeper/lib:/opt/tools"
        if self.some(0.1):
            self.variables["PYTHONHOME"] = base


def read(made: Made) -> dict[str, object]:
    """What Kalyx reads: the base's folder and what is on the path before the site module adds to it."""
    reader = made.reader()
    interpreter = read_interpreter(reader, made.executable)
    words = [f"-{flag}" for flag in made.flags] + ["-S", "-c", "0"]
    invocation = Invocation.of_command(words, reader, interpreter, made.variables)
    invocation.first = None
    found = search_path(reader, interpreter, invocation)
    assert not found.unknown, found.unknown
    return {"prefix": interpreter.base_prefix, "path": [entry.entry for entry in found.entries]}


def tidied(made: Made, answer: dict[str, object]) -> dict[str, object]:
    """As the site module leaves it: none with a separator at its end. PYTHONHOME is no base's folder."""
    path = made.reader().path
    entries = [path.normpath(entry) for entry in answer["path"]]
    base = read(made)["prefix"] if "PYTHONHOME" in made.variables and not made.flags else path.normpath(answer["prefix"])
    return {"prefix": base, "path": entries}


@pytest.mark.parametrize("kind", [Windows, MacOS])
def test_the_interpreters_own_program_agrees(kind, record_property):
    count = int(os.environ.get("KALYX_EXPLORE", 80))
    for version in carriers():
        chance = random.Random(f"{kind.system} {version} {SEED}")
        machines = [kind(chance, version) for _ in range(count)]
        asked = [BY_VERSION[version].real_executable, "-c", ASKED]
        done = subprocess.run(asked, input=json.dumps([made.question() for made in machines]), capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        for made, expected in zip(machines, json.loads(done.stdout), strict=True):
            about = f"seed {SEED}, {version}: {made.executable}, {made.variables}, {made.flags}, {made.registry}\n" + "\n".join(f"{p}: {t if isinstance(t, (str, Link)) else ''!r}" for p, t in made.files.items())
            try:
                got = read(made)
            except NotAnInterpreter as refusal:
                got = {"refused": refusal.reason}
            assert got == tidied(made, expected), about
        record_property(f"machines {version}", len(machines))
