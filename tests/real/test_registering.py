"""Registering to the end: the kernel package brought along, running servers asked, a script of the user's, stops half-way."""

import json
import os
import signal
import socket
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import psutil
import pytest

from kalyx.core.actions.registering import Plan, register
from kalyx.core.kernels.makers import KERNEL_PACKAGES
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import RehearsalAnswer
from kalyx.core.system.live_reader import LiveReader
from kalyx.demo.wheels import Package, standin_package, write_wheel
from tests.conftest import KALYX, make_environment, started, tree, until
from tests.equipment import BY_VERSION, NEW, OTHER, need, some
from tests.real.test_kernels import nothing_is_left, provided, standin_argv  # noqa: F401


def test_the_kernel_package_is_brought_from_wheels(moor, tmp_path):
    python = make_environment(NEW, moor.root / "heath")
    wheels = tmp_path / "wheels"
    wheels.mkdir()
    write_wheel(standin_package(), str(wheels))
    words = ["register", python, "--bring-package", "--wheels", wheels]
    dry = moor.kalyx(*words, "--dry-run", "--json")
    assert "install kalyx-standin-kernel" in dry.json["plan"][0]["action"] and not moor.data.exists()
    ran = moor.kalyx(*words, "--yes", "--json")
    assert ran.status == 0 and ran.json["done"] and ran.json["answered"], ran.out + ran.err
    assert ran.json["undo_packages"] == ["kalyx", "fill", str(moor.root / "heath"), "--remove", "kalyx-standin-kernel"]
    conda = make_environment(NEW, moor.root / "kept")
    (moor.root / "kept" / "conda-meta").mkdir()
    ran = moor.kalyx("register", conda, "--bring-package", "--wheels", wheels, "--yes")
    assert ran.status == 2 and "is kept by" in ran.err
    stays = moor.kalyx("unregister", "heath", "--yes", "--json").json["stays"]
    assert str(moor.root / "heath") in stays[0] and "MB" in stays[0]
    assert moor.kalyx("fill", moor.root / "heath", "--remove", "kalyx-standin-kernel", "--yes").status == 0, "as the note said"


def names_below(pid: int) -> list[str]:
    """The names of the processes below one; of what ends while they are looked at nothing."""
    names = []
    for process in psutil.Process(pid).children(recursive=True):
        try:
            names.append(process.name())
        except psutil.Error:
            continue
    return names


