"""Why an import fails, word for word (diagnoses/*.txt): machines in memory, on which a model of Python tries it."""

from __future__ import annotations

import struct
import time
from collections.abc import Iterable

import pytest

from kalyx.core.imports.names import parse_wanted
from kalyx.core.invocation import NAMED, Question
from kalyx.core.machine import Machine
from kalyx.core.queries.why import why_import
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.reader import Process
from kalyx.core.targets import resolve
from tests.core.test_findings import lines_of
from tests.made import BINARY, HOME, WINDOWS, Files, dist, put
from tests.support.model_python import ModelPython
from tests.support.scenes import Scenes, told

SCENES = Scenes("core/diagnoses")
scene = SCENES.add
SITE, LIBRARY, SPRING = f"{HOME}/heath/lib/python3.11/site-packages", "/usr/lib/python3.11", f"{HOME}/spring"


def machine_of(files: dict[str, object], variables: dict[str, str] | None = None, limits: Iterable[str] = (), **more: object) -> tuple[Machine, ModelPython]:
    made = Files()
    made[f"{LIBRARY}/lib-dynload/_heapq.cpython-311-x86_64-linux-gnu.so"] = b"\x7fELF"
    made[f"{LIBRARY}/statistics.py"] = "def mean(values): pass\n"
    made.update(put(files))
    reader = MemoryReader("linux", made, variables={**made.variables, **(variables or {})}, home=HOME, folder=SPRING, **more)
    model = ModelPython(reader, list(limits))
    return Machine(reader, lambda: model), model


def why(files: dict[str, object], statement: str, target: str = f"{HOME}/heath", command: str | None = None, **more: object) -> Iterable[str]:
    """The answer to one import, and what was tried for it."""
    machine, model = machine_of(files, **more)
    answer = why_import(machine, resolve(machine, target), parse_wanted(statement)[0], Question(True, command))
    error = f", {answer.error.type}: {answer.error.text}" if answer.error is not None else ""
    yield f"{answer.outcome}{error}{', from ' + answer.found_at if answer.found_at else ''}"
    yield from (f"output: {line}" for line in (answer.output or "").splitlines())
    if answer.distribution is not None:
        yield f"of {answer.distribution.name} {answer.distribution.version}"
    yield from (f"hides {path}" for path in answer.hides)
    for finding in answer.findings:
        yield from (line.removeprefix("  ") for line in lines_of(finding))
        yield from (f"  experiment: {tried.changed}: {tried.outcome}" for tried in finding.experiments)
    yield from (f"not judged: {item}" for item in answer.not_judged)
    yield from (f"tried {asked}" for asked in dict.fromkeys(model.asked[1:]))


def all_of(rows: Iterable[tuple]) -> Iterable[str]:
    """Rows of a title, the files, the statement, and what else is given."""
    for title, files, statement, *more in rows:
        yield from told(title, lambda: why(files, statement, **(more[0] if more else {})))


COMB = "def comb(): pass\n"
# A header that can be read: ELF, 64 bits, for this kind of machine, without sections.
ELF = b"\x7fELF\x02\x01\x01" + b"\0" * 9 + struct.pack("<HHIQQQIHHHHHH", 3, 62, 1, 0, 0, 0, 0, 64, 56, 0, 64, 0, 0)


@scene
def shadowing() -> Iterable[str]:
    """A file of the user's own answers to the name of another module."""
    other = {"spring/statistics.py": "x = 1\n"}
    on_path = {"variables": {"PYTHONPATH": "/moor"}}
    return all_of([
        ("a script's folder", other, "from statistics import mean"), ("it imports all the same", other, "import statistics"), ("it lacks something that a package asks for", {**other, **dist("hive", "1.0", {"hive.py": "from statistics import mean\n"})}, "import hive"),
        ("it uses what it lacks", {**other, **dist("hive", "1.0", {"hive.py": "import statistics\nstatistics.mean\n"})}, "import hive"), ("it fails", {"spring/statistics.py": "import combs\n"}, "from statistics import mean"), ("a package", {"spring/statistics/__init__.py": ""}, "from statistics import mean"),
        ("a folder without code", {"spring/statistics/notes.txt": ""}, "from statistics import mean"), ("two files, one after the other", {**other, "/moor/statistics/__init__.py": ""}, "from statistics import mean", on_path), ("PYTHONPATH", {"/moor/statistics.py": ""}, "from statistics import mean", on_path),
        ("PYTHONPATH of two folders", {"/moor/statistics.py": "", "/mire/x.py": ""}, "from statistics import mean", {"variables": {"PYTHONPATH": "/moor:/mire"}}), ("the name is taken", {**other, "spring/statistics_own.py": "", "spring/statistics_own_2.py": ""}, "from statistics import mean"),
        ("of an installed package", {"spring/hive.py": "", **dist("hive", "1.0", {"hive/__init__.py": COMB})}, "from hive import comb"), ("of a part of an installed package", {"spring/hive.py": "", **dist("hive", "1.0", {"hive/__init__.py": "", "hive/wax.py": ""})}, "import hive.wax"),
        ("it imports itself", {"spring/hive.py": "from hive import comb\n", **dist("hive", "1.0", {"hive/__init__.py": COMB})}, "from hive import comb"), ("the meant one fails too", {"spring/hive.py": "", **dist("hive", "1.0", {"hive/__init__.py": "import combs"})}, "from hive import comb"),
        ("on 3.6, whose error names no module", {"spring/statistics.py": "", "/usr/bin/python3.6": BINARY.replace(b"3.11.7", b"3.6.15"), "/usr/lib/python3.6/os.py": "", "/usr/lib/python3.6/statistics.py": "def mean(): pass"}, "from statistics import mean", {"target": "/usr/bin/python3.6"}),
        ("an older release before a newer one", {**dist("hive", "1.0", {"hive/__init__.py": ""}), **dist("hive", "2.0", {"hive/__init__.py": COMB}, where="user")}, "from hive import comb"), ("the user's, before the base's", {**dist("hive", "1.0", {"hive/__init__.py": ""}, where="user"), **dist("hive", "2.0", {"hive/__init__.py": COMB}, where="base")}, "from hive import comb", {"target": "/usr/bin/python3.11"}),
        ("the environment's, before the base's", {**dist("hive", "1.0", {"hive/__init__.py": ""}), **dist("hive", "2.0", {"hive/__init__.py": COMB}, where="base"), "~/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.7\n"}, "from hive import comb"),
    ])  # fmt: skip


