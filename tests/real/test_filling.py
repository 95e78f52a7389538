"""Packages into and out of real environments: foreseen, done, proved; refused past a keeper; put back after a failure."""

import http.server
import json
import os
import random
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import make_environment, small, tree
from tests.equipment import BY_VERSION, LONG, NEW, OLD, need, some


@pytest.mark.parametrize("version", some(OLD, NEW) if LONG else [OLD])
def test_fill_foresees_does_and_proves(version, moor, wheels):
    prefix = moor.root / "a b" / "heath"
    python = make_environment(version, prefix)
    offline = ("--wheels", wheels, "--json")
    ran = moor.kalyx("fill", prefix, "combtool", *offline, "--yes", before=small("core/actions/filling._TRIED_AT_MOST", 1))
    assert ran.status == 0 and "the imports of 1 of 2 packages were tested" in ran.json["notes"] and len(ran.json["imports"]) == 1
    before = tree(prefix)
    ran = moor.kalyx("fill", prefix, "hivescale", *offline, "--dry-run")
    foreseen = ran.json
    assert ran.status == 0 and not foreseen["done"] and tree(prefix) == before
    ran = moor.kalyx("fill", prefix, "hivescale", *offline, "--yes")
    done = ran.json
    assert ran.status == 1 and done["done"], "it breaks another: status 1"
    wanted = [("hivescale", None, "2.1"), ("nectarflow", "1.0", "1.2")]
    for answer in (foreseen, done):
        assert [(move["name"], move["before"], move["after"]) for move in answer["moves"]] == wanted
        (broken,) = answer["broken"]
        assert (broken["name"], broken["requirement"], broken["found"]) == ("combtool", "nectarflow<1.1", "1.2")
    assert [item["outcome"] for item in done["imports"]] == ["imports", "imports"]
    for back in (done["undo"], done["undo_then"]):
        assert moor.kalyx(*back[1:], "--yes").status == 0, back
    # The second call names what had come as a requirement of another: newer installers mark it as requested.
    assert {path for path in tree(prefix).keys() ^ before.keys() if not path.endswith("nectarflow-1.0.dist-info/REQUESTED")} == set()
    assert moor.kalyx("fill", prefix, "hivescale", *offline, "--yes").status == 1
    own = subprocess.run(
        [python, "-m", "pip", "list", "--format=json"], env=moor.variables, capture_output=True, check=True
    )
    assert {"name": "nectarflow", "version": "1.2"} in json.loads(own.stdout)
    ran = moor.kalyx("fill", prefix, "--remove", "hivescale", "combtool", "--json", "--yes")
    assert ran.status == 0 and [move["after"] for move in ran.json["moves"]] == [None, None]
    assert ran.json["undo"] == ["kalyx", "fill", str(prefix), "combtool==1.0", "hivescale==2.1"]
    ran = moor.kalyx("fill", prefix, "--remove", "nectarflo", "--yes")
    assert ran.status == 2 and "nearest: nectarflow" in ran.err
    torn = moor.kalyx("fill", prefix, "torn-comb", *offline, "--yes")
    assert torn.status == 1 and torn.json["imports"][0]["error"]["type"] in ("ModuleNotFoundError", "ImportError")
    before = tree(prefix)
    ran = moor.kalyx("fill", prefix, "nowhere-known", "--wheels", wheels, "--yes")
    assert ran.status == 2 and "nowhere-known" in ran.err and ran.err.count("\n") == 1 and tree(prefix) == before
    said = Path(ran.err.rpartition("the whole output: ")[2].split(")")[0])
    assert "nowhere-known" in said.read_text()


