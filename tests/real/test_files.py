"""``why`` of a script or notebook, beside running that very file: it is never silent where the run fails on an import."""

import json
import subprocess

import pytest

from tests.conftest import make_environment
from tests.equipment import BY_VERSION, CAN_MAKE, some

NEW = CAN_MAKE[-1]

# Files beside each other, the script, its flags; and the cause that comes first, or None where it runs.
SCRIPTS = {
    "a neighbour that works": ({"sow.py": "import reap\n", "reap.py": "GRAMS = 1\n"}, "", None),
    "a neighbour that needs more": ({"sow.py": "import reap\n", "reap.py": "import absentia\n"}, "", "absent"),
    "a name that a neighbour lacks": ({"sow.py": "from reap import grams\n", "reap.py": "GRAMS = 1\n"}, "", "name-gone"),
    "left out by a flag": ({"sow.py": "import reap\n", "reap.py": ""}, "-P", "path-cut"),
    "left out by isolation": ({"sow.py": "import reap\n", "reap.py": ""}, "-I", "path-cut"),
    "named like the library": ({"statistics.py": "import statistics\nstatistics.mean([1])\n"}, "", "shadowed"),
    "a library's name beside": ({"sow.py": "from statistics import mean\n", "statistics.py": "x = 1\n"}, "", "shadowed"),
    "dots in a script": ({"sow.py": "from . import reap\n", "reap.py": ""}, "", "no-parent-package"),
    "neither of two": ({"sow.py": "try:\n    import absentia\nexcept ImportError:\n    import absentior\n"}, "", "absent"),
    "one of two": ({"sow.py": "try:\n    import absentia\nexcept ImportError:\n    import json\n"}, "", None),
    "done without": ({"sow.py": "try:\n    import absentia\nexcept ImportError:\n    absentia = None\n"}, "", None),
    "caught and raised": ({"sow.py": "try:\n    import absentia\nexcept ImportError:\n    raise SystemExit('install it')\n"}, "", "absent"),
    "caught as another": ({"sow.py": "try:\n    import absentia\nexcept ValueError:\n    pass\n"}, "", "absent"),
    "in the end": ({"sow.py": "try:\n    pass\nfinally:\n    import absentia\n"}, "", "absent"),
    "each other": ({"sow.py": "import reap\n", "reap.py": "from bind import b\na = 1\n", "bind.py": "from reap import a\nb = 1\n"}, "", "circular"),
    "a package of its own": ({"sow.py": "import hive.frames\n", "hive/__init__.py": "", "hive/frames.py": "from . import bees\n", "hive/bees.py": ""}, "", None),
    "a part that is not there": ({"sow.py": "import hive.frames\n", "hive/__init__.py": ""}, "", "submodule-gone"),
}  # fmt: skip


@pytest.fixture(scope="module")
def heath(tmp_path_factory):
    return make_environment(NEW, tmp_path_factory.mktemp("files") / "heath", "--without-pip")


@pytest.mark.parametrize("name", SCRIPTS)
def test_a_script(moor, heath, name):
    files, flags, cause = SCRIPTS[name]
    for path, text in files.items():
        (moor.folder / path).parent.mkdir(exist_ok=True)
        (moor.folder / path).write_text(text)
    script = next(iter(files))
    done = subprocess.run([heath, *flags.split(), script], cwd=moor.folder, capture_output=True, text=True, check=False)
    more = ["--as", f"python {flags} {script}"] if flags else []
    ran = moor.kalyx("why", f"./{script}", "--in", heath, "--json", *more)
    failing = [item for item in ran.json["imports"] if item["outcome"] != "imports" or item["findings"]]
    causes = [finding["cause"] for item in failing if not item["guarded"] for finding in item["findings"][:1]]
    assert (ran.status == 0) == (done.returncode == 0), (done.stderr, ran.out)
    assert causes[:1] == ([cause] if cause else []), ran.out


def test_a_command_line_names_the_target(moor, heath):
    """A path to Python in it is the target; ``--in`` goes before, and a bare word is the shell's."""

    def target(*words):
        ran = moor.kalyx(*words, "--json")
        return ran.json["target"]["interpreter"]["executable"] if ran.status < 2 else ran.out

    base = BY_VERSION[NEW].executable
    for command in ("why", "packages"):
        words = [command, *(["json"] if command == "why" else [])]
        given = ["--in", base] if command == "why" else [base]
        assert target(*words, "--as", f"{heath} -I sow.py") == heath
        assert target(*words, "--as", f"env -i {heath} sow.py") == heath
        assert target(*words, *given, "--as", f"{heath} -I sow.py") == base
        assert target(*words, "--as", "python -I sow.py") != heath
        assert "there is nothing at this path" in target(*words, "--as", "./gone/python sow.py")


