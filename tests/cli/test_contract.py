"""Every command's real output against its schema, and bad input: one line, status 2, nothing left behind."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.cli.calls import BAD, answers, spoilt
from tests.conftest import make_environment
from tests.equipment import BY_VERSION, NEW, some

SCHEMAS = Path(__file__).parents[2] / "docs" / "schema"


@pytest.fixture(scope="module")
def heath(tmp_path_factory):
    root = tmp_path_factory.mktemp("contract")
    version = ".".join(map(str, sys.version_info[:2]))
    python = make_environment(some(version)[0], root / "heath", "--without-pip")
    site = next((root / "heath" / "lib").glob("python*")) / "site-packages"
    from kalyx.demo.wheels import standin_package

    (site / "kalyx_standin_kernel.py").write_text(standin_package().files["kalyx_standin_kernel.py"])
    return python


def test_every_answer_fits_its_schema(moor, heath):
    prefix = str(Path(heath).parents[1])
    for words, status in answers(prefix):
        ran = moor.kalyx(*words, "--json")
        assert ran.status == status, (words, ran.out, ran.err)
        assert ran.json["schema"].startswith("kalyx.")
    assert SCHEMAS.joinpath("demo.json").exists()


def test_schemas_are_current():
    sys.path.insert(0, str(SCHEMAS.parents[1] / "tools"))
    import schemas

    for name, content in schemas.schemas().items():
        path = SCHEMAS / name
        assert path.exists() and path.read_text() == content, f"run tools/schemas.py: {name} is old, or not there"


def test_each_command_has_what_a_command_needs():
    """What ``docs/extending.md`` lists: the module is found by its name."""
    from kalyx.cli import help_text, start

    commands = set(start.COMMANDS)
    assert set(help_text.EXAMPLES) == set(help_text._STATUS) == commands, "cli/help_text.py: examples and exit status of each command"
    assert commands >= start.EXAMINE | start.CHANGE
    modules = {path.stem for path in (Path(start.__file__).parent / "commands").glob("*.py")} - {"__init__"}
    assert modules == commands, "cli/commands has a module for each command, and each is in COMMANDS of cli/start.py"


def test_the_manual_and_the_pages_are_current(monkeypatch):
    """The help of each command stands in the manual page, which a wheel brings, and on the command's own page."""
    monkeypatch.setenv("COLUMNS", "80")
    sys.path.insert(0, str(SCHEMAS.parents[1] / "tools"))
    import pages

    assert pages.MANUAL.read_text() == pages.manual(), "run tools/pages.py"
    for name in pages.COMMANDS:
        page = pages.DOCS / "commands" / f"{name}.md"
        assert page.exists() and pages.help_of(name) in page.read_text(), f"run tools/pages.py: {name} is old, or not there"


@pytest.mark.parametrize("words, message", BAD, ids=lambda value: " ".join(value)[:40] if isinstance(value, list) else "")
def test_bad_input_is_one_line(moor, words, message):
    spoilt(moor.folder)
    before = sorted(str(path) for path in moor.root.rglob("*"))
    ran = moor.kalyx(*words)
    assert ran.status == 2 and message in ran.err, (ran.status, ran.out, ran.err)
    assert ran.err.startswith("kalyx") and ": " in ran.err and ran.err.count("\n") == 1
    assert json.loads(moor.kalyx(*words, "--json").out)["schema"] == "kalyx.error/2"
    assert sorted(str(path) for path in moor.root.rglob("*")) == before, "nothing was written"


def test_without_a_terminal_nothing_changes(moor, heath):
    ran = moor.kalyx("register", heath)
    assert ran.status == 2 and "without a terminal" in ran.err
    assert not moor.data.exists()
    planned = moor.kalyx("register", heath, "--dry-run", "--json").json
    assert planned["plan"] and not planned["done"] and not moor.data.exists()


