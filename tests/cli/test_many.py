"""Machines in memory put together by chance from what is seen on real ones, and what Kalyx says of them (many/*.txt).

A seed makes the same machine on each system and each Python. ``KALYX_DRAW=1`` writes the files again; read the
difference then: a rule that no scene has a row for shows here.
"""

from __future__ import annotations

import json
import random
import re
import shlex
from collections.abc import Iterable, Iterator
from typing import Any

import pytest

from kalyx.core.environments.reading import read_environment
from kalyx.core.packages.unowned import unowned_files
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.reader import Process
from tests.made import BINARY, WINDOWS, dist, index_of
from tests.support.model_installer import ModelInstaller, Release
from tests.support.scenes import Scenes, changed, tree

SCENES = Scenes("cli/many")
MACHINES, IN_ONE_FILE = 72, 6
INDEX = [Release("hive", "1.0", {"hive/__init__.py": ""}), Release("hive", "2.0", {"hive/__init__.py": "", "hive/wax.py": "x = 1\n"}, ("Requires-Dist: comb>=1",)), Release("comb", "0.9", {"comb.py": ""}), Release("comb", "1.2", {"comb.py": "import statistics\n"}, ("Requires-Python: >=3.10",)), Release("comb", "1.1", {"comb.py": ""}),
         Release("peat", "1.0", {"peat.py": ""}), Release("broken", "1.0", {"broken.py": "import absent_module\n"}), Release("ipykernel", "6.0", {"ipykernel_launcher.py": "import ipykernel\n", "ipykernel/__init__.py": "", "ipykernel/resources/logo-64x64.png": "png"}, ("Requires-Python: >=3.8",))]  # fmt: skip
HOMES = {"linux": "/home/keeper", "macos": "/Users/keeper", "windows": "C:\\Users\\keeper"}
VERSIONS = ("2.7.18", "3.6.15", "3.9.18", "3.11.7", "3.12.1", "3.14.0")


