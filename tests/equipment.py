"""What there is to test with: interpreters, found without Kalyx, and programs; what is not there is skipped by name.

Were the product's own survey to choose the interpreters, one that it loses would lose its tests.
"""

from __future__ import annotations

import ast
import json
import os
import re
import shutil
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path
from typing import NamedTuple

import psutil
import pytest

# What is made by chance is made from this; a worker has that of the run.
SEED = int(os.environ.setdefault("KALYX_SEED", str(int(time.time()))))
# What only a long run can show: every version, every step, all rounds. Documented in docs/testing.md.
LONG = bool(os.environ.get("KALYX_LONG"))


class Real(NamedTuple):
    """An installation as it speaks of itself."""

    executable: str
    real_executable: str
    version: str
    implementation: str
    prefix: str
    base_prefix: str

    @property
    def minor(self) -> str:
        return ".".join(self.version.split(".")[:2])


SAYS = (
    "import os, sys, platform; print(repr((os.path.realpath(sys.executable), platform.python_version(), "
    "platform.python_implementation().lower(), sys.prefix, getattr(sys, 'base_prefix', sys.prefix), "
    "hasattr(sys, 'real_prefix'))))"
)
_NAMED = re.compile(r"(python|pypy)(\d(\.\d+)?)?")
_ROOTS = ("/usr/bin", "/usr/local/bin", "~/.pyenv/versions/*/bin", "/opt/*/bin", "/opt/python/*/bin")


def _candidates() -> list[str]:
    """Paths that are called like an interpreter, where installations are kept and on the PATH; no launchers."""
    if os.name == "nt":  # the one that runs the tests; its registry belongs to the product's own search
        return []
    folders = [folder for root in _ROOTS for folder in sorted(Path("/").glob(os.path.expanduser(root)[1:]))]
    folders += [Path(entry) for entry in os.environ.get("PATH", "").split(os.pathsep) if entry]
    found: dict[str, str] = {}
    for folder in folders:
        for path in sorted(folder.glob("py*")) if folder.is_dir() else []:
            if _NAMED.fullmatch(path.name) and os.access(path, os.X_OK):
                with path.open("rb") as file:
                    if file.read(2) != b"#!":
                        found.setdefault(os.path.realpath(path), str(path))
    return list(found.values())


def _installations() -> list[Real]:
    rows: dict[tuple[str, str], Real] = {}
    for path in [*_candidates(), getattr(sys, "_base_executable", sys.executable)]:
        done = subprocess.run(
            [path, "-E", "-s", "-S", "-c", SAYS], capture_output=True, text=True, check=False, cwd=os.path.abspath(os.sep)
        )
        if done.returncode:
            continue
        real, version, implementation, prefix, base, old_layout = ast.literal_eval(done.stdout)
        if prefix == base and not old_layout and not (Path(path).parents[1] / "pyvenv.cfg").exists():
            folder = Path(prefix) / "bin"
            short = ".".join(version.split(".")[:2])
            names = ("python3", "python", f"python{short}", "pypy3", "pypy", f"pypy{short}")
            usual = (str(folder / name) for name in names if os.path.realpath(folder / name) == real)
            rows.setdefault((real, prefix), Real(next(usual, path), real, version, implementation, prefix, base))
    return sorted(rows.values(), key=lambda row: _numbers(row.version), reverse=True)


def _numbers(version: str) -> list[int]:
    return [int(part) for part in re.findall(r"\d+", version)]


# A worker is told by the process that started it: asking all of them takes seconds.
TOLD = "INTERPRETERS_OF_THE_TESTS"
_told = json.loads(os.environ.get(TOLD, "null"))
REAL = [Real(*row) for row in _told["real"]] if _told else _installations()
BY_VERSION = {item.minor: item for item in reversed(REAL) if item.implementation == "cpython"}
VERSIONS = sorted(BY_VERSION, key=_numbers)


def makes_environments(one: Real) -> bool:
    """Whether it has the standard module for environments and what that brings in (some systems split it off)."""
    argv = [one.executable, "-I" if not one.version.startswith("2.") else "-E", "-c", "import venv, ensurepip"]
    return subprocess.run(argv, capture_output=True, check=False).returncode == 0


CAN_MAKE = _told["can_make"] if _told else [version for version in VERSIONS if makes_environments(BY_VERSION[version])]
os.environ[TOLD] = json.dumps({"real": REAL, "can_make": CAN_MAKE})
NEW, OLD = CAN_MAKE[-1], CAN_MAKE[0]
OTHER = "3.9" if "3.9" in CAN_MAKE else CAN_MAKE[-2] if len(CAN_MAKE) > 1 else NEW  # another than the newest


def some(*wanted: str) -> list[str]:
    """Those of these versions that are here and make environments, each once; the newest where none is."""
    return list(dict.fromkeys(version for version in wanted if version in CAN_MAKE)) or [NEW]


def another_version() -> str:
    """A version other than the newest. Skips where there is only one."""
    if OTHER == NEW:
        pytest.skip(f"{WANT}a second Python")
    return OTHER


WANT = "for want of "
# The program, and the Debian packages that bring it.
PACKAGES = {
    "bash": "bash", "fish": "fish", "zsh": "zsh", "ksh": "ksh", "tcsh": "tcsh", "dash": "dash", "git": "git",
    "gcc": "gcc libc6-dev", "chromium": "chromium", "chromedriver": "chromium-driver", "unshare": "util-linux", "setpriv": "util-linux",
    "a module system": "environment-modules", "an environment loader": "direnv", "wine": "wine", "du": "coreutils",
}  # fmt: skip
_FILES = {"an environment loader": "/usr/bin/direnv", "a module system": "/usr/share/modules/init/bash"}


def need(*programs: str) -> str:
    """The path of the first of these; skips, with the line that installs it, where one is not here."""
    found = []
    for program in programs:
        beside = Path(sys.executable).parent / program
        path = _FILES.get(program) or (str(beside) if beside.exists() else shutil.which(program))
        if path is None or not os.path.exists(path):
            pytest.skip(f"{WANT}{program}: {install_line([program])}")
        found.append(path)
    return found[0]


def install_line(programs: list[str]) -> str:
    return "apt-get install " + " ".join(dict.fromkeys(PACKAGES.get(program, program) for program in programs))


def wanted_by(reasons: list[str]) -> str | None:
    """One line for the end of a run: what was skipped for want of what, and what brings it; None where nothing was."""
    words = [reason.partition(WANT)[2] for reason in reasons if WANT in reason]
    counts = Counter(word.partition(":")[0] for word in words)
    if not counts:
        return None
    said = ", ".join(f"{name} ({number})" for name, number in counts.most_common())
    known = [name for name in counts if name in PACKAGES]
    return f"skipped for want of {said}" + (f"; they come by: {install_line(known)}" if known else "")


def _may_mount() -> bool:
    return hasattr(os, "geteuid") and os.geteuid() == 0 and subprocess.run(["unshare", "-m", "true"], capture_output=True, check=False).returncode == 0


# For tests that change owners, mount and mark files as immutable.
as_root = pytest.mark.skipif(not _may_mount(), reason=f"{WANT}the rights of root, to mount and to change owners")


def running_with(word: str) -> list[int]:
    """The processes whose command line has this word in it, but for this one."""
    found = []
    for process in psutil.process_iter(["cmdline"]):
        if process.pid != os.getpid() and any(word in part for part in process.info["cmdline"] or ()):
            if process.status() != psutil.STATUS_ZOMBIE:
                found.append(process.pid)
    return found
