"""Which notebook server answers: every command names the interpreter that the kernel process itself then runs.

Machines with none, one and two running servers: other roots, tokens, variables, one behind a prefix, one that died and
left its file, one of another user.
"""

import html
import json
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import urllib.request
from collections.abc import Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, standin_package, write_wheel
from tests.conftest import make_environment, put_in, started, until
from tests.equipment import LONG, NEW

VERSION = ".".join(map(str, sys.version_info[:2]))


@pytest.fixture(scope="module")
def labs(tmp_path_factory):
    """Three environments with the notebook server: what each brings lies in one folder, that the interpreter of these tests has."""
    root, shared = tmp_path_factory.mktemp("labs"), next(Path(sys.prefix, "lib").glob("python*")) / "site-packages"
    made = {}
    for name in ("lab", "orchard", "heath"):
        made[name] = make_environment(VERSION, root / name, "--without-pip")
        (next((root / name / "lib").glob("python*")) / "site-packages" / "shared.pth").write_text(f"{shared}\n")
        (root / name / "bin" / "jupyter-lab").write_text(f"#!{made[name]}\n")
        (root / name / "bin" / "jupyter-lab").chmod(0o755)
    return made


class Served:
    """A running server, asked over its own interface."""

    def __init__(self, port: int, base: str, token: str) -> None:
        self.address, self.token = f"http://127.0.0.1:{port}{base}api/", token

    def api(self, path: str, body: dict | None = None, method: str | None = None) -> object:
        data = json.dumps(body).encode() if body is not None else None
        headers = {"Authorization": f"token {self.token}", "Content-Type": "application/json"}
        asked = urllib.request.Request(self.address + path, data=data, headers=headers, method=method or ("POST" if data else "GET"))
        text = urllib.request.build_opener(urllib.request.ProxyHandler({})).open(asked, timeout=30).read()
        return json.loads(text) if text else None

    def runs(self, notebook: str, kernel: str) -> tuple[str, str]:
        """The program that the kernel process of a notebook runs, once the server has started that; with the session's id."""
        session = self.api("sessions", {"name": "", "path": notebook, "type": "notebook", "kernel": {"name": kernel}})
        identifier = session["kernel"]["id"]
        import psutil

        def program() -> str | None:
            for process in psutil.process_iter():
                try:
                    words = process.cmdline()
                except psutil.Error:
                    continue
                if any(f"kernel-{identifier}" in word for word in words):
                    return words[0]
            return None

        return until(program, "the kernel's process", 30), session["id"]


@contextmanager
def serving(python: str, root: Path, variables: dict[str, str], base: str = "/", token: str = "honey", folder: Path | None = None,
            more: Sequence[str] = ()):  # fmt: skip
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    words = [python, "-m", "jupyter_server", "--allow-root", "--no-browser", f"--port={port}", f"--ServerApp.base_url={base}",
             f"--IdentityProvider.token={token}", f"--ServerApp.root_dir={root}", *more]  # fmt: skip
    with started(words, env=variables, cwd=folder or root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL):
        served = Served(port, base, token)

        def answers() -> bool:
            try:
                served.api("status")
                return True
            except OSError:
                return False

        until(answers, "the server", 60)
        yield served


def said_by_all(moor, notebook: Path, *more: str) -> dict[str, str]:
    """The interpreter that each command names for a notebook and its kernel."""
    kernel = json.loads(notebook.read_text())["metadata"]["kernelspec"]["name"]
    here = moor.kalyx("here", "--json", *more).json
    why = moor.kalyx("why", "json", "--in", notebook, "--json").json
    file = moor.kalyx("why", notebook, "--json").json
    kernels = moor.kalyx("kernels", "--json", *more).json
    point = moor.kalyx("contrast", notebook, "shell", "--json").json
    page = moor.root / "page.html"
    moor.kalyx("report", "-o", page, "--json", *more)
    said = {
        "here": next(seat for seat in here["seats"] if seat["name"] == notebook.name)["interpreter"],
        "why": why["target"]["interpreter"],
        "why FILE": file["target"]["interpreter"],
        "kernels": next((item["interpreter"] for item in kernels["kernels"] if item["id"] == kernel and not {"hidden", "unlisted"} & set(item["conditions"])), None),
        "contrast": point.get("left", {}).get("interpreter"),  # an error where nothing starts
    }  # fmt: skip
    assert here["seen_by"].partition(":")[0] == kernels["seen_by"].partition(":")[0]
    text = html.unescape(page.read_text())
    assert here["seen_by"].partition(":")[0].split("from ")[-1].rpartition("/")[2] in text
    return {command: interpreter and interpreter["executable"] for command, interpreter in said.items()}