class Made:
    """One machine: its files and variables as they come, by the paths of its system."""

    def __init__(self, seed: int) -> None:
        self.chance = random.Random(seed)
        self.system = ("linux", "linux", "linux", "macos", "windows", "linux")[seed % 6]
        self.sign, self.home = "\\" if self.system == "windows" else "/", HOMES[self.system]
        self.files: dict[str, Any] = {}
        self.variables: dict[str, str] = {"USERPROFILE" if self.system == "windows" else "HOME": self.home, **({"LOCALAPPDATA": self.at("AppData", "Local")} if self.system == "windows" else {"SHELL": self.pick("/bin/bash", "/bin/zsh", "/usr/bin/fish", "/bin/sh")})}
        self.registry: dict[str, dict[str, str]] = {}
        self.processes: dict[int, Process] = {}
        self.path: list[str] = []
        self.bases: list[tuple[str, str]] = []  # their programs and versions
        self.prefixes: list[tuple[str, str]] = []  # of environments, and the versions that they are for
        for make in (self.interpreters, self.environments, self.packages, self.kernels, self.folder, self.settings, self.start_files, self.repository, self.running):
            make()
        if self.likely(0.6) and self.prefixes:
            entered = self.pick(*self.prefixes)[0]
            self.path.insert(0, self.join(entered, "Scripts" if self.system == "windows" else "bin"))
            if self.likely(0.7):
                self.variables["VIRTUAL_ENV"] = entered if self.likely(0.8) else self.at("gone")
        self.variables["PATH"] = (";" if self.system == "windows" else ":").join(self.path)
        self.library(random.Random(f"library {seed}"))

    def likely(self, share: float) -> bool:
        return self.chance.random() < share

    def pick(self, *items: Any) -> Any:
        return items[int(self.chance.random() * len(items))]

    def some(self, items: Iterable[Any], share: float) -> list[Any]:
        return [item for item in items if self.likely(share)]

    def join(self, *parts: str) -> str:
        return self.sign.join(part.replace("/", self.sign) for part in parts)

    def at(self, *parts: str) -> str:
        return self.join(self.home, *parts)

    def put(self, path: str, content: Any) -> None:
        self.files.setdefault(path, content)

    # -- interpreters and environments -------------------------------------------

    def interpreters(self) -> None:
        for version in self.some(VERSIONS, 0.35) or ["3.11.7"]:
            minor, joined = version.rpartition(".")[0], version.rpartition(".")[0].replace(".", "")
            if self.system == "windows":
                prefix = self.pick(f"C:\\Python{joined}", self.at("AppData", "Local", "Programs", "Python", f"Python{joined}"), f"C:\\Tools\\py{joined}")
                self.put(f"{prefix}\\python.exe", WINDOWS)
                self.put(f"{prefix}\\Lib\\os.py", "")
                self.put(f"{prefix}\\python{joined}.dll", b"MZ" + version.encode() + b"\0")
                self.bases.append((f"{prefix}\\python.exe", version))
                if self.likely(0.4):
                    self.registry[f"HKEY_CURRENT_USER\\Software\\Python\\PythonCore\\{minor}\\InstallPath"] = {"": prefix, "ExecutablePath": f"{prefix}\\python.exe"}
                self.path += self.some([prefix], 0.4)
                continue
            prefix = self.pick("/usr", "/usr/local", f"/opt/python/{version}", self.at(".pyenv", "versions", version), f"/Library/Frameworks/Python.framework/Versions/{minor}" if self.system == "macos" else f"/opt/apps/python-{minor}")
            self.put(f"{prefix}/bin/python{minor}", BINARY.replace(b"3.11.7", version.encode()))
            self.put(f"{prefix}/lib/python{minor}/os.py", "")
            self.put(f"{prefix}/lib/python{minor}/statistics.py", "def mean(values): pass\n")
            for name in self.some(["python", "python3"], 0.5):
                self.put(f"{prefix}/bin/{name}", Link(f"python{minor}"))
            if self.likely(0.2):
                self.put(f"{prefix}/lib/python{minor}/EXTERNALLY-MANAGED", "[externally-managed]\nError=no\n")
            self.bases.append((f"{prefix}/bin/python{minor}", version))
            self.path += [] if f"{prefix}/bin" in self.path else self.some([f"{prefix}/bin"], 0.7)
        if self.likely(0.15):
            self.put(self.at(".pyenv", "version"), self.pick("3.11\n", "3.9.18\n", "system\n", "9.9\n"))

    def environments(self) -> None:
        for name in self.some(["heath", "orchard", "spring/.venv", "spring/env", "envs/skep", ".virtualenvs/comb", "two words"], 0.4):
            prefix, (program, version) = self.at(name), self.pick(*self.bases)
            minor, windows = version.rpartition(".")[0], self.system == "windows"
            home = program.rpartition(self.sign)[0] if self.likely(0.85) else self.at("gone", "bin")
            lines = [f"home = {home}", f"include-system-site-packages = {self.pick('false', 'false', 'true')}", f"version{self.pick('', '', '_info')} = {version if self.likely(0.8) else '3.8.1'}", *self.some([f"prompt = {self.pick('bees', 'heath')}", "executable = " + program, "virtualenv = 20.1", "command = x"], 0.3)]
            if self.likely(0.92):
                self.put(self.join(prefix, "pyvenv.cfg"), "\n".join(lines) + "\n")
            if windows:
                self.put(self.join(prefix, "Scripts", "python.exe"), WINDOWS)
            elif self.likely(0.9):
                self.put(self.join(prefix, "bin", "python"), Link(program if self.likely(0.85) else "/gone/python"))
            bin_, named = self.join(prefix, "Scripts" if windows else "bin"), prefix if self.likely(0.8) else self.at("before")
            self.put(self.join(bin_, "activate"), f"VIRTUAL_ENV={self.pick('', chr(39))}{named}{self.pick('', chr(39))}\n")
            self.put(self.join(bin_, "pip" + (".exe" if windows else "")), f"#!{self.join(named, 'bin', 'python')}\n")
            self.put(self.join(self.site(prefix, minor), "README"), "")
            if self.likely(0.12):
                self.put(self.join(prefix, "conda-meta", "history"), "")
            if self.likely(0.1) and not windows:
                self.put(self.join(prefix, "lib", "python3.8", "site-packages", "old-1.0.dist-info", "METADATA"), "Name: old\nVersion: 1.0\n")
            if self.likely(0.25):
                self.put(self.join(prefix, ".gitignore"), "*\n")
            self.prefixes.append((prefix, version))

    def site(self, prefix: str, minor: str) -> str:
        return self.join(prefix, "Lib", "site-packages") if self.system == "windows" else self.join(prefix, "lib", f"python{minor}", "site-packages")

    def packages(self) -> None:
        places = [self.site(prefix, version.rpartition(".")[0]) for prefix, version in self.prefixes]
        places += [self.site(self.join(*program.split(self.sign)[:-1]) if self.system == "windows" else program.rpartition("/bin/")[0], version.rpartition(".")[0]) for program, version in self.some(self.bases, 0.5)]
        if self.system != "windows":
            places += self.some([self.at(".local", "lib", f"python{version.rpartition('.')[0]}", "site-packages") for _, version in self.bases], 0.3)
        releases = [("hive", self.pick("1.0", "2.0", "2.1rc1"), {"hive/__init__.py": "from hive import wax\n", "hive/wax.py": "x = 1\n"}, ("Requires-Dist: comb>=1", "Requires-Dist: peat; extra == 'all'", "Provides-Extra: all")), ("comb", self.pick("0.9", "1.2"), {"comb.py": "import statistics\n"}, ("Requires-Python: >=3.10",)),
                    ("bee-keeper", "1.0", {"beekeeper/__init__.py": "", "beekeeper/deep/__init__.py": ""}, ("Requires-Dist: hive<2", "Requires-Dist: gone")), ("ipykernel", "6.0", {"ipykernel/__init__.py": "", "ipykernel_launcher.py": ""}, ()), ("pip", self.pick("21.0", "24.0"), {"pip/__init__.py": ""}, ()), ("broken", "1.0", {"broken.py": "import absent_module\n"}, ())]  # fmt: skip
        for place in places:
            for name, version, files, metadata in self.some(releases, 0.4):
                made = dist(name, version, files, *metadata, where="")
                for path, content in made.items():
                    if not (self.likely(0.03) or (path.endswith("RECORD") and self.likely(0.08))):
                        self.put(self.join(place, path[1:]), content)
            for name, content in self.some([("mine.pth", f"{self.at('spring', 'src')}\n"), ("hook.pth", "import sys\n"), ("loose.py", "x = 1\n"), ("old.egg-info/PKG-INFO", "Name: old\nVersion: 0.1\n"), ("~ive/x.py", ""), ("linked.egg-link", f"{self.at('spring')}\n.")], 0.12):
                self.put(self.join(place, name), content)

    # -- what starts them -----------------------------------------------------------

    def kernels(self) -> None:
        roots = [self.at("AppData", "Roaming", "jupyter") if self.system == "windows" else self.at("Library", "Jupyter") if self.system == "macos" else self.at(".local", "share", "jupyter"), *[self.join(prefix, "share", "jupyter") for prefix, _ in self.prefixes[:2]], *([] if self.system == "windows" else ["/usr/local/share/jupyter"])]
        for name in self.some(["heath", "orchard", "python3", "Moor", "odd"], 0.45):
            programs = [program for program, _ in self.bases] + [self.join(prefix, *(("Scripts", "python.exe") if self.system == "windows" else ("bin", "python"))) for prefix, _ in self.prefixes]
            argv = [self.pick(*programs, "python", "python3", self.at("gone", "python")), "-m", self.pick("ipykernel_launcher", "ipykernel", "other_kernel"), *self.some(["-f", "{connection_file}"], 0.95)]
            spec = {"argv": argv[: self.pick(5, 5, 5, 1)] if self.likely(0.95) else "no", "display_name": self.pick(name.title(), "heath (Python 3.11)", "Heath"), "language": "python", "env": dict(self.some([("PATH", self.at("heath", "bin")), ("PYTHONPATH", self.at("spring")), ("HIVE_TOKEN", "hunter2")], 0.2))}
            self.put(self.join(self.pick(*roots), "kernels", name, "kernel.json"), json.dumps(spec) if self.likely(0.95) else "{")

    def folder(self) -> None:
        spring = self.at("spring")
        self.put(self.join(spring, "notes.txt"), "")
        for name in self.some(["weights", "late", "empty"], 0.4):
            kernel = self.pick("heath", "orchard", "python3", "moor", "none", None)
            self.put(self.join(spring, f"{name}.ipynb"), json.dumps({"metadata": {"kernelspec": {"name": kernel, "display_name": "x"}} if kernel else {}, "cells": [{"cell_type": "code", "source": self.pick("import hive", "!pip install comb\nimport comb", "from . import x", "import (", "%run late.py")}]}, indent=1))
        sources = ["import hive\n", "from hive import wax, gone\n", "import comb.deep\n", "from statistics import mean\n", "try:\n    import absent\nexcept ImportError:\n    pass\n", "import tomllib, distutils\n", "#!/usr/bin/env python3\nimport beekeeper\n", "# /// script\n# dependencies = ['hive>=2']\n# ///\nimport hive\n", "import sys\nsys.exit\n"]
        for name in self.some(["weigh.py", "statistics.py", "hive.py", "src/combs.py", "src/hive/extra.py", "tools/run", "pack/__init__.py", "pack/part.py"], 0.3):
            self.put(self.join(spring, name), self.pick(*sources))
        for name, content in self.some([("pyproject.toml", f"[project]\nname = 'spring'\nrequires-python = '{self.pick('>=3.9', '>=3.12', '<3')}'\ndependencies = [{self.pick('', repr('hive>=2'), repr('comb') + ', ' + repr('gone>1'))}]\n"), ("requirements.txt", "hive\ncomb>=1 # why\n-r more.txt\n"), ("setup.py", ""), (".python-version", self.pick("3.11\n", "3.9.18\n", "heath\n")), ("Pipfile", ""), (".envrc", f"export PATH={self.at('heath', 'bin')}:$PATH\n"), (".env", f"PYTHONPATH={self.at('spring', 'src')}\n")], 0.25):
            self.put(self.join(spring, name), content)

    def settings(self) -> None:
        python = self.join(self.pick(*self.prefixes)[0], "bin", "python") if self.prefixes else "python3"
        forms = [(".vscode/settings.json", json.dumps({"python.defaultInterpreterPath": self.pick(python, "${workspaceFolder}/.venv/bin/python", ".venv", "python3")})), (".idea/misc.xml", f'<project><component name="ProjectRootManager" project-jdk-name="Python 3.11 ({self.pick("heath", "spring")})" project-jdk-type="Python SDK"/></project>'), ("mypy.ini", f"[mypy]\npython_executable = {python}\n"),
                 ("pyrightconfig.json", '{"venvPath": "..", "venv": "heath"}'), (".vscode/launch.json", json.dumps({"configurations": [{"name": "run", "type": "debugpy", "python": python}]})), (".zed/settings.json", "{}")]  # fmt: skip
        for name, content in self.some(forms, 0.2):
            self.put(self.at("spring", name), content)
        self.variables |= dict(self.some([("PYTHONPATH", self.at("spring", "src")), ("PYTHONNOUSERSITE", "1"), ("CONDA_PREFIX", self.at("heath")), ("PYENV_ROOT", self.at(".pyenv")), ("JUPYTER_PATH", self.at("more"))], 0.12))

    def start_files(self) -> None:
        lines = [f"alias python={self.at('orchard', 'bin', 'python')}", f"export PATH={self.at('heath', 'bin')}:$PATH", "python() { /opt/x/python \"$@\"; }", f"source {self.at('heath', 'bin', 'activate')}", "if [ -n \"$PS1\" ]; then alias pip='python -m pip'; fi", "# alias python=no", f"set -gx PATH {self.at('heath', 'bin')} $PATH", "case $- in *i*) ;; *) return;; esac"]
        for name in self.some([".bashrc", ".profile", ".bash_profile", ".zshrc", ".config/fish/config.fish"], 0.3 if self.system != "windows" else 0.0):
            self.put(self.at(name), "\n".join(self.some(lines, 0.3)) + "\n")

    def repository(self) -> None:
        if not self.likely(0.35):
            return
        top = self.pick("spring", "")
        self.put(self.join(self.at(top) if top else self.home, ".git", "HEAD"), "ref: refs/heads/main\n")
        patterns = ["/heath", "heath/", "*env*", "!spring/env", ".venv", "orch?rd", "/envs/**", "[hx]eath", "# heath", "**/skep", "two\\ words", "spring/*", "!.venv/", "env"]
        for name in self.some([".gitignore", "spring/.gitignore", ".config/git/ignore", ".git/info/exclude"], 0.5):
            self.put(self.at(name), "\n".join(self.some(patterns, 0.25)) + "\n")
        if self.likely(0.3):
            names = self.some(["heath/pyvenv.cfg", "spring/env/pyvenv.cfg", "spring/.vscode/settings.json", ".vscode/settings.json", "env/pyvenv.cfg"], 0.5)
            self.put(self.join(self.at(top) if top else self.home, ".git", "index"), index_of(*names))

    def running(self) -> None:
        for pid in self.some([30, 40], 0.3):
            program, _ = self.pick(*self.bases)
            words = (program, "-m", "ipykernel_launcher", "-f", self.at("run", "kernel-1.json")) if self.likely(0.5) else (program, "weigh.py")
            self.processes[pid] = Process(pid, 1, program, words, self.at("spring"), dict(self.variables), float(pid))

    def model(self) -> ModelInstaller:
        reader = MemoryReader(self.system, self.files, variables=self.variables, home=self.home, folder=self.at("spring"), processes=self.processes, **({"registry": self.registry} if self.registry else {}))
        return ModelInstaller(reader, INDEX)

    def library(self, chance: random.Random) -> None:
        """Most base Pythons have what an environment is created with, and what a program imports of the library."""
        for program, version in self.bases:
            library = self.join(*program.split(self.sign)[:-1], "Lib") if self.system == "windows" else self.join(program.rpartition("/bin/")[0], "lib", f"python{version.rpartition('.')[0]}")
            for name in ("venv/__init__.py", "ensurepip/__init__.py"):
                if chance.random() < 0.9:
                    self.put(self.join(library, name), "")
            self.put(self.join(library, "statistics.py"), "def mean(values): pass\n")

    def changes(self) -> Iterator[list[str]]:
        """What changes such a machine, some of that one after another, and what it looks like at the end."""
        self.chance = random.Random(f"changes {len(self.files)} {self.home} {self.path}")
        prefixes, kernels = [prefix for prefix, _ in self.prefixes] or [self.at("none")], ["heath", "orchard", "python3", "Moor", "odd", "made"]
        made, package, base = self.at(self.pick("made", "spring/made", "new made")), lambda: self.pick("hive", "comb", "peat", "hive<2", "comb==0.9", "gone", "broken"), self.pick(*self.bases)[0]
        here = self.pick(*prefixes)
        forms: list[list[str]] = [
            ["prepare", made, "--python", base, *self.pick([], ["--see-base"]), *self.pick([], ["--want", package()], ["--from", self.at("spring")], ["--want", "ipykernel", "--kernel", "made"]), *self.pick([], ["--point-editor"])],
            ["fill", here, package(), package()], ["fill", here, "--remove", package()], ["fill", made, "ipykernel"], ["register", here, *self.pick([], ["--bring-package"]), *self.pick([], ["--own-path"], ["--reach", "env"], ["--explain"])],
            ["register", self.pick(made, here), "--id", self.pick(*kernels), *self.pick([], ["--take-over"]), "--label", "Of the moor"], ["rehearse", self.pick(*kernels), *self.pick([], ["--import", "hive"])], ["unregister", self.pick(*kernels), self.pick(*kernels)], ["unregister", self.pick(*kernels), "--undo"],
            ["point", "editor", self.pick(made, here)], ["point", f"notebook:{self.at('spring', self.pick('weights', 'late') + '.ipynb')}", f"kernel:{self.pick(*kernels)}"], ["point", "editor", "--undo"], ["record", here, "-o", self.at("kept.txt"), *self.pick([], ["--everything"], ["--used", self.at("spring")])],
            ["why", self.pick("hive", "comb", "beekeeper", "broken", "from hive import wax", "statistics"), "--in", here, "--fix"], ["why", self.pick("hive", "comb", "beekeeper", "combs", "hive.extra"), "--in", here, "--prove"], ["why", "comb", "--in", here, "--against", self.pick(*prefixes)],
            ["contrast", here, self.pick(made, base, self.at("kept.txt"))], ["discard", here, *self.pick([], ["--with-own-files"])], ["discard", made, *self.pick([], ["--dry-run"])], ["register", base, "--reach", "machine"], ["fill", base, package()],
        ]  # fmt: skip
        for words in self.some(forms, 0.55):
            yield words if words[0] in ("rehearse", "contrast") or {"--prove", "--against", "--dry-run"} & set(words) else [*words, "--yes"]
        yield from (["here"], ["kernels"], ["survey"])

    def questions(self) -> Iterator[list[str]]:
        """Those that read, and those that try."""
        yield from (["here", "-v"], ["survey", "-v"], ["kernels", "-v"], ["packages"], ["why", "."])
        names = [prefix for prefix, _ in self.prefixes]
        for name in names[:2]:
            yield from (["packages", name, "--origin", "own"], ["enter", name], ["why", self.pick("hive", "comb", "beekeeper", "broken"), "--in", name], ["why", self.pick("statistics", "tomllib", "hive.extra", "combs", "hvie", "from hive import wax"), "--in", name])
        if len(names) > 1:
            yield ["contrast", names[0], names[1]]


