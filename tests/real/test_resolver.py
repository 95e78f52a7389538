"""What is found by reading is what each interpreter's own finder finds, over every module of real environments."""

import ast
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.resolver import Resolver
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.system.live_reader import LiveReader
from tests.conftest import make_environment
from tests.equipment import NEW, OLD, REAL, some

# Runs in the interpreter: every name below its path that could be a module, and what its own finders say to it.
# No module is imported: the folders of the parent's specification are handed down.
FINDER = r"""
import os, sys
from importlib.machinery import PathFinder
names = set(sys.builtin_module_names)
sys.path[:] = [entry for entry in sys.path if entry and "__" not in entry]
def may_be(stem): return stem.replace("_", "a").isalnum() and not stem[0].isdigit()
def walk(folder, before, depth):
    if not os.path.isdir(folder) or depth > 6:
        return
    for entry in os.listdir(folder):
        if os.path.isdir(os.path.join(folder, entry)):
            if may_be(entry) and entry != "__pycache__":
                names.add(before + entry)
                walk(os.path.join(folder, entry), before + entry + ".", depth + 1)
        elif entry.endswith((".py", ".so", ".pyc")) and may_be(entry.split(".")[0]) and entry.split(".")[0] != "__init__":
            names.add(before + entry.split(".")[0])
for entry in sys.path:
    walk(entry, "", 0)
names.update(eval(sys.argv[1]))
known = {}
def spec_of(name):
    if name not in known:
        parent, spec = name.rpartition(".")[0], None
        if not parent:
            for finder in sys.meta_path:
                spec = PathFinder._get_spec(name, sys.path) if finder is PathFinder else finder.find_spec(name, None)
                if spec:
                    break
        else:
            upper = spec_of(parent)
            if upper is not None and upper.submodule_search_locations is not None:
                spec = PathFinder._get_spec(name, list(upper.submodule_search_locations))
        if spec is not None and (spec.origin or "").endswith("__init__.py") and not spec.submodule_search_locations:
            spec.submodule_search_locations = [os.path.dirname(spec.origin)]  # the build tools' own finder leaves them out
        known[name] = spec
    return known[name]
told = {}
for name in sorted(names):
    spec = spec_of(name)
    if spec is None or (spec.loader is None and not spec.submodule_search_locations):
        told[name] = None
    elif spec.origin in (None, "namespace"):
        told[name] = list(spec.submodule_search_locations)
    else:
        told[name] = spec.origin
print("<<" + repr(told) + ">>")
"""


def compare(executable: str, variables: dict[str, str], more: tuple[str, ...] = ()) -> int:
    done = subprocess.run(
        [executable, "-c", FINDER, repr(more)], capture_output=True, text=True, cwd="/", env=variables, check=False
    )
    assert done.returncode == 0, done.stderr
    told = ast.literal_eval(done.stdout.rpartition("<<")[2].rpartition(">>")[0])
    reader = LiveReader()
    interpreter = read_interpreter(reader, executable)
    resolver = Resolver(reader, interpreter, search_path(reader, interpreter, Invocation(variables=variables)), "/")
    different = []
    for name, theirs in told.items():
        location = resolver.resolve(name).location
        mine = (
            None
            if location is None
            else "built-in"
            if location.kind == "builtin"
            else location.portions
            if location.kind == "namespace"
            else location.path
        )
        if mine != theirs and theirs != "frozen":
            different.append((name, theirs, mine))
    assert not different, f"{len(different)} of {len(told)}: {different[:5]}"
    return len(told)


PLAIN = {"PATH": "/usr/bin:/bin", "HOME": "/nowhere", "LANG": "C.UTF-8"}
INSTALLED = [item.executable for item in REAL if item.implementation == "cpython" and not item.version.startswith("2.")]


@pytest.mark.parametrize("executable", [*INSTALLED, sys.executable], ids=[*(item.version for item in REAL if item.executable in INSTALLED), "own"])
def test_every_module_of_what_is_here(executable):
    assert compare(executable, PLAIN) > 700


@pytest.mark.parametrize("version", some(OLD, "3.9", NEW))
def test_odd_places(version, tmp_path):
    """Zip files, bytecode alone, folders of one namespace on several entries, names of folders and files at once."""
    python = make_environment(version, tmp_path / "heath", "--without-pip")
    site = tmp_path / "heath" / "lib" / f"python{version}" / "site-packages"
    with zipfile.ZipFile(tmp_path / "combs.zip", "w") as archive:
        for name in (
            "wax.py",
            "cells/__init__.py",
            "cells/brood.py",
            "cells/inner/__init__.py",
            "cells/inner/egg.py",
            "plain/leaf.py",
        ):
            archive.writestr(name, "")
        archive.writestr("listed/", "")
        archive.writestr("listed/leaf.py", "")
    files = ["both.py", "both/__init__.py", "spread/one.py", "shadow.py", "deep/__init__.py", "deep/er/est.py", "só.py"]
    for root, names in (
        (site, files),
        (tmp_path / "more", ["spread/two.py", "shadow/__init__.py", "only.txt", "dotted.name.py"]),
    ):
        for name in names:
            (root / name).parent.mkdir(parents=True, exist_ok=True)
            (root / name).write_text("")
    subprocess.run([python, "-c", "import py_compile, sys; py_compile.compile(sys.argv[1], cfile=sys.argv[2])", str(site / "both.py"),
                    str(site / "frozen_comb.pyc")], check=True)  # fmt: skip
    (site / "more.pth").write_text(f"{tmp_path / 'more'}\n{tmp_path / 'combs.zip'}\n")
    asked = (
        "wax",
        "cells.brood",
        "cells.inner.egg",
        "cells.nothing",
        "plain",
        "plain.leaf",
        "listed",
        "listed.leaf",
        "spread.two",
        "frozen_comb",
        "only",
        "dotted",
    )
    assert compare(python, PLAIN, asked) > 500


@pytest.mark.parametrize("version", some(OLD, NEW))
def test_both_older_ways_of_namespaces(version, tmp_path):
    """Only importing tells: their folders are joined by code in the package's own file."""
    python = make_environment(version, tmp_path / "heath", "--without-pip")
    lines = "__path__ = __import__('pkgutil').extend_path(__path__, __name__)\n"
    for root in ("one", "two"):
        folder = tmp_path / root / "moorland"
        folder.mkdir(parents=True)
        (folder / "__init__.py").write_text(lines)
        (folder / f"{root}.py").write_text("")
    variables = {**PLAIN, "PYTHONPATH": f"{tmp_path}/one:{tmp_path}/two"}
    code = "import moorland.one, moorland.two; print([moorland.one.__file__, moorland.two.__file__])"
    said = ast.literal_eval(
        subprocess.run([python, "-c", code], env=variables, capture_output=True, text=True, check=True).stdout
    )
    reader = LiveReader()
    interpreter = read_interpreter(reader, python)
    resolver = Resolver(reader, interpreter, search_path(reader, interpreter, Invocation(variables=variables)), "/")
    assert [resolver.resolve(f"moorland.{name}").location.path for name in ("one", "two")] == said
    assert all(Path(path).exists() for path in said)
