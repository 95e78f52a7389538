"""The model of Python that the scenes use says what the interpreter itself says of the same files."""

import platform
import sys

import pytest

from kalyx.core.imports.trial import try_import
from kalyx.core.system.live_runner import LiveRunner
from kalyx.core.system.memory_reader import MemoryReader
from tests.made import BINARY
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