@pytest.mark.parametrize("how", ["no answer", "interrupted", "killed"])
def test_what_was_brought_goes_again_where_the_kernel_is_not_registered(moor, tmp_path, how):
    """The packages and the kernel stay, or neither; after a kill the next call takes both back."""
    python = make_environment(NEW, moor.root / "heath")
    before = tree(moor.root / "heath")
    wheels = tmp_path / "wheels"
    wheels.mkdir()
    source = "raise SystemExit(3)\n" if how == "no answer" else "import time; open('/proc/self/comm', 'w').write('kalyxsleeps'); time.sleep(60)\n"
    write_wheel(Package("kalyx-standin-kernel", "1.0", {"kalyx_standin_kernel.py": source}), str(wheels))
    words = ["register", python, "--bring-package", "--wheels", str(wheels), "--yes", "--timeout", "50"]
    if how == "no answer":
        ran = moor.kalyx(*words, "--json")
        assert ran.status == 1 and any("removed again" in note for note in ran.json["notes"]), ran.out
    else:
        with subprocess.Popen([sys.executable, KALYX, *words], cwd=moor.folder, env=moor.variables, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as kalyx:
            until(lambda: "kalyxsleeps" in names_below(kalyx.pid), "the kernel")
            kalyx.send_signal(signal.SIGINT if how == "interrupted" else signal.SIGKILL)
            said = kalyx.communicate(timeout=30)[1]
        assert kalyx.returncode == (130 if how == "interrupted" else -9), said
    if how == "killed":
        assert (moor.root / "heath" / "lib").exists() and moor.kalyx("fill", moor.root / "heath", "--repair", "--yes", "--json").json["done"] is True
        assert moor.kalyx("unregister", "nowhere", "--yes").status == 2
    assert tree(moor.root / "heath") == before
    assert not list(moor.data.rglob("kernel.json"))


@pytest.mark.parametrize("transport", [[], ["--ipc"]])
def test_a_script_runs_in_the_kernel_and_leaves_no_trace(moor, provided, transport):  # noqa: F811
    moor.kernel("orchard", [provided, "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    script = moor.folder / "weigh.py"
    script.write_text("import os, hivescale\nprint('weight', hivescale.WEIGHT)\nos.write(2, b'library words\\n')\n")
    words = ["rehearse", "orchard", "--script", script, "--import", "hivescale", "--import", "json", *transport]
    ran = moor.kalyx(*words, "--json")
    answer = ran.json
    assert ran.status == 0 and "weight 41.2" in answer["script_output"], ran.out
    assert "library words" in answer["script_output"] + answer["output"]
    assert [note for note in answer["notes"] if note.startswith("json was found in the base")]
    assert not [note for note in answer["notes"] if note.startswith("hivescale")]
    assert not list(moor.root.rglob("history.sqlite*")), "a rehearsal leaves nothing in the user's history"
    assert nothing_is_left(moor)
    script.write_text("raise ValueError('no hive')\n")
    assert "ValueError: no hive" in moor.kalyx(*words, "--json").json["script_output"]


def test_without_any_network_a_kernel_is_spoken_to_over_local_sockets(moor):
    """In a place whose own loopback is down, as a bare network namespace's is; it is said."""
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    moor.kernel("heath", [python, standin_argv()[1], "-f", "{connection_file}"])
    words = [need("unshare"), "-n" if os.getuid() == 0 else "-rn", sys.executable, "-m", "kalyx", "rehearse", "heath", "--json"]
    done = subprocess.run(words, cwd=moor.folder, env=moor.variables, capture_output=True, text=True, check=False)
    if "unshare" in done.stderr:
        pytest.skip(f"this system gives a test no network of its own: {done.stderr}")
    answer = json.loads(done.stdout)
    assert done.returncode == 0 and answer["answered"], done.stdout
    assert [note for note in answer["notes"] if "does not reach itself by 127.0.0.1" in note]
    assert not [note for note in moor.kalyx("rehearse", "heath", "--json").json["notes"] if "127.0.0.1" in note]


@pytest.fixture(scope="module")
def others(tmp_path_factory):
    """An environment with two kernel packages that are not the reference one: compiled, and one that prints past the protocol."""
    prefix = tmp_path_factory.mktemp("others") / "other"
    python = make_environment(some("3.11")[0], prefix)
    argv = [python, "-m", "pip", "install", "-q", "--no-compile", "--disable-pip-version-check", "xeus-python", "akernel", "pyzmq", "cyclopts",
            "anyio", "zmq-anyio", "fps"]  # fmt: skip
    subprocess.run(argv, check=True, capture_output=True)
    return python


@pytest.mark.parametrize("kernel_package", ["xeus", "akernel"])
def test_a_kernel_package_of_another_make(moor, others, kernel_package):
    """Kernels that are not the reference one speak the same protocol: run as a module, and by a program of its own."""
    if kernel_package == "xeus":
        ran = moor.kalyx("register", others, "--id", kernel_package, "--yes", "--json", "--timeout", "60")
        assert ran.json["kernel"]["argv"][:3] == [others, "-m", "xpython_launcher"], ran.out
    else:
        moor.kernel(kernel_package, [str(Path(others).with_name("akernel")), "launch", "-f", "{connection_file}"])
    ran = moor.kalyx("rehearse", kernel_package, "--import", "zmq", "--import", "gone_for_good", "--json", "--timeout", "60")
    assert ran.json["answered"], ran.out
    assert ran.json["kernel"]["interpreter"]["executable"] == others
    assert (ran.json["interpreter"]["executable"], ran.json["interpreter"]["prefix"]) == (
        others,
        str(Path(others).parents[1]),
    )
    assert [item["outcome"] for item in ran.json["imports"]] == ["imports", "fails"]
    assert nothing_is_left(moor)


@pytest.fixture
def server(moor, provided):  # noqa: F811
    """The real notebook server, seen only through its runtime file."""
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    words = [provided, "-m", "jupyter_server", "--allow-root", "--no-browser", f"--port={port}",
             "--IdentityProvider.token=honey-token", f"--ServerApp.root_dir={moor.folder}"]  # fmt: skip
    with started(words, env=moor.variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as running:
        until(lambda: list(moor.data.glob("runtime/jpserver-*.json")), "the server's own file", 60)

        def listens() -> bool:
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
            except OSError:
                return False
            return True

        until(listens, "the server")
        yield running, port


def test_a_running_server_is_asked(moor, provided, server):  # noqa: F811
    running, port = server
    (moor.data / "runtime" / "jpserver-999999.json").write_text('{"pid": 999999, "port": 1, "token": "x"}')
    (moor.data / "runtime" / "jpserver-1.json").write_text("{")
    words = ["register", provided, "--id", "orchard", "--yes"]
    ran = moor.kalyx(*words)
    assert ran.status == 0 and f"(port {port}, process {running.pid}) lists it" in ran.out, ran.out
    ran = moor.kalyx("register", make_environment(NEW, moor.root / "far", "--without-pip"), "--yes", "--json")
    assert ran.status == 1
    notebook = moor.notebook("spring.ipynb", "orchard")
    code = (
        "import json, urllib.request as u\n"
        f"body = {{'name': '', 'path': 'spring.ipynb', 'type': 'notebook', 'kernel': {{'name': 'orchard'}}}}\n"
        f"q = u.Request('http://127.0.0.1:{port}/api/sessions', data=json.dumps(body).encode(), method='POST',"
        " headers={'Authorization': 'token honey-token', 'Content-Type': 'application/json'})\n"
        "u.urlopen(q).read()"
    )
    subprocess.run([sys.executable, "-c", code], check=True, env={"PATH": "/usr/bin"})
    ran = moor.kalyx("kernels", "--running", "--json")
    (live,) = next(kernel["running"] for kernel in ran.json["kernels"] if kernel["id"] == "orchard")
    assert live["notebook"] == str(notebook) and live["executable"] == provided and live["server"] == running.pid
    assert os.readlink(f"/proc/{live['pid']}/exe") == os.path.realpath(provided)
    assert "honey-token" not in ran.out + ran.err + moor.kalyx("kernels", "--running", "-v").out
    seat = moor.kalyx("why", "json", "--in", f"server:{port}", "--json").json["target"]
    assert (seat["seat"], seat["interpreter"]["executable"]) == ("server", provided)
    moor.kernel("heath", standin_argv())
    ran = moor.kalyx("point", notebook, "kernel:heath", "--yes", "--json")
    assert ran.status == 0 and any(str(live["pid"]) in note for note in ran.json["notes"]), ran.out


def test_a_server_that_hangs_does_not_hold(moor, provided):  # noqa: F811
    runtime = moor.data / "runtime"
    runtime.mkdir(parents=True)
    with socket.create_server(("127.0.0.1", 0)) as silent:
        said = {"pid": os.getpid(), "port": silent.getsockname()[1], "token": "honey-token", "base_url": "/"}
        (runtime / f"jpserver-{os.getpid()}.json").write_text(json.dumps(said))
        began = time.monotonic()
        ran = moor.kalyx("register", provided, "--id", "orchard", "--yes", "--timeout", "8")
    assert ran.status == 0 and "could not be asked" in ran.out and "honey-token" not in ran.out
    assert time.monotonic() - began < 30


def test_two_registrations_at_once(moor, provided):  # noqa: F811
    words = [sys.executable, "-m", "kalyx", "register", provided, "--id", "orchard", "--take-over", "--yes", "--label"]
    both = [subprocess.Popen([*words, label], env=moor.variables, cwd=moor.folder, stdout=subprocess.PIPE,
                             stderr=subprocess.STDOUT) for label in ("One", "Two")]  # fmt: skip
    said = [item.communicate()[0] for item in both]
    # One does it; the other says that somebody came first, or replaces what the first has finished.
    assert sorted(item.returncode for item in both) in ([0, 0], [0, 2]), said
    assert all(item.returncode == 0 or b"meanwhile" in words for item, words in zip(both, said, strict=True)), said
    folder = moor.data / "kernels" / "orchard"
    assert json.loads((folder / "kernel.json").read_text())["display_name"] in ("One", "Two")
    assert sorted(os.listdir(folder)) == ["kernel.json", "logo-32x32.png", "logo-64x64.png", "logo-svg.svg"]


@pytest.mark.parametrize("answers", [True, False])
def test_a_registration_within_another(tmp_path, monkeypatch, answers):
    """A second one replaces the kernel while the first waits for the answer: the second's kernel is whole."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    machine = Machine(LiveReader({"JUPYTER_DATA_DIR": str(tmp_path / "data"), "HOME": str(tmp_path)}, str(tmp_path)))
    folder, icons = tmp_path / "data" / "kernels" / "orchard", {"logo-32x32.png": b"32", "logo-svg.svg": b"svg"}

    def plan(label, before):
        spec = json.dumps({"argv": ["python"], "display_name": label}).encode()
        return Plan("orchard", label, str(folder), spec, before, KERNEL_PACKAGES[0], [], [], icons)

    def within():
        second = plan("Two", (folder / "kernel.json").read_bytes())
        done = register(machine, second, lambda: RehearsalAnswer(kernel=None, answered=True))
        assert done.done
        return RehearsalAnswer(kernel=None, answered=answers)

    assert register(machine, plan("One", None), within).done == answers
    assert json.loads((folder / "kernel.json").read_text())["display_name"] == "Two"
    assert sorted(os.listdir(folder)) == ["kernel.json", *icons]


def test_places_that_cannot_be_written(moor, provided, tmp_path):  # noqa: F811
    """Read-only, a file in the way, a full disk: one line, and nothing half-done."""
    moor.data.mkdir()
    (moor.data / "kernels").write_text("in the way")
    ran = moor.kalyx("register", provided, "--yes")
    assert ran.status == 2 and ran.err.count("\n") == 1 and "kernels" in ran.err
    small = moor.root / "small"
    small.mkdir()
    script = f"""mount -t tmpfs -o size=64k tmpfs {small} || exit 9
        mkdir -p {small}/data/kernels/orchard; echo '{{"argv": ["old"]}}' > {small}/data/kernels/orchard/kernel.json
        dd if=/dev/zero of={small}/fill bs=1k count=100 2>/dev/null
        JUPYTER_DATA_DIR={small}/data {sys.executable} -m kalyx register {provided} --id orchard --take-over --yes
        echo status $?; cat {small}/data/kernels/orchard/kernel.json; ls -A {small}/data/kernels/orchard
        mount -o remount,ro {small}
        JUPYTER_DATA_DIR={small}/data {sys.executable} -m kalyx register {provided} --id other --yes; echo status $?"""
    done = subprocess.run([need("unshare"), "-m" if os.getuid() == 0 else "-rm", "sh", "-c", script], env=moor.variables,
                          capture_output=True, text=True, check=False, cwd=moor.folder)  # fmt: skip
    if done.returncode == 9 or "unshare" in done.stderr:
        pytest.skip(f"this system mounts nothing for a test: {done.stderr}")
    assert done.stdout.split("\n")[:4] == ["status 2", '{"argv": ["old"]}', "kernel.json", "status 2"], done.stdout
    assert "no space left" in done.stderr and "read-only" in done.stderr, done.stderr


def test_what_reaches_into_the_kernel_is_said(moor, provided):  # noqa: F811
    """The user's own packages, and a site module that the interpreter needs for its libraries."""
    base = BY_VERSION[OTHER]
    seeing = make_environment(OTHER, moor.root / "seeing", "--without-pip", "--system-site-packages")
    site = moor.root / "seeing" / "lib" / f"python{OTHER}" / "site-packages"
    (site / "kalyx_standin_kernel.py").write_text(standin_package().files["kalyx_standin_kernel.py"])
    mine = moor.root / "mine" / "lib" / f"python{OTHER}" / "site-packages"
    mine.mkdir(parents=True)
    wheels = moor.root / "wheels"
    wheels.mkdir()
    write_wheel(Package("nectarflow", "1.0", {"nectarflow.py": ""}), str(wheels))
    zipfile.ZipFile(next(wheels.iterdir())).extractall(mine)
    module = moor.root / "modules" / "lark-python" / OTHER
    module.parent.mkdir(parents=True)
    module.write_text(
        f"#%Module\nprepend-path PATH {base.prefix}/bin\nprepend-path LD_LIBRARY_PATH {base.prefix}/lib\n"
    )
    loaded = {"MODULEPATH": str(module.parents[1]), "LOADEDMODULES": f"lark-python/{OTHER}", "_LMFILES_": str(module),
              "PYTHONUSERBASE": str(moor.root / "mine")}  # fmt: skip
    ran = moor.kalyx("register", seeing, "--yes", "--json", **loaded)
    assert ran.status == 0, ran.out + ran.err
    assert any("--variable PYTHONNOUSERSITE=1" in note for note in ran.json["notes"])
    spec = json.loads((moor.data / "kernels" / "seeing" / "kernel.json").read_text())
    assert spec["env"]["LD_LIBRARY_PATH"] == f"{base.prefix}/lib:${{LD_LIBRARY_PATH}}"
    ran = moor.kalyx("register", seeing, "--id", "kept", "--variable", "PYTHONNOUSERSITE=1", "--yes", "--json", **loaded)
    assert not any("PYTHONNOUSERSITE" in note for note in ran.json["notes"])
    assert Path(seeing).exists()


def test_a_notebook_without_its_kernel_gets_the_nearest(moor, provided):  # noqa: F811
    """The kernel with what the notebook imports, though another is nearer by version, and none that cannot start or be reached."""
    moor.kernel("empty", standin_argv(python=BY_VERSION[some("3.11")[0]].executable))
    moor.kernel("orchard", [provided, "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    moor.kernel("absent", [provided, "-m", "other_kernel", "-f", "{connection_file}"])
    moor.kernel("deaf", [provided, "-m", "ipykernel_launcher"])
    notebook = moor.notebook("spring.ipynb", "meadow")
    whole = json.loads(notebook.read_text())
    whole["cells"] = [{"cell_type": "code", "source": ["%matplotlib inline\n", "import hivescale, json\n", "!ls\n"]}]
    whole["metadata"]["language_info"] = {"name": "python", "version": "3.11.1"}
    notebook.write_text(json.dumps(whole, indent=1))
    (finding,) = [item for item in moor.kalyx("here", "--json").json["findings"] if item["cause"] == "kernel-absent"]
    command = finding["fixes"][0]["steps"][0]["command"]
    assert command == ["kalyx", "point", f"notebook:{notebook}", "kernel:orchard"]
    before = notebook.read_bytes()
    assert moor.kalyx(*command[1:], "--yes").status == 0
    assert moor.kalyx("why", "hivescale", "--in", notebook).status == 0
    assert moor.kalyx("point", notebook, "--undo", "--yes").status == 0 and notebook.read_bytes() == before