@scene
def names_and_loops() -> Iterable[str]:
    """A module lacks a name, or asks for itself while it loads."""
    asks = "from hive import comb\n"
    return all_of([
        ("a name", dist("hive", "1.0", {"hive/__init__.py": "combs = 1\ncmob = 1\n"}), "from hive import comb"), ("nearly the name", dist("hive", "1.0", {"hive/__init__.py": "Comb = 1\n"}), "from hive import comb"), ("a module of nobody's", {"spring/hive.py": ""}, "from hive import comb"),
        ("a package asks", {**dist("hive", "2.0", {"hive/__init__.py": ""}), **dist("moor", "1.0", {"moor.py": asks}, "Requires-Dist: hive>=1.0")}, "import moor"), ("and says which", {**dist("hive", "2.0", {"hive/__init__.py": ""}), **dist("moor", "1.0", {"moor.py": asks}, "Requires-Dist: hive<2")}, "import moor"),
        ("an attribute", {**dist("hive", "1.0", {"hive/__init__.py": ""}), **dist("moor", "1.0", {"moor.py": "import hive\nhive.comb\n"})}, "import moor"), ("its own code refuses a name", dist("hive", "1.0", {"hive/__init__.py": "def __getattr__(name):\n raise ImportError(f'cannot import name {name!r} from hive')\n"}), "from hive import comb"),
        ("a name that the library lost", {"lib/collections/__init__.py": ""}, "from collections import Mapping"), ("asked by a package", {"lib/collections/__init__.py": "", **dist("moor", "1.0", {"moor.py": "from collections import Mapping\n"})}, "import moor"),
        ("a name that the library does not have yet", {"lib/typing.py": ""}, "from typing import override"), ("asked by a package", {"lib/typing.py": "", **dist("moor", "1.0", {"moor.py": "from typing import override\n"})}, "import moor"), ("a name without a successor", {"lib/inspect.py": ""}, "from inspect import getargspec"),
        ("a name that a table knows", dist("numpy", "1.26.0", {"numpy/__init__.py": ""}), "from numpy import float_"), ("and that went", dist("numpy", "2.1.0", {"numpy/__init__.py": ""}), "from numpy import float_"), ("asked by a package", {**dist("numpy", "2.1.0", {"numpy/__init__.py": ""}), **dist("moor", "1.0", {"moor.py": "import numpy\nnumpy.float_\n"}, "Requires-Dist: numpy>=1.20")}, "import moor"),
        ("a name of a module in the interpreter", {}, "from sys import gone"), ("a name of a part", dist("hive", "1.0", {"hive/__init__.py": "", "hive/wax.py": "comb = 1\n"}), "from hive.wax import comp"), ("two letters are others", dist("hivescale", "1.0", {"hivescale.py": ""}), "import hivscael"), ("one letter is too many", dist("hivescale", "1.0", {"hivescale.py": ""}), "import hivescalee"),
        ("a part, one letter is another", dist("hive", "1.0", {"hive/__init__.py": "", "hive/waxes.py": "", "hive/combs/x.py": "", "hive/_fen.cpython-311-x86_64-linux-gnu.so": ELF}), "import hive.waxs"), ("a folder in a package", dist("hive", "1.0", {"hive/__init__.py": "", "hive/combs/x.py": ""}), "import hive.comsb"), ("a compiled part", dist("hive", "1.0", {"hive/__init__.py": "", "hive/_fens.cpython-311-x86_64-linux-gnu.so": ELF}), "import hive._fen"), ("a data file that is called so", dist("hive", "1.0", {"hive/__init__.py": "", "hive/waxes.txt": ""}), "import hive.waxs"),
        ("a loop of two", {"spring/a.py": "from b import y\nx = 1\n", "spring/b.py": "from a import x\ny = 1\n"}, "import a"), ("a loop in a package", dist("hive", "1.0", {"hive/__init__.py": "from .wax import comb\nx = 1\n", "hive/wax.py": "from . import x\ncomb = 1\n"}), "import hive"),
        ("a loop by an attribute", {"spring/a.py": "import b\nx = 1\n", "spring/b.py": "import a\na.x\n"}, "import a"), ("a module that asks for itself", {"spring/a.py": "from a import x\n"}, "import a"), ("a loop of three, one of the library", {"spring/a.py": "import b\nx = 1\n", "spring/b.py": "import statistics\n", "lib/statistics.py": "from a import x\n"}, "import a"),
        ("a loop on 3.7, which does not say so", {"spring/a.py": "from b import y\nx = 1\n", "spring/b.py": "from a import x\ny = 1\n", "/usr/bin/python3.7": BINARY.replace(b"3.11.7", b"3.7.16"), "/usr/lib/python3.7/os.py": ""}, "import a", {"target": "/usr/bin/python3.7"}),
        ("a name on 2.7", {"spring/a.py": "x = 1\n", "/usr/bin/python2.7": BINARY.replace(b"3.11.7", b"2.7.18"), "/usr/lib/python2.7/os.py": ""}, "from a import y", {"target": "/usr/bin/python2.7"}), ("a submodule on 2.7", {"spring/a/__init__.py": "import wax.comb\n", "spring/wax/__init__.py": "", "/usr/bin/python2.7": BINARY.replace(b"3.11.7", b"2.7.18"), "/usr/lib/python2.7/os.py": ""}, "import a", {"target": "/usr/bin/python2.7"}),
    ])  # fmt: skip


@scene
def requirements() -> Iterable[str]:
    """A package asks for another that is not there, or is there in another version."""
    asks = {"moor.py": "import hive\n"}
    chain = {**dist("fen", "3.0", {"fen.py": "import moor\n"}, "Requires-Dist: moor"), **dist("moor", "1.0", asks, "Requires-Dist: hive>=2", "Requires-Dist: peat; python_version < '3'", "Requires-Dist: bog>1")}
    refuses = {"moor.py": "import hive\nraise ImportError('moor requires hive>=2, got ' + hive.v)\n"}
    return all_of([
        ("what it requires", dist("moor", "1.0", asks, "Requires-Dist: hive>=2"), "import moor"), ("through another, with more that is missing", chain, "import fen"), ("it requires nothing", dist("moor", "1.0", asks), "import moor"), ("the module has another name", dist("moor", "1.0", {"moor.py": "import yaml\n"}, "Requires-Dist: PyYAML>=5"), "import moor"),
        ("as an extra", dist("moor", "1.0", asks, "Provides-Extra: wax", "Requires-Dist: hive>=2; extra == 'wax'"), "import moor"), ("of two extras, the smaller", dist("moor", "1.0", asks, "Provides-Extra: all", "Provides-Extra: wax", "Requires-Dist: hive; extra == 'all'", "Requires-Dist: peat; extra == 'all'", "Requires-Dist: hive; extra == 'wax'"), "import moor"),
        ("the error names the extra", dist("moor", "1.0", {"moor.py": "try:\n import hive\nexcept ImportError as error:\n raise ImportError('pip install moor[all]') from error\n"}, "Provides-Extra: all", "Provides-Extra: wax", "Requires-Dist: hive; extra == 'all'", "Requires-Dist: peat; extra == 'all'", "Requires-Dist: hive; extra == 'wax'"), "import moor"),
        ("only the error names an extra", dist("moor", "1.0", {"moor.py": "raise RuntimeError('run: pip install moor[wax]')\n"}, "Provides-Extra: wax"), "import moor"), ("an extra that is none of its own", dist("moor", "1.0", {"moor.py": "raise RuntimeError('run: pip install moor[peat]')\n"}, "Provides-Extra: wax"), "import moor"),
        ("as an extra, by the name of its module", dist("moor", "1.0", {"moor.py": "import yaml\n"}, "Provides-Extra: wax", "Requires-Dist: PyYAML; extra == 'wax'"), "import moor"), ("as an extra and required", dist("moor", "1.0", asks, "Provides-Extra: wax", "Requires-Dist: hive>=2; extra == 'wax'", "Requires-Dist: hive"), "import moor"),
        ("the version here is too old, and it says so", {**dist("hive", "1.0", {"hive.py": "v = '1.0'"}), **dist("moor", "1.0", refuses, "Requires-Dist: hive>=2")}, "import moor"), ("it says so without reason", {**dist("hive", "2.0", {"hive.py": "v = '2.0'"}), **dist("moor", "1.0", refuses, "Requires-Dist: hive>=2")}, "import moor"),
        ("an older one has no such part", {**dist("hive", "1.0", {"hive/__init__.py": ""}), **dist("moor", "1.0", {"moor.py": "import hive.wax\n"}, "Requires-Dist: hive>=2")}, "import moor"), ("and nobody says which is needed", {**dist("hive", "1.0", {"hive/__init__.py": ""}), **dist("moor", "1.0", {"moor.py": "import hive.wax\n"}, "Requires-Dist: hive")}, "import moor"),
        ("an egg that requires", {"site/moor.py": "import hive\n", "site/moor-1.0.egg-info/PKG-INFO": "Name: moor\nVersion: 1.0\n", "site/moor-1.0.egg-info/requires.txt": "hive>=2\n\n[wax]\npeat\n", "site/moor-1.0.egg-info/installed-files.txt": "../moor.py\n"}, "import moor"), ("an egg with an extra", {"site/moor.py": "import peat\n", "site/moor-1.0.egg-info/PKG-INFO": "Name: moor\nVersion: 1.0\n", "site/moor-1.0.egg-info/requires.txt": "hive>=2\n\n[wax]\npeat\n", "site/moor-1.0.egg-info/installed-files.txt": "../moor.py\n"}, "import moor"),
        ("a package that collects what is missing", dist("moor", "1.0", {"moor.py": "raise ImportError(\"Unable to import required dependencies:\\nhive: No module named 'hive'\")\n"}, "Requires-Dist: hive"), "import moor"), ("it hides the first error", dist("moor", "1.0", {"moor.py": "try:\n import hive\nexcept ImportError:\n raise RuntimeError('moor is broken') from None\n"}), "import moor"),
        ("the first error is the cause", dist("moor", "1.0", {"moor.py": "try:\n import hive\nexcept ImportError:\n raise ImportError('moor needs more')\n"}, "Requires-Dist: hive"), "import moor"), ("a part of the library", dist("moor", "1.0", {"moor.py": "import tkinter\n"}), "import moor"), ("what the library no longer has", {"/usr/bin/python3.13": BINARY.replace(b"3.11.7", b"3.13.0"), "/usr/lib/python3.13/os.py": "", "spring/moor.py": "import cgi\n"}, "import moor", {"target": "/usr/bin/python3.13"}),
        ("what it does not have yet", dist("moor", "1.0", {"moor.py": "import compression.zstd\n"}), "import moor"), ("one's own code asks for what it does not have yet", {}, "import compression.zstd"), ("one's own code asks", {"spring/moor.py": "import hive\n"}, "import moor"), ("in another environment", {"spring/moor.py": "import hive\n", **dist("hive", "1.0", {"hive.py": ""}, where="orchard")}, "import moor"),
    ])  # fmt: skip