def said_of(seeds: Iterable[int], changing: bool) -> Iterator[str]:
    """What each line prints, its status, and what it changed."""
    for seed in seeds:
        made = Made(seed)
        yield f"== {seed}: {made.system}"
        model, top = made.model(), "C:\\" if made.system == "windows" else "/"
        for words in made.changes() if changing else made.questions():
            before = tree(model.reader, top)
            status, out, err = model.typed(*words)
            assert "a failure of Kalyx itself" not in err, f"{seed}: {words}\n{err}"
            after = [text for text in changed(before, tree(model.reader, top)) if text != "as it was" and "journal" not in text and ".dist-info" not in text]
            yield from [f"$ kalyx {' '.join(words)}", *(f"  {text}".rstrip() for text in (out + err).splitlines()), *(f"  * {text[:150]}" for text in after), f"  = {status}"]


for first in range(0, MACHINES, IN_ONE_FILE):
    for name in ("", "changed-"):
        SCENES.add(lambda first=first, name=name: said_of(range(first, first + IN_ONE_FILE), bool(name)), f"{name}{first:03}")


@pytest.mark.parametrize("name", SCENES.names)
def test_many(name):
    assert not (difference := SCENES.difference(name)), difference


def without(made: Made, place: str) -> ModelInstaller:
    """The machine on which the system does not show this file or folder."""
    files = {**made.files, place: None if place in made.files else Shut()}
    made.files, before = files, made.files
    try:
        return made.model()
    finally:
        made.files = before


