"""What is counted, not timed: python -m benchmarks.weight [--write]

For some calls how many modules are loaded, on the made-up machines that ship the
readings of each question, the file-system calls of three questions below a small
tree (by the system's tracer, where it is installed), and the bytes of Kalyx's own
files. The tests compare
them with ``weight.json``: a rise fails and names what brought it. ``--write``
keeps the present figures. A few modules more are no rise: a new module is
nobody's fault, and versions of Python differ in what their own modules load.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

from benchmarks import survey
from kalyx.cli.context import Call
from kalyx.cli.start import command_parser
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader
from kalyx.core.system.player import Capture
from kalyx.core.system.recorder import Recorder
from kalyx.demo.machines import MACHINES

KEPT = Path(__file__).with_name("weight.json")
SOURCE = Path(__file__).resolve().parents[1] / "src" / "kalyx"
# The calls whose modules are listed; the folder stood in is empty.
STARTS = ("--version", "here --json", "here", "survey --json", "why json --json --static", "packages --json",
          "here --json --on cluster-larkmoor")  # fmt: skip
QUESTIONS = ("here", "survey", "kernels", "packages orchard", "why hivescale --in kernel:orchard", "record orchard")
TRACED = ("here --json --static", "survey --json --static --under ENVS", "packages ENVS/hive-001 --json --static")
ROUND = 20_000
# So many modules of Kalyx, and of others, more than were kept are no rise.
SPARE = (4, 6)

_LOADED = """
import atexit, os, sys
before = set(sys.modules)
def tell():
    names = {name if name.startswith("kalyx") else name.split(".")[0] for name in set(sys.modules) - before}
    os.write(2, ("\\n@" + " ".join(sorted(name for name in names if not name.startswith("_"))) + "\\n").encode())
atexit.register(tell)
sys.argv = ["kalyx", *sys.argv[1:]]
from kalyx.cli.entry import main
main()
"""


def modules(call: str) -> list[int]:
    """How many modules a call loads: Kalyx's own, and of others the packages at the top."""
    with tempfile.TemporaryDirectory(prefix="kalyx-weight-") as place:
        variables = {"HOME": place, "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8", "KALYX_ONLY_BELOW": place}
        argv = [sys.executable, "-I", "-c", _LOADED, *call.split()]
        done = subprocess.run(argv, cwd=place, env=variables, capture_output=True, text=True, check=False)
    told = [line for line in done.stderr.splitlines() if line.startswith("@")]
    if done.returncode not in (0, 1) or not told:
        raise SystemExit(f"counted nothing: {call} ended with {done.returncode}: {done.stderr[-300:]}")
    names = told[-1][1:].split()
    own = sum(name.startswith("kalyx") for name in names)
    return [own, len(names) - own]


class _Counting(Recorder):
    """Counts the readings of each kind."""

    def __init__(self, inner: Reader) -> None:
        super().__init__(inner, Capture({}))
        self.counted: Counter[str] = Counter()

    def _kept_as(self, keep: object, read: Callable[..., Any], *words: Any, **none: Any) -> Any:
        self.counted[read.__name__] += 1
        return read(*words)


def readings(machine: str, question: str) -> dict[str, int]:
    """How often a question reads what, on a made-up machine."""
    words = question.split()
    reader = _Counting(MACHINES[machine]())
    with contextlib.redirect_stdout(io.TextIOWrapper(io.BytesIO(), "utf-8")), contextlib.suppress(KalyxError):
        options = command_parser(words[0]).parse_args([*words[1:], "--json", "--static"])
        import_module(f"kalyx.cli.commands.{words[0]}").run(Call(options, reader))
    return dict(sorted(reader.counted.items()))


def installed_bytes() -> int:
    """The bytes of the files that an installation brings, rounded up."""
    files = [path for path in SOURCE.rglob("*") if path.is_file() and "__pycache__" not in path.parts]
    return -(-sum(path.stat().st_size for path in files) // ROUND) * ROUND


def system_calls() -> dict[str, dict[str, int]]:
    """How often each question about a few made-up environments calls what on which file; none without a tracer."""
    if not shutil.which("strace"):
        return {}
    with tempfile.TemporaryDirectory(prefix="kalyx-weight-") as place:
        root, home = Path(place, "envs"), Path(place, "home")
        home.mkdir()
        survey.build(root, 5, distributions=3)
        variables = {"HOME": str(home), "PATH": f"{root}/hive-000/bin:/usr/bin:/bin", "LANG": "C.UTF-8"}
        start = [sys.executable, "-I", "-m", "kalyx"]
        found = {}
        for question in TRACED:
            words = [*start, *question.replace("ENVS", str(root)).split()]
            lines = survey.calls(words, str(root), root, variables)
            found[question] = dict(sorted(Counter(_call(line, root) for line in lines).items()))
        return found


def _call(line: str, root: Path) -> str:
    """What is called, and on what below the tree."""
    name, path = re.search(r"(\w+)\(", line), re.search(re.escape(str(root)) + r"([^\"<>]*)", line)
    return f"{name[1] if name else line} {path[1].strip('/') if path else ''}".replace(survey.PYTHON, "python3").strip()


def measured() -> dict[str, Any]:
    """Everything that is counted."""
    return {
        "python": "{}.{}".format(*sys.version_info),
        "modules": {call: modules(call) for call in STARTS},
        "readings": {f"{question} on {machine}": readings(machine, question)
                     for machine in MACHINES for question in QUESTIONS},
        "calls": system_calls(),
        "bytes": installed_bytes(),
    }  # fmt: skip


def risen(kept: dict[str, Any], now: dict[str, Any]) -> list[str]:
    """What is more than was kept, each with what brought it."""
    found = []
    is_same = kept.get("python") == now["python"]  # another Python's standard library loads other modules
    for call, counts in now["modules"].items():
        before = kept["modules"].get(call, [0, 0])
        if counts[0] > before[0] + SPARE[0] or (is_same and counts[1] > before[1] + SPARE[1]):
            loads = f"{counts[0]} modules of Kalyx and {counts[1]} others"
            found.append(f"kalyx {call} loads {loads}; {before[0]} and {before[1]} were kept")
    for question, counts in now["readings"].items():
        before = kept["readings"].get(question, {})
        more = [
            f"{name} {before.get(name, 0)} -> {count}" for name, count in counts.items() if count > before.get(name, 0)
        ]
        found += [f"kalyx {question} reads more: {', '.join(more)}"] if more else []
    for question, counts in now["calls"].items():
        before = kept.get("calls", {}).get(question, {})
        if sum(counts.values()) > sum(before.values()):
            rose = {what: count for what, count in counts.items() if count > before.get(what, 0)}
            more = [f"{what} {before.get(what, 0)} -> {count}" for what, count in rose.items()]
            found.append(f"kalyx {question} calls the file system more often: {', '.join(more)}")
    if now["bytes"] > kept["bytes"]:
        found.append(f"the files installed grew from {kept['bytes']} to {now['bytes']} bytes")
    return found


def main() -> int:
    now = measured()
    kept = json.loads(KEPT.read_text()) if KEPT.exists() else {"modules": {}, "readings": {}, "calls": {}, "bytes": 0}
    found = risen(kept, now)
    print("\n".join(found) or "nothing rose")
    if "--write" in sys.argv:
        now["calls"] = now["calls"] or kept.get("calls", {})
        KEPT.write_text(json.dumps(now, indent=1) + os.linesep)
        return 0
    return int(bool(found))


if __name__ == "__main__":
    sys.exit(main())
