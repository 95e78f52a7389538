"""The survey of 300 environments with 60 distributions each, against a bare scan: python -m benchmarks.survey

Prints a table of ratios, measured side by side in one run, and ends with 1
when one of them is over what Kalyx must keep. Fails loudly when it measured
nothing. The bare scan lists the folders of each environment (its root, its
scripts, its
libraries and its site-packages) and those of PATH, and reads each settings
file: the folders that the survey lists too. File-system calls are counted
with the system's tracer (strace) where that is installed.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks import Row, shown

ENVIRONMENTS, DISTRIBUTIONS, RUNS = 300, 60, 7
PYTHON = f"python3.{sys.version_info[1]}"

BARE = """
import os, sys
count = 0
for folder in os.environ["PATH"].split(":"):
    for entry in os.scandir(folder):
        entry.is_dir(follow_symlinks=False)
for name in sorted(os.listdir(sys.argv[1])):
    prefix = os.path.join(sys.argv[1], name)
    for folder in ("", "bin", "lib", "lib/" + sys.argv[2] + "/site-packages"):
        with os.scandir(os.path.join(prefix, folder)) as entries:
            for entry in entries:
                entry.is_dir(follow_symlinks=False)
    with open(os.path.join(prefix, "pyvenv.cfg"), encoding="utf-8") as file:
        keys = dict(line.split(" = ", 1) for line in file.read().splitlines() if " = " in line)
    count += bool(keys["version"])
print(count)
"""


def build(root: Path, count: int, distributions: int = DISTRIBUTIONS) -> None:
    """Made-up environments with the layout of real ones."""
    base = Path(sys.base_prefix, "bin", PYTHON)
    for number in range(count):
        prefix = root / f"hive-{number:03}"
        site = prefix / "lib" / PYTHON / "site-packages"
        site.mkdir(parents=True)
        (prefix / "bin").mkdir()
        os.symlink(base, prefix / "bin" / "python")
        os.symlink("python", prefix / "bin" / "python3")
        (prefix / "bin" / "activate").write_text(f"VIRTUAL_ENV={prefix}\nexport VIRTUAL_ENV\n")
        (prefix / "bin" / "pip").write_text(f"#!{prefix}/bin/python\n")
        (prefix / "pyvenv.cfg").write_text(
            f"home = {base.parent}\ninclude-system-site-packages = false\nversion = {sys.version.split()[0]}\n"
        )
        for package in range(distributions):
            info = site / f"comb_{package}-1.{number}.dist-info"
            info.mkdir()
            (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: comb_{package}\nVersion: 1.{number}\n")
            (info / "RECORD").write_text(f"comb_{package}/__init__.py,,\n")
            (site / f"comb_{package}").mkdir()
            (site / f"comb_{package}" / "__init__.py").touch()


def commands(root: Path) -> dict[str, list[str]]:
    return {
        "kalyx": [str(Path(sys.executable).with_name("kalyx")), "survey", "--json", "--static", "--under", str(root)],
        "bare": [sys.executable, "-c", BARE, str(root), PYTHON],
    }


def once(argv: list[str], folder: str) -> float:
    began = time.perf_counter()
    done = subprocess.run(argv, cwd=folder, env=ENVIRONMENT, capture_output=True, check=True)
    took = time.perf_counter() - began
    if not done.stdout:
        raise SystemExit(f"measured nothing: {argv} printed nothing")
    return took


def calls(argv: list[str], folder: str, root: Path, variables: dict[str, str]) -> list[str]:
    """File-system calls that name a path below the environments, or list an open folder there, as the tracer says."""
    with tempfile.NamedTemporaryFile() as log:
        words = ["strace", "-f", "-qq", "-y", "-e", "trace=%file,getdents64,read,pread64,fstat", "-o", log.name, *argv]
        done = subprocess.run(words, cwd=folder, env=variables, capture_output=True, check=False)
        if done.returncode not in (0, 1) or not done.stdout:
            raise SystemExit(f"counted nothing: {argv} ended with {done.returncode}")
        lines = Path(log.name).read_text(errors="replace").splitlines()
    # The tracer writes where the current folder lies beside each call that could begin there.
    lines = [re.sub("AT_FDCWD<[^>]*>", "", line) for line in lines]
    return [line for line in lines if str(root) in line and "execve" not in line]


def memory_of(argv: list[str], folder: str) -> float:
    """The most memory that this call took, in MB: of its own process alone, whatever ran before."""
    started = subprocess.Popen(argv, cwd=folder, env=ENVIRONMENT, stdout=subprocess.DEVNULL)
    _, _, used = os.wait4(started.pid, 0)
    started.returncode = 0
    return used.ru_maxrss / 1024


def measure() -> list[Row]:
    global ENVIRONMENT
    with tempfile.TemporaryDirectory(prefix="kalyx-bench-") as place:
        home = Path(place, "home")
        home.mkdir()
        ENVIRONMENT = {"HOME": str(home), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}
        root, double = Path(place, "envs"), Path(place, "double")
        build(root, ENVIRONMENTS)
        build(double, 2 * ENVIRONMENTS)
        argv, twice = commands(root), commands(double)
        done = subprocess.run(argv["kalyx"], cwd=home, env=ENVIRONMENT, capture_output=True, check=True)
        found = json.loads(done.stdout)
        below = [environment for environment in found["environments"] if environment["prefix"].startswith(str(root))]
        if len(below) != ENVIRONMENTS or any(item["condition"] != "sound" for item in below):
            raise SystemExit(f"measured nothing: {len(below)} environments found, {ENVIRONMENTS} are there")
        ratios, growth = [], []
        for _ in range(RUNS):
            own = once(argv["kalyx"], str(home))
            ratios.append(own / once(argv["bare"], str(home)))
            growth.append(once(twice["kalyx"], str(home)) / own)
        counted = None
        if shutil.which("strace"):
            own, bare = (len(calls(argv[name], str(home), root, ENVIRONMENT)) for name in ("kalyx", "bare"))
            counted = own / bare
        peak = memory_of(argv["kalyx"], str(home))
    what, bare = f"`survey --json`, {ENVIRONMENTS} environments of {DISTRIBUTIONS} packages", "a bare scan of the same"
    return [
        Row(what, bare, statistics.median(ratios), 2.2),
        Row("the same, twice as many environments", "itself", statistics.median(growth), 1.6),
        Row("file-system calls of that survey", "the bare scan's", counted, 1.15),
        Row("peak memory of that survey, MB", "nothing", peak, 60),
    ]


ENVIRONMENT: dict[str, str] = {}

if __name__ == "__main__":
    sys.exit(shown(measure))