def test_what_is_seen_from_below_is_not_added(moor, wheels):
    base = moor.root / "base"
    make_environment(NEW, base)
    user = {"PYTHONUSERBASE": str(moor.root / "mine")}
    subprocess.run([base / "bin" / "python", "-m", "pip", "install", "-q", "--no-index", "--find-links", wheels, "--target",
                    moor.root / "mine" / "lib" / f"python{NEW}" / "site-packages", "nectarflow==1.0"],
                   check=True, env=moor.variables)  # fmt: skip
    prefix = moor.root / "seeing"
    make_environment(NEW, prefix, "--system-site-packages")
    ran = moor.kalyx("fill", prefix, "nectarflow", "--wheels", wheels, "--json", "--yes", **user)
    assert ran.status == 0 and not ran.json["moves"]
    assert [(item["name"], item["origin"]) for item in ran.json["seen_below"]] == [("nectarflow", "user")]
    ran = moor.kalyx("fill", prefix, "nectarflow>=1.1", "--wheels", wheels, "--json", "--yes", **user)
    (move,) = ran.json["moves"]
    assert (move["before"], move["after"]) == ("1.0", "1.2") and move["hides"].startswith(str(moor.root / "mine"))
    ran = moor.kalyx("fill", prefix, "--remove", "nectarflow", "--json", "--yes", **user)
    assert ran.status == 0 and "is imported then" in ran.json["notes"][0]
    ran = moor.kalyx("fill", prefix, "--remove", "nectarflow", "--yes", **user)
    assert ran.status == 2 and "not this environment's own" in ran.err


def test_nothing_past_a_keeper(moor, wheels):
    conda = moor.root / "conda"
    make_environment(NEW, conda)
    (conda / "conda-meta").mkdir()
    (conda / "conda-meta" / "history").touch()
    project = moor.root / "project"
    locked = make_environment(NEW, project / ".venv")
    (project / "pyproject.toml").write_text('[project]\nname = "spring"\n')
    (project / "pylock.toml").write_text('lock-version = "1.0"\n')
    bare = moor.root / "bare"
    make_environment(NEW, bare, "--without-pip")
    (moor.root / "folder").mkdir()
    for target, message in [(conda, "conda-meta"), (locked, "pylock.toml"), (bare, "-m ensurepip"),
                         ("/usr/bin/python3", "EXTERNALLY-MANAGED"), (moor.root / "folder", "not an environment")]:  # fmt: skip
        ran = moor.kalyx("fill", target, "nectarflow", "--wheels", wheels, "--yes")
        assert ran.status == 2 and message in ran.err and ran.err.count("\n") == 1, ran.err
    ran = moor.kalyx("fill", project / ".venv", "nectarflow", "--wheels", wheels)
    assert ran.status == 2


def test_another_place_is_never_filled(moor, wheels):
    """Variables that would lead the installer elsewhere do not."""
    prefix, other = moor.root / "heath", moor.root / "elsewhere"
    make_environment(NEW, prefix)
    ran = moor.kalyx("fill", prefix, "nectarflow", "--wheels", wheels, "--yes", "--json", PIP_TARGET=str(other),
                     PYTHONPATH=str(other), PIP_USER="1", PIP_PREFIX=str(other))  # fmt: skip
    assert ran.status == 0 and not other.exists()
    assert str(prefix) in ran.json["imports"][0]["found_at"]


def test_running_kernels_are_named(moor, wheels):
    prefix = moor.root / "heath"
    python = make_environment(NEW, prefix)
    connection = moor.root / "kernel-1.json"
    running = subprocess.Popen([python, "-c", "import time; time.sleep(60)", "-f", str(connection)])
    try:
        ran = moor.kalyx("fill", prefix, "nectarflow", "--wheels", wheels, "--yes", "--json")
        assert [item for item in ran.json["restart"] if str(running.pid) in item and "kernel" in item]
    finally:
        running.kill()
        running.wait()


class Refusing(http.server.BaseHTTPRequestHandler):
    """An index that answers with the status that its path begins with."""

    def do_GET(self):
        self.send_response(int(self.path.split("/")[1]))
        self.end_headers()

    def log_message(self, *_):
        pass


