"""Small spoilt files where Kalyx reads: one bad file spoils the line about that file, in little time, and nothing else.

Each row: what lies where, and the commands that read it. No traceback, no failure of its own, a status of the contract.
"""

import json
import os
import shutil
import struct
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import Moor, make_environment
from tests.equipment import LONG, NEW

SETTINGS, NOTEBOOK, KERNEL = "w/.vscode/settings.json", "w/a.ipynb", ".local/share/jupyter/kernels/k/kernel.json"
METADATA = "{site}/hivescale-1.dist-info/METADATA"
SERVER = ".local/share/jupyter/runtime/jpserver-1.json"
HEAD = "Metadata-Version: 2.1\nName: hivescale\nVersion: 1\n"
HERE, WHY, FOLDER, SURVEY = ["here", "--json"], ["why", "hivescale"], ["why", "."], ["survey", "--under", "{home}"]
ABOUT = [["packages", "{heath}"], WHY, ["record", "{heath}"], ["fill", "{heath}", "hivescale", "--dry-run"]]


def path_to(value: object) -> str:
    return json.dumps({"python.defaultInterpreterPath": value})


def index(version: int, count: int, body: bytes) -> bytes:
    return b"DIRC" + struct.pack(">II", version, count) + body


def cell(source: str) -> str:
    return json.dumps({"cells": [{"cell_type": "code", "source": source}], "metadata": {}, "nbformat": 4})


MARKERS = ['python_version ~= "x"', '"a" in "b" in "c"', "(" * 3000 + "x", 'python_version > "²"', '"3" ~= "2"',
           'extra < 3', "os_name == os_name", 'python_full_version < "9" * 2']  # fmt: skip
LINES = ["nectarflow>=" + "1." * 9000 + "1", "nectarflow[" + "a," * 9000 + "a]", "a" * 90000, "nectarflow" + ",>=1" * 9000]

SPOILT = {
    "a path of a thousand folders": ({SETTINGS: path_to("/a" * 1500)}, [HERE]),
    "variables in variables": ({SETTINGS: path_to("${env:LOOP}"), "LOOP": "${env:LOOP}"}, [HERE]),
    "variables without end": ({SETTINGS: path_to("${workspaceFolder}" * 50000)}, [HERE]),
    "settings of wrong types": ({SETTINGS: path_to([1, {}, None])}, [HERE]),
    "settings nested": ({SETTINGS: '{"a":' * 900 + "1"}, [HERE]),
    "settings of comments": ({SETTINGS: "/*" * 200000}, [HERE]),
    "half a character": ({SETTINGS: '{"python.defaultInterpreterPath": "\\ud800/x"}'}, [HERE]),
    "tags without end": ({"w/.idea/workspace.xml": "<a>" * 200000}, [HERE]),
    "an entity": ({"w/.idea/workspace.xml": '<!DOCTYPE a [<!ENTITY b "cc">]><a>&b;</a>'}, [HERE]),
    "a value without end": ({"w/mypy.ini": "[mypy]\npython_executable = a\n" + "  b\n" * 100000}, [HERE]),
    "blanks without a sign": ({"w/mypy.ini": "[mypy]\na" + " " * 400000 + "b\n"}, [HERE]),
    "one long word": ({"w/pyproject.toml": 'x = "' + "a" * 400000 + '"\n' + "b" * 400000 + " = 1\n"}, [HERE]),
    "tables in tables": ({"w/pyproject.toml": "[a" + ".a" * 40000 + "]"}, [HERE]),
    "many keys": ({"w/pyproject.toml": "[tool.pyright]\nvenv = 'x'\nvenvPath = '.'\n" + "".join(f"a{n} = 1\n" for n in range(20000))}, [HERE]),
    "a kernel of wrong types": ({KERNEL: json.dumps({"argv": "python", "display_name": [], "language": {}, "env": 3})}, [["kernels"], HERE]),
    "a kernel nested": ({KERNEL: "[" * 90000}, [["kernels"]]),
    "a kernel of half characters": ({KERNEL: '{"argv": ["\\ud800"], "display_name": "\\udfff", "language": "python"}'},
                                    [["kernels"], ["rehearse", "kernel:k", "--timeout", "3"]]),
    "a server of wrong types": ({SERVER: '{"pid": "x", "port": [], "url": 3, "token": {}}'}, [HERE, ["kernels"]]),
    "a server elsewhere": ({SERVER: f'{{"pid": {os.getpid()}, "port": 12345678, "url": "http://[::::", "token": "x\\n"}}'}, [HERE]),
    "operators": ({NOTEBOOK: cell("x = " + "-" * 1500 + "1\nimport hivescale"), "w/b.py": "x = " + "+".join(["1"] * 9000)}, [HERE, FOLDER]),
    "a long name": ({"w/b.py": "import " + ".".join("a" * 900) + "\nimport " + "b" * 90000}, [FOLDER]),
    "a notebook nested": ({NOTEBOOK: '{"cells": ' + "[" * 900000}, [HERE, FOLDER]),
    "a notebook of lists": ({NOTEBOOK: '{"metadata": {}, "cells": [' + "[]," * 3000000 + "[]]}"}, [HERE]),
    "an index cut": ({"w/.git/HEAD": "", "w/.git/index": index(2, 10**5, b"x" * 30)}, [SURVEY, HERE]),
    "an index of one number": ({"w/.git/HEAD": "", "w/.git/index": index(4, 4 * 10**9, b"\0" * 62 + b"\xff" * 10**6)}, [SURVEY]),
    "an index that grows": ({"w/.git/HEAD": "", "w/.git/index": index(4, 20000, (b"\0" * 60 + b"\0\xff" + b"x" * 40 + b"\0") * 9000)}, [SURVEY]),
    "patterns": ({"w/.git/HEAD": "", "w/.gitignore": "[z-a]\n**[!\n\\\n/\n!\n[" + "*" * 5000 + "x\n" + ("a*" * 30 + "b\n") * 500}, [SURVEY]),
    "versions": ({METADATA: HEAD.replace("1\n", "²\n"), "{site}/hivescale-1.dist-info/RECORD": "hivescale.py,sha256=²,²\nx,," + "9" * 5000}, ABOUT),
    "markers": ({METADATA: HEAD + "".join(f"Requires-Dist: nectarflow; {marker}\n" for marker in MARKERS)}, ABOUT),
    "requirements": ({METADATA: HEAD + "".join(f"Requires-Dist: {line}\n" for line in LINES)}, ABOUT),
    "null bytes": ({METADATA: HEAD.replace("hive", "hi\0ve") + "\0", "w/b.py": "import hivescale\0"}, [*ABOUT, FOLDER]),
    "path files": ({"{site}/a.pth": "import os;" + "x=1;" * 50000 + "\n" + ("a" * 100 + "\n") * 5000}, [["packages", "{heath}"]]),
    "versions of settings": ({"other/pyvenv.cfg": "home = /usr/bin\nversion = 3." + "9" * 5000 + "\n", "other/bin/python": Path("/usr/bin/env")},
                             [SURVEY, ["why", "x", "--in", "{home}/other"]]),
    "a table of one's own": ({".config/kalyx/kalyx-editors.json": '{"descriptors": [1, {"family": "a", "form": "b", "format": "xml", "files": ["*"],'
                              ' "choices": [{"key": [], "part": 1, "kind": 2}, {}]}]}', "w/f": ""}, [HERE]),
    "a memory of one's own": ({"../cache/kalyx/interpreters.json": '{"schema": "kalyx.remembered/1", "known": {"a": {"version": [], "abi_flags": 1}}}'}, [SURVEY]),
    "a first line": ({"w/tool": "#!/bin/sh\n'''exec' \n' '''\n"}, [["why", "x", "--in", "{home}/w/tool"]]),
    "a pipe": ({NOTEBOOK: None}, [HERE, FOLDER, ["why", "a.ipynb"]]),
}  # fmt: skip


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    moor = Moor(tmp_path_factory.mktemp("spoilt") / "moor")
    heath = make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath" / "lib").glob("python*")) / "site-packages"
    (site / "hivescale.py").write_text("import nectarflow\n")
    moor.variables |= {"PATH": f"{Path(heath).parent}:/usr/bin:/bin", "VIRTUAL_ENV": str(moor.root / "heath")}
    return moor, str(site)