@scene
def broken_files() -> Iterable[str]:
    """Files are damaged, gone, or set aside."""
    hive = {"hive/__init__.py": "from hive import wax\n", "hive/wax.py": "comb = 1\n"}
    lost = {key: content for key, content in dist("hive", "1.0", hive).items() if not key.endswith("wax.py")}
    return all_of([
        ("cut short", {**dist("hive", "1.0", hive), "site/hive/wax.py": "comb =\n"}, "import hive"), ("empty, and nobody asks for more", {**dist("hive", "1.0", hive), "site/hive/wax.py": ""}, "import hive"), ("empty", {**dist("hive", "1.0", hive), "site/hive/wax.py": ""}, "from hive.wax import comb"), ("longer", {**dist("hive", "1.0", hive), "site/hive/wax.py": "raise ValueError('nonsense')\n"}, "import hive"),
        ("another content of that size", {**dist("hive", "1.0", hive), "site/hive/wax.py": "comb = +\n"}, "import hive"), ("null bytes", {"spring/hive.py": "x = 1\0\n"}, "import hive"), ("null bytes in a package", {**dist("hive", "1.0", hive), "site/hive/wax.py": b"comb = \0\n"}, "import hive"), ("not UTF-8", {"spring/hive.py": b"x = '\xe9'  # a comment\n"}, "import hive"), ("not UTF-8, and it says so", {"spring/hive.py": b"# coding: latin-1\nx = '\xe9'\nraise ValueError\n"}, "import hive"),
        ("it dies, and a compiled part is cut", {**dist("hive", "1.0", {"hive/__init__.py": "die('SIGSEGV')\n", "hive/_wax.cpython-311-x86_64-linux-gnu.so": ELF, "hive/wax.py": ""}), "site/hive/_wax.cpython-311-x86_64-linux-gnu.so": b"\x7fELF", "site/hive/wax.py": "x"}, "import hive"), ("it dies, and all is there", dist("hive", "1.0", {"hive/__init__.py": "die('SIGSEGV')\n", "hive/_wax.cpython-311-x86_64-linux-gnu.so": ELF}), "import hive"), ("a file is gone", lost, "import hive"), ("a file is gone, that of a compiled part", dist("hive", "1.0", {"hive/__init__.py": "from hive import _wax\n"}, recorded=["hive/_wax.so,,"]), "import hive"), ("all are gone", {key: content for key, content in dist("hive", "1.0", hive).items() if "dist-info" in key}, "import hive"), ("a data file is gone", dist("hive", "1.0", {"hive/__init__.py": f"read('{SITE}/hive/data.txt')\n"}, recorded=["hive/data.txt,,"]), "import hive"),
        ("a data file of nobody's", dist("hive", "1.0", {"hive/__init__.py": f"read('{SITE}/hive/data.txt')\n"}), "import hive"), ("a data file, by a path of its own", {"spring/hive.py": "read('data.txt')\n"}, "import hive"), ("set aside by an installer", {"site/~ive/__init__.py": "", "site/~ive-1.0.dist-info/METADATA": "Name: hive\nVersion: 1.0\n", "site/~ive-1.0.dist-info/RECORD": "hive/__init__.py,,\nhive-1.0.dist-info/METADATA,,\n"}, "import hive"),
        ("set aside, without metadata", {"site/~ive/__init__.py": ""}, "import hive"), ("set aside, and the name is taken", {"site/~ive/__init__.py": "", "site/~ive-1.0.dist-info/METADATA": "Name: hive\nVersion: 1.0\n", "site/~ive-1.0.dist-info/RECORD": "hive/__init__.py,,\n", "site/hive-1.0.dist-info/x": ""}, "import hive"), ("a name that only looks so", {"site/~hive/__init__.py": "", "site/~vie/__init__.py": ""}, "import hive"),
        ("a compiled part is cut", {**dist("hive", "1.0", {"hive.cpython-311-x86_64-linux-gnu.so": ELF + b"ERROR(file too short)"}), "site/hive.cpython-311-x86_64-linux-gnu.so": b"\x7fELF ERROR(/x/hive.so: file too short)"}, "import hive"), ("of nobody's", {"site/hive.cpython-311-x86_64-linux-gnu.so": b"ERROR(invalid ELF header)"}, "import hive"), ("a part of a package is cut, and the error names no file", {**dist("hive", "1.0", {"hive/__init__.py": "from hive import _wax\n", "hive/_wax.cpython-311-x86_64-linux-gnu.so": ELF + b"ERROR(cut short)"}), "site/hive/_wax.cpython-311-x86_64-linux-gnu.so": b"\x7fELF ERROR(it cannot be loaded)"}, "import hive"), ("null bytes in a part that another module asks for", {"spring/moor.py": "from hive import wax\n", **dist("hive", "1.0", {"hive/__init__.py": "", "hive/wax.py": "comb = 1\n"}), "site/hive/wax.py": b"comb = \0\n"}, "import moor"), ("only the folder is left", {"site/hive/__pycache__/x.pyc": b""}, "from hive import comb"),
        ("only compiled forms are left", {"site/hive/__pycache__/__init__.cpython-310.pyc": b"", "site/hive/wax.pyc": b""}, "from hive import comb"), ("an editable install whose folder is gone", {"site/__editable__.hive-1.0.pth": "/moor/hive/src\n", **dist("hive", "1.0", {}, recorded=["__editable__.hive-1.0.pth,,"]), "site/hive-1.0.dist-info/direct_url.json": '{"url": "file:///moor/hive", "dir_info": {"editable": true}}'}, "import hive"),
        ("an egg link whose folder is gone", {"site/hive.egg-link": "/moor/hive\n.", "site/easy-install.pth": "/moor/hive\n"}, "import hive"), ("a file that may not be read", {**dist("hive", "1.0", hive), "site/hive/wax.py": None}, "import hive"),
    ])  # fmt: skip