@pytest.mark.parametrize("seed", range(200, 206))
def test_what_is_refused_is_named_where_it_changes_an_answer(seed):
    """Each answer about a machine with a file or folder that may not be read is as before, or names the place."""
    made, chance = Made(seed), random.Random(f"refused {seed}")
    path = made.model().reader.path
    links = {target: link for link, target in made.files.items() if isinstance(target, Link)}
    places = sorted({place for file in made.files for place in (file, path.dirname(file)) if not isinstance(made.files.get(place), Link)} - {program for program, _ in made.bases})  # a shell passes over such a program
    forms = [[*words, *form] for words in made.questions() for form in (["--json"], ["--plain", "-v"])]
    before = [made.model().typed(*words) for words in forms]
    for place in chance.sample(places, min(3, len(places))):
        # A program is named by the link that starts it; a path in the home folder may be shortened.
        names = {name.replace("\\", sign) for name in (place, links.get(place, place), links.get(path.basename(place), place), place.replace(made.home, "~", 1)) for sign in ("\\", "\\\\")}
        statuses = []
        for words, (_, was, _) in zip(forms, before, strict=True):
            status, out, err = without(made, place).typed(*words)
            statuses.append(status)
            assert "a failure of Kalyx itself" not in err, (seed, place, words, err)
            # In JSON the reason stands in the line after the path's.
            lines = re.sub(r'",\n\s*"reason": "', " ", out + err).splitlines()
            is_named = any(name in line and "permission denied" in line for line in lines for name in names)
            assert out == was or is_named or "may not be run" in out + err, (seed, place, words, out, err)
        assert statuses[::2] == statuses[1::2], (seed, place, forms, statuses)


