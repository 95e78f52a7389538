"""The table against the seats themselves: real shells, a real server and its kernels, a real checker, processes."""

import json
import os
import shutil
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest
from msgspec.structs import replace

from kalyx.core.system.live_reader import LiveReader
from tests.conftest import make_environment, started, until
from tests.equipment import BY_VERSION, NEW, OTHER, need
from tests.real.test_entering import SHELLS, program_of
from tests.real.test_kernels import provided  # noqa: F401
from tests.real.test_registering import server  # noqa: F401


@pytest.fixture(scope="module")
def two(tmp_path_factory):
    root = tmp_path_factory.mktemp("two")
    return [
        make_environment(version, root / name, "--without-pip")
        for version, name in ((NEW, "orchard"), (OTHER, "heath"))
    ]


# What a user did before: variables and lines. The shell's own word for python's place is the authority.
HABITS = {
    "first on PATH": "",
    "entered by hand": "VIRTUAL_ENV={heath}",
    "an empty entry": "cd {orchard}/bin",
    "a link on the way": "",
}


@pytest.mark.parametrize("shell", SHELLS)
@pytest.mark.parametrize("habit", HABITS)
def test_each_shell_is_itself(shell, habit, moor, two):
    orchard, heath = (Path(python).parent for python in two)
    folders = {
        "an empty entry": ["", "/usr/bin", "/bin"],
        "a link on the way": [str(moor.root / "by-link"), "/usr/bin", "/bin"],
    }
    path = folders.get(habit, [str(orchard), str(heath), "/usr/bin", "/bin"])
    (moor.root / "by-link").mkdir(exist_ok=True)
    (moor.root / "by-link" / "python").symlink_to(heath / "python")
    variables = {**moor.variables, "PATH": ":".join(path)}
    if habit == "entered by hand":
        variables["VIRTUAL_ENV"] = str(heath.parent)
    stand = orchard if habit == "an empty entry" else moor.folder
    script = moor.root / "ask.sh"
    script.write_text(f"#!/bin/sh\ncd {stand}\nexec {sys.executable} -m kalyx here --json {moor.folder}\n")
    script.chmod(0o755)
    own = "import sys; print(sys.executable); print(sys.prefix)"
    done = subprocess.run([program_of(shell), *SHELLS[shell], f"{script}\npython -c '{own}'"], env=variables, cwd=stand,
                          capture_output=True, text=True, check=False)  # fmt: skip
    assert "}" in done.stdout, done.stderr
    text, _, said = done.stdout.rpartition("}\n")
    executable, prefix = said.split("\n")[:2] if said.strip() else ("", "")
    seat = next(item for item in json.loads(text + "}")["seats"] if item["seat"] == "shell")
    assert seat["name"].startswith(shell)
    if executable and habit != "an empty entry":
        assert seat["interpreter"]["prefix"] == prefix
        assert os.path.realpath(seat["interpreter"]["executable"]) == os.path.realpath(executable)
    if habit == "entered by hand" and shell != "fish":
        assert any(finding["cause"] == "activation-differs" for finding in seat["findings"])