@scene
def compiled_parts() -> Iterable[str]:
    """Compiled modules that the loader refuses."""
    so = "cpython-311-x86_64-linux-gnu.so"

    def part(text: str, *metadata: str, more: dict[str, object] | None = None) -> dict[str, object]:
        return {**dist("hive", "1.0", {"hive/__init__.py": "from hive import _wax\n", f"hive/_wax.{so}": ELF + f"ERROR({text})".encode()}, *metadata), **(more or {})}

    numpy = dist("numpy", "2.1.0", {"numpy/__init__.py": ""})
    old = "A module that was compiled using NumPy 1.x cannot be run in NumPy 2.1.0"
    size = "numpy.ndarray size changed, may indicate binary incompatibility. Expected 96 from C header, got 88 from PyObject"
    here = f"{SITE}/hive/_wax.{so}"
    return all_of([
        ("a library is missing", part("libwax.so.3: cannot open shared object file: No such file or directory"), "import hive"), ("and a requirement, which may have it", part("libwax.so.3: cannot open shared object file: No such file", "Requires-Dist: libwax>=3"), "import hive"), ("it is in a folder that is not searched", part("libwax.so.3: cannot open shared object file: No such file", more={"/opt/wax/lib/libwax.so.3": b"\x7fELF"}), "import hive"),
        ("in the environment's own", part("libwax.so.3: cannot open shared object file", more={"~/heath/lib/libwax.so.3": b""}), "import hive"), ("beside the package", part("libwax.so.3: cannot open shared object file", more={"site/hive.libs/libwax.so.3": b""}), "import hive"), ("the package lost it", dist("hive", "1.0", {"hive/__init__.py": "from hive import _wax\n", f"hive/_wax.{so}": ELF + b"ERROR(libwax.so.3: cannot open shared object file)"}, recorded=["hive.libs/libwax.so.3,,"]), "import hive"),
        ("a system's library", part("libGL.so.1: cannot open shared object file: No such file or directory", more={"/etc/os-release": "ID=debian\n"}), "import hive"), ("on another system", part("libGL.so.1: cannot open shared object file: No such file or directory", more={"/etc/os-release": "ID=fedora\n"}), "import hive"), ("a library whose number may be any", part("libtiff.so.6: cannot open shared object file: No such file or directory", more={"/etc/os-release": "ID=debian\n"}), "import hive"), ("of two numbers", part("libgdal.so.34.1: cannot open shared object file", more={"/etc/os-release": "ID=debian\n"}), "import hive"), ("a library like one", part("xlibtiff.so.6: cannot open shared object file", more={"/etc/os-release": "ID=debian\n"}), "import hive"), ("a library that is no number", part("libtiff.so.x: cannot open shared object file", more={"/etc/os-release": "ID=debian\n"}), "import hive"),
        ("of musl", part("Error loading shared library libwax.so.3: No such file or directory (needed by /x)"), "import hive"), ("the library of another Python", part("libpython3.9.so.1.0: cannot open shared object file: No such file or directory"), "import hive"),
        ("a library is too old", part(f"/lib/libc.so.6: version `GLIBC_2.38' not found (required by {here})"), "import hive"), ("of a package of its own", part(f"{SITE}/wax/libwax.so.1: version `WAX_2.0' not found (required by {here})", more=dist("wax", "1.0", {"wax/libwax.so.1": b"\x7fELF"})), "import hive"), ("of a build that says what it needs", {**part(f"/lib/libc.so.6: version `GLIBC_2.38' not found (required by {here})"), "site/hive-1.0.dist-info/WHEEL": "Tag: cp311-cp311-manylinux_2_38_x86_64\n"}, "import hive"), ("of nobody's", {f"spring/_wax.{so}": ELF + f"ERROR(/lib/libc.so.6: version `GLIBC_2.38' not found (required by {SPRING}/_wax.{so}))".encode()}, "import _wax"),
        ("another major of numpy", part(old, more=numpy), "import hive"), ("which it requires", part(old, "Requires-Dist: numpy<2", more=numpy), "import hive"), ("a newer API", part("module compiled against ABI version 0x2000009 but this version of numpy is 0x1000009", more=dist("numpy", "1.26.0", {"numpy/__init__.py": ""})), "import hive"), ("an older API", part("module compiled against ABI version 0x1000009 but this version of numpy is 0x2000009", more=numpy), "import hive"), ("another size", part(size, more=numpy), "import hive"), ("another size, of the first major", part(size, more=dist("numpy", "1.26.0", {"numpy/__init__.py": ""})), "import hive"),
        ("numpy lacks a part", part("numpy.core.multiarray failed to import", more=numpy), "import hive"), ("a version in the words", part("hive was compiled with wax 3.1 but wax 2.0 is here", more=dist("wax", "2.0", {"wax.py": ""})), "import hive"), ("numpy is not here", part(old), "import hive"), ("it is numpy itself", dist("numpy", "2.1.0", {"numpy/__init__.py": "from numpy import _core\n", f"numpy/_core.{so}": ELF + f"ERROR({old})".encode()}), "import numpy"),
        ("a symbol is missing", part("undefined symbol: PyUnicode_Gone"), "import hive"), ("a symbol of another package", part(f"{here}: undefined symbol: wax_new", more=dist("wax", "1.0", {"wax.py": ""})), "import hive"), ("for another machine", part(f"{here}: wrong ELF class: ELFCLASS32"), "import hive"), ("no init function", part("dynamic module does not define module export function (PyInit__wax)"), "import hive"), ("for another Python", dist("hive", "1.0", {"hive/__init__.py": "from hive import _wax\n", "hive/_wax.cpython-39-x86_64-linux-gnu.so": ELF}), "import hive"),
        ("for Windows", dist("hive", "1.0", {"hive/__init__.py": "from hive import _wax\n", "hive/_wax.cp311-win_amd64.pyd": WINDOWS}), "import hive"), ("its source only", dist("hive", "1.0", {"hive/__init__.py": "from hive import _wax\n", "hive/_wax.pyx": b"x"}), "import hive"), ("its source beside a build file", {"spring/hive/__init__.py": "from hive import _wax\n", "spring/hive/_wax.c": "", "spring/setup.py": ""}, "import hive"), ("memory that may not be run", part("cannot enable executable stack as shared object requires"), "import hive"), ("no space to map it", part("failed to map segment from shared object"), "import hive"),
    ])  # fmt: skip