def lay(moor: Moor, site: str, files: dict[str, object]) -> list[Path]:
    """Put the files there; returns what is to go again."""
    laid = []
    for name, content in files.items():
        path = moor.root / name.format(site=site)
        laid.append(path)
        path.parent.mkdir(parents=True, exist_ok=True)
        if content is None:
            os.mkfifo(path)
        elif isinstance(content, Path):
            path.symlink_to(content)
        else:
            path.write_bytes(content if isinstance(content, bytes) else str(content).encode())
            path.chmod(0o755)
    return laid


@pytest.mark.parametrize("name", SPOILT)
def test_one_bad_file_spoils_only_its_own_line(place, name):
    moor, site = place
    files, commands = SPOILT[name]
    shutil.rmtree(moor.root / "w", ignore_errors=True)
    (moor.root / "w").mkdir()
    variables = {key: str(value) for key, value in files.items() if key.isupper()}
    laid = lay(moor, site, {key: value for key, value in files.items() if key not in variables})
    try:
        for words in commands if LONG else commands[:2]:
            words = [word.format(home=moor.root, heath=moor.root / "heath") for word in words]
            began = time.monotonic()
            done = subprocess.run([sys.executable, "-m", "kalyx", *words], cwd=moor.root / "w", env={**moor.variables, **variables},
                                  capture_output=True, stdin=subprocess.DEVNULL, timeout=60, check=False)  # fmt: skip
            said = (done.stdout + done.stderr).decode("utf-8", "replace")
            assert done.returncode in (0, 1, 2) and "Traceback" not in said and "failure of Kalyx itself" not in said, (words, said[-600:])
            assert time.monotonic() - began < 15, "a small file has a bound on work, not only on bytes"
            if "--json" in words:
                assert json.loads(done.stdout)["schema"] == "kalyx.here/2", words
    finally:
        for path in laid:
            path.unlink(missing_ok=True)


def test_a_folder_deeper_than_any_path(place):
    """A thousand folders, each in the one before: no question about the folder above ends in a failure."""
    moor, _ = place
    top = moor.root / "deep"
    top.mkdir()
    script = "import os, sys\nos.chdir(sys.argv[1])\nfor _ in range(1100):\n    os.mkdir('dddddd')\n    os.chdir('dddddd')"
    subprocess.run([sys.executable, "-c", script, str(top)], check=True)
    try:
        for words in (["here"], ["survey", "--under", str(top)], ["why", "."], ["why", "x", "--in", f"{top}{'/dddddd' * 1100}"]):
            ran = moor.kalyx(*words)
            assert ran.status in (0, 1, 2) and "failure of Kalyx" not in ran.err and "Traceback" not in ran.err, (words, ran.err)
    finally:
        subprocess.run(["rm", "-rf", str(top)], check=True)
