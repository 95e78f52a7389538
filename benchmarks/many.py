"""What grows with a machine, in seconds: python -m benchmarks.many

``kernels`` with 2,000 kernel files whose interpreter is gone, ``why --everywhere`` over 200 environments, and the page
of 300 (``report``). Ends with 1 when a time is over what is to be kept; stops with an error when it measured nothing.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks import Row, shown
from benchmarks.survey import build

KERNELS, ASKED, DRAWN, RUNS = 2000, 200, 300, 5


def seconds(home: Path, *words: str) -> tuple[float, str]:
    """The median time of a call, and what it printed the last time."""
    argv = [str(Path(sys.executable).with_name("kalyx")), *words]
    variables = {"HOME": str(home), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}
    took = []
    for _ in range(RUNS):
        began = time.perf_counter()
        done = subprocess.run(argv, cwd=home, env=variables, capture_output=True, text=True, check=False)
        took.append(time.perf_counter() - began)
        if done.returncode not in (0, 1) or not done.stdout:
            raise SystemExit(f"measured nothing: {argv} ended with {done.returncode}: {done.stderr[-300:]}")
    return statistics.median(took), done.stdout


def kernels(home: Path) -> float:
    for number in range(KERNELS):
        folder = home / ".local" / "share" / "jupyter" / "kernels" / f"hive-{number:04}"
        folder.mkdir(parents=True)
        argv = [f"/srv/gone-{number}/bin/python", "-m", "ipykernel_launcher", "-f", "{connection_file}"]
        spec = {"argv": argv, "display_name": f"hive {number}", "language": "python"}
        (folder / "kernel.json").write_text(json.dumps(spec))
    took, printed = seconds(home, "kernels", "--json")
    dead = [kernel for kernel in json.loads(printed)["kernels"] if "interpreter-gone" in kernel["conditions"]]
    if len(dead) != KERNELS:
        raise SystemExit(f"measured nothing: {len(dead)} dead kernels of {KERNELS}")
    return took


def everywhere(home: Path) -> float:
    build(home / "envs", ASKED)
    took, printed = seconds(home, "why", "comb_7", "--everywhere", "--json")
    asked = len(json.loads(printed)["seats"])
    if asked < ASKED:
        raise SystemExit(f"measured nothing: asked in {asked} places")
    return took


def page(home: Path) -> float:
    build(home / "envs", DRAWN)
    took, _ = seconds(home, "report", "-o", "moor.html", "--yes")
    text = (home / "moor.html").read_text(encoding="utf-8")
    if any(f"hive-{number:03}" not in text for number in range(DRAWN)):
        raise SystemExit("measured nothing: the page lacks an environment")
    return took


def measure() -> list[Row]:
    rows = []
    for what, measured, keep in (
        (f"`kernels --json`, {KERNELS:,} whose interpreter is gone", kernels, 2.0),
        (f"`why M --everywhere`, {ASKED} environments", everywhere, 3.0),
        (f"`report` of {DRAWN} environments", page, 2.0),
    ):
        with tempfile.TemporaryDirectory(prefix="kalyx-bench-") as place:
            rows.append(Row(what, "seconds", measured(Path(place)), keep))
    return rows


if __name__ == "__main__":
    sys.exit(shown(measure))