@scene
def errors_of_code() -> Iterable[str]:
    """Code raises while it is imported, ends the interpreter, or does not end."""
    old = {"/usr/bin/python3.6": BINARY.replace(b"3.11.7", b"3.6.15"), "/usr/lib/python3.6/os.py": ""}
    on_old = {"target": "/usr/bin/python3.6"}

    def code(text: str, *metadata: str, **more: object) -> dict[str, object]:
        return {**dist("hive", "1.0", {"hive/__init__.py": text}, *metadata, where=str(more.pop("where", "site"))), **more}

    wax = dist("wax", "1.0", {"wax.py": ""})
    return all_of([
        ("an error", code("raise ValueError('no comb')\n"), "import hive"), ("of one's own code", {"spring/hive.py": "1 / 0\n"}, "import hive"), ("with a broken requirement", code("raise ValueError('no comb')\n", "Requires-Dist: wax>2", **wax), "import hive"), ("the error says what to install", code("raise RuntimeError('Please install wax.')\n", **wax), "import hive"), ("the error says to upgrade two", code("raise RuntimeError('please upgrade wax, and numpy')\n", **wax), "import hive"), *((f"the error says to upgrade: {words}", code(f"raise RuntimeError('please {words}')\n", **wax, **dist("comb.x", "1.0", {"comb.py": ""})), "import hive") for words in ("upgrade wax and numpy", "update numpy, wax", "install comb.x.", "upgrade wax. It is old", "upgrade everything and wax")),
        ("the error names nothing known", code("raise RuntimeError('Please install everything.')\n"), "import hive"),
        ("the error says to downgrade", code("raise TypeError('Descriptors cannot be created directly. Downgrade the protobuf package to 3.20.x or lower.')\n", **dist("protobuf", "4.0", {"google/protobuf.py": ""})), "import hive"), ("a library by its name", code("raise OSError('no library called \"cairo-2\" was found')\n", **{"/etc/os-release": "ID=debian\n"}), "import hive"), ("a system's library", code("raise OSError('libcairo.so.2: cannot open shared object file: No such file or directory')\n", **{"/etc/os-release": "ID=debian\n"}), "import hive"),
        ("a program is missing", code("import subprocess\nsubprocess.run()\n", **{"lib/subprocess.py": "def run():\n raise FileNotFoundError(2, 'No such file or directory', 'git')\n", "/etc/os-release": "ID=debian\n"}), "import hive"), ("a program that nobody knows", code("import subprocess\nsubprocess.run()\n", **{"lib/subprocess.py": "def run():\n raise FileNotFoundError(2, 'No such file or directory', 'waxer')\n"}), "import hive"), ("a variable is not set", code("import os\nos.get('WAX_HOME')\n", **{"lib/os.py": "def get(name): return environ[name]\n"}), "import hive"), ("a key that is no variable", code("{}['WAX_HOME']\n"), "import hive"),
        ("memory", code("raise MemoryError('Unable to allocate')\n"), "import hive", {"limits": ["RLIMIT_AS"]}), ("memory that is only low here", code("if 'RLIMIT_AS' in limits:\n raise ValueError('low')\n"), "import hive", {"limits": ["RLIMIT_AS"]}), ("open files", code("raise OSError(24, 'Too many open files')\n"), "import hive", {"limits": ["RLIMIT_NOFILE", "RLIMIT_AS"]}), ("threads", code("raise RuntimeError(\"can't start new thread\")\n"), "import hive", {"limits": ["RLIMIT_NPROC"]}), ("a file too large", code("raise OSError(27, 'File too large')\n"), "import hive", {"limits": ["RLIMIT_FSIZE"]}), ("without a limit", code("raise OSError(27, 'File too large')\n"), "import hive"),
        ("it dies", code("die('SIGSEGV')\n"), "import hive"), ("of one's own code", {"spring/hive.py": "die('SIGABRT')\n"}, "import hive"), ("it says where", code(f"leave(-11, 'Fatal Python error: Segmentation fault\\n\\nCurrent thread 0x1 (most recent call first):\\n  File \"{SITE}/wax.py\", line 3 in melt\\n  File \"{SITE}/hive/__init__.py\", line 1 in <module>')\n", **wax), "import hive"), ("it ends", code("leave(3, 'bye\\n')\n"), "import hive"), ("it hangs", code("hang()\n"), "import hive"), ("it hangs and says where", code(f"leave(None, 'Timeout (0:00:18)!\\nThread 0x1 (most recent call first):\\n  File \"<frozen x>\", line 1 in z\\n  File \"{SITE}/wax.py\", line 3 in melt\\n  File \"{SITE}/hive/__init__.py\", line 1 in <module>')\n", **wax), "import hive"), ("it asks to end", code("raise SystemExit('no')\n"), "import hive"),
        ("dots in a script", {"spring/hive.py": "from . import wax\n"}, "import hive"), ("dots in a package's part", {"spring/hive/__init__.py": "", "spring/hive/wax.py": "raise ImportError('attempted relative import with no known parent package')\n"}, "import hive.wax"), ("dots beyond the top, on 3.6", {"spring/hive/wax.py": "from .. import comb\n", "spring/hive/__init__.py": "from . import wax\n", **old}, "import hive", on_old), ("dots beyond the top", {"spring/hive/wax.py": "from .. import comb\n", "spring/hive/__init__.py": "from . import wax\n"}, "import hive"), ("more dots", {"spring/hive/wax.py": "from ...moor.fen import comb\n", "spring/hive/__init__.py": "from . import wax\n"}, "import hive"),
        ("a newer grammar", {"spring/hive.py": "\nif (x := 1): pass\n", **old}, "import hive", on_old), ("a newer grammar, of a package", {**code("if (x := 1): pass\n", where="user36"), **old}, "import hive", on_old), ("an older grammar", {"spring/hive.py": "print 'x'\n"}, "import hive"), ("an older grammar, of a package", code("print 'x'\n"), "import hive"), ("exceptions without parentheses", {"spring/hive.py": f"raise SyntaxError('multiple exception types must be parenthesized', ('{SPRING}/hive.py', 2, 0, 'x'))\n# except OSError, ValueError:\n"}, "import hive"), ("an exception and its name", {"spring/hive.py": f"raise SyntaxError('multiple exception types must be parenthesized', ('{SPRING}/hive.py', 2, 0, 'x'))\n# except OSError, error:\n"}, "import hive"), ("a name that became a word", {"spring/hive.py": "x.async = 1\n"}, "import hive"), ("for newer Pythons", code("raise ValueError\n", "Requires-Python: >=3.12"), "import hive"), ("for older ones", code("raise ValueError\n", "Requires-Python: <3.9"), "import hive"), ("for older ones, one of which is here", code("raise ValueError\n", "Requires-Python: <3.9", **old), "import hive"),
        ("plainly wrong", {"spring/hive.py": "x = = 1\n"}, "import hive"), ("wrong in a package", code("x = = 1\n"), "import hive"), ("types joined before 3.10", {"spring/hive.py": "raise TypeError(\"unsupported operand type(s) for |: 'type' and 'type'\")\n", **old}, "import hive", on_old), ("a subscript before 3.9", {"spring/hive.py": "raise TypeError(\"'type' object is not subscriptable\")\n", **old}, "import hive", on_old), ("the same on a newer one", {"spring/hive.py": "raise TypeError(\"'type' object is not subscriptable\")\n"}, "import hive"),
        ("it prints and imports", code("print('melting')\n"), "import hive"), ("it prints and fails", code("print('melting')\nraise ValueError('no')\n"), "import hive"),
    ])  # fmt: skip


