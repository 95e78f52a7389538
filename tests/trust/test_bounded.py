"""What somebody wrote to cost time or memory: each ends soon, in little memory, with an answer or one line."""

import gzip
import json
import os
import resource
import subprocess
import sys
from collections.abc import Callable

import pytest

from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell_words import meanings
from kalyx.core.system.memory_reader import MemoryReader
from tests.conftest import KALYX, Moor, make_environment, started
from tests.equipment import NEW

SECONDS, MEMORY = 20, 200 << 20  # what a machine that is busy besides keeps

HEAD = json.dumps({"kalyx capture": 1, "system": "linux", "folder": "/", "home": "/", "pid": 1, "user": 0, "variables": {}, "refusals": {}}).encode() + b"\n"
SETTINGS, CHOICE = ".vscode/settings.json", '"python.defaultInterpreterPath":"/x"}'
META = "Metadata-Version: 2.1\nName: comb\nVersion: 1.0\n"
RECORDED = "{site}/comb-1.0.dist-info/"


def capture(*body: bytes | int) -> Callable[[], bytes]:
    """Makes a packed capture of these pieces, each followed by how often it stands there; only where a test asks for it."""
    return lambda: gzip.compress(HEAD + b"".join(piece * times for piece, times in zip(body[::2], body[1::2], strict=True)), 1)


# Files, and the call: "{site}" is the environment's folder of packages.
CASES = {
    "a requirement of blanks": ({RECORDED + "METADATA": META + "Requires-Dist: a" + " " * 1000 + "@\n"}, ["packages", "{env}", "--unmet"]),
    "a requirement of brackets": ({RECORDED + "METADATA": META + "Requires-Dist: a" + "(>=1" * 2000 + "\n"}, ["record", "{env}"]),
    "an ignore file": ({".gitignore": "*a" * 12 + "b\n", ".git/HEAD": "", "a" * 200 + "/pyvenv.cfg": "home = /usr/bin\n"}, ["survey"]),
    "comments in settings": ({SETTINGS: "{" + "/* a */" * 140_000 + CHOICE}, ["here"]),
    "line comments in settings": ({SETTINGS: "{" + "// a\n" * 190_000 + CHOICE}, ["point", "editor", "{env}", "--dry-run"]),
    "keys in settings": ({SETTINGS: "{" + "".join(f'"k{number}":{{}},' for number in range(80_000)) + CHOICE}, ["point", "editor", "{env}", "--dry-run"]),
    "settings that are too large": ({SETTINGS: "{" + "// a\n" * 300_000 + CHOICE}, ["point", "editor", "{env}", "--dry-run"]),
    "deep settings": ({SETTINGS: '{"a":' + "[" * 100_000}, ["point", "editor", "{env}", "--dry-run"]),
    "Lisp": ({".dir-locals.el": "((nil . (" + '(a . "b")\n' * 90_000 + ")))"}, ["here"]),
    "brackets of Lisp": ({".dir-locals.el": "(" * 400_000}, ["here"]),
    "tables of TOML": ({"pyproject.toml": "".join(f"[a.b{number}]\nc=1\n" for number in range(40_000))}, ["here"]),
    "requirements of a project": ({"pyproject.toml": '[project]\nname="x"\nversion="1"\ndependencies=[' + '"a",' * 100_000 + "]\n"}, ["here"]),
    "groups that include each other": ({"pyproject.toml": "[dependency-groups]\n" + "".join(
        f"g{number} = [{', '.join('{include-group = ' + chr(34) + f'g{other}' + chr(34) + '}' for other in range(40))}]\n" for number in range(40))}, ["here"]),
    "requirements files that read each other": ({"requirements.txt": "".join(f"-r r{number}.txt\n" for number in range(40)), **{
        f"r{number}.txt": "".join(f"-r r{other}.txt\n" for other in range(40)) for number in range(40)}}, ["here"]),
    "lines of requirements": ({"many.txt": 'a[b]==1 ; python_version<"3"\n' * 60_000}, ["prepare", "new", "--from", "many.txt", "--dry-run"]),
    "cells": ({"x.ipynb": '{"cells":[' + '{"cell_type":"code","source":"import a"},' * 30_000 + '{}],"metadata":{"kernelspec":{"name":"a","display_name":"a"}}}'}, ["why", "x.ipynb"]),
    "a name of many parts": ({}, ["why", ".".join(["a"] * 5000)]),
    "a file of one import": ({"deep.py": "import " + ".".join(["a"] * 20_000) + "\n"}, ["why", "deep.py"]),
    "long names beside": ({f"near/{number:04d}" + "x" * 240: "" for number in range(2000)}, ["why", "./near/" + "y" * 240 + ".py"]),
    "a target of folders": ({}, ["packages", "a/" * 8000]),
    "a word of a hundred thousand letters": ({}, ["packages", "a" * 100_000]),
    "a command line of a hundred thousand letters": ({}, ["why", "json", "--as", "python " + "-I" * 50_000]),
    "an unknown command": ({}, ["a" * 100_000]),
    "line ends as a capture": ({"c": capture(b"\n", 300 << 20)}, ["here", "--on", "c"]),
    "a capture of many lines": ({"c": capture(b'{"read":["kind","/a"],"is":null}\n', 1_000_000)}, ["here", "--on", "c"]),
    "a capture of one line": ({"c": capture(b'{"read":["read","/a",1,0],"is":{"text":"', 1, b"x", 200 << 20, b'"}}\n', 1)}, ["here", "--on", "c"]),
    "a capture that is nested": ({"c": capture(b'{"read":["kind","/a"],"is":', 1, b"[", 200_000, b"}\n", 1)}, ["here", "--on", "c"]),
    "an earlier answer that is nested": ({"since": "[" * 100_000}, ["here", "--since", "since"]),
}  # fmt: skip


