"""Kernels for real: the real kernel package and server, and the stand-in in all its misbehaviours."""

import glob
import json
import os
import shlex
import shutil
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from tests.conftest import make_environment, until
from tests.equipment import BY_VERSION, NEW, VERSIONS

STANDIN = Path(__file__).parents[2] / "src" / "kalyx" / "demo" / "standin" / "kalyx_standin_kernel.py"


def standin_argv(*more: str, python: str = sys.executable) -> list[str]:
    return [python, str(STANDIN), "-f", "{connection_file}", *more]


def nothing_is_left(moor) -> bool:
    """No process that carries this test's home among its variables, no folder of a Kalyx that has ended."""

    def mine() -> list[int]:
        found = []
        for process in psutil.process_iter():
            try:
                if process.environ().get("HOME") == str(moor.root) and process.status() != psutil.STATUS_ZOMBIE:
                    found.append(process.pid)
            except psutil.Error:
                continue
        return found

    until(lambda: not mine(), "the end of what was started", 3)

    def lost() -> list[Path]:
        # Other workers' own are there for as long as they run, and those of a killed one until its guard has been. They
        # go while this looks, which glob.glob passes over.
        found = glob.glob(os.path.join(os.environ["TMPDIR"], "kalyx-*-*/*/kernel-connection.json"))
        return [path for path in map(Path, found) if not psutil.pid_exists(int(path.parents[1].name.split("-")[1]))]

    until(lambda: not lost(), "the end of its folder", 5)
    return True


@pytest.mark.parametrize("version", VERSIONS)
def test_the_standin_answers_on_every_version(moor, version):
    moor.kernel("moor", standin_argv(python=BY_VERSION[version].executable))
    ran = moor.kalyx("rehearse", "moor", "--import", "json", "--import", "gone_for_good", "--json")
    answer = ran.json
    assert answer["answered"] and ran.status == 1, ran.out
    assert answer["interpreter"]["version"] == BY_VERSION[version].version
    assert answer["imports"][0]["outcome"] == "imports" and answer["imports"][0]["found_at"]
    assert answer["imports"][1]["findings"][0]["cause"] == "absent"
    assert nothing_is_left(moor)


MISBEHAVIOURS = [
    ("die", "the hive is closed"),
    ("silent", "did not answer in time"),
    ("forge", "wrong signature"),
]


@pytest.mark.parametrize("word, message", MISBEHAVIOURS)
def test_a_kernel_that_fails_is_explained(moor, word, message):
    moor.kernel("moor", standin_argv("--misbehave", word))
    ran = moor.kalyx("rehearse", "moor", "--json", "--timeout", "3")
    assert ran.status == 1 and not ran.json["answered"]
    (finding,) = ran.json["findings"]
    assert finding["cause"] == "no-answer" and message in json.dumps(finding), ran.out
    assert nothing_is_left(moor)


@pytest.mark.parametrize("word", ["flood", "stay", "breed"])
def test_a_kernel_that_will_not_end_is_ended(moor, word):
    moor.kernel("moor", standin_argv("--misbehave", word))
    ran = moor.kalyx("rehearse", "moor", "--json", "--timeout", "15")
    assert ran.json["answered"], ran.out
    assert nothing_is_left(moor)


DEAD = [
    ({"argv": ["/no/such/python", "-m", "x", "{connection_file}"]}, None, "interpreter-gone"),
    ({"argv": None}, "{", "spec-unreadable"),
    ({"argv": None}, "{}", "spec-unreadable"),
    ({"argv": ["no-such-word", "{connection_file}"]}, None, "interpreter-gone"),
]


@pytest.mark.parametrize("spec, raw, condition", DEAD)
def test_a_dead_kernel_has_its_condition(moor, spec, raw, condition):
    moor.kernel("moor", spec["argv"], raw=raw)
    kernels = moor.kalyx("kernels", "--json").json["kernels"]
    assert [kernel["conditions"] for kernel in kernels if kernel["id"] == "moor"] == [[condition]]
    assert moor.kalyx("rehearse", "moor").status == 1
    assert moor.kalyx("why", "json", "--in", "kernel:moor").status == 1


@pytest.fixture(scope="module")
def provided(tmp_path_factory):
    """An environment that sees this one's packages, the real kernel package among them."""
    prefix = tmp_path_factory.mktemp("provided") / "orchard"
    version = ".".join(map(str, sys.version_info[:2]))
    python = make_environment(version, prefix, "--without-pip")
    site = next((prefix / "lib").glob("python*")) / "site-packages"
    here = next(Path(sys.prefix, "lib").glob("python*")) / "site-packages"
    (site / "shared.pth").write_text(f"{here}\n")
    (site / "hivescale.py").write_text("WEIGHT = 41.2\n")
    return python