@scene
def what_decides() -> Iterable[str]:
    """A variable, a flag, an entry, a start-up file, a compiled form, a limit or a file decides whether it imports."""

    def hive(text: str, **more: object) -> dict[str, object]:
        return {**dist("hive", "1.0", {"hive/__init__.py": text}), **{key.replace("__", "/"): content for key, content in more.items()}}

    def fails(condition: str) -> str:
        return f"if {condition}:\n raise ValueError('sticky')\n"

    startup = {"site/wax.pth": "import waxing\n"}
    return all_of([
        ("a variable", hive(fails("'WAX' in environ")), "import hive", {"variables": {"WAX": "1", "COMB": "2"}}), ("two variables together", hive(fails("'WAX' in environ or 'COMB' in environ")), "import hive", {"variables": {"WAX": "1", "COMB": "2", "PEAT": ""}}), ("one of Python's own", hive(fails("'PYTHONUTF8' in environ")), "import hive", {"variables": {"PYTHONUTF8": "0", "PYTHONHASHSEED": "1"}}), ("one that holds a secret", hive(fails("'WAX_TOKEN' in environ")), "import hive", {"variables": {"WAX_TOKEN": "s3cr3t-value"}}),
        ("PATH", hive(fails("'/usr/local/bin' not in environ['PATH']")), "import hive"), *((f"a variable of the locale, {name}", hive(fails(f"'{name}' in environ")), "import hive", {"variables": {name: "C", "WAX": "1", "LD_WAX": "1"}}) for name in ("LANG", "LANGUAGE", "LC_ALL", "LC_CTYPE", "LD_PRELOAD", "DYLD_X")), ("a flag and its value", hive(fails("'-O' in flags")), "import hive", {"command": f"{HOME}/heath/bin/python -X dev -W error -O -"}), ("a flag before a module", hive(fails("'-O' in flags")), "import hive", {"command": f"{HOME}/heath/bin/python -O -m hive -O"}), ("a flag before a file", hive(fails("'-O' in flags")), "import hive", {"command": f"{HOME}/heath/bin/python -OB {SPRING}/x.py -O"}), ("a flag before a file of standard input", hive(fails("'-O' in flags")), "import hive", {"command": f"{HOME}/heath/bin/python -O - -O"}), ("the locale's encoding", hive("if environ.get('PYTHONUTF8') != '1':\n b'\\xff'.decode()\n"), "import hive", {"variables": {"LANG": "C"}}), ("a flag", hive(fails("'-O' in flags")), "import hive", {"command": f"{HOME}/heath/bin/python -O -c 'import hive'"}), ("a flag with others", hive(fails("'-O' in flags")), "import hive", {"command": f"{HOME}/heath/bin/python -sO -W error -c 'import hive'"}),
        ("a flag of a kernel", {**hive(fails("'-O' in flags")), "~/.local/share/jupyter/kernels/heath/kernel.json": f'{{"argv": ["{HOME}/heath/bin/python", "-O", "-m", "ipykernel_launcher", "-f", "{{connection_file}}"], "display_name": "x", "language": "python"}}'}, "import hive", {"target": "kernel:heath"}), ("an entry of PYTHONPATH", {**hive("try:\n import wax\nexcept ImportError: pass\nelse: raise ValueError\n"), "/moor/wax.py": "", "/mire/x.py": ""}, "import hive", {"variables": {"PYTHONPATH": "/mire:/moor"}}), ("the only entry of PYTHONPATH", {**hive("try:\n import wax\nexcept ImportError: pass\nelse: raise ValueError\n"), "/moor/wax.py": ""}, "import hive", {"variables": {"PYTHONPATH": "/moor"}}),
        ("an entry of the folder", {**hive("try:\n import wax\nexcept ImportError: pass\nelse: raise ValueError\n"), "spring/wax.py": ""}, "import hive"), ("a start-up file", {**hive("import sys\nif getattr(sys, 'waxed', 0): raise ValueError\n"), **startup, "site/waxing.py": "import sys\nsys.waxed = 1\n"}, "import hive"), ("a hook", {**hive("import sys\nif getattr(sys, 'waxed', 0): raise ValueError\n"), "site/sitecustomize.py": "import sys\nsys.waxed = 1\n"}, "import hive"),
        ("a compiled form", {**hive("x = 1\n"), "site/hive/__pycache__/__init__.cpython-311.pyc": "raise ValueError('old')\n"}, "import hive"), ("a limit", hive(fails("'RLIMIT_NOFILE' in limits")), "import hive", {"limits": ["RLIMIT_AS", "RLIMIT_NOFILE"]}), ("two limits", hive(fails("limits")), "import hive", {"limits": ["RLIMIT_AS", "RLIMIT_NOFILE"]}), ("a file of the home folder", {**hive("try:\n text = read('~/.waxrc')\nexcept OSError: text = ''\nif 'sticky' in text: raise ValueError\n"), "~/.waxrc": "sticky", "~/.other": ""}, "import hive"),
        ("a file in a folder of the home folder", {**hive("try:\n text = read('~/.config/wax/rc')\nexcept OSError: text = ''\nif 'sticky' in text: raise ValueError\n"), "~/.config/wax/rc": "sticky", "~/.config/wax/more": "", "~/.config/peat/rc": ""}, "import hive"), ("a file of the folder", {**hive("try:\n text = read('wax.ini')\nexcept OSError: text = ''\nif 'sticky' in text: raise ValueError\n"), "spring/wax.ini": "sticky"}, "import hive"), ("nothing of these", hive("raise ValueError('always')\n"), "import hive"), ("something that is needed", hive("if 'WAX' not in environ: raise KeyError('wax')\nif environ['COMB'] == '2': raise ValueError('comb')\n"), "import hive", {"variables": {"WAX": "1", "COMB": "2"}}),
        ("it does not start, for PYTHONHOME", hive(""), "import hive", {"variables": {"PYTHONHOME": "/opt/gone"}}), ("it does not start, for a hook", {**hive(""), "site/sitecustomize.py": "die('SIGSEGV')\n"}, "import hive"), ("it waits for a hook", {**hive(""), "site/sitecustomize.py": "hang()\n"}, "import hive"), ("it does not start, for a path file", {**hive(""), "site/wax.pth": "import os; leave(1, 'no wax')\n"}, "import hive"), ("it does not start, for a variable", {**hive(""), "lib/sitecustomize.py": "if 'WAX' in environ: leave(2, 'no wax')\n"}, "import hive", {"variables": {"WAX": "1"}}),
        ("it does not start, and nothing says why", {**hive(""), "site/sitecustomize.py": "leave(2)\n", "lib/usercustomize.py": "leave(2)\n"}, "import hive"), ("a line of a path file fails", {"site/wax.pth": "import gone\n/moor/hives\n", "/moor/hives/hive.py": ""}, "import hive"), ("the line would have brought it", {"site/hive.pth": "import gone; path\n"}, "import hive"), ("the line would have brought it, on 3.15", {"/usr/bin/python3.15": BINARY.replace(b"3.11.7", b"3.15.0"), "/usr/lib/python3.15/os.py": "", "/usr/lib/python3.15/site-packages/hive.pth": "# first\n  import gone; path\n"}, "import hive", {"target": "/usr/bin/python3.15"}), ("another line fails", {"site/wax.pth": "import gone\n"}, "import hive"), ("the line is of a package", {**dist("wax", "1.0", {"wax.pth": "import gone\n/moor/hives\n"}), "/moor/hives/hive.py": ""}, "import hive"),
        ("packages of another Python", {"/moor/lib/python3.9/site-packages/hive/__init__.py": "raise ValueError\n"}, "import hive", {"variables": {"PYTHONPATH": "/moor/lib/python3.9/site-packages"}}), ("packages of the same Python", {"/moor/lib/python3.11/site-packages/hive/__init__.py": "raise ValueError\n"}, "import hive", {"variables": {"PYTHONPATH": "/moor/lib/python3.11/site-packages"}}), ("the library of another Python", {"/moor/lib/python3.9/os.py": "", "/moor/lib/python3.9/statistics.py": "raise ValueError\n", "/moor/lib/python3.9/site.py": ""}, "import statistics", {"variables": {"PYTHONPATH": "/moor/lib/python3.9"}}),
    ])  # fmt: skip