def scene(chance: random.Random, moor, labs, stack: ExitStack) -> tuple[Served | None, str]:
    """None, one or two servers by chance, each of an environment; returns the one that answers, and its environment."""
    variables, served, answering = moor.variables, None, "the shell's"
    roots = [moor.folder, moor.root, moor.root / "elsewhere"]
    roots[2].mkdir()
    names = chance.sample(list(labs), chance.randint(0, 2))
    deepest = -1
    for name in names:
        root = chance.choice(roots)
        own = dict(variables)
        if chance.random() < 0.5:
            own["JUPYTER_RUNTIME_DIR"] = str(moor.root / f"runtime {name}")
        if chance.random() < 0.3:
            own["JUPYTER_PREFER_ENV_PATH"] = chance.choice(["0", "1"])
        base = chance.choice(["/", "/hive/"])
        running = stack.enter_context(serving(labs[name], root, own, base, chance.choice(["honey", "wax"]), chance.choice([root, moor.root])))
        # The deepest root that holds the folder; of two alike the one that was started last.
        depth = len(str(root)) if str(moor.folder).startswith(str(root)) else -1
        if depth >= 0 and depth >= deepest:
            deepest, answering, served = depth, name, running
    if answering == "the shell's" and chance.random() < 0.5:
        name = chance.choice(list(labs))
        moor.variables["PATH"] = f"{Path(labs[name]).parent}:{moor.variables['PATH']}"
        answering = name
    return served, answering


