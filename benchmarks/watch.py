"""Memory of ``here --watch``, look after look: python -m benchmarks.watch

A child looks a thousand times at the demo's folder as ``--watch`` does, without
waiting in between, and tells how its memory grew after the hundredth.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks import Row, shown

LOOKS = """
import argparse, gc, sys
import psutil
from kalyx.cli.context import Call
from kalyx.cli.commands.here import looked_again
from kalyx.cli.start import command_parser
gc.disable()
call = Call(command_parser("here").parse_args(["--watch", "--json", "--static"]))
own, answer, times = psutil.Process(), None, {}
for number in range(1000):
    _, answer, times, _ = looked_again(call.options, answer, times, "")
    if number == 100:
        before = own.memory_info().rss
print((own.memory_info().rss - before) / 1024 / 1024, len(answer.seats))
"""


def measure() -> list[Row]:
    with tempfile.TemporaryDirectory(prefix="kalyx-bench-") as place:
        demo = Path(place, "demo")
        words = [sys.executable, "-m", "kalyx", "demo", str(demo), "--build-only", "--yes"]
        subprocess.run(words, check=True, stdout=subprocess.DEVNULL)
        moor = demo / "home" / "larkmoor"
        variables = {**os.environ, "HOME": str(demo / "home"), "PATH": f"{moor / 'orchard' / 'bin'}:/usr/bin:/bin"}
        done = subprocess.run([sys.executable, "-c", LOOKS], cwd=moor / "spring", env=variables, capture_output=True,
                              text=True, check=True)  # fmt: skip
    grown, seats = done.stdout.split()
    if int(seats) < 4:
        raise SystemExit("measured nothing: the table is not whole")
    return [Row("growth of `here --watch` from look 100 to 1,000, MB", "nothing", float(grown), 1.0)]


if __name__ == "__main__":
    sys.exit(shown(measure))