def test_a_notebook_that_is_open_runs_on_the_live_kernel(moor, provided, server):  # noqa: F811
    """The server's own API beats the file; a kernel that answers at once is asked, a busy one is not; no trace is left."""
    running, port = server
    moor.kernel("orchard", [provided, "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    moor.kernel("other", [BY_VERSION[NEW].executable, "-m", "none", "-f", "{connection_file}"])
    notebook = moor.notebook("spring.ipynb", "other")

    def api(path, body=None):
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(f"http://127.0.0.1:{port}/api/{path}", data=data, headers={
            "Authorization": "token honey-token", "Content-Type": "application/json"}, method="POST" if data else "GET")  # fmt: skip
        return json.loads(urllib.request.build_opener(urllib.request.ProxyHandler({})).open(request, timeout=20).read())

    session = api("sessions", {"name": "", "path": "spring.ipynb", "type": "notebook", "kernel": {"name": "orchard"}})

    def asked():
        answer = moor.kalyx("here", "--json", "--live").json
        seat = next((item for item in answer["seats"] if item["seat"] == "notebook"), None)
        part = next((part for part in seat["parts"] if part["role"] == "asked"), None) if seat else None
        return (answer, seat, part["path"]) if part and part["path"] else None

    answer, seat, path = until(asked, "an answer of the kernel")
    assert seat["interpreter"]["executable"] == path == provided and "its file asks for other" in seat["label"]
    found = next(item for item in answer["seats"] if item["seat"] == "server")
    assert (found["pid"], found["folder"], found["interpreter"]["executable"]) == (
        running.pid,
        str(moor.folder),
        provided,
    )
    ready = list(Path(moor.root).rglob("history.sqlite"))
    if ready:
        import sqlite3

        with sqlite3.connect(ready[0]) as history:
            assert history.execute("select count(*) from history").fetchone() == (0,)
    os.kill(seat["pid"], 19)  # stopped: it cannot answer
    try:
        began = time.monotonic()
        answer = moor.kalyx("here", "--json", "--live").json
        seat = next(item for item in answer["seats"] if item["seat"] == "notebook")
        (asked,) = [part for part in seat["parts"] if part["role"] == "asked"]
        assert asked["path"] is None and "nothing was put into its queue" in asked["reason"]
        assert time.monotonic() - began < 20
    finally:
        os.kill(seat["pid"], 18)
    assert session["kernel"]["name"] == "orchard" and notebook.exists()


def test_programs_that_run_here_are_seats(moor, two):
    orchard, heath = two
    script = moor.folder / "weigh.py"
    script.write_text("import time\nprint('ready', flush=True)\ntime.sleep(60)\n")
    running = subprocess.Popen([heath, script], stdout=subprocess.PIPE, cwd="/")
    standing = subprocess.Popen([orchard, "-c", "print('ready', flush=True); input()"], stdout=subprocess.PIPE,
                                stdin=subprocess.PIPE, cwd=moor.folder)  # fmt: skip
    try:
        running.stdout.readline(), standing.stdout.readline()
        seats = {seat["pid"]: seat for seat in moor.kalyx("here", "--json").json["seats"] if seat["seat"] == "process"}
        assert seats[running.pid]["interpreter"]["executable"] == heath
        assert seats[standing.pid]["interpreter"]["executable"] == orchard
        assert any(f"({os.getpid()})" in item for item in seats[running.pid]["started_by"])
        assert abs(seats[running.pid]["started"] - time.time()) < 60
        assert not seats[running.pid]["changed_since"]
        time.sleep(1.1)
        site = next((Path(heath).parents[1] / "lib").glob("python*")) / "site-packages"
        (site / "nectarflow-1.0.dist-info").mkdir()
        (site / "nectarflow-1.0.dist-info" / "METADATA").write_text("Name: nectarflow\nVersion: 1.0\n")
        seats = {seat["pid"]: seat for seat in moor.kalyx("here", "--json").json["seats"]}
        assert seats[running.pid]["changed_since"] == ["nectarflow 1.0"]
        assert not seats[standing.pid]["changed_since"]
    finally:
        running.kill(), standing.kill()
        running.wait(), standing.wait()


def test_a_real_checker_takes_what_the_table_says(moor, two):
    """The checker's own verbose output names the interpreter that its configuration chose."""
    (moor.folder / "a.py").write_text("x: int = 1\n")
    for name, text in (
        ("mypy.ini", "[mypy]\npython_executable = {0}\n"),
        ("pyproject.toml", '[tool.mypy]\npython_executable = "{0}"\n'),
    ):
        for python in two[:1]:
            (moor.folder / name).write_text(text.format(python))
            done = subprocess.run([sys.executable, "-m", "mypy", "-v", "a.py", "--cache-dir", moor.root / "cache"], cwd=moor.folder,
                                  env=moor.variables, capture_output=True, text=True, check=False)  # fmt: skip
            said = [line for line in (done.stdout + done.stderr).splitlines() if "xecutable" in line]
            checks = [seat for seat in moor.kalyx("here", "--json").json["seats"]
                      if seat["seat"] == "editor" and seat["parts"][0]["role"] == "check"]  # fmt: skip
            assert [check["interpreter"]["executable"] for check in checks] == [python]
            assert said and any(python in line for line in said), done.stdout + done.stderr
        (moor.folder / name).unlink()


def test_watch_says_what_changed(moor, two):
    orchard, heath = two
    (moor.folder / ".vscode").mkdir()
    chosen = moor.folder / ".vscode" / "settings.json"
    chosen.write_text(json.dumps({"python.defaultInterpreterPath": orchard}))
    kept = moor.root / "before.json"
    kept.write_text(moor.kalyx("here", "--json").out)
    watching = subprocess.Popen([sys.executable, "-m", "kalyx", "here", "--json", "--watch"], env=moor.variables, cwd=moor.folder,
                                stdout=subprocess.PIPE, text=True)  # fmt: skip
    try:
        first = json.loads(watching.stdout.readline())
        assert first["schema"] == "kalyx.here/2" and not first["changes"]
        chosen.write_text(json.dumps({"python.defaultInterpreterPath": heath}))
        second = json.loads(watching.stdout.readline())
        assert any("editor settings.json: editor's Python ran" in change and "heath" in change for change in second["changes"]), second["changes"]
        site = next((Path(heath).parents[1] / "lib").glob("python*")) / "site-packages"
        (site / f"new_{time.time_ns()}.py").touch()
        third = json.loads(watching.stdout.readline())
        assert third["changes"] == [f"packages of {Path(heath).parents[1]} changed"]
    finally:
        watching.kill()
        watching.wait()
    told = moor.kalyx("here", "--since", kept, "--json").json["changes"]
    assert any("editor settings.json: editor's Python ran" in item for item in told)
    kept.write_text("{}")
    assert moor.kalyx("here", "--since", kept).status == 2


@pytest.mark.parametrize("shell", [name for name in SHELLS if name not in ("xonsh",)])
def test_the_pasted_lines_are_read_back(shell, moor, two):
    """The line for a Python console and the one for this shell, run there, make seats."""
    line = moor.kalyx("here", "--paste").out.splitlines()[0]
    said = subprocess.run([two[1], "-c", line], capture_output=True, text=True, check=True).stdout
    from kalyx.core.seats.pasted import line_of_shell

    variables = {**moor.variables, "PATH": f"{Path(two[0]).parent}:/usr/bin:/bin"}
    before = (
        "alias python 'echo x'; "
        if shell == "tcsh"
        else ""
        if shell == "fish"
        else "shopt -s expand_aliases 2>/dev/null; alias python='echo x'\n"
    )
    done = subprocess.run([program_of(shell), *SHELLS[shell], before + line_of_shell(shell)], env=variables, capture_output=True,
                          text=True, check=False)  # fmt: skip
    assert "kalyx-says" in done.stdout, done.stdout + done.stderr
    (moor.folder / "console.kalyx-seat").write_text(said + done.stdout)
    seats = {seat["name"]: seat for seat in moor.kalyx("here", "--json").json["seats"]}
    assert seats["console"]["interpreter"]["executable"] == two[1]
    words = [part["reason"] for part in seats["console, as the shell itself says"]["parts"]]
    assert any("alias" in word for word in words) or shell == "fish", words


@pytest.mark.parametrize(
    "shared, word, told", [(True, "{orchard}", True), (False, "{orchard}", False), (True, "heath/bin/python", False)]
)
def test_a_path_of_this_machine_in_a_shared_file_is_pointed_out(shared, word, told, moor, two):
    settings = moor.folder / ".vscode" / "settings.json"
    settings.parent.mkdir()
    settings.write_text(json.dumps({"python.defaultInterpreterPath": word.format(orchard=two[0])}))
    git = [need("git"), "-C", str(moor.folder)]
    subprocess.run([*git, "init", "-q"], check=True, env=moor.variables)
    if shared:
        subprocess.run([*git, "add", "."], check=True, env=moor.variables)
    found = [finding for finding in moor.kalyx("here", "--json").json["findings"] if finding["cause"] == "in-version-control"]
    assert bool(found) == told
    if told:
        assert str(two[0]) in found[0]["message"] and found[0]["evidence"][0]["line"] == 1


def test_a_kernel_that_holds_an_older_copy_is_named_and_restarted(moor, provided, server):  # noqa: F811
    """A fresh start imports it, the kernel that runs was there before: restarting that kernel is what fixes it."""
    _, port = server
    moor.kernel("orchard", [provided, "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    moor.notebook("spring.ipynb", "orchard")

    def api(path, body):
        request = urllib.request.Request(f"http://127.0.0.1:{port}/api/{path}", data=json.dumps(body).encode(), method="POST",
                                         headers={"Authorization": "token honey-token", "Content-Type": "application/json"})  # fmt: skip
        return json.loads(urllib.request.build_opener(urllib.request.ProxyHandler({})).open(request, timeout=20).read())

    session = api("sessions", {"name": "", "path": "spring.ipynb", "type": "notebook", "kernel": {"name": "orchard"}})
    words = ["why", "hivescale", "--in", "spring.ipynb", "--json"]
    assert moor.kalyx(*words).status == 0
    (module,) = Path(provided).parents[1].glob("lib/python*/site-packages/hivescale.py")

    def changed():  # a file counts as changed once it is clearly younger than the process
        os.utime(module)
        ran = moor.kalyx(*words)
        return ran if ran.json["imports"][0]["findings"] else None

    ran = until(changed, "the finding")
    (finding,) = ran.json["imports"][0]["findings"]
    assert ran.status == 1 and finding["cause"] == "stale-in-memory", ran.out
    assert "restart the kernel of process" in finding["fixes"][0]["steps"][0]["line"]
    # Asked from outside by its process, it is the same one.
    pid = finding["fixes"][0]["steps"][0]["line"].split("process ")[1].split()[0]
    by_process = moor.kalyx("why", "hivescale", "--in", f"pid:{pid}", "--json").json["imports"][0]["findings"]
    assert [item["cause"] for item in by_process] == ["stale-in-memory"] and by_process[0]["evidence"][0]["path"] == str(module)
    time.sleep(1.2)
    api(f"kernels/{session['kernel']['id']}/restart", {})
    until(lambda: moor.kalyx(*words).status == 0, "the restarted kernel")


def test_a_relative_entry_of_another_process_goes_by_its_folder(moor):
    """PYTHONPATH of a process, as that process reads it, wherever Kalyx stands."""
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    other = moor.root / "other"
    (other / "combs").mkdir(parents=True)
    code = "import sys, time; print(sys.path, flush=True); time.sleep(60)"
    with started([python, "-c", code], cwd=other, env={**moor.variables, "PYTHONPATH": "combs"}, stdout=subprocess.PIPE) as running:
        running.stdout.readline()
        ran = moor.kalyx("packages", f"pid:{running.pid}", "--json")
        entries = [item["entry"] for item in ran.json["target"]["search_path"]]
    assert str(other / "combs") in entries and not [entry for entry in entries if entry.startswith(str(moor.folder / "combs"))], entries


def test_a_process_is_read_as_the_system_shows_it(tmp_path):
    """Also one whose name holds what ends a name in the system's own line about it (proc(5))."""
    program = tmp_path / "a) (b"
    shutil.copy("/bin/sleep", program)
    with started([program, "30.5"], cwd=tmp_path, env={"A": "1"}) as running:
        waited = time.monotonic() + 5
        while Path(f"/proc/{running.pid}/comm").read_text() != "a) (b\n" and time.monotonic() < waited:
            time.sleep(0.01)
        process = LiveReader().process(running.pid)
        running.kill()
    assert process == replace(process, pid=running.pid, parent=os.getpid(), executable=str(program), command=(str(program), "30.5"), folder=str(tmp_path), variables={"A": "1"}, name="a) (b", leads_terminal=False)
    assert abs(process.started - time.time()) < 30 and process.ticks.partition("@")[0].isdigit()