def test_where_a_refusal_stands():
    """In the JSON answer, once; as text on standard error, unless the answer names the place; the first three, -v all."""
    shut = {f"/home/keeper/spring/{name}": Shut(1001) for name in ("bog", "fen", "heath", "moor")}
    files = {"/usr/bin/python3.11": BINARY, "/usr/bin/python3": Link("python3.11"), "/usr/lib/python3.11/os.py": "", **{f"{folder}/x": "" for folder in shut}, **shut}
    model = ModelInstaller(MemoryReader("linux", files, variables={"PATH": ":".join(["/usr/bin", *shut]), "SHELL": "/bin/bash"}, folder="/home/keeper/spring"), INDEX)
    status, out, err = model.typed("survey", "--json")
    assert [(row["path"], row["reason"]) for row in json.loads(out)["unread"]] == [(folder, "permission denied") for folder in shut] and (status, err) == (0, "")
    named, lead = [f"{folder} (permission denied)" for folder in shut], "kalyx: the answer may lack what could not be read: "
    assert model.typed("survey", "--plain")[2] == f"{lead}{', '.join(named[:3])} and 1 more (-v names them)\n"
    assert model.typed("survey", "--plain", "-v")[2] == f"{lead}{', '.join(named)}\n"
    assert model.typed("enter", "nowhere", "--json")[2].startswith(lead)
    site = "/usr/lib/python3.11/site-packages"
    alone = ModelInstaller(MemoryReader("linux", {**dict.fromkeys(["/usr/lib/python3.11/os.py", f"{site}/x"], ""), "/usr/bin/python3": BINARY, site: Shut(1001)}, variables={"PATH": "/usr/bin"}), INDEX)
    _, out, err = alone.typed("packages", "/usr/bin/python3", "--plain")
    assert f"not read  {site}: permission denied" in out and err == ""


