"""Where kernels are looked for, which one is taken and what it starts: as the reference implementation has it.

Combinations of variables, folders, kernel files and servers are made by chance
(the seed is the number); the reference runs in the server's own interpreter.
"""

import json
import os
import random
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.kernels.folders import Server, kernel_folders
from kalyx.core.kernels.specs import listed_kernels
from kalyx.core.system.live_reader import LiveReader
from tests.conftest import make_environment
from tests.equipment import LONG

COMBINATIONS = 400 if LONG else 18
VERSION = ".".join(map(str, sys.version_info[:2]))

REFERENCE = """
import json, os, sys, warnings
warnings.simplefilter("ignore")
from jupyter_client.kernelspec import KernelSpecManager, NoSuchKernel
from jupyter_client.manager import KernelManager
specs = KernelSpecManager()
found = specs.find_kernel_specs()
rows = {}
for name, folder in found.items():
    command = None
    try:
        manager = KernelManager(kernel_name=name, connection_file="/c.json", kernel_spec_manager=specs)
        if manager.kernel_spec is not None and manager.kernel_spec.argv:
            command = manager.format_kernel_cmd()
    except Exception:
        pass
    rows[name] = [folder, command]
print(json.dumps([specs.kernel_dirs, rows]))
"""

GOOD = [{"argv": ["python3", "-m", "x", "{connection_file}"]}, {"argv": ["python", "{prefix}/x", "{resource_dir}", "{other}"]},
        {"argv": [f"python{VERSION}", "-f", "{connection_file}"], "language": "python"}, {"argv": ["/usr/bin/env", "x"]},
        {"argv": ["python2", "x"], "env": {"A": "${HOME}"}}]  # fmt: skip
BAD = ["{", "", "[]", '{"argv": 3}', '{"display_name": "x"}']


@pytest.fixture(scope="module")
def servers(tmp_path_factory):
    """A server in an environment, in one that sees its base, and in the installation itself."""
    root = tmp_path_factory.mktemp("servers")
    here = next(Path(sys.prefix, "lib").glob("python*")) / "site-packages"
    found = {"base": (read_interpreter(LiveReader(), sys.executable).real_executable, str(here))}
    for name, more in (("own", []), ("sees", ["--system-site-packages"])):
        python = make_environment(VERSION, root / name, "--without-pip", *more)
        site = next((root / name / "lib").glob("python*")) / "site-packages"
        (site / "shared.pth").write_text(f"{here}\n")
        found[name] = (python, "")
    return found


def put(chance: random.Random, folder: Path) -> None:
    """Some kernels of every kind in a folder."""
    for name in chance.sample(["heath", "Orchard", "moor", "bad name", "python3", "dot.ted"], chance.randint(0, 4)):
        place = folder / "kernels" / name
        place.mkdir(parents=True, exist_ok=True)
        spec = place / "kernel.json"
        if spec.exists() or spec.is_symlink():
            continue
        kind = chance.randint(0, 9)
        if kind == 0:
            spec.mkdir()
        elif kind == 1:
            spec.symlink_to("gone.json")
        elif kind == 2:
            spec.write_text(chance.choice(BAD))
        elif kind > 3:
            spec.write_text(json.dumps({"display_name": name, "language": "python", **chance.choice(GOOD)}))