@pytest.fixture(scope="module")
def heath(tmp_path_factory):
    moor = Moor(tmp_path_factory.mktemp("bounded") / "moor")
    make_environment(NEW, moor.root / "envs" / "heath", "--without-pip")
    moor.variables["KALYX_ONLY_BELOW"] = str(moor.root)
    return moor


def called(moor: Moor, words: list[str], **variables: str) -> subprocess.CompletedProcess:
    """The program within its bounds. Fails where it takes longer; more memory ends it as a failure of its own."""
    def bound() -> None:
        resource.setrlimit(resource.RLIMIT_DATA, (MEMORY, MEMORY))

    return subprocess.run([sys.executable, KALYX, *words], cwd=moor.folder, env={**moor.variables, **variables}, capture_output=True,
                          timeout=SECONDS, check=False, preexec_fn=bound, stdin=subprocess.DEVNULL)  # fmt: skip


def answers(done: subprocess.CompletedProcess) -> None:
    said = done.stderr.decode(errors="replace")
    assert done.returncode in (0, 1, 2) and "Traceback" not in said and "failure of Kalyx" not in said, said[-600:]
    assert done.returncode != 2 or (said.count("\n") == 1 and len(said) < 4000), said[:300]


@pytest.mark.parametrize("name", CASES)
def test_it_ends(name, heath):
    files, words = CASES[name]
    site = next((heath.root / "envs" / "heath").glob("lib/python*/site-packages"))
    made = []
    for relative, content in files.items():
        path = heath.folder / relative.format(site=site)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content() if callable(content) else content.encode())
        made.append(path)
    try:
        answers(called(heath, [word.format(env=heath.root / "envs" / "heath") if "{env}" in word else word for word in words]))
    finally:
        for path in made:
            path.unlink()


def test_a_pipe_in_the_place_of_a_file(heath):
    os.mkfifo(heath.folder / "pipe")
    for words in (["here", "--on", "pipe"], ["here", "--since", "pipe"], ["contrast", "./pipe", "shell"], ["report", "-o", "pipe.html", "--on", "pipe"]):
        answers(called(heath, words))


@pytest.mark.parametrize("columns", ["1000000000", "99999999999999999999", "-5", "0"])
def test_a_terminal_of_any_width(heath, columns):
    answers(called(heath, ["here"], COLUMNS=columns))