def test_what_is_the_users_own_is_so_where_nothing_starts_too():
    """Files that no package brought, as a removal names them, of the same environment with its interpreter and without."""
    total = 0
    for made in map(Made, range(300, 324)):
        programs = {path for path in made.files if re.search(r"[/\\](bin|Scripts)[/\\]python[\d.]*(\.exe)?$", path)}
        for prefix, _ in made.prefixes:
            whole, made.files = made.files, {path: content for path, content in made.files.items() if not (path.startswith(prefix) and path in programs)}
            dead, made.files = made.model().reader, whole
            alive, without_one = ({*unowned_files(reader, read_environment(reader, prefix))} for reader in (made.model().reader, dead))
            assert alive <= without_one, (made.system, prefix, alive, without_one)
            total += len(alive)
    assert total > 20


# What an index does not have, or what no installation changes; another kernel than the one that is wrong.
NO_FAULT = ("No matching distribution", "versions: none", "conflict", "import broken  fails")
DEAD = {"kernel-package-absent", "no-connection-file", "interpreter-gone", "kernel-absent", "spec-unreadable"}
CHANGES_NOTHING = {"run-with", "run-without", "activate", "write-import", "by-hand"}
WITHOUT_EFFECT = ("then choose that kernel", "for development")


def findings_in(node: Any) -> Iterator[dict[str, Any]]:
    """Every finding of an answer, wherever it stands there."""
    if isinstance(node, dict) and {"cause", "fixes", "evidence"} <= node.keys():
        yield node
    for item in node.values() if isinstance(node, dict) else node if isinstance(node, list) else ():
        yield from findings_in(item)