@pytest.mark.parametrize("number", range(40 if LONG else 5))
def test_every_command_names_what_the_kernel_process_runs(number, moor, labs):
    chance = random.Random(1000 + number)
    moor.variables["PATH"] = f"{Path(labs['heath']).parent}:/usr/bin:/bin" if chance.random() < 0.3 else "/usr/bin:/bin"
    on_path = "heath" if "heath" in moor.variables["PATH"] else None
    moor.kernel("moor", [labs["orchard"], "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    kernel = chance.choice(["python3", "moor"])
    notebook = moor.notebook("weights.ipynb", kernel)
    with ExitStack() as stack:
        served, answering = scene(chance, moor, labs, stack)
        answering = on_path if answering == "the shell's" and on_path else answering
        said = said_by_all(moor, notebook)
        assert len(set(said.values())) == 1, said
        if answering in labs:
            wanted = labs["orchard"] if kernel == "moor" else labs[answering]
            assert set(said.values()) == {wanted}, (answering, said)
        if served is None:
            return
        inside = "weights.ipynb" if _opens(served, "weights.ipynb") else f"{moor.folder.name}/weights.ipynb"
        program, session = served.runs(inside, kernel)
        assert program == said["here"], (program, said)
        assert set(said_by_all(moor, notebook).values()) == {program}, "and while that kernel runs"
        served.api(f"sessions/{session}", method="DELETE")
        program, _ = served.runs(inside, "moor" if kernel == "python3" else "python3")
        live = said_by_all(moor, notebook)
        assert {live[command] for command in ("here", "why", "why FILE", "contrast")} == {program}, "the session beats the file"


def _opens(served: Served, path: str) -> bool:
    try:
        return served.api(f"contents/{path}?content=0")["type"] == "notebook"
    except OSError:
        return False


def test_a_server_that_died_or_is_another_users_does_not_answer(moor, labs):
    notebook = moor.notebook("weights.ipynb", "python3")
    moor.variables["PATH"] = f"{Path(labs['heath']).parent}:/usr/bin:/bin"
    with serving(labs["lab"], moor.folder, moor.variables) as served:
        (file,) = moor.data.glob("runtime/jpserver-*.json")
        assert set(said_by_all(moor, notebook).values()) == {labs["lab"]}
        assert set(said_by_all(moor, notebook, "--seen-by", labs["orchard"]).values()) >= {labs["orchard"]}, "unless another is named"
        kept = file.read_bytes()
        served.runs("weights.ipynb", "python3")
        if os.geteuid() == 0:
            os.chown(file, 65534, 65534)
            assert set(said_by_all(moor, notebook).values()) == {labs["heath"]}
            seen = moor.kalyx("kernels", "--seen-by", f"server:{json.loads(kept)['port']}", "--json").json
            assert seen["kernels"][0]["interpreter"]["executable"] == labs["lab"], "the user named that server"
    file.write_bytes(kept)
    with started([sys.executable, "-c", "input()"], stdin=subprocess.PIPE) as other:
        # A process that is none: its number stands in the file, and nothing listens on the port.
        file.write_text(json.dumps({**json.loads(kept), "pid": other.pid, "root_dir": "/"}))
        assert set(said_by_all(moor, notebook).values()) == {labs["heath"]}
    file.write_bytes(kept)
    assert set(said_by_all(moor, notebook).values()) == {labs["heath"]}


def test_what_the_server_leaves_out_or_cannot_say(moor, labs):
    """A list that its settings cut short; and a server that hangs: the kernel itself names the notebook it was started for."""
    moor.kernel("moor", [labs["orchard"], "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    notebook = moor.notebook("weights.ipynb", "moor")
    with serving(labs["lab"], moor.folder, moor.variables, more=["--KernelSpecManager.allowed_kernelspecs={'python3'}"]):
        assert [kernel["id"] for kernel in moor.kalyx("kernels", "--json").json["kernels"] if "unlisted" not in kernel["conditions"]] == ["python3"]
        seat = next(item for item in moor.kalyx("here", "--json").json["seats"] if item["seat"] == "notebook")
        assert seat["relation"] == "dead" and "moor, which is not registered" in seat["reason"]
    with serving(labs["lab"], moor.folder, moor.variables) as served:
        served.api("sessions", {"name": notebook.name, "path": notebook.name, "type": "notebook", "kernel": {"name": "moor"}})
        moor.notebook("weights.ipynb", "python3")
        (file,) = moor.data.glob("runtime/jpserver-*.json")
        pid = json.loads(file.read_text())["pid"]
        os.kill(pid, signal.SIGSTOP)
        try:
            answer = moor.kalyx("here", "--json").json
        finally:
            os.kill(pid, signal.SIGCONT)
    seat = next(item for item in answer["seats"] if item["seat"] == "notebook")
    assert seat["interpreter"]["executable"] == labs["orchard"], "what runs, not what the file asks for by now"
    # Servers of tests that run at the same time may be silent too.
    assert [item["path"] for item in answer["unread"] if item["path"].startswith(str(moor.data))] == [str(file)], "said once"


def test_a_program_that_runs_is_asked_by_its_open_files(moor, labs):
    (moor.folder / "hivedata").mkdir()
    (moor.folder / "hivedata" / "bees.txt").write_text("")
    code = "import sys; file = open('hivedata/bees.txt'); print('ready', flush=True); input()"
    with started([labs["lab"], "-c", code], cwd=moor.folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as running:
        running.stdout.readline()
        notes = {name: moor.kalyx("why", name, "--in", f"pid:{running.pid}", "--live", "--json").json["notes"] for name in ("hivedata", "gone_for_good")}
        silent = moor.kalyx("why", "json", "--in", f"pid:{running.pid}", "--json").json["notes"]
    assert f"process {running.pid} has {moor.folder}/hivedata/bees.txt open" in notes["hivedata"]
    assert any("has no file of gone_for_good open" in note for note in notes["gone_for_good"])
    assert any("--live asks that process, a restart changes it" in note for note in silent)


def test_a_fix_works_in_the_server_that_opens_the_notebook(moor, labs, tmp_path):
    """The project's own environment is registered under an id that the server does not give away, and the notebook runs there."""
    project = moor.folder / ".venv"
    make_environment(NEW, project)
    (moor.folder / "pyproject.toml").write_text('[project]\nname = "spring"\n')
    site = next((project / "lib").glob("python*")) / "site-packages"
    put_in(write_wheel(Package("hivescale", "2.1", {"hivescale.py": ""}), str(tmp_path)), site)
    put_in(write_wheel(standin_package(), str(tmp_path)), site)
    # The server has a kernel of its own in its environment, as an installed kernel package brings along.
    own = Path(labs["lab"]).parents[1] / "share" / "jupyter" / "kernels" / "python3"
    own.mkdir(parents=True)
    (own / "kernel.json").write_text(json.dumps({"argv": ["python", "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": "Python 3"}))
    notebook = moor.notebook("weights.ipynb", "python3")
    try:
        with serving(labs["lab"], moor.folder, moor.variables) as served:
            ran = moor.kalyx("why", "hivescale", "--in", notebook, "--json")
            finding = ran.json["imports"][0]["findings"][0]
            assert ran.status == 1 and finding["cause"] == "not-activated", ran.out
            assert ran.json["seen_by"].startswith("the server on port ")
            refused = moor.kalyx("register", project, "--id", "python3", "--yes")
            assert refused.status == 2 and "would still start its own python3" in refused.err, refused.err
            assert not (moor.data / "kernels").exists()
            before, session = served.runs("weights.ipynb", "python3")
            (step,) = finding["fixes"][0]["steps"]
            planned = moor.kalyx(*step["command"][1:], "--dry-run", "--json").json["plan"]
            assert planned[-1] == {"action": "ask for kernel spring", "path": str(notebook)}
            done = moor.kalyx(*step["command"][1:], "--yes", "--json").json
            assert done["done"] and any("lists it: reload its page" in note for note in done["notes"]), done["notes"]
            kernel = json.loads(notebook.read_text())["metadata"]["kernelspec"]["name"]
            assert kernel == done["kernel"]["id"] != "python3"
            # The notebook is open: what runs for it goes on as it was, until another kernel is chosen in its page.
            assert any("choose the kernel" in note for note in done["notes"])

            def asked():  # a kernel that has just been started answers later on a loaded machine, and Kalyx says so
                ran = moor.kalyx("why", "hivescale", "--in", notebook, "--live", "--json")
                return None if "was not asked" in ran.json["notes"][-1] else ran

            ran = until(asked, "an answer of the kernel")
            assert ran.status == 1 and ran.json["target"]["interpreter"]["executable"] == before == labs["lab"]
            assert "has not loaded hivescale and finds no hivescale" in ran.json["notes"][-1], ran.json["notes"]
            served.api(f"sessions/{session}", {"kernel": {"name": kernel, "id": None}}, method="PATCH")
            program, _ = served.runs("weights.ipynb", kernel)
            assert program == str(project / "bin" / "python")
            ran = moor.kalyx("why", "hivescale", "--in", notebook, "--json")
            assert ran.status == 0 and ran.json["target"]["interpreter"]["executable"] == program, ran.out
            undo = next(note for note in done["notes"] if "to undo that: " in note).rpartition("to undo that: ")[2]
            assert moor.kalyx(*undo.split()[1:], "--yes").status == 0
            assert json.loads(notebook.read_text())["metadata"]["kernelspec"]["name"] == "python3"
    finally:
        shutil.rmtree(own)
