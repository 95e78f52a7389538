"""Answers about one folder, against loading what they need: python -m benchmarks.starts

``here`` in the demo's folder, as JSON and as text, paired with an interpreter
that loads what any such program must. Ends with 1 when a ratio is over what is
to be kept; stops with an error when it measured nothing.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks import Row, shown

RUNS = 21
KEEP = {"here --json": 2.8, "here": 1.7}
BARE = {"here --json": "import argparse, json", "here": "import argparse, json, rich.console, rich.table"}


def once(argv: list[str], folder: Path, variables: dict[str, str]) -> tuple[float, bytes]:
    began = time.perf_counter()
    done = subprocess.run(argv, cwd=folder, env=variables, capture_output=True, check=False)
    return time.perf_counter() - began, done.stdout


def measure() -> list[Row]:
    kalyx = str(Path(sys.executable).with_name("kalyx"))
    rows = []
    with tempfile.TemporaryDirectory(prefix="kalyx-bench-") as place:
        demo = Path(place, "demo")
        subprocess.run([kalyx, "demo", str(demo), "--build-only", "--yes"], check=True, stdout=subprocess.DEVNULL)
        moor = demo / "home" / "larkmoor"
        variables = {"HOME": str(demo / "home"), "PATH": f"{moor / 'orchard' / 'bin'}:/usr/bin:/bin", "LANG": "C.UTF-8"}
        variables |= {name: value for name, value in os.environ.items() if name.startswith("LC_")}
        for name, code in BARE.items():
            words = name.split()
            ratios = []
            for _ in range(RUNS):
                own, said = once([kalyx, *words], moor / "spring", variables)
                if words[-1] == "--json" and len(json.loads(said)["seats"]) < 4 or len(said) < 200:
                    raise SystemExit("measured nothing: the table is not whole")
                bare, _ = once([sys.executable, "-c", code], moor / "spring", variables)
                ratios.append(own / bare)
            rows.append(Row(f"`{name}` in the demo's folder", f"`{code}`", statistics.median(ratios), KEEP[name]))
    return rows


if __name__ == "__main__":
    sys.exit(shown(measure))