def named(finding: dict[str, Any]) -> tuple[str, ...]:
    return finding["cause"], finding["message"], *sorted(str(item.get("path")) for item in finding["evidence"])


def carried_out(model: ModelInstaller, command: list[str]) -> str | None:
    """Why a printed line does not end well; empty where it does, None where what the index lacks keeps it from that."""
    if command[0] == "kalyx":
        status, out, err = model.typed(*command[1:], "--yes")
        text = out + err
    else:
        ended = model.run(command)
        status, text = ended.status, (ended.output + ended.errors).decode()
    return "" if not status else None if any(words in text for words in NO_FAULT) else text


@pytest.mark.parametrize("first", (400, 410, 420))
def test_what_is_printed_as_a_fix_works(first):
    """Every fix that commands alone carry out ends well, the same question finds that fault no more, and its undo undoes it.

    What an installer brings along is known only afterwards: packages that came stay.
    """
    tried = 0
    for made in map(Made, range(first, first + 10)):
        for words in [["here"], ["kernels"], ["survey"], *(words for words in made.questions() if words[0] == "why")]:
            _, out, _ = made.model().typed(*words, "--json")
            before = {named(finding): finding for finding in findings_in(json.loads(out or "{}"))}
            for finding in before.values():
                for fix in finding["fixes"]:
                    commands = [step["command"] for step in fix["steps"]]
                    by_hand = any(command is None or "-e" in command for command in commands) or {step["kind"] for step in fix["steps"]} & CHANGES_NOTHING
                    if by_hand or fix["state"] == "may-help" or finding["cause"] == "server-bound" or any(text in fix["message"] for text in WITHOUT_EFFECT):
                        continue
                    model, tried = made.model(), tried + 1
                    was = kept(model)
                    ends = [carried_out(model, command) for command in commands]
                    assert not any(ends), (made.system, words, named(finding), commands, ends)
                    _, after, _ = model.typed(*words, "--json")
                    new = {named(item): item for item in findings_in(json.loads(after or "{}"))}
                    dead = [name for name in new if name[0] in DEAD and name not in before and finding["cause"] == "kernel-absent"]
                    assert None in ends or (named(finding) not in new and not dead), (made.system, words, named(finding), commands, dead)
                    back = [word.strip('"') for word in shlex.split(fix["undo"] or "", posix=made.system != "windows")]
                    assert None in ends or not back or (carried_out(model, back) == "" and kept(model) == was), (made.system, words, named(finding), commands, back)
    assert tried > 20


