"""Questions about imports, against the interpreter's own: python -m benchmarks.imports

Every module of the environment this runs in, found by reading and by the
interpreter's own finder in a warm process; ``why`` for a module that imports,
against that import and a bare start of Kalyx; ``rehearse``, against the
reference client that starts the same kernel and asks it once (where that client
is installed: beside Kalyx, or for the interpreter that KALYX_CLIENT names). Ends
with 1 when a ratio is over what is to be kept.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from importlib.machinery import PathFinder
from pathlib import Path

from benchmarks import Row, shown
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.resolver import Resolver
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.system.live_reader import LiveReader

RUNS = 15


def modules_below(folder: str, before: str = "", depth: int = 0) -> list[str]:
    found = []
    for entry in os.scandir(folder):
        stem = entry.name.split(".")[0]
        if not stem.isidentifier() or stem == "__pycache__":
            continue
        if entry.is_dir() and depth < 6:
            found += [before + stem, *modules_below(entry.path, f"{before}{stem}.", depth + 1)]
        elif entry.name.endswith((".py", ".so")) and stem != "__init__":
            found.append(before + stem)
    return found


def static_resolution() -> float:
    site = next(entry for entry in sys.path if entry.endswith("site-packages"))
    names = sorted(set(modules_below(site)))
    if len(names) < 300:
        raise SystemExit("measured nothing: this environment has too few modules")
    variables = {key: value for key, value in os.environ.items() if not key.startswith("PYTHON")}

    def theirs() -> float:
        known: dict[str, object] = {}
        began = time.perf_counter()
        for name in names:
            parent = name.rpartition(".")[0]
            upper = known.get(parent)
            folders = sys.path if not parent else getattr(upper, "submodule_search_locations", None)
            known[name] = PathFinder._get_spec(name, list(folders)) if folders is not None else None  # type: ignore[attr-defined]
        return time.perf_counter() - began

    def own() -> float:
        began = time.perf_counter()
        reader = LiveReader()
        interpreter = read_interpreter(reader, sys.executable)
        resolver = Resolver(reader, interpreter, search_path(reader, interpreter, Invocation(variables=variables)), "/")
        for name in names:
            resolver.resolve(name)
        return time.perf_counter() - began

    theirs()
    return statistics.median(own() / theirs() for _ in range(5))


def took(argv: list[str], folder: str, variables: dict[str, str], ends: tuple[int, ...] = (0,)) -> float:
    began = time.perf_counter()
    done = subprocess.run(argv, cwd=folder, env=variables, capture_output=True, check=False)
    if done.returncode not in ends:
        raise SystemExit(f"measured nothing: {argv} ended with {done.returncode}: {done.stderr[-300:]!r}")
    return time.perf_counter() - began


def why(folder: str) -> float:
    kalyx = str(Path(sys.executable).with_name("kalyx"))
    variables = {"HOME": folder, "PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin", "LANG": "C.UTF-8"}
    ratios = []
    for _ in range(RUNS):
        own = took([kalyx, "why", "rich.console", "--in", sys.executable, "--json"], folder, variables)
        bare = took([sys.executable, "-c", "import rich.console"], folder, variables)
        bare += took([kalyx, "--version"], folder, variables)
        ratios.append(own / bare)
    return statistics.median(ratios)


# A file in front of the module that is meant, and a name nobody has: with the experiments that prove why.
FAIL = ("from statistics import mean", "import absentia")


def why_fails(folder: str, statement: str) -> float:
    kalyx = str(Path(sys.executable).with_name("kalyx"))
    variables = {"HOME": folder, "PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin", "LANG": "C.UTF-8"}
    Path(folder, "statistics.py").write_text("GRAMS = 1\n")
    ratios = []
    for _ in range(RUNS):
        own = took([kalyx, "why", statement, "--in", sys.executable, "--json"], folder, variables, (1,))
        bare = took([sys.executable, "-c", statement], folder, variables, (1,))
        bare += took([kalyx, "--version"], folder, variables)
        ratios.append(own / bare)
    Path(folder, "statistics.py").unlink()
    return statistics.median(ratios)


CLIENT = """
from jupyter_client.manager import start_new_kernel
manager, client = start_new_kernel(kernel_name="measured")
client.execute_interactive("import sys; sys.executable", output_hook=lambda message: None, timeout=60)
client.stop_channels(); manager.shutdown_kernel()
"""


def rehearse(folder: str) -> float | None:
    python = os.environ.get("KALYX_CLIENT", sys.executable)
    if subprocess.run([python, "-c", "import jupyter_client, ipykernel"], capture_output=True, check=False).returncode:
        return None
    kalyx = str(Path(sys.executable).with_name("kalyx"))
    data = Path(folder, "data", "kernels", "measured")
    data.mkdir(parents=True)
    argv = [python, "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    (data / "kernel.json").write_text(json.dumps({"argv": argv, "display_name": "measured", "language": "python"}))
    variables = {"HOME": folder, "PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin", "LANG": "C.UTF-8",
                 "JUPYTER_DATA_DIR": str(data.parents[1]), "IPYTHONDIR": folder}  # fmt: skip
    ratios = []
    for _ in range(7):
        own = took([kalyx, "rehearse", "measured", "--json"], folder, variables)
        bare = took([python, "-c", CLIENT], folder, variables)
        ratios.append(own / bare)
    return statistics.median(ratios)


def measure() -> list[Row]:
    start = "that import and `kalyx --version`"
    with tempfile.TemporaryDirectory(prefix="kalyx-bench-") as folder:
        return [
            Row("static resolution of every module", "the interpreter's own finder, warm", static_resolution(), 0.6),
            Row("`why M`, which imports", start, why(folder), 1.3),
            *(Row(f"`why`: {statement}", start, why_fails(folder, statement), 3.0) for statement in FAIL),
            Row("`rehearse K`", "the reference client: start, one request", rehearse(folder), 0.8),
        ]


if __name__ == "__main__":
    sys.exit(shown(measure))
