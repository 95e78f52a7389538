"""Kalyx run by a real Python for Windows (tools/windows.py builds it, under Wine): the rules of the core, and the job.

What Wine lacks (other processes' programs and command lines, PowerShell, access lists) is tested on machines in memory.
"""

import fcntl
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

from tests.equipment import SEED, WANT

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "tools"))
import windows  # noqa: E402  (tools/windows.py)

# Files of tests/core, or tests of them, that are about POSIX machines on this very disk: with the reason.
NOT_THERE = {
    "test_system.py": "links, named pipes and modes of a POSIX file system",
    "test_patterns.py": "time is measured by a signal that Windows has not",
    "test_limits.py": "its machines are POSIX folders on the disk",
    "test_weight.py": "what is counted here is counted on one system",
    "test_house.py": "reads the sources, which are the same",
    "test_machines.py::test_a_dead_mount_is_named_and_left": "mounts",
    "test_machines.py::test_real_paths_are_the_systems_own": "links",
    "test_editing.py::test_what_is_no_notebook_is_not_touched": "links",
    "test_helpers.py::test_a_mount_table_is_read": "mounts",
    "test_helpers.py::test_a_copy_keeps_which_files_are_one": "hard links by inode",
}


@pytest.fixture(scope="module")
def run():
    """Runs a file of tests by the Windows interpreter; gives its report. Skips, by the line that builds it."""
    place = windows.place()
    if not (place / "built").exists():
        pytest.skip(f"{WANT}a Python for Windows (python tools/windows.py)")
    site = place / "prefix" / "drive_c" / "kalyx" / "Lib" / "site-packages"
    (site / "kalyx-clone.pth").write_text("\n".join(windows.windows_path(place, ROOT / name) for name in ("src", "")) + "\n")
    temporary = place / "prefix" / "drive_c" / "tmp" / str(os.getpid())
    temporary.mkdir(parents=True)
    links = links_in(temporary / "links")
    variables = windows.variables(place) | {"KALYX_SEED": str(SEED), "KALYX_LINKS": windows.windows_path(place, links)}
    in_use = open(place / "in use", "w")  # noqa: SIM115  (closed below)
    fcntl.flock(in_use, fcntl.LOCK_SH)
    windows.start(place)

    def run(*words: str) -> str:
        argv = ["wine", "C:\\kalyx\\Scripts\\python.exe", "-X", "utf8", "-m", "pytest", "-q", "-p", "no:cacheprovider",
                f"--basetemp={windows.windows_path(place, temporary / 'run')}", *words]  # fmt: skip
        # A pipe: the interpreter does not start where its output is a file of this system.
        done = subprocess.run(argv, cwd=ROOT, env=variables, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                              timeout=900, check=False)  # fmt: skip
        text = done.stdout.decode("utf-8", "replace").replace("\r\n", "\n")
        assert done.returncode == 0, text[-6000:]
        return text

    yield run
    try:
        fcntl.flock(in_use, fcntl.LOCK_EX | fcntl.LOCK_NB)
        windows.end(place)
    except BlockingIOError:
        pass  # another worker's Windows programs still run
    in_use.close()
    subprocess.run(["rm", "-rf", str(temporary)], check=True)


def links_in(folder: Path) -> Path:
    """A folder with links between folders, which a Windows program can follow here and not make."""
    (folder / "heath" / "hives").mkdir(parents=True)
    (folder / "heath" / "note.txt").write_text("")
    for name, leads_to in (("moor", "heath"), ("barn", "moor"), ("gone", "nowhere"), ("ring", "ring"), ("heath/up", ".."), ("heath/hives/moor", "..")):
        (folder / name).symlink_to(leads_to)
    return folder


def passed(report: str) -> int:
    return int(re.search(r"(\d+) passed", report)[1])


def test_the_job(run):
    assert passed(run("--confcutdir=tests\\windows", "tests/windows/job.py")) >= 20


def test_the_core(run):
    left_out = [f"--deselect=tests/core/{name}" if "::" in name else f"--ignore=tests/core/{name}" for name in NOT_THERE]
    assert passed(run("--confcutdir=tests\\core", "tests/core", *left_out)) > 1800


def test_what_the_interpreter_says_itself(run):
    assert passed(run("--confcutdir=tests\\windows", "tests/windows/authority.py")) == 5