TALK = r"""
import json, sys
from jupyter_client.manager import start_new_kernel
manager, client = start_new_kernel(kernel_name=sys.argv[1])
answers = []
for cell in json.load(sys.stdin):
    said = []
    client.execute_interactive(cell, output_hook=lambda m: said.append([m["msg_type"], m["content"]]), timeout=60, stop_on_error=False)
    answers.append([part for part in said if part[0] in ("error", "display_data", "stream")])
client.stop_channels(); manager.shutdown_kernel(now=True)
print(json.dumps(answers))
"""


def cells(moor, kernel, *lines, **variables):
    """What each cell gives out, run by the reference client in a new kernel process: (kind, content) in order."""
    for _ in range(3):
        done = subprocess.run([sys.executable, "-c", TALK, kernel], env={**moor.variables, **variables}, input=json.dumps(lines), cwd=moor.folder,
                              capture_output=True, text=True, timeout=240, check=False)  # fmt: skip
        if "Address already in use" not in done.stderr:  # the reference client chooses a port that another program may take
            break
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout.splitlines()[-1])


def test_of_many_dead_kernels_each_is_listed_and_the_first_are_explained(moor):
    for number in range(23):
        moor.kernel(f"hive-{number:02}", ["/gone/bin/python", "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    told = moor.kalyx("kernels").out
    assert told.count('"hive-') == 23 and told.count("kalyx unregister hive-") == 2 * 20 and told.rstrip().endswith("3 more are only marked in the list; kalyx kernels -v explains each")
    assert moor.kalyx("kernels", "-v").out.count("kalyx unregister hive-") == 2 * 23
    assert len([kernel for kernel in moor.kalyx("kernels", "--json").json["kernels"] if kernel["findings"]]) == 23


def test_the_real_server_starts_what_was_registered(moor, provided):
    """Registered by Kalyx, listed and started by the reference server's own library."""
    ran = moor.kalyx("register", str(Path(provided).parents[1]), "--own-path", "--variable", "MOOR=1", "--yes", "--json")
    assert ran.status == 0 and ran.json["answered"], ran.out
    assert ran.json["interpreter"]["executable"] == provided
    code = (
        "import json, sys\n"
        "from jupyter_client.kernelspec import KernelSpecManager\n"
        "from jupyter_client.manager import start_new_kernel\n"
        "spec = KernelSpecManager().get_kernel_spec('orchard')\n"
        "manager, client = start_new_kernel(kernel_name='orchard')\n"
        "said = []\n"
        "client.execute_interactive('import sys, os, hivescale, shutil\\n'\n"
        '    \'print([sys.executable, hivescale.__file__, os.environ["MOOR"], shutil.which("python")])\',\n'
        "    output_hook=lambda m: said.append(m['content'].get('text', '')), timeout=60)\n"
        "client.stop_channels(); manager.shutdown_kernel()\n"
        "print(json.dumps([spec.display_name, spec.argv, ''.join(said)]))\n"
    )
    done = subprocess.run([sys.executable, "-c", code], env=moor.variables, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    label, argv, said = json.loads(done.stdout.splitlines()[-1])
    assert label.startswith("orchard (Python 3.") and argv[0] == provided
    executable, module, variable, shell = eval(said)
    assert executable == provided and module.endswith(
        "orchard/lib/" + Path(module).parts[-3] + "/site-packages/hivescale.py"
    )
    assert (variable, shell) == ("1", provided)
    rehearsed = moor.kalyx("rehearse", "orchard", "--import", "hivescale", "--json").json
    assert rehearsed["imports"][0]["found_at"] == module
    assert rehearsed["shell_reaches"]["python"]["executable"] == provided


def test_the_real_servers_list_is_kalyx_list(moor, provided):
    """The order of the folders, the winner of an id, the words filled in: as the reference library has them."""
    moor.kernel("twice", [provided, "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    machine = moor.root / "elsewhere"
    for root, name in [(machine, "twice"), (machine, "only"), (moor.root / "more", "third")]:
        folder = root / "kernels" / name
        folder.mkdir(parents=True)
        (folder / "kernel.json").write_text(json.dumps({"argv": ["python3", "{resource_dir}"], "display_name": name}))
    moor.variables["JUPYTER_PATH"] = f"{machine}:{moor.root / 'more'}"
    code = (
        "import json\nfrom jupyter_core.paths import jupyter_path\n"
        "from jupyter_client.kernelspec import KernelSpecManager\n"
        "m = KernelSpecManager()\n"
        "print(json.dumps([m.kernel_dirs, m.find_kernel_specs()]))"
    )
    done = subprocess.run([provided, "-c", code], env=moor.variables, capture_output=True, text=True, check=True)
    folders, specs = json.loads(done.stdout)
    answer = moor.kalyx("kernels", "--seen-by", provided, "--json").json
    assert answer["folders"] == folders
    assert {k["id"]: k["folder"] for k in answer["kernels"] if "hidden" not in k["conditions"]} == specs
    third = next(k for k in answer["kernels"] if k["id"] == "third")
    assert third["command"] == [provided, third["folder"]] and "server-bound" in third["conditions"]


def test_register_refuses_and_puts_back(moor, provided, tmp_path):
    bare = make_environment(NEW, tmp_path / "bare", "--without-pip")
    ran = moor.kalyx("register", bare, "--yes", "--json")
    assert ran.status == 1 and ran.json["findings"][0]["cause"] == "kernel-package-absent"
    assert "-m pip install ipykernel" in json.dumps(ran.json["findings"][0]["fixes"])
    assert not moor.data.exists()
    folder = moor.kernel("orchard", standin_argv())
    before = (folder / "kernel.json").read_bytes()
    ran = moor.kalyx("register", provided, "--id", "orchard", "--yes")
    assert ran.status == 2 and "--take-over" in ran.err
    ran = moor.kalyx("register", provided, "--id", "orchard", "--take-over", "--yes", "--variable", "PYTHONHOME=/no/where",
                     "--timeout", "8", "--json")  # fmt: skip
    assert ran.status == 1 and not ran.json["done"]
    assert (folder / "kernel.json").read_bytes() == before
    outside = moor.root / "outside"
    outside.mkdir()
    os.symlink(outside, moor.data / "kernels" / "linked")
    assert moor.kalyx("register", provided, "--id", "linked", "--yes").status == 2
    assert moor.kalyx("unregister", "orchard", "--yes").status == 0 and not folder.exists()
    assert moor.kalyx("unregister", "orchard", "--undo", "--yes").status == 0
    assert (folder / "kernel.json").read_bytes() == before


@pytest.mark.parametrize("reach", ["me", "env"])
def test_each_reach_has_its_folder(moor, provided, reach):
    ran = moor.kalyx("register", provided, "--id", f"r-{reach}", "--reach", reach, "--yes", "--json")
    root = moor.data if reach == "me" else Path(provided).parents[1] / "share" / "jupyter"
    assert ran.status == 0, ran.out + ran.err
    assert ran.json["kernel"]["folder"] == str(root / "kernels" / f"r-{reach}")
    names = sorted(path.name for path in Path(ran.json["kernel"]["folder"]).iterdir())
    assert names == ["kernel.json", "logo-32x32.png", "logo-64x64.png", "logo-svg.svg"]


def test_a_cell_speaks_of_its_own_kernel(moor, provided):
    """``!kalyx why`` typed in a cell means that notebook's kernel."""
    moor.kernel("moor", standin_argv(python=provided))
    from kalyx.core.queries.rehearse import _Conversation
    from kalyx.core.system.live_runner import LiveRunner
    from kalyx.core.system.loopback import Connection

    runner = LiveRunner()
    with Connection() as connection:
        argv = [word.replace("{connection_file}", connection.path) for word in standin_argv(python=provided)]
        running = runner.start(argv, variables=moor.variables, folder=str(moor.folder))
        try:
            connection.open()
            talk = _Conversation(runner, connection, running, 60, sys.platform)
            assert talk.hello(time.monotonic())
            said = talk.execute(f"!{sys.executable} -m kalyx why hivescale --json", None)
            answer = json.loads(said[said.index("{") :])
        finally:
            running.end()
    assert answer["target"]["seat"] == "kernel" and answer["target"]["interpreter"]["executable"] == provided
    assert answer["imports"][0]["outcome"] == "imports"


KERNEL_FILES = {
    "ipykernel_launcher.py": "import sys\nif __name__ == '__main__':\n    from ipykernel import kernelapp as app\n",
    "ipykernel/__init__.py": "from ._version import *\nfrom .names import COMB\n",
    "ipykernel/_version.py": "number = 1\n",
    "ipykernel/names.py": "COMB = 1\nif COMB > 1:\n    import notneeded\n",
    "ipykernel/kernelapp.py": "import json, zmqlike.part\nfrom . import names\ntry:\n    import optional\nexcept ImportError:\n    pass\n",
    "zmqlike/__init__.py": "",
    "zmqlike/part.py": "",
}


def test_a_kernel_package_that_is_there_in_part(moor):
    """Each file taken away in turn, the flags that hide all, the words in front: as the interpreter itself ends."""
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath").glob("lib/python*/site-packages"))
    (moor.root / "barred").write_text("#!/bin/sh\n")
    words = ["-m", "ipykernel_launcher"]
    commands = {
        "plain": [python, *words], "joined": [python, "-m" + words[1]], "isolated": [python, "-Im", words[1]],
        "without": [python, "-S", *words], "set": ["/usr/bin/env", "A=1", python, *words], "nice": ["nice", "-n", "1", python, *words],
        "shell": ["sh", "-c", f"exec {python} -m ipykernel_launcher"], "barred": [str(moor.root / "barred"), *words],
    }  # fmt: skip
    for name, command in commands.items():
        moor.kernel(name, [*command, "{connection_file}"])
    for gone in (None, *KERNEL_FILES):
        shutil.rmtree(site / "ipykernel", ignore_errors=True)
        shutil.rmtree(site / "zmqlike", ignore_errors=True)
        for name, text in KERNEL_FILES.items():
            (site / name).parent.mkdir(exist_ok=True)
            (site / name).write_text(text)
        if gone is not None:
            (site / gone).unlink()
        found = {kernel["id"]: kernel for kernel in moor.kalyx("kernels", "--json").json["kernels"]}
        for name, command in commands.items():
            if name == "barred":
                assert found[name]["conditions"] == ["interpreter-gone"]
                continue
            ends = subprocess.run(command, env=moor.variables, cwd=moor.folder, capture_output=True, check=False).returncode
            assert ("kernel-package-absent" in found[name]["conditions"]) == (ends != 0), (gone, name, found[name])
            assert found[name]["interpreter"]["executable"] == python


@pytest.mark.parametrize("flags, module, variables", [
    ((), "ipykernel_launcher", {}),
    ((), "ipykernel", {}),
    ((), "ipykernel_launcher", {"PYTHONSAFEPATH": "1"}),
    (("-I",), "ipykernel_launcher", {}),
    (("-E", "-s"), "ipykernel", {"PYTHONPATH": "/moor/gone"}),
    ((), "ipykernel_launcher", {"PYTHONPATH": "/moor/site-packages:/moor/other"}),
    (("-S",), "ipykernel_launcher", {}),
])  # fmt: skip
def test_the_search_path_of_a_kernel_is_its_own(moor, provided, flags, module, variables):
    """What reading says of a kernel's path against what the kernel prints: the notebook's folder is not always first."""
    moor.kernel("heath", [provided, *flags, "-m", module, "-f", "{connection_file}"], env=variables)
    ran = moor.kalyx("packages", "kernel:heath", "--json")
    if "-S" in flags:  # it sees no kernel package then
        assert "kernel-package-absent" in moor.kalyx("kernels").out
        return
    ((_, said),) = cells(moor, "heath", "import sys, json; print(json.dumps(sys.path))")[0]
    assert [entry["entry"] for entry in ran.json["target"]["search_path"]] == json.loads(said["text"])


def test_a_kernel_that_is_not_told_its_connection_file(moor, provided):
    """The reference server lists the kernel and never reaches it; the printed fix makes the kernel answer."""
    moor.kernel("heath", [provided, "-m", "ipykernel_launcher", "-f", "kept.json"], display_name="Heath")
    (row,) = moor.kalyx("kernels", "--json").json["kernels"]
    assert "no-connection-file" in row["conditions"] and not moor.kalyx("rehearse", "heath", "--timeout", "5", "--json").json["answered"]
    finding = next(item for item in row["findings"] if item["cause"] == "no-connection-file")
    assert finding["evidence"][0]["line"] == 3
    line = finding["fixes"][0]["steps"][0]["line"]
    assert moor.kalyx(*shlex.split(line)[1:], "--yes").status == 0
    assert moor.kalyx("rehearse", "heath", "--json").json["answered"] and "no-connection-file" not in moor.kalyx("kernels").out