@scene
def where_a_name_is() -> Iterable[str]:
    """Nothing answers to a name: it is elsewhere, cut off, or is called otherwise."""
    hive = {"hive/__init__.py": COMB}
    spec = f'{{"argv": ["{HOME}/heath/bin/python", "-m", "ipykernel_launcher", "-f", "{{connection_file}}"], "display_name": "x", "language": "python", "env": {{"PYTHONPATH": "/mire"}}}}'
    old = {"/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": ""}
    return all_of([
        ("nowhere", {}, "import hive"), ("in another environment", dist("hive", "1.0", hive, where="orchard"), "import hive"), ("in the base", dist("hive", "1.0", hive, where="base"), "import hive"), ("in the user's packages", dist("hive", "1.0", hive, where="user"), "import hive"), ("in the user's, switched off", dist("hive", "1.0", hive, where="user"), "import hive", {"target": "/usr/bin/python3.11", "variables": {"PYTHONNOUSERSITE": "1"}}), ("in the user's, by a flag", dist("hive", "1.0", hive, where="user"), "import hive", {"target": "/usr/bin/python3.11", "command": "/usr/bin/python3.11 -s -c 'import hive'"}),
        ("cut off by -I", {"spring/hive.py": ""}, "import hive", {"command": f"{HOME}/heath/bin/python -I -c 'import hive'"}), ("cut off by -P", {"spring/hive.py": ""}, "import hive", {"command": f"{HOME}/heath/bin/python -P -c 'import hive'"}), ("cut off by -E", {"/moor/hive.py": ""}, "import hive", {"variables": {"PYTHONPATH": "/moor"}, "command": f"{HOME}/heath/bin/python -E -c 'import hive'"}), ("cut off by -S", dist("hive", "1.0", hive), "import hive", {"command": f"{HOME}/heath/bin/python -S -c 'import hive'"}), ("cut off by a variable", {"spring/hive.py": ""}, "import hive", {"variables": {"PYTHONSAFEPATH": "1"}, "command": f"{HOME}/heath/bin/python -c 'import hive'"}),
        ("one letter is another", dist("hive", "1.0", hive), "import hvie"), ("other capitals", dist("hive", "1.0", hive), "import Hive"), ("a part that is called like a distribution", dist("hive.wax", "1.0", {"hive/__init__.py": ""}), "import hive.wax"), ("the distribution's name", dist("hive-tools", "1.0", {"hivetools/__init__.py": ""}), "import hive_tools"), ("a file with a dash", {"spring/hive-x.py": ""}, "import hive_x"), ("a file with a dash and capitals", {"spring/Hive-X.py": ""}, "import hive_x"), ("stubs under its own name", {"site/hive/__init__.pyi": ""}, "from hive import comb"), ("in the src folder, with PYTHONPATH", {"spring/src/hive.py": "", "spring/pyproject.toml": "[project]\nname = 'hive'\nversion = '1'\n", "/mire/x.py": ""}, "import hive", {"variables": {"PYTHONPATH": "/mire:/mire:"}}), ("a file of two words", {"spring/hive x.py": ""}, "import hivex"), ("other letters of a file", {"spring/Hive.py": ""}, "import hive"), ("a file in a folder beside", {"~/hive.py": ""}, "import hive"), ("in the src folder", {"spring/src/hive.py": "", "spring/pyproject.toml": "[project]\nname = 'hive'\nversion = '1'\n"}, "import hive"),
        *((f"in the src folder of a project with {name}", {"spring/src/hive.py": "", f"spring/{name}": ""}, "import hive") for name in ("setup.py", "setup.cfg", "pyproject.toml", ".git/HEAD", "tox.ini")), ("a part of the library, which others have", {"/opt/a/bin/python3.11": BINARY.replace(b"3.11.7", b"3.11.2"), "/opt/a/lib/python3.11/os.py": "", "/opt/a/lib/python3.11/tkinter/__init__.py": "", "/opt/b/bin/python3.12": BINARY.replace(b"3.11.7", b"3.12.1"), "/opt/b/lib/python3.12/os.py": "", "/opt/b/lib/python3.12/tkinter/__init__.py": "", "/opt/c/bin/python3.10": BINARY.replace(b"3.11.7", b"3.10.1"), "/opt/c/lib/python3.10/os.py": "", "/opt/c/lib/python3.10/tkinter/__init__.py": ""}, "import tkinter", {"variables": {"PATH": f"{HOME}/heath/bin:/usr/bin:/opt/b/bin:/opt/c/bin:/opt/a/bin"}}),
        *((f"a namespace is split, {title}", {"spring/moor/__init__.py": text, "site/more.pth": "/moor\n", "/moor/moor/fen.py": ""}, "import moor.fen") for title, text in (("by an empty file", ""), ("by a comment", "# moor\n"), ("by a docstring", '"""Moor."""\n'), ("by code", "x = 1\n"))),
        ("in the folder above", {"~/spring/inner/x.py": "", "~/spring/hive.py": ""}, "import hive", {"command": f"{HOME}/heath/bin/python {SPRING}/inner/x.py"}), ("only its stubs", {"site/hive-stubs/__init__.pyi": ""}, "import hive"), ("a kernel without the folder", {"~/.local/share/jupyter/kernels/heath/kernel.json": spec, "spring/src/hive.py": "", "spring/pyproject.toml": "[project]\nname = 'hive'\nversion = '1'\n"}, "import hive", {"target": "kernel:heath"}), ("a kernel, and the shell has it", {"~/.local/share/jupyter/kernels/heath/kernel.json": spec, **dist("hive", "1.0", hive, where="orchard")}, "import hive", {"target": "kernel:heath", "variables": {"PATH": f"{HOME}/orchard/bin:/usr/bin"}}),
        ("for another version, beside its own", {"~/heath/lib/python3.9/site-packages/hive/__init__.py": "", "~/heath/lib/python3.9/site-packages/hive-1.0.dist-info/METADATA": "Name: hive\nVersion: 1.0\n"}, "import hive"), ("the settings file is gone", {"~/heath/lib/python3.11/site-packages/hive/__init__.py": "", "~/heath/pyvenv.cfg/x": ""}, "import hive"), ("a part of a module that is no package", dist("hive", "1.0", {"hive.py": ""}), "import hive.wax"), ("a part of a package", dist("hive", "1.0", hive), "import hive.wax"), ("a part of a part", dist("hive", "1.0", {"hive/__init__.py": "", "hive/wax/__init__.py": ""}), "import hive.wax.comb.cell"),
        ("a name of a package as a part", dist("hive", "1.0", {"hive/__init__.py": "wax = 1\n"}), "import hive.wax"), ("a part of a folder", {"spring/hive/notes.txt": "", **dist("hive", "1.0", {"hive/__init__.py": "", "hive/wax.py": ""})}, "import hive.wax"), ("a folder answers", {"spring/hive/x.py": ""}, "from hive import wax"), *((f"a folder of a project answers, {name}", {f"/moor/hive/{name}": "", "/moor/hive/hive/__init__.py": COMB}, "from hive import comb", {"variables": {"PYTHONPATH": "/moor"}}) for name in ("setup.py", "pyproject.toml", "conftest.py", "manage.py", "x.py")), *((f"a folder with {name} alone answers", {f"/moor/hive/{name}": "", "/moor/hive/wax/x.py": ""}, "from hive import comb", {"variables": {"PYTHONPATH": "/moor"}}) for name in ("setup.py", "conftest.py", "manage.py", "x.py", "x.pyd")), ("a folder answers, and the module is behind it", {"spring/hive/notes.txt": "", **dist("hive", "1.0", hive, where="orchard")}, "from hive import comb"), ("a namespace is split", {**dist("moor", "1.0", {"moor/__init__.py": ""}), "site/more.pth": "/moor\n", "/moor/moor/fen.py": ""}, "import moor.fen"),
        ("the same, and it declares itself", {"site/moor/__init__.py": "__path__ = __import__('pkgutil').extend_path(__path__, __name__)\n", "lib/pkgutil.py": "def extend_path(path, name): return path\n", "site/more.pth": "/moor\n", "/moor/moor/fen.py": ""}, "import moor.fen"), ("pip installs elsewhere", dist("hive", "1.0", hive, where="orchard"), "import hive", {"target": "shell", "variables": {"PATH": f"{HOME}/heath/bin:/usr/bin", "VIRTUAL_ENV": f"{HOME}/orchard"}}), ("not activated", {**dist("hive", "1.0", hive), "spring/pyproject.toml": "[project]\nname='x'\nversion='1'\n"}, "import hive", {"target": "shell", "variables": {"PATH": "/usr/bin"}}),
        ("the project's own environment", {"~/spring/.venv/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "~/spring/.venv/bin/python": BINARY, "~/spring/.venv/lib/python3.11/site-packages/hive/__init__.py": ""}, "import hive", {"target": "shell", "variables": {"PATH": "/usr/bin"}}), ("the base's, hidden", {**dist("hive", "1.0", hive, where="base"), "~/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.11.7\n"}, "import hive"), ("another version of Python has it", {**old, "/usr/lib/python3.9/site-packages/hive/__init__.py": "", "/usr/lib/python3.9/site-packages/hive-1.0.dist-info/METADATA": "Name: hive\nVersion: 1.0\n"}, "import hive"),
        ("two environments have it", {**dist("hive", "1.0", hive, where="orchard"), "~/moor/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "~/moor/bin/python": BINARY, "~/moor/lib/python3.11/site-packages/hive/__init__.py": "", "~/moor/lib/python3.11/site-packages/hive-2.0.dist-info/METADATA": "Name: hive\nVersion: 2.0\n"}, "import hive"), ("a part of the library", {}, "import tkinter"), ("a part of the library, whose compiled part is missing", {"lib/tkinter/__init__.py": "import _tkinter\n", "/etc/os-release": "ID=debian\n"}, "import tkinter"), ("a part of the library, on a Python that was built here", {"lib/sqlite3/__init__.py": "from sqlite3.dbapi2 import *\n", "lib/sqlite3/dbapi2.py": "from _sqlite3 import *\n"}, "import sqlite3"),
        ("a module for another system", {}, "import winreg"), ("a module that went", {"/usr/bin/python3.13": BINARY.replace(b"3.11.7", b"3.13.0"), "/usr/lib/python3.13/os.py": ""}, "import cgi", {"target": "/usr/bin/python3.13"}), ("a module of 2", {}, "import ConfigParser"), ("a module that is well known", {}, "import yaml"), ("a part of one", {}, "import yaml.cyaml"), ("a module that may not be read", {"site/hive": None}, "import hive"),
    ])  # fmt: skip


@scene
def seats_and_links() -> Iterable[str]:
    """What the seat has to do with it: another installer, the project's own environment, links, other versions."""
    hive = {"hive/__init__.py": COMB}
    own = {"~/spring/.venv/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "~/spring/.venv/bin/python": BINARY, "~/spring/.venv/lib/python3.11/site-packages/x.py": "", "spring/pyproject.toml": "[project]\nname='x'\nversion='1'\n"}
    of_base = {"target": "shell", "variables": {"PATH": "/usr/bin"}}
    thirteen = {"/usr/bin/python3.13": BINARY.replace(b"3.11.7", b"3.13.0"), "/usr/lib/python3.13/os.py": ""}
    ten = {"/usr/bin/python3.10": BINARY.replace(b"3.11.7", b"3.10.1"), "/usr/lib/python3.10/os.py": ""}

    def moor(text: str, version: str = "3.13", name: str = "moor") -> dict[str, object]:
        files = dist(name, "1.0", {f"{name}.py": text}, where=f"/usr/lib/python{version}/site-packages")
        return {key.replace("//", "/"): content for key, content in files.items()}

    argv = f'{{"argv": ["{HOME}/shut/bin/python", "-m", "x"], "display_name": "x", "language": "python"}}'
    return all_of([
        ("pip of another environment", {"/tools/pip": f"#!{HOME}/orchard/bin/python\n", **dist("hive", "1.0", hive, where="orchard")}, "import hive", {"target": "shell", "variables": {"PATH": f"/tools:{HOME}/heath/bin:/usr/bin"}}), ("the same, and it is not there", {"/tools/pip": f"#!{HOME}/orchard/bin/python\n"}, "import hive", {"target": "shell", "variables": {"PATH": f"/tools:{HOME}/heath/bin:/usr/bin"}}), ("pip of the same", {"/tools/pip": f"#!{HOME}/heath/bin/python\n"}, "import hive", {"target": "shell", "variables": {"PATH": f"/tools:{HOME}/heath/bin:/usr/bin"}}),
        ("the project's environment lacks it too", own, "import hive", of_base), ("and a table knows it", own, "import yaml", of_base), ("of a kernel", {**own, "~/.local/share/jupyter/kernels/base/kernel.json": '{"argv": ["/usr/bin/python3", "-m", "x"], "display_name": "x", "language": "python"}', "~/spring/.venv/lib/python3.11/site-packages/hive.py": ""}, "import hive", {"target": "kernel:base"}), ("a standard module of it", own, "import winreg", of_base), ("of a chosen environment", {**own, "~/spring/.venv/lib/python3.11/site-packages/hive.py": ""}, "import hive", {"target": "shell", "variables": {"PATH": f"{HOME}/heath/bin:/usr/bin", "VIRTUAL_ENV": f"{HOME}/heath"}}),
        ("a link to nothing", {"site/hive.py": Link("/gone/hive.py")}, "import hive"), ("of a package", dist("hive", "1.0", {"hive.py": Link("/gone/hive.py")}), "import hive"), ("a folder of links", {"site/hive/__init__.py": Link("../gone.py")}, "import hive"), ("a part", {**dist("hive", "1.0", hive), "site/hive/wax.py": Link("/gone")}, "import hive.wax"), ("a finder of a development install", {"site/x.pth": "import __editable___hive_finder; __editable___hive_finder.install()\n", "site/__editable___hive_finder.py": "MAPPING = {'hive': '/gone/hive'}\ndef install(): pass\n"}, "import hive"), ("its sources have moved", {"site/hive.pth": "/gone/src\n", **dist("hive", "1.0", {}, recorded=["hive.pth,,"]), "spring/pyproject.toml": "[project]\nname = 'hive'\nversion='1'\n", "spring/src/hive/__init__.py": ""}, "import hive", {"command": f"{HOME}/heath/bin/python -P -c 'import hive'"}),
        ("an older one on PYTHONPATH", {**dist("hive", "1.0", {"hive/__init__.py": ""}, where="/moor"), **dist("hive", "2.0", hive)}, "from hive import comb", {"variables": {"PYTHONPATH": "/moor"}}), ("among two on PYTHONPATH", {**dist("hive", "1.0", {"hive/__init__.py": ""}, where="/moor"), **dist("hive", "2.0", hive), "/mire/x.py": ""}, "from hive import comb", {"variables": {"PYTHONPATH": "/mire:/moor"}}), ("an older one in the base", {**dist("hive", "1.0", {"hive/__init__.py": ""}), **dist("hive", "2.0", {**hive, "hive/wax.py": ""}, where="base"), "~/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.7\n"}, "import hive.wax"), ("an older one of the user's", {**dist("hive", "1.0", {"hive/__init__.py": ""}, where="user"), **dist("hive", "2.0", {**hive, "hive/wax.py": ""}, where="base")}, "import hive.wax", {"target": "/usr/bin/python3.11"}),
        ("a package asks for what went", {**thirteen, **moor("import cgi\n")}, "import moor", {"target": "/usr/bin/python3.13"}), ("for what has no successor", {**thirteen, **moor("import imp\n")}, "import moor", {"target": "/usr/bin/python3.13"}), ("for distutils", {**thirteen, **moor("import distutils.core\n")}, "import moor", {"target": "/usr/bin/python3.13"}), ("one's own code asks for distutils", thirteen, "import distutils", {"target": "/usr/bin/python3.13"}), ("for what is newer", {**ten, **moor("import tomllib\n", "3.10")}, "import moor", {"target": "/usr/bin/python3.10"}), ("one's own code asks for what is newer", ten, "import tomllib", {"target": "/usr/bin/python3.10"}), ("for zstd", ten, "import compression.zstd", {"target": "/usr/bin/python3.10"}), ("another package of a well-known name", {**thirteen, **moor("import cgi\n", name="yaml")}, "import yaml", {"target": "/usr/bin/python3.13"}),
        ("a distribution's name that a table knows", {}, "import PyYAML"), ("a distribution's name, of another environment", dist("hive-tools", "1.0", {"hivetools.py": ""}, where="orchard"), "import hive_tools"), ("a distribution of private modules", dist("hive-tools", "1.0", {"_hivetools.py": ""}), "import hive_tools"), ("a module of a shut folder", {"~/moor": Shut(0), "~/moor/hive.py": "", "site/more.pth": f"{HOME}/moor\n"}, "import hive"), ("a kernel of a shut folder", {"~/shut": Shut(0), "~/shut/bin/python": BINARY, "~/.local/share/jupyter/kernels/shut/kernel.json": argv}, "import hive", {"target": "kernel:shut"}), ("a file of another user", {"site/hive": Shut(0), "site/hive/__init__.py": ""}, "import hive"), ("a notebook's kernel", {"spring/weights.ipynb": '{"metadata": {"kernelspec": {"name": "gone", "display_name": "x"}}, "cells": []}'}, "import hive", {"target": f"notebook:{SPRING}/weights.ipynb"}),
    ])  # fmt: skip


@scene
def what_runs() -> Iterable[str]:
    """A process that has been running since before a package changed."""
    command = (f"{HOME}/heath/bin/python", "-m", "ipykernel_launcher", "-f", f"{HOME}/.local/share/jupyter/runtime/kernel-1.json")
    spec = f'{{"argv": ["{HOME}/heath/bin/python", "-m", "ipykernel_launcher", "-f", "{{connection_file}}"], "display_name": "x", "language": "python"}}'
    files = {**dist("hive", "1.0", {"hive/__init__.py": "", "hive/wax.py": ""}), "spring/own/__init__.py": "", "spring/own/wax.py": "", "~/.local/share/jupyter/kernels/heath/kernel.json": spec, "~/.local/share/jupyter/runtime/kernel-1.json": '{"kernel_name": "heath", "key": "x", "shell_port": 1, "ip": "127.0.0.1", "transport": "tcp"}'}
    for title, target, statement, changed, when in [
        ("changed since", "pid:40", "import hive", f"{SITE}/hive/wax.py", 2000.0), ("as it was", "pid:40", "import hive", f"{SITE}/hive/wax.py", 500.0), ("one's own code", "pid:40", "import own", f"{SPRING}/own/wax.py", 2000.0), ("a script", "pid:41", "import hive", f"{SITE}/hive-1.0.dist-info", 2000.0), ("the kernel", "kernel:heath", "import hive", f"{SITE}/hive/wax.py", 2000.0), ("a cache", "pid:40", "import hive", f"{SITE}/hive/__pycache__/x.pyc", 2000.0),
    ]:  # fmt: skip
        processes = {40: Process(40, 1, command[0], command, SPRING, {"HOME": HOME}, 1000.0, "python"), 41: Process(41, 1, command[0], (command[0], "weigh.py"), SPRING, {"HOME": HOME}, 1000.0, "python")}
        machine, _ = machine_of({**files, "site/hive/__pycache__/x.pyc": ""}, processes=processes)
        machine.reader.modified[changed] = int(when * 1e9)

        def asked() -> Iterable[str]:
            answer = why_import(machine, resolve(machine, target), parse_wanted(statement)[0], NAMED)
            return [answer.outcome, *(line for finding in answer.findings for line in lines_of(finding))]

        yield from told(title, asked)


@pytest.fixture(autouse=True)
def _clock_of_greenwich(monkeypatch):
    monkeypatch.setenv("TZ", "UTC")
    if hasattr(time, "tzset"):
        time.tzset()


@pytest.mark.parametrize("name", SCENES.names)
def test_diagnoses(name):
    assert not (difference := SCENES.difference(name)), difference