START_FILES = {
    "deep quoting": 'alias python="' + '\\"' * 200_000 + '"\n', "a long line": "a;" * 250_000 + "\n", "conditions": "if true; then\n" * 40_000,
    "functions": "python() {\n" * 40_000, "brackets": "alias python=" + "$(" * 200_000 + "\n", "lines that go on": "\\\n" * 250_000,
    "quotes": "alias python=" + "'a'" * 150_000 + "\n", "places": "hash -p /x python\n" * 25_000, "aliases": "".join(f"alias python{n}=python{n + 1}\n" for n in range(15_000)),
    "functions that are called": "swarm() {\n" + "hive\n" * 5_000 + "}\n" + "swarm;" * 50_000, "a chain of functions": "".join(f"f{n}() {{\n f{n + 1}\n}}\n" for n in range(20_000)) + "f0\n" * 9_000,
    "functions called like aliases": "".join(f"alias python{n}=python{n + 1}\n" for n in range(8_000)) + "".join(f"python{n}() {{\n}}\n" for n in range(8_000)),
    "names in an evaluation": "eval " + " ".join(f"a{n}" for n in range(70_000)) + "\n", "words": "alias " + " ".join(f"python{n}=x" for n in range(30_000)) + "\n", "evaluations": "eval python ;" * 35_000, "unaliases": "alias python=x\nunalias " + "python " * 60_000 + "\n",
}  # fmt: skip


@pytest.mark.parametrize("name", [*START_FILES, "files that read each other"])
def test_start_files_of_shells(name):
    """Read as a shell that somebody types into reads them; a signal ends what takes too long."""
    import signal

    files = {"/home/bee/.bashrc": START_FILES.get(name, "")[:500_000]}
    if name not in START_FILES:
        files = {f"/home/bee/s{number}": "".join(f". ~/s{other}\n" for other in range(60)) for number in range(60)}
        files["/home/bee/.bashrc"] = files["/home/bee/s0"]
    reader = MemoryReader("linux", files, home="/home/bee", folder="/home/bee")
    before = signal.signal(signal.SIGALRM, lambda *_: pytest.fail("it takes too long"))
    signal.alarm(SECONDS)
    try:
        meanings(reader, ShellFound("bash", None, "", is_typed_into=True))
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


CONNECTIONS = [{"key": "é"}, {"key": 5}, {"shell_port": -1}, {"shell_port": 99_999}, {"hb_port": "x"}, {"ip": "["}, {"ip": None}, {"transport": "ipc", "ip": "/" + "a" * 300},
               {"transport": "ipc", "ip": ""}, {"transport": []}, [], "["]  # fmt: skip
SERVERS = [{"base_url": "["}, {"url": "http://["}, {"url": "http://127.0.0.1:x/"}, {"port": -1}, {"port": "x"}, {"pid": "1"}, {"token": 5}, {"token": "é"}, {"root_dir": {}}, [1], "["]


def test_files_of_servers_and_kernels_that_run(moor):
    """Whatever stands in them: the others are told, nothing waits, nothing fails."""
    runtime = moor.data / "runtime"
    runtime.mkdir(parents=True)
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    connection = runtime / "kernel-1.json"
    script = moor.root / "ipykernel_launcher.py"
    script.write_text("import time\ntime.sleep(100)\n")
    good = {f"{name}_port": 5000 + number for number, name in enumerate(("shell", "iopub", "stdin", "control", "hb"))}
    good |= {"ip": "127.0.0.1", "transport": "tcp", "key": "abc", "signature_scheme": "hmac-sha256"}
    with started([python, script, "-f", connection]) as kernel:
        server = {"pid": kernel.pid, "port": 8888, "url": "http://127.0.0.1:8888/", "base_url": "/", "token": "x", "root_dir": "/"}
        for kind, path, whole in (("connection", connection, good), ("server", runtime / f"jpserver-{kernel.pid}.json", server)):
            for bent in CONNECTIONS if kind == "connection" else SERVERS:
                path.write_text("[" * 50_000 if bent == "[" else json.dumps({**whole, **bent} if isinstance(bent, dict) else bent))
                for words in (["here", "--live"], ["kernels", "--running"]):
                    answers(called(moor, words))
            path.unlink()