def test_escape_codes_do_not_pass(moor, heath):
    moor.notebook("x\x1b[31m.ipynb", "evil\x1b[2J")
    moor.kernel("good", [heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"], display_name="l\x1b]0;x\x07")
    for words in (["here", "--against", heath], ["kernels"], ["why", "json", "--in", "kernel:good"]):
        assert "\x1b" not in moor.kalyx(*words).out


def test_names_that_are_no_text(moor, heath):
    odd = os.fsencode(str(moor.folder)) + b"/heath-\xff"
    os.symlink(os.path.dirname(os.path.dirname(heath)), odd)
    ran = moor.kalyx("why", "json", "--in", os.fsdecode(odd), "--json")
    assert ran.status == 0 and "\\udcff" in ran.out
    assert ran.json
    assert "\\xff" in moor.kalyx("why", "json", "--in", os.fsdecode(odd)).out


def test_static_starts_nothing(moor, heath):
    marker = moor.root / "started"
    spy = moor.root / "bin" / "python"
    spy.parent.mkdir()
    spy.write_text(f"#!/bin/sh\ntouch {marker}\n")
    spy.chmod(0o755)
    moor.variables["PATH"] = f"{spy.parent}:/usr/bin:/bin"
    for words in (["here"], ["survey"], ["kernels"], ["why", "json", "--in", heath]):
        moor.kalyx(*words, "--static")
    assert not marker.exists()
    assert moor.kalyx("why", "no_such", "--in", heath, "--static", "--json").json["imports"][0]["outcome"] == "fails"
    assert moor.kalyx("rehearse", "x", "--static").status == 2


@pytest.mark.parametrize("name", ["json", "argparse", "typing", "msgspec", "random", "subprocess"])
def test_it_starts_beside_a_file_of_a_modules_name(moor, heath, name):
    (moor.folder / f"{name}.py").write_text("raise RuntimeError('not me')\n")
    ran = moor.kalyx("why", "email", "--in", heath, "--json")
    assert ran.status == 0 and ran.json["imports"][0]["outcome"] == "imports", ran.out + ran.err


def test_no_answer_shows_a_secret_of_the_environment(moor, heath):
    """Variables of this shell, of a kernel and of a running program: only those that decide what Python does are shown."""
    (moor.folder / "wait.py").write_text("print(1, flush=True); input()")
    moor.kernel("heath", [heath, "-m", "x", "-f", "{connection_file}"])
    secret = {**moor.variables, "HIVE_TOKEN": "sweet-as-honey", "PYTHONPATH": "/moor/site"}
    running = subprocess.Popen(
        [heath, "wait.py"], cwd=moor.folder, env=secret, stdin=subprocess.PIPE, stdout=subprocess.PIPE
    )
    try:
        running.stdout.readline()
        for words in (["here"], ["here", "-v"], ["why", "json", "--in", "kernel:heath"], ["why", "json", "--in", f"pid:{running.pid}"],
                      ["packages", f"pid:{running.pid}"], ["contrast", "shell", "kernel:heath"], ["kernels", "--running"]):  # fmt: skip
            ran = moor.kalyx(*words, "--json", HIVE_TOKEN="sweet-as-honey")
            assert "sweet-as-honey" not in ran.out + ran.err, words
        seen = moor.kalyx("packages", f"pid:{running.pid}", "--json").json["target"]
        assert seen["variables"]["PYTHONPATH"] == "/moor/site"
        assert "/moor/site" in [entry["entry"] for entry in seen["search_path"]], "and all of them count"
    finally:
        running.kill()
        running.communicate()


def test_kalyx_starts_in_the_broken_place_it_is_asked_about(moor):
    """Files that stand for modules Kalyx needs, in the folder and on PYTHONPATH: the trial meets them, Kalyx does not."""
    foreign = moor.root / "foreign"
    foreign.mkdir()
    for place in (foreign, moor.folder):
        for name in ("argparse", "json", "msgspec", "rich", "packaging", "ast"):
            (place / f"{name}.py").write_text("raise SystemExit('a foreign module')\n")
    broken = {"PYTHONPATH": str(foreign), "PYTHONNOUSERSITE": "1", "PYTHONOPTIMIZE": "2"}
    ran = moor.kalyx(
        "why", "from argparse import ArgumentParser", "--in", BY_VERSION[NEW].executable, "--json", **broken
    )
    assert ran.status == 1 and ran.json["imports"][0]["findings"][0]["cause"] == "shadowed", ran.out + ran.err
    assert str(foreign) in ran.json["target"]["search_path"][1]["entry"]
    assert moor.kalyx("here", "--json", **broken).json["reference"]["seat"] == "process"
    assert moor.kalyx("--version", **broken).out.startswith("kalyx ")


def test_help_is_the_same_wherever_it_is_asked_for(moor):
    whole = moor.kalyx("here", "--help")
    assert whole.status == 0 and "exit status" in whole.out
    for words in (["here", "-h"], ["here", "--static", "-h"]):
        assert moor.kalyx(*words).out == whole.out, words