def test_a_silent_index_and_one_that_refuses(moor):
    prefix = moor.root / "heath"
    make_environment(NEW, prefix)

    def filled_from(port, path):
        ran = moor.kalyx("fill", prefix, "nectarflow", "--yes", "--timeout", "1", PIP_INDEX_URL=f"http://127.0.0.1:{port}/{path}",
                         PIP_EXTRA_INDEX_URL="", PIP_CONFIG_FILE=os.devnull)  # fmt: skip
        assert ran.status == 2, ran
        return ran.err

    with socket.create_server(("127.0.0.1", 0)) as server:
        began = time.monotonic()
        assert "does not answer" in filled_from(server.getsockname()[1], "simple")
    assert time.monotonic() - began < 60
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Refusing) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        for status, answers in (403, "answers 403 Forbidden; Could"), (404, "failed: Could not find"), (503, "answers 503; Could"):
            assert answers in filled_from(server.server_port, status)
        server.shutdown()


def test_a_full_disk(moor, tmp_path):
    """On a file system that fills: prepare clears what it made, fill puts back what was there."""
    folder = tmp_path / "heavy"
    folder.mkdir()
    noise = random.Random(5).randbytes(12_000_000).hex()  # 24 MB, and no installer makes less of it
    write_wheel(Package("heavy", "1.0", {"heavy/__init__.py": "", "heavy/data.txt": noise}), str(folder))
    small = moor.root / "small"
    small.mkdir()
    make_environment(NEW, small / "heath")
    (small / "heath").rename(moor.root / "built")  # what is mounted over it takes it back in
    kalyx = f"{sys.executable} -m kalyx"
    python = f"--python {BY_VERSION[NEW].executable}"
    script = f"""mount -t tmpfs -o size=32m tmpfs {small} || exit 9
        {kalyx} prepare {small}/new {python} --want heavy --wheels {folder} --yes; echo status $?
        ls -A {small}
        cp -a {moor.root}/built {small}/heath || exit 8
        find {small}/heath -type f | grep -v __pycache__ | sort | xargs -d '\\n' md5sum > {moor.root}/before
        {kalyx} fill {small}/heath heavy --wheels {folder} --yes; echo status $?
        find {small}/heath -type f | grep -v __pycache__ | sort | xargs -d '\\n' md5sum > {moor.root}/after
        {kalyx} survey --under {small} --json > {moor.root}/survey.json"""
    variables = {**moor.variables, "PATH": os.environ["PATH"]}
    done = subprocess.run([need("unshare"), "-m" if os.getuid() == 0 else "-rm", "sh", "-c", script], env=variables,
                          capture_output=True, text=True, check=False, cwd=moor.folder)  # fmt: skip
    if done.returncode == 9 or "unshare" in done.stderr:
        pytest.skip(f"this system mounts nothing for a test: {done.stderr}")
    words = done.stdout.split("\n")
    assert [line for line in words if line.startswith("status")] == ["status 2", "status 2"], done.stdout + done.stderr
    assert "new" not in words, "nothing is left of what could not be made"
    assert done.stderr.count("No space left") == 2 and "rolled back" in done.stderr, done.stderr
    assert (moor.root / "before").read_text() == (moor.root / "after").read_text()
    found = json.loads((moor.root / "survey.json").read_text())["environments"]
    assert [item["condition"] for item in found if item["prefix"].startswith(str(small))] == ["sound"]


def test_two_at_once(moor, wheels):
    """One fills, the other is told so; afterwards all is whole."""
    prefix = moor.root / "heath"
    make_environment(NEW, prefix)
    words = [sys.executable, "-m", "kalyx", "fill", str(prefix), "--wheels", str(wheels), "--yes"]
    both = [subprocess.Popen([*words, name], env=moor.variables, cwd=moor.folder, stdout=subprocess.PIPE,
                             stderr=subprocess.PIPE, text=True) for name in ("broad", "hivescale")]  # fmt: skip
    said = [item.communicate()[1] for item in both]
    ends = sorted(item.returncode for item in both)
    assert ends in ([0, 0], [0, 2]) and (ends == [0, 0] or any("is changing" in words for words in said)), said
    assert not [name for name in os.listdir(prefix) if name.startswith(".kalyx")]
    assert moor.kalyx("fill", prefix, "broad", "hivescale", "--wheels", wheels, "--yes").status == 0