def scene(chance: random.Random, tmp_path: Path, servers: dict) -> tuple[str, dict[str, str], Path]:
    """A server, its variables, and the folder it stands in, with kernels strewn about; all by chance."""
    executable, path = servers[chance.choice(list(servers))]
    home, stand = tmp_path / "home", tmp_path / "stand"
    for folder in (home, stand, tmp_path / "linked"):
        folder.mkdir()
    (tmp_path / "by-link").symlink_to("home")
    variables = {
        "HOME": str(chance.choice([home, tmp_path / "by-link"])),
        "PATH": "/usr/bin:/bin",
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    if path:
        variables["PYTHONPATH"] = path
    maybe = {
        "JUPYTER_DATA_DIR": ["", str(tmp_path / "data"), "data", str(tmp_path / "data") + "/"],
        "JUPYTER_PATH": ["", f"{tmp_path}/p1:{tmp_path}/p2/", f"{tmp_path}/p1::{tmp_path}/p1", "rel", f":{tmp_path}/p2", "~/p1"],
        "JUPYTER_PREFER_ENV_PATH": ["", "0", "1", "no", "False", "x", "off"],
        "JUPYTER_PLATFORM_DIRS": ["", "1", "0"],
        "XDG_DATA_HOME": ["", str(tmp_path / "xdg")],
        "XDG_DATA_DIRS": ["", f"{tmp_path}/s1:{tmp_path}/s2", "/usr/share"],
        "IPYTHONDIR": ["", str(tmp_path / "ipython")],
        "PYTHONNOUSERSITE": ["", "0", "1", "x"],
        "PYTHONUSERBASE": ["", str(tmp_path / "userbase")],
        "CONDA_PREFIX": [str(Path(executable).parents[1]), "/opt"],
        "CONDA_DEFAULT_ENV": ["base", "heath"],
    }  # fmt: skip
    for name, values in maybe.items():
        if chance.random() < 0.4:
            variables[name] = chance.choice(values)
    for place in ("data", "p1", "p2", "xdg/jupyter", "home/.local/share/jupyter", "userbase/share/jupyter", "ipython",
                  "stand/rel", "stand/data", "stand/kernels/..", "s1/jupyter", "home/.ipython", "home/p1"):  # fmt: skip
        if chance.random() < 0.5:
            put(chance, tmp_path / place)
    return executable, variables, stand


@pytest.mark.parametrize("number", range(COMBINATIONS))
def test_the_reference_agrees(number, servers, tmp_path):
    executable, variables, stand = scene(random.Random(number), tmp_path, servers)
    done = subprocess.run(
        [executable, "-c", REFERENCE], env=variables, cwd=stand, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    folders, rows = json.loads(done.stdout.splitlines()[-1])
    reader = LiveReader(variables=variables, folder=str(stand))
    server = Server(read_interpreter(reader, executable), variables)
    mine = [kernel_folder.path for kernel_folder in kernel_folders(reader, server)]
    assert mine == list(dict.fromkeys(os.path.normpath(os.path.join(stand, item)) for item in folders)), variables
    listed = {listed_kernel.id: listed_kernel for listed_kernel in listed_kernels(reader, server) if not {"hidden", "unlisted"} & set(listed_kernel.conditions)}
    assert listed.keys() == rows.keys(), variables
    for name, (folder, command) in rows.items():
        assert listed[name].folder == os.path.normpath(os.path.join(stand, folder)), (name, variables)
        if command is not None and name != "bad name":
            # The resource folder is filled in as the list has it, relative ones too; a bare word is looked up at the start.
            own = [word.replace("{connection_file}", "/c.json") for word in listed[name].command]
            theirs = [word.replace(folder, listed[name].folder) for word in command]
            assert own[1:] == theirs[1:], (name, variables)
            assert own[0] == theirs[0] or "/" not in theirs[0], (name, variables)


# The oldest imports a module that 3.12 no longer has.
RELEASES = [*(["4.6.3"] if sys.version_info < (3, 12) else []), "4.7.1", "4.12.0", "5.0.0", "5.7.2"]
FOLDERS = "import json\nfrom jupyter_core.paths import jupyter_path\nprint(json.dumps(jupyter_path('kernels')))"


@pytest.fixture(scope="module")
def releases(tmp_path_factory):
    """Older releases of the reference's own library, each in a folder of its own."""
    root = tmp_path_factory.mktemp("releases")
    for release in RELEASES:
        wanted = [f"jupyter_core=={release}", "ipython_genutils"]  # the second one is asked for by the oldest
        argv = [sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--target", root / release, *wanted]
        subprocess.run(argv, check=True, capture_output=True)
    return root


@pytest.mark.parametrize("number", range(max(20, COMBINATIONS // 4)))
def test_older_releases_agree(number, servers, releases, tmp_path):
    """Which folder comes first depends on the release of the server's own library."""
    executable, variables, stand = scene(random.Random(1000 + number), tmp_path, servers)
    release = RELEASES[number % len(RELEASES)]
    variables["PYTHONPATH"] = f"{releases / release}:{variables.get('PYTHONPATH', '')}".rstrip(":")
    words = [executable, "-W", "ignore", "-c", FOLDERS]
    done = subprocess.run(words, env=variables, cwd=stand, capture_output=True, text=True, check=True)
    theirs = [os.path.normpath(os.path.join(stand, load)) for load in json.loads(done.stdout.splitlines()[-1])]
    reader = LiveReader(variables=variables, folder=str(stand))
    server = Server(read_interpreter(reader, executable), variables)
    mine = [kernel_folder.path for kernel_folder in kernel_folders(reader, server) if kernel_folder.source != "the older place in the home folder"]
    assert mine == list(dict.fromkeys(theirs)), (release, variables)