@pytest.mark.parametrize("version", [version for version in BY_VERSION if version.startswith("2.")])
def test_a_script_that_only_another_python_takes(moor, heath, version):
    """Python 2 takes it, and is asked; where the seat's Python does not take it either, that is said."""
    (moor.folder / "old.py").write_text("import json, hivegone\nprint 'x', `1`\nfrom ConfigParser import ConfigParser\n")
    older = moor.kalyx("why", "./old.py", "--in", BY_VERSION[version].executable, "--json").json
    assert [(item["statement"], item["outcome"]) for item in older["imports"]] == [("import json", "imports"), ("import hivegone", "fails"), ("from ConfigParser import ConfigParser", "imports")]
    assert "line by line" in older["notes"][0]
    assert (ran := moor.kalyx("why", "./old.py", "--in", heath)).status == 2 and "line 2" in ran.err
    static = moor.kalyx("why", "./old.py", "--in", BY_VERSION[version].executable, "--static", "--json").json
    assert [item["statement"] for item in static["imports"]] == [item["statement"] for item in older["imports"]]


SOURCES = {
    "nulls": b"x = 1\0\n", "encoded": b"# coding: nosuch\nx = 1\n", "wrong": b"def\n", "letters": b'x = "\xff"\n', "marked": b"\xef\xbb\xbf# coding: latin-1\nx = 1\n",
    "matching": b"match 1:\n    case 1: pass\n", "older": b"print 'x'\n", "indented": b"  x = 1\n", "good": "x = 'ž'\n".encode(), "latin": b"# coding: latin-1\nx = '\xe9'\n",
    "walrus": b"if (n := 1): pass\n", "words": b"async = 1\n", "package/__init__": b"x =\n", "package/below": b"", "whole/__init__": b"", "whole/below": b"y = 1\n",
}  # fmt: skip


@pytest.mark.parametrize("version", some("3.7", "3.9", "3.11"))
def test_a_source_that_no_compiler_takes_is_read_as_such(moor, version):
    """Where nothing may be started, and where it may: as the interpreter does, and never without a reason."""
    python = make_environment(version, moor.root / "moor", "--without-pip")
    for name, raw in SOURCES.items():
        (moor.folder / f"{name}.py").parent.mkdir(exist_ok=True)
        (moor.folder / f"{name}.py").write_bytes(raw)
    modules = [name.removesuffix("/__init__").replace("/", ".") for name in SOURCES]
    modules += ["os.path", "json.decoder", "os.nosuch"]
    works = {module: subprocess.run([python, "-c", f"import {module}"], cwd=moor.folder, env=moor.variables, capture_output=True,
                                    check=False).returncode == 0 for module in modules}  # fmt: skip
    for more in (["--static"], []):
        found = {item["module"]: item for item in moor.kalyx("why", *modules, "--in", python, *more, "--json").json["imports"]}
        assert {module: item["outcome"] == "imports" for module, item in found.items()} == works, more
        assert all(works[module] or item["findings"] for module, item in found.items()), more


@pytest.mark.parametrize("argv", [[], None, [""], ["python", 1], ["no-such"], ["~/x"], ["/tmp"], ["python\0"],
    ["bash", "-c", "cd /; python -c 1"], ["bash", "-c", "python 'x"], ["env", "-S", "python 'x"], ["sh", "-c", ""], ["sh", "-c"], ["env", "-u"]])
def test_a_kernel_that_starts_nothing_says_why(moor, argv):
    moor.kernel("bent", argv)
    ran = moor.kalyx("why", "json", "--in", "kernel:bent", "--json")
    assert ran.status in (1, 2) and (ran.status == 2 or ran.json["imports"][0]["findings"]), ran.out
    for words in (["kernels"], ["here"], ["rehearse", "bent"], ["packages", "kernel:bent"]):
        shown = moor.kalyx(*words)
        assert "failure of Kalyx itself" not in shown.err, (words, shown.err)


def test_a_notebooks_own_lines(moor, heath):
    """Of a cell only what is the notebook's own is left out; code below a line that only measures it counts."""
    cells = [
        "%%time\nimport json\nimport one_absent",
        "x = (5\n  % 3)\nimport two_absent  # is it there?",
        "!ls\nfiles = !ls\n%pwd\nimport three_absent",
        "%%bash\nimport not_python",
        "text = '''\n%not a line\n'''\nimport four_absent\nlen?",
    ]
    notebook = {"cells": [{"cell_type": "code", "source": text, "metadata": {}, "outputs": []} for text in cells],
                "metadata": {}, "nbformat": 4, "nbformat_minor": 5}  # fmt: skip
    (moor.folder / "spring.ipynb").write_text(json.dumps(notebook))
    ran = moor.kalyx("why", "spring.ipynb", "--in", heath, "--json")
    absent = [item["module"] for item in ran.json["imports"] if item["outcome"] == "fails"]
    assert absent == ["one_absent", "two_absent", "three_absent", "four_absent"], ran.out
