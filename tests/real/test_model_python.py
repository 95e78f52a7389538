"""The models that the scenes use say and do what the interpreter and the installer do with the same files."""

import json
import platform
import subprocess
import sys

import pytest

from kalyx.core.actions.installer import install_command
from kalyx.core.imports.trial import try_import
from kalyx.core.system.live_runner import LiveRunner
from kalyx.core.system.memory_reader import MemoryReader
from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import make_environment
from tests.equipment import NEW
from tests.made import BINARY
from tests.support.model_installer import ModelInstaller, Release
from tests.support.model_python import ModelPython

MINOR = f"{sys.version_info[0]}.{sys.version_info[1]}"
# The files, and the module and names that are asked for.
CASES = [
    ({}, "hive"), ({"hive.py": "x = 1\n"}, "hive x"), ({"hive.py": "x = 1\n"}, "hive y"), ({"hive.py": "x = 1\n"}, "hive.wax"), ({"hive/__init__.py": "from hive import wax\n"}, "hive"), ({"hive/__init__.py": "", "hive/wax.py": "comb = 1\n"}, "hive.wax comb"),
    ({"hive/__init__.py": "", "hive/wax.py": "import peat.bog\n", "peat/__init__.py": ""}, "hive wax"), ({"hive/wax.py": ""}, "hive wax"), ({"hive/wax.py": ""}, "hive comb"), ({"hive/__init__.py": "from .wax import comb\n", "hive/wax.py": "from . import x\n"}, "hive"),
    ({"a.py": "from b import y\nx = 1\n", "b.py": "from a import x\ny = 1\n"}, "a"), ({"a.py": "import b\nx = 1\n", "b.py": "import a\ndef of():\n return a.x\nof()\n"}, "a"), ({"a.py": "from a import x\n"}, "a"), ({"a.py": "import a\na.x\n"}, "a"),
    ({"hive.py": "from . import wax\n"}, "hive"), ({"hive/__init__.py": "from . import wax\n", "hive/wax.py": "from .. import comb\n"}, "hive"), ({"hive.py": "1 / 0\n"}, "hive"), ({"hive.py": "try:\n import wax\nexcept ImportError as error:\n raise RuntimeError('no') from error\n"}, "hive"),
    ({"hive.py": "try:\n import wax\nexcept ImportError:\n raise RuntimeError('no') from None\n"}, "hive"), ({"hive.py": "try:\n import wax\nexcept ImportError:\n raise RuntimeError('no')\n"}, "hive"), ({"hive.py": "x = = 1\n"}, "hive"), ({"hive.py": "\n\nprint 'x'\n"}, "hive"),
    ({"hive.py": "class WaxError(ImportError): pass\nraise WaxError('no')\n"}, "hive"), ({"hive.py": "raise SystemExit(3)\n"}, "hive"), ({"hive.py": "{}['x']\n"}, "hive"),
]  # fmt: skip


@pytest.mark.parametrize(("files", "asked"), CASES, ids=[f"{asked} {number}" for number, (_, asked) in enumerate(CASES)])
def test_the_model_says_what_python_says(files, asked, tmp_path):
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(text)
    machine = {f"/usr/bin/python{MINOR}": BINARY.replace(b"3.11.7", platform.python_version().encode()), f"/usr/lib/python{MINOR}/os.py": b"", f"{tmp_path}/x.txt": b"",
               **{f"{tmp_path}/{name}": text for name, text in files.items()}}  # fmt: skip
    model = ModelPython(MemoryReader("linux", machine, home="/home", folder=str(tmp_path)))
    module, *names = asked.split()
    said = [of_trial(try_import(runner, program, module, tuple(names), first="", folder=str(tmp_path)))
            for runner, program in [(model, f"/usr/bin/python{MINOR}"), (LiveRunner(), sys.executable)]]  # fmt: skip
    assert said[0] == said[1]