def test_the_line_of_a_refusal_leads_further():
    """Each refusal that ends with a line: the line ends well, or tells a fix, and the same call is not refused so again."""
    tried = 0
    for made in map(Made, range(430, 448)):
        calls = [[*words, *more] for prefix, _ in made.prefixes for words, more in (
            (["fill", prefix, "hive"], ["--yes"]), (["register", prefix], ["--yes"]), (["enter", prefix], []), (["record", prefix], []), (["contrast", prefix, prefix], []),
            (["point", "editor", prefix], ["--yes"]), (["point", f"notebook:{made.at('spring', 'weights.ipynb')}", prefix], ["--yes"]), (["discard", prefix], ["--yes"]))]  # fmt: skip
        for words in calls:
            model = made.model()
            status, _, err = model.typed(*words)
            line = re.search(r": ((?:kalyx |['\"]?(?:/|[A-Z]:\\)[^:;]* -m ensurepip).*)$", err.strip())
            if status != 2 or line is None or "; then: " in err:
                continue
            command = [word.strip('"') for word in shlex.split(line[1], posix=made.system != "windows")]
            tried += 1
            if command[1] == "why":
                _, out, _ = model.typed(*command[1:])
                assert "fix  " in out, (made.system, words, err, out)
                continue
            ended = carried_out(model, command)
            assert ended is None or (not ended and model.typed(*words)[2] != err), (made.system, words, err, ended)
    assert tried > 60


def kept(model: ModelInstaller) -> dict[str, str]:
    """What stands on the machine but for Kalyx's own notes, and what an installer put there."""
    ours = ("kalyx-removed", f"kalyx{model.reader.path.sep}", ".kalyx", "site-packages", f"{model.reader.path.sep}caches{model.reader.path.sep}")
    return {path: text.partition(" @")[0] for path, text in tree(model.reader, model.reader.path.splitdrive(model.reader.home)[0] + model.reader.path.sep).items() if not any(word in path for word in ours)}


@pytest.mark.parametrize("first", (100, 118))
def test_what_is_done_is_undone(first):
    undone = 0
    for seed in range(first, first + 18):
        made = Made(seed)
        model = made.model()
        for words in made.changes():
            if words[0] not in ("point", "register", "unregister", "fill") or "--undo" in words:
                model.typed(*words)
                continue
            before = kept(model)
            status, out, _ = model.typed(*words, "--json")
            answer = json.loads(out)
            assert status != 2 or kept(model) == before, (seed, words)
            if kept(model) != before:
                undo = answer["undo"]
                assert model.typed(*undo[1:], "--yes")[0] == 0, (seed, words, undo)
                assert kept(model) == before, (seed, words, undo)
                undone += 1
    assert undone > 5
