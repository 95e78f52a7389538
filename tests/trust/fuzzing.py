"""Bent content wherever Kalyx reads: a made-up machine in memory, one of its files or words replaced, every question asked.

``PLACES`` has each place with what lies there as it should be, and the calls that read it. ``ask`` makes one such machine
and runs the calls as the command line would; what it lets through but a refusal in words is a fault. Run as a program
with a number of seconds it searches with the tool that follows coverage, each place in a process of its own:

    python -m tests.trust.fuzzing SECONDS [PLACE...]

and prints each distinct fault once, with the content that brought it, ready to be kept.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import random
import struct
import subprocess
import sys
import tempfile
import time
import traceback
import zipfile
from collections.abc import Callable
from pathlib import Path

from kalyx.cli import start
from kalyx.cli.context import Call
from kalyx.core.actions.requested import wants
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Unreadable
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.system.reader import Process
from tests.made import HOME, Files

SITE, WORK = f"{HOME}/heath/lib/python3.11/site-packages", f"{HOME}/spring"
HERE, JSON, SURVEY = ["here", "-v"], ["here", "--json"], ["survey", "--under", HOME, "-v"]
WHY, PACKAGES, RECORD = ["why", "hivescale", "--in", f"{HOME}/heath"], ["packages", f"{HOME}/heath"], ["record", f"{HOME}/heath"]
KERNELS, FOLDER, TOLD = ["kernels", "-v"], ["why", ".", "--in", f"{HOME}/heath"], ["why", "-"]
ENTER, CONTRAST = ["enter", f"{HOME}/heath"], ["contrast", f"{HOME}/heath", f"{HOME}/orchard", "--json"]
SLOW = 2.0  # seconds; the readers have limits on work, not only on bytes

METADATA = b"Metadata-Version: 2.1\nName: hivescale\nVersion: 2.1\nRequires-Dist: nectarflow (>=1.0) ; python_version < '3.12' and extra == 'x'\nProvides-Extra: x\n\nWords\n"
KERNEL = json.dumps({"argv": [f"{HOME}/heath/bin/python", "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": "Heath", "language": "python",
                     "env": {"PYTHONPATH": "/x:${HOME}"}, "interrupt_mode": "signal", "metadata": {}}).encode()  # fmt: skip
NOTEBOOK = json.dumps({"metadata": {"kernelspec": {"name": "heath", "display_name": "Heath"}, "language_info": {"name": "python", "version": "3.11.7"}},
                       "cells": [{"cell_type": "code", "source": ["import hivescale\n", "%pip install x\n", "!pip install y\n"]}], "nbformat": 4}).encode()  # fmt: skip
INDEX = b"DIRC" + struct.pack(">II", 2, 1) + b"\0" * 40 + b"\0" * 20 + struct.pack(">H", 9) + b"heath/bin" + b"\0" * 9
IDEA = b'<?xml version="1.0"?><project><component name="RunManager"><configuration name="a" type="PythonConfigurationType"><option name="SDK_HOME" value="$PROJECT_DIR$/x/bin/python" /></configuration></component><component name="ProjectRootManager" project-jdk-name="Python 3.11 (heath)" project-jdk-type="Python SDK" /></project>'
TOML = b"[project]\nname='a'\nrequires-python='>=3.9'\ndependencies=['hivescale>=2']\n[tool.pyright]\nvenvPath='.'\nvenv='heath'\npythonVersion='3.11'\n[tool.mypy]\npython_executable='x'\n"
TRACE = f'Traceback (most recent call last):\n  File "{WORK}/a.py", line 1, in <module>\n    import hivescale\n  File "{SITE}/hivescale/__init__.py", line 3, in <module>\nModuleNotFoundError: No module named \'nectarflow\'\n\nDuring handling of the above exception, another exception occurred:\n\nImportError: cannot import name "x" from "y" (z)\n'.encode()
UNDO = b'{"schema": "kalyx.undo/2", "path": "x", "before": null, "after": "y"}'
SERVER = json.dumps({"pid": 77, "port": 8888, "url": "http://localhost:8888/", "token": "t", "root_dir": WORK, "base_url": "/", "secure": False}).encode()  # fmt: skip
STARTS = b"alias python=/usr/bin/python3\nexport PATH=$HOME/orchard/bin:$PATH\nfunction pip { command pip3 \"$@\"; }\nif [ -f ~/.more ]; then . ~/.more; fi\n"
TCL = b"#%Module\nprepend-path PATH /opt/x/bin\nsetenv PYTHONHOME {/opt/x}\nset a $env(HOME)\nmodule load y\n"
LUA = b'prepend_path("PATH", pathJoin("/opt/x", "bin"))\nsetenv("PYTHONHOME", base .. "/x")\nlocal base = "/opt"\n'
HEADER = b"\x7fELF\x02\x01\x01" + b"\0" * 9 + struct.pack("<HHIQQQIHHHHHH", 3, 62, 1, 0, 64, 0, 0, 64, 56, 1, 64, 0, 0) + b"\0" * 56
PE = b"MZ" + b"\0" * 58 + struct.pack("<I", 64) + b"PE\0\0" + struct.pack("<HHIIIHH", 0x8664, 1, 0, 0, 0, 112, 0x2022) + b"\0" * 200
MACH = struct.pack("<IIIIIIII", 0xFEEDFACF, 0x01000007, 3, 6, 1, 24, 0, 0) + struct.pack("<II", 0x26, 24) + b"\0" * 64

_WHOLE = io.BytesIO()
with zipfile.ZipFile(_WHOLE, "w", zipfile.ZIP_DEFLATED) as _archive:
    for _name, _text in (("EGG-INFO/PKG-INFO", METADATA.decode()), ("EGG-INFO/top_level.txt", "frames\n"), ("frames/__init__.py", "")):
        _archive.writestr(_name, _text)
EGG = _WHOLE.getvalue()

# Place: (where it lies, what lies there as it should be, the calls that read it).
FILES: dict[str, tuple[str, bytes, list[list[str]]]] = {
    "settings of an environment": (f"{HOME}/heath/pyvenv.cfg", b"home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.11.7\nprompt = 'h'\nexecutable = /usr/bin/python3.11\n", [SURVEY, WHY, PACKAGES]),
    "metadata": (f"{SITE}/hivescale-2.1.dist-info/METADATA", METADATA, [PACKAGES, RECORD, WHY, CONTRAST]),
    "requirement": (f"{SITE}/hivescale-2.1.dist-info/METADATA", b"nectarflow[a,b] >=1.0,!=1.5 ; os_name == 'posix' or platform_machine in 'x y'", [PACKAGES, RECORD]),
    "record": (f"{SITE}/hivescale-2.1.dist-info/RECORD", b"hivescale/__init__.py,sha256=x,12\n\"a,b.py\",,\n../../../bin/x,,\n", [PACKAGES, RECORD, WHY, ["why", "hivescale.sub", "--in", f"{HOME}/heath"]]),
    "direct": (f"{SITE}/hivescale-2.1.dist-info/direct_url.json", b'{"url": "file:///x", "dir_info": {"editable": true}, "vcs_info": {"vcs": "git", "commit_id": "a"}}', [PACKAGES, RECORD]),
    "names at the top": (f"{SITE}/hivescale-2.1.dist-info/top_level.txt", b"hivescale\n_core\n", [PACKAGES, WHY]),
    "commands": (f"{SITE}/hivescale-2.1.dist-info/entry_points.txt", b"[console_scripts]\nx = a.b:c [d]\n", [PACKAGES, RECORD]),
    "older metadata": (f"{SITE}/old-1.egg-info/PKG-INFO", METADATA, [PACKAGES, RECORD]),
    "older requirements": (f"{SITE}/old-1.egg-info/requires.txt", b"nectarflow>=1\n\n[x:python_version<'3']\nbroodmap\n", [PACKAGES]),
    "archive of an egg": (f"{SITE}/frames-1-py3.egg", EGG, [PACKAGES, RECORD, ["why", "frames", "--in", f"{HOME}/heath"]]),
    "link of an egg": (f"{SITE}/hivescale.egg-link", f"{WORK}\n.\n".encode(), [PACKAGES, WHY]),
    "finder of an editable": (f"{SITE}/__editable___hivescale_1_finder.py", b"MAPPING: dict[str, str] = {'hivescale': '/home/keeper/spring/src'}\nNAMESPACES = {}\n", [WHY, PACKAGES]),
    "path file": (f"{SITE}/x.pth", f"{WORK}/src\nimport os; os.x\n# a\n../y\n/x.egg\n".encode(), [PACKAGES, WHY, SURVEY]),
    "source": (f"{WORK}/a.py", b"import hivescale\nfrom .b import c\ntry:\n    import x\nexcept ImportError:\n    x = None\n", [FOLDER, RECORD]),
    "package's source": (f"{SITE}/hivescale/__init__.py", b"from . import frames\n__version__ = '2'\n", [WHY, ["why", "hivescale.frames", "--in", f"{HOME}/heath"]]),
    "notebook": (f"{WORK}/w.ipynb", NOTEBOOK, [JSON, FOLDER, ["why", "hivescale", "--in", "w.ipynb"], ["point", "notebook:w.ipynb", "kernel:heath", "--dry-run"]]),
    "kernel": (f"{HOME}/.local/share/jupyter/kernels/heath/kernel.json", KERNEL, [KERNELS, HERE, ["unregister", "heath", "--dry-run"], ["why", "x", "--in", "kernel:heath"]]),
    "server": (f"{HOME}/.local/share/jupyter/runtime/jpserver-77.json", SERVER, [HERE, KERNELS]),
    "server's settings": (f"{HOME}/.jupyter/jupyter_config.json", b'{"KernelSpecManager": {"allowed_kernelspecs": ["heath"]}}', [KERNELS]),
    "editor's settings": (f"{WORK}/.vscode/settings.json", b'{"python.defaultInterpreterPath": "${workspaceFolder}/../heath/bin/python", /* a */ "x": [1,],}', [HERE, JSON, ["point", "editor", f"{HOME}/orchard", "--dry-run"]]),
    "run configurations": (f"{WORK}/.vscode/launch.json", b'{"configurations": [{"name": "a", "type": "debugpy", "python": "${env:HOME}/heath/bin/python", "program": "x"}]}', [HERE]),
    "workspace": (f"{WORK}/.idea/workspace.xml", IDEA, [HERE, ["point", "editor", f"{HOME}/orchard", "--dry-run"]]),
    "project": (f"{WORK}/pyproject.toml", TOML, [HERE, RECORD, ["prepare", f"{HOME}/new", "--from", "pyproject.toml", "--dry-run"]]),
    "checker's settings": (f"{WORK}/mypy.ini", b"[mypy]\npython_executable = ../heath/bin/python\npython_version = 3.9\n", [HERE]),
    "folder's lisp": (f"{WORK}/.dir-locals.el", b'((python-mode . ((python-shell-interpreter . "x/python"))))', [HERE]),
    "pinned": (f"{WORK}/.python-version", b"3.11.7\nsystem\n", [HERE]),
    "user's editors": (f"{HOME}/.config/kalyx/kalyx-editors.json", b'{"descriptors": [{"family": "a", "form": "b", "format": "json", "files": [".x"], "choices": [{"key": ["a"], "part": "run", "kind": "path"}]}]}', [HERE]),
    "index": (f"{HOME}/.git/index", INDEX, [SURVEY]),
    "what is ignored": (f"{HOME}/.gitignore", b"heath/\n!x\n**/a\n[a-z]?\n\\#\n", [SURVEY]),
    "first line": (f"{HOME}/heath/bin/pip", b"#!/bin/sh\n'''exec' \"/home/keeper/heath/bin/python\" \"$0\" \"$@\"\n' '''\n", [HERE, ["why", "program:pip"], ENTER]),
    "header": (f"{SITE}/hivescale/_core.cpython-311-x86_64-linux-gnu.so", HEADER, [WHY, ["why", "hivescale._core", "--in", f"{HOME}/heath"]]),
    "other header": (f"{SITE}/hivescale/_core.cp311-win_amd64.pyd", PE, [["why", "hivescale._core", "--in", f"{HOME}/heath"]]),
    "third header": (f"{SITE}/hivescale/_core.cpython-311-darwin.so", MACH, [["why", "hivescale._core", "--in", f"{HOME}/heath"]]),
    "interpreter": ("/usr/bin/python3.11", HEADER + b"\x003.11.7\x00", [HERE, SURVEY]),
    "version of a header": ("/usr/include/python3.11/patchlevel.h", b'#define PY_VERSION "3.11.7"\n', [SURVEY]),
    "activation": (f"{HOME}/heath/bin/activate", f"VIRTUAL_ENV='{HOME}/heath'\nexport VIRTUAL_ENV\n".encode(), [SURVEY, ENTER, HERE]),
    "shell's start": (f"{HOME}/.bashrc", STARTS, [HERE]),
    "site module": ("/modules/py/1", TCL, [HERE, SURVEY, ENTER]),
    "other site module": ("/modules/py/2.lua", LUA, [HERE, SURVEY, ENTER]),
    "manager's record": (f"{HOME}/kept/conda-meta/python-3.11.7-x.json", b'{"name": "python", "version": "3.11.7", "files": ["bin/python"]}', [SURVEY, ["packages", f"{HOME}/kept"]]),
    "answer kept": (f"{WORK}/kept.json", b'{"schema": "kalyx.here/2", "reference": {"seat": "shell", "name": "bash"}, "seats": [], "folder": "/x"}', [["here", "--since", "kept.json"], ["contrast", "kept.json", f"{HOME}/heath"]]),
    "list of packages": (f"{WORK}/kept.txt", b"# kalyx record of /x: cpython 3.11.7\nhivescale==2.1 ; sys_platform == 'linux'\n-e ./x\nx @ git+https://h/x@a\n", [["contrast", "kept.txt", f"{HOME}/heath"], ["prepare", f"{HOME}/new", "--from", "kept.txt", "--dry-run"]]),
    "cache": (f"{HOME}/.cache/kalyx/interpreters.json", b'{"schema": "kalyx.remembered/1", "known": {"a|1|2|3:4": {"version": "3.11.7", "abi_flags": ""}}}', [SURVEY]),
    "removed kernel": (f"{HOME}/.local/share/jupyter/kalyx-removed/heath/kalyx.json", UNDO, [["unregister", "heath", "--undo", "--dry-run"]]),
    "mark of a stopped run": (f"{HOME}/heath/kalyx-before/list.json", UNDO, [SURVEY, ["fill", f"{HOME}/heath", "--repair", "--dry-run"]]),
    "console's words": (f"{WORK}/a.kalyx-seat", b'kalyx-seat {"executable": "/usr/bin/python3.11", "version": "3.11.7", "prefix": "/usr", "folder": "/x"}\nkalyx-says python is x\n', [HERE]),
}  # fmt: skip
# Words given: what stands for them in the calls is {}.
WORDS: dict[str, tuple[bytes, list[list[str]]]] = {
    "a traceback": (TRACE, [TOLD]),
    "a module": (b"hivescale.frames", [["why", "{}", "--in", f"{HOME}/heath"]]),
    "a statement": (b"from hivescale import a as b, c", [["why", "{}"]]),
    "a target": (b"kernel:heath", [["packages", "{}"], ["enter", "{}"], ["here", "--against", "{}"]]),
    "a command line": (b"python -I -W ignore -m tool.x 'a b'", [["packages", f"{HOME}/heath", "--as", "{}"], [*WHY, "--as", "{}"]]),
    "a requirement": (b"hivescale[x]>=2 ; python_version > '3'", [["fill", f"{HOME}/heath", "{}", "--dry-run"], ["prepare", f"{HOME}/new", "--want", "{}", "--dry-run"]]),
}  # fmt: skip
PLACES = [*FILES, *WORDS]
# What is read before an environment is made or filled, which these machines cannot do.
WISHES: dict[str, Callable[[MemoryReader, str], object]] = {
    "project": lambda reader, _: wants(reader, [], f"{WORK}/pyproject.toml"),
    "list of packages": lambda reader, _: wants(reader, [], f"{WORK}/kept.txt"),
    "a requirement": lambda reader, text: wants(reader, [text], None),
}

# What readers stumble over: put in by chance.
BENT = [b"\0", b"\xff", b"\xc2\xb2", b"\xed\xa0\x80", b"\xef\xbb\xbf", b"9" * 5000, b"-1", b"1e999", b"NaN", b"null", b"[]", b"{}", b'""', b"'", b'"', b"\\", b"\n", b"\r", b"\t",
        b"/" * 300, b"../" * 400, b"a/" * 1200, b"[" * 3000, b"(" * 3000, b"{" * 3000, b"<a>" * 3000, b"a." * 3000, b"${HOME}" * 200, b"~", b"*" * 200, b"%s", b"=" * 50, b":",
        b";", b"#", b"'" * 3, b"\\ud800", b"\\u0000", b" " * 5000, b"==1.*", b"and or not", b"@ http://[::", b"-e ", b"https://k:s@h/", b"import ", b"\xe2\x80\xae"]  # fmt: skip


def bent(content: bytes, chance: random.Random) -> bytes:
    """The content with a few changes made by chance."""
    whole = bytearray(content)
    for _ in range(chance.choice([1, 1, 2, 3, 8])):
        at = chance.randrange(len(whole) + 1)
        until = min(len(whole), at + chance.choice([0, 1, 2, 8, 40]))
        kind = chance.randrange(6)
        if kind == 0 and whole:
            whole[at % len(whole)] ^= 1 << chance.randrange(8)
        elif kind == 1:
            del whole[at:until]
        elif kind == 2:
            whole[at:at] = whole[at:until] * chance.choice([1, 2, 50])
        elif kind == 3:
            del whole[at:]
        else:
            whole[at:until] = chance.choice(BENT)
    return bytes(whole)


def machine(place: str, content: bytes) -> MemoryReader:
    """The made-up machine with this content at the place."""
    files = Files()
    files.package("heath", "hivescale", "2.1", "hivescale")
    files.package("orchard", "hivescale", "2.0", "hivescale")
    files.kernel("orchard", f"{HOME}/orchard/bin/python")
    files.kernel("heath", f"{HOME}/heath/bin/python")
    files.update({f"{HOME}/.git/HEAD": b"ref: x\n", f"{HOME}/.git/index": INDEX, f"{SITE}/old-1.egg-info/PKG-INFO": METADATA, f"{WORK}/b.py": b"",
                  f"{HOME}/kept/bin/python": Link("/usr/bin/python3.11"), f"{SITE}/__editable__.hivescale.pth": "import __editable___hivescale_1_finder; x()\n",
                  f"{SITE}/easy-install.pth": "./frames-1-py3.egg\n"})  # fmt: skip
    if place in FILES:
        files[FILES[place][0]] = (b"Metadata-Version: 2.1\nName: hivescale\nVersion: 2.1\nRequires-Dist: " + content + b"\n" if place == "requirement" else content)  # fmt: skip
    variables = {**files.variables, "LOADEDMODULES": "py/1:py/2", "_LMFILES_": "/modules/py/1:/modules/py/2.lua", "MODULEPATH": "/modules", "SHELL": "/bin/bash"}  # fmt: skip
    server = Process(pid=77, parent=1, name="python", executable=f"{HOME}/heath/bin/python", command=(f"{HOME}/heath/bin/python", "-m", "server"),
                     folder=WORK, variables=variables, started=1.0)  # fmt: skip
    return MemoryReader("linux", files, variables=variables, home=HOME, folder=WORK, processes={77: server})


def ask(place: str, content: bytes) -> None:
    """Ask what reads the place, as the command line would. Raises whatever is no refusal in words."""
    calls = FILES[place][2] if place in FILES else WORDS[place][1]
    if place in WISHES:
        with contextlib.suppress(KalyxError, Unreadable):
            WISHES[place](machine(place, content), content.decode("utf-8", "surrogateescape"))
    given = content.decode("utf-8", "surrogateescape").replace("\0", "") if place in WORDS else ""
    for words in calls:
        if place in WORDS and given.startswith("-") and words[-1] == "{}":
            given = given.lstrip("-")
        call([given if word == "{}" else word for word in words], machine(place, content), content)


def call(words: list[str], reader: MemoryReader, given: bytes = b"") -> int:
    """One call of the command line on a machine in memory; its status."""
    kept = sys.stdout, sys.stderr, sys.stdin
    sys.stdout, sys.stderr = (io.TextIOWrapper(io.BytesIO(), "utf-8", "backslashreplace") for _ in range(2))
    sys.stdin = io.TextIOWrapper(io.BytesIO(given))
    try:
        parser = start.command_parser(words[0])
        options = start._parsed(parser, [*words[1:], "--static"])
        status = start.import_module(f"kalyx.cli.commands.{words[0]}").run(Call(options, reader))
        assert status in (0, 1, 2), status
        return int(status)
    except (KalyxError, Unreadable, start.Refusal) as refusal:
        str(refusal).encode("utf-8", "surrogateescape")
        return 2
    finally:
        sys.stdout, sys.stderr, sys.stdin = kept


def seed(place: str) -> bytes:
    """What lies there as it should be."""
    return FILES[place][1] if place in FILES else WORDS[place][0]


def fault_of(place: str, content: bytes) -> str | None:
    """The fault that this content brings, in one line; None where it is taken or refused in words."""
    began = time.process_time()
    try:
        ask(place, content)
    except Exception as failure:
        frames = [item for item in traceback.extract_tb(failure.__traceback__) if "kalyx" in item.filename]
        where = f"{Path(frames[-1].filename).name}:{frames[-1].lineno}" if frames else "?"
        return f"{type(failure).__name__} at {where}: {str(failure)[:80]!r}"
    took = time.process_time() - began
    return f"slow: {place}" if took > SLOW * len(FILES.get(place, (0, 0, [0]))[2]) else None


def search(place: str, seconds: int, folder: Path) -> None:
    """Search one place, following coverage; each distinct fault becomes a file. Never returns."""
    import atheris

    found: set[str] = set()
    (folder / "corpus").mkdir(exist_ok=True)
    (folder / "corpus" / "seed").write_bytes(seed(place))
    runs = [0]

    def one(content: bytes) -> None:
        runs[0] += 1
        fault = fault_of(place, content)
        if fault is not None and fault.partition(": ")[0] not in found:
            found.add(fault.partition(": ")[0])
            (folder / f"{len(found)}").write_bytes(content)
            with (folder / "faults").open("a") as file:
                file.write(f"{place}\t{fault}\t{content[:300]!r}\n")
        if runs[0] % 50 == 0:
            (folder / "runs").write_text(str(runs[0]))

    kept = [sys.argv[0], f"-max_total_time={seconds}", "-max_len=4096", "-timeout=60", "-rss_limit_mb=3000", "-verbosity=0", "-len_control=20", str(folder / "corpus")]
    atheris.Setup(kept, one)
    atheris.Fuzz()


def main(seconds: int, places: list[str]) -> None:
    """Each place in a process of its own, its share of the time."""
    total = 0
    for place in places or PLACES:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            share = str(max(5, seconds // len(places or PLACES)))
            with contextlib.suppress(subprocess.TimeoutExpired):
                subprocess.run([sys.executable, "-m", "tests.trust.fuzzing", "--one", place, share, name], capture_output=True, check=False,
                               timeout=int(share) * 2 + 120, env={**os.environ, "PYTHONPATH": str(Path.cwd())})  # fmt: skip
            runs = int((folder / "runs").read_text()) if (folder / "runs").exists() else 0
            total += runs
            print(f"{place}: {runs} runs", flush=True)
            if (folder / "faults").exists():
                print((folder / "faults").read_text(), flush=True)
    print(f"{total} runs in all", flush=True)


if __name__ == "__main__":
    if sys.argv[1] == "--one":
        import atheris

        # Coverage is followed in Kalyx's own code.
        with atheris.instrument_imports(include=["kalyx"]):
            for module in [name for name in sys.modules if name.startswith("kalyx")]:
                del sys.modules[module]
            for name in ("kalyx.cli.start", "kalyx.cli.context"):
                __import__(name)
        place_, share_, folder_ = sys.argv[2:5]
        import tests.trust.fuzzing as again

        again.search(place_, int(share_), Path(folder_))
    else:
        main(int(sys.argv[1]), sys.argv[2:])