def of_trial(trial):
    """What the causes look at."""
    chain = [(raised.type, raised.text, raised.name, raised.path, raised.import_error, raised.bases, raised.file, raised.line,
              [(frame.file, frame.line, frame.function) for frame in raised.frames if not frame.file.startswith("<") and not frame.file.endswith("probe.py")])
             for raised in trial.chain]  # fmt: skip
    return trial.answered, trial.imports, trial.file, trial.folders, chain


RELEASES = [("hive", "1.0", []), ("hive", "2.0", []), ("moor", "1.0", ["hive>=2"]), ("moor", "1.1", ["peat"]), ("fen", "1.0", ["hive<2", "bog; python_version < '3'"])]
# What the installer is asked, one after the other, in an environment of its own.
ASKED = [["install", "hive==1.0"], ["install", "hive"], ["install", "moor==1.0"], ["install", "moor"], ["install", "hive==7"], ["install", "fen"], ["install", "--upgrade", "hive"], ["install", "--force-reinstall", "--no-deps", "hive==2.0"],
         ["install", "--target", "{here}/apart", "fen==1.0", "--no-deps"], ["uninstall", "-y", "moor", "gone"], ["uninstall", "-y", "hive"]]  # fmt: skip


def test_the_model_installs_what_the_installer_installs(tmp_path):
    (tmp_path / "wheels").mkdir()
    for name, version, requires in RELEASES:
        write_wheel(Package(name, version, {f"{name}.py": f"version = {version!r}\n"}, requires=requires), str(tmp_path / "wheels"))
    python = make_environment(NEW, tmp_path / "heath")
    version = subprocess.run([python, "-c", "import platform; print(platform.python_version())"], capture_output=True, text=True, check=True).stdout.strip()
    minor = ".".join(version.split(".")[:2])
    site = f"{tmp_path}/heath/lib/python{minor}/site-packages"
    made = {f"/usr/bin/python{minor}": BINARY.replace(b"3.11.7", version.encode()), f"/usr/lib/python{minor}/os.py": b""}
    model = ModelInstaller(MemoryReader("linux", made, folder="/"), [Release(name, version, {f"{name}.py": ""}, tuple(f"Requires-Dist: {line}" for line in requires)) for name, version, requires in RELEASES])
    model.environment(f"/usr/bin/python{minor}", [f"{tmp_path}/heath"])
    for asked in ASKED:
        action, *words = (word.format(here=tmp_path) for word in asked)
        argv = install_command(python, str(tmp_path / "wheels"), 5, words) if action == "install" else [python, "-m", "pip", action, *words]
        plans = [[*argv, "--dry-run", "--quiet", "--report", "-"]] if action == "install" and "--target" not in words else []
        for line in [*plans, argv]:
            real = subprocess.run(line, capture_output=True, text=True, check=False, cwd=tmp_path, env={"PATH": "/usr/bin:/bin"})
            modelled = model.run(line)
            told = [_told(real.returncode, real.stdout, real.stderr), _told(modelled.status, modelled.output.decode(), modelled.errors.decode())]
            assert told[0] == told[1], asked
        there = [sorted(path.name for path in (tmp_path / folder).glob("*") if path.name[:4] not in ("pip", "pip-", "setu", "whee", "_dis", "pkg_", "dist") and path.name != "__pycache__") for folder in (site, "apart")]
        assert there == [sorted(name for name in model.reader.names(folder) if not name.startswith("pip")) for folder in (site, f"{tmp_path}/apart")], asked


def _told(status, output, errors):
    """The status, the releases of a report, and the errors."""
    report = [(item["metadata"]["name"], item["metadata"]["version"], item["metadata"].get("requires_dist")) for item in json.loads(output)["install"]] if output.startswith("{") else []
    return status, sorted(report), [line for line in errors.splitlines() if line.startswith("ERROR: ") and "resolver" not in line and "requires" not in line.split("requirement")[0]]
