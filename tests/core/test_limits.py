"""Every number that bounds something stands on docs/limits.md, and no limit bounds the look before a removal."""

import ast
import json
import re
import sys
from pathlib import Path

import pytest

from kalyx.core.actions import discarding
from kalyx.core.system import trees
from tests.conftest import small

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "kalyx"
NAME = re.compile(r"_?(?:[A-Z_]*LIMIT|[A-Z_]*AT_MOST|_?MOST|_?FILES|_?LINES|_?LINE|_?CELLS|_?LONGEST[A-Z_]*|_?LARGEST|_?LARGE|_?PROCESSES|_?DEEP(EST)?|WALK_DEPTH|_?WIDEST"
                  r"|_?PATTERNS|_?STARS|_?PARTS|_?HASHED|_?EACH|_?DENSEST|_?SMALL|_?ABOVE|_?LONG|_HEAD)")  # fmt: skip


def limits() -> dict[str, str]:
    """Module and name of each number of a module that is called like a bound."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        if path.name == "memory_reader.py":
            continue  # a machine in memory
        module = ".".join(path.relative_to(SOURCE).with_suffix("").parts).replace(".", "/")
        for node in ast.parse(path.read_text()).body:
            if not isinstance(node, ast.Assign):
                continue
            names = [item for target in node.targets for item in ast.walk(target) if isinstance(item, ast.Name)]
            numbers = [item for item in ast.walk(node.value) if isinstance(item, ast.Constant)]
            if numbers and all(isinstance(number.value, (int, float)) for number in numbers) and not isinstance(node.value, ast.Call):
                found |= {f"{module}.{name.id}": name.id for name in names if NAME.fullmatch(name.id)}
    return found


def test_every_limit_is_listed():
    page = (ROOT / "docs" / "limits.md").read_text()
    cells = [cell for line in page.splitlines() if line.startswith("| `") for cell in [line.split("|")[1]]]
    listed = set()
    for cell in cells:
        module = ""
        for word in re.findall(r"`([^`]+)`", cell):
            module = word.rpartition(".")[0] or module
            listed.add(f"{module}.{word.rpartition('.')[2]}")
    known = limits()
    assert len(known) > 70 and not known.keys() - listed, sorted(known.keys() - listed)


def test_no_limit_bounds_the_look_before_a_removal():
    for module in (discarding, trees):
        assert not [name for name in limits() if name.startswith("core/" + module.__name__.removeprefix("kalyx.core.").replace(".", "/") + ".")]


def test_a_file_that_was_cut_is_named(moor):
    """Whatever kind of file it is: the answer is followed by what it lacks."""
    from tests.conftest import make_environment
    from tests.equipment import NEW

    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath").glob("lib/python*/site-packages"))
    info = site / "comb-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: comb\nVersion: 1.0\n" + "Requires-Dist: hive\n" * 60_000)
    (site / "long.pth").write_text("# x\n" * 300_000)
    ran = moor.kalyx("packages", python, "--json")
    assert ran.status == 0 and ran.json["packages"]
    said = [f"{place['path']}: {place['reason']}" for place in ran.json["unread"]]
    assert any("long.pth" in line and "1048576 bytes" in line for line in said) and any("METADATA" in line for line in said), said
    assert ran.err == "" and moor.kalyx("packages", python).err.splitlines() == [f"kalyx: {line}" for line in said]
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: comb\nVersion: 1.0\n")
    (site / "long.pth").unlink()
    assert moor.kalyx("packages", python, "--json").err == ""


def test_what_there_is_too_much_of_is_named(moor):
    from kalyx.core.system import memory_reader
    from kalyx.core.system.live_reader import LiveReader

    reader = LiveReader(moor.variables, str(moor.folder))
    assert list(reader.first_of(range(5), 5, "bees")) == list(range(5)) and not reader.cut
    assert list(reader.first_of(range(9), 5, "bees")) == list(range(5)) and reader.cut == {"bees": "only the first 5 of 9 were looked at"}
    assert not memory_reader.MemoryReader("linux", {}).cut, "another reading keeps its own"
    state = moor.root / ".local" / "state" / "kalyx"
    state.mkdir(parents=True)
    (state / "environments.json").write_text(str([f"/gone/{number}" for number in range(3000)]).replace("'", '"'))
    assert "only the first 2000 of 3000 were looked at" in moor.kalyx("survey").err


# Each limit made small, a call that reaches it, and what is said. "{env}" is an environment with the package comb.
META = "Metadata-Version: 2.1\nName: comb\nVersion: 1.0\n"
SETTINGS = '{"python.defaultInterpreterPath": "/x"}'
NOTEBOOK = json.dumps({"cells": [], "metadata": {"kernelspec": {"name": "a", "display_name": "a", "language": "python"}}, "nbformat": 4, "nbformat_minor": 5})
KERNEL = {"{kernels}/a/kernel.json": json.dumps({"argv": [sys.executable, "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": "a", "language": "python"})}
REACHED = {
    "core/actions/pointing._LIMIT": (64, {"a.ipynb": NOTEBOOK} | KERNEL, "point notebook:a.ipynb kernel:a --yes", "larger than 0.0625 KiB; it was not changed"),
    "core/environments/journal.CONTENT_LIMIT": (64, {"a.ipynb": NOTEBOOK.replace('"a"', '"b"')} | KERNEL, "point notebook:a.ipynb kernel:a --yes", "larger than 0.0625 KiB; nothing was changed there"),
    "core/seats/notebook._NOTEBOOK_LIMIT": (64, {"a.ipynb": NOTEBOOK}, "here", "larger than 0.0625 KiB"),
    "core/imports/sources._LIMIT": (64, {"a.py": "import json\n" * 9}, "why ./a.py --in {env}", "larger than 0.0625 KiB"),
    "core/interpreters/reading._SETTINGS_LIMIT": (8, {}, "survey --json --under {root}/envs", "larger than 0.0078"),
    "core/formats/values.LIMIT": (16, {".vscode/settings.json": SETTINGS}, "here", "larger than 0.015625 KiB"),
    "core/formats/toml.LIMIT": (16, {"pyproject.toml": '[project]\nname = "a"\n'}, "here", "larger than"),
    "core/packages/project._MOST": (1, {"pyproject.toml": '[project]\nname = "a"\nversion = "1"\ndependencies = ["b", "c"]\n'}, "packages {env} --for .", "more than 1 requirements"),
    "core/actions/requested._LINES": (1, {"r.txt": "a\nb\n"}, "fill {env} --from r.txt --dry-run", "more than 1 lines"),
    "core/environments/finding.WALK_LIMIT": (1, {}, "survey --under {root}", "stopped after 1 folders"),
}


LONG = "# x\n" * 10_000
# The same for what is cut: 32 KiB of a longer file, or so many items.
CUT = {
    "core/packages/metadata._RECORD_LIMIT": (32 << 10, {"{info}/RECORD": "comb.py,,\n" + "a.py,,\n" * 9000}, "why comb --in {env}", "RECORD"),
    "core/packages/metadata._METADATA_LIMIT": (32 << 10, {"{info}/METADATA": META + "Requires-Dist: hive\n" * 3000}, "packages {env}", "METADATA"),
    "core/packages/project._LIMIT": (32 << 10, {"requirements.txt": LONG}, "here", "requirements.txt"),
    "core/environments/searchpath._PTH_LIMIT": (32 << 10, {"{site}/long.pth": LONG}, "packages {env}", "long.pth"),
    "core/environments/tracked._INDEX_LIMIT": (32 << 10, {".git/HEAD": "", ".git/index": LONG, "a/pyvenv.cfg": ""}, "survey", "index"),
    "core/environments/tracked._PATTERNS": (3, {".git/HEAD": "", ".gitignore": LONG, "a/pyvenv.cfg": ""}, "survey", ".gitignore"),
    "core/kernels/specs._SPEC_LIMIT": (32 << 10, {"{kernels}/a/kernel.json": " " * 40_000 + "{}"}, "kernels", "kernel.json"),
    "core/seats/server._FILE_LIMIT": (32 << 10, {"{runtime}/jpserver-1.json": " " * 40_000 + "{}"}, "here", "jpserver-1.json"),
    "core/seats/callers._PROCESSES": (1, {}, "here", "processes"),
    "core/environments/finding._PROCESSES": (1, {}, "survey", "processes"),
    "core/environments/finding._LISTED_AT_MOST": (1, {"{root}/.conda/environments.txt": "/a\n/b\n"}, "survey", "manager's list"),
    "core/environments/managed_envs._MOST": (1, {"{state}/environments.json": '["/a", "/b"]'}, "survey", "environments.json"),
    "core/environments/settings._WORDS_LIMIT": (1, {".vscode/settings.json": '{"a": "/b/python", "c": "/d/python"}'}, "survey", "settings.json"),
    "core/queries/captures._EACH": (1, {"a.py": "import json, os, re\n", "a.ipynb": NOTEBOOK, "b.ipynb": NOTEBOOK}, "capture {root}/c", "modules of the folder's code"),
    "core/seats/workspaces._AT_MOST": (1, {"a.code-workspace": '{"folders": [{"path": "a"}, {"path": "b"}]}'}, "here", "code-workspace"),
}


@pytest.fixture(scope="module")
def heath(tmp_path_factory):
    from tests.conftest import Moor, make_environment
    from tests.equipment import NEW

    moor = Moor(tmp_path_factory.mktemp("limits") / "moor")
    make_environment(NEW, moor.root / "envs" / "heath", "--without-pip")
    return moor


@pytest.mark.parametrize("limit", [*REACHED, *CUT])
def test_a_limit_that_is_reached_is_said(limit, heath):
    value, files, words, message = (REACHED | CUT)[limit]
    site = next((heath.root / "envs" / "heath").glob("lib/python*/site-packages"))
    state = heath.root / ".local" / "state" / "kalyx"
    places = {"env": heath.root / "envs" / "heath", "root": heath.root, "site": site, "info": site / "comb-1.0.dist-info", "state": state,
              "kernels": heath.data / "kernels", "runtime": heath.data / "runtime"}  # fmt: skip
    made = []
    for relative, content in ({"{info}/METADATA": META, "{site}/comb.py": ""} | files).items():
        path = heath.folder / relative.format(**places)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
        made.append(path)
    try:
        ran = heath.kalyx(*(word.format(**places) for word in words.split()), before=small(limit, value))
        whole = " ".join((ran.out + ran.err).split())
        assert message in whole and (limit in REACHED or "were looked at" in ran.err or "bytes were read" in ran.err), whole[-1500:]
    finally:
        for path in made:
            path.unlink()


def test_start_files_and_what_programs_and_servers_say(moor, monkeypatch):
    import http.server
    import threading

    from kalyx.core.actions import installer
    from kalyx.core.kernels import wire
    from kalyx.core.machine import Machine
    from kalyx.core.model.records import KalyxError
    from kalyx.core.seats import callers, shell_words, startfiles
    from kalyx.core.system import Unreadable, live_reader, loopback
    from kalyx.core.system.live_reader import LiveReader
    from kalyx.core.system.live_runner import LiveRunner

    reader = LiveReader({"HOME": str(moor.root)}, str(moor.folder))
    (moor.root / ".bashrc").write_text("# x\n" * 200_000)
    for ask in (lambda: shell_words.meanings(reader, callers.ShellFound("bash", None, "", is_typed_into=True)), lambda: startfiles.taken_over(reader, "bash")):
        reader.cut.clear()
        ask()
        assert "only its first 524288 bytes" in reader.cut[str(moor.root / ".bashrc")]

    monkeypatch.setattr(live_reader, "SCAN_LIMIT", 10)
    reader.scan(sys.executable, rb"(ELF)")
    assert reader.cut[sys.executable] == "only its first 10 bytes were searched"

    monkeypatch.setattr(installer, "INSTALL_SECONDS", 0.5)
    with pytest.raises(KalyxError, match="did not finish within 0.5 seconds"):
        installer.run_to_end(Machine(reader, LiveRunner), [sys.executable, "-c", "import time; time.sleep(60)"])
    monkeypatch.setattr(installer, "INSTALL_SECONDS", 60)
    monkeypatch.setattr(installer, "_OUTPUT_LIMIT", 40)
    said = installer.run_to_end(Machine(reader, LiveRunner), [sys.executable, "-c", "print('{' + ' ' * 1000 + '}')"])
    with pytest.raises(KalyxError, match="report could not be read"):
        installer._reported(said)

    class Long(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b"[" + b" " * 5000 + b"]")

    monkeypatch.setattr(loopback, "_ANSWER_LIMIT", 4000)
    server = http.server.HTTPServer(("127.0.0.1", 0), Long)
    threading.Thread(target=server.handle_request, daemon=True).start()
    with pytest.raises(Unreadable, match="too long"):
        loopback.ask_server(f"http://127.0.0.1:{server.server_port}/", "", "api", 5.0)
    server.server_close()

    monkeypatch.setattr(wire, "MESSAGE_LIMIT", 40)
    with pytest.raises(wire.WireError, match="larger than 40 bytes"):
        wire.Session("key").read([wire.DELIMITER, *[b"x" * 20] * 5])
