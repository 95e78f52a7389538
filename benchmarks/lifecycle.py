"""Making an environment and listing one, against the interpreter's own means: python -m benchmarks.lifecycle

``prepare`` is paired with the standard module that makes the same environment;
``packages --json`` of 300 distributions with the interpreter's own metadata
reader, which in a fresh process reads of each the name, version, installer,
requirements and modules (from its list of files), and prints them as JSON.
Ends with 1 when a ratio is over what is to be kept; stops with an error when
it measured nothing.
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks import Row, shown

DISTRIBUTIONS, RUNS, MAKINGS = 300, 9, 5

READER = """
import json
from importlib import metadata
found = []
for one in metadata.distributions():
    files = [str(file) for file in one.files or []]
    modules = sorted({file.split("/")[0].split(".")[0] for file in files if file.endswith(".py")})
    installer = (one.read_text("INSTALLER") or "").strip()
    found.append({"name": one.metadata["Name"], "version": one.version, "installer": installer,
                  "requires": one.requires, "modules": modules, "location": str(one.locate_file(""))})
print(json.dumps(found))
"""


def fill(site: Path) -> None:
    """Made-up distributions with the metadata of real ones: a long description, twenty files, two requirements."""
    about = "\n".join("A scale under a beehive weighs the honey of a summer." for _ in range(60))
    for number in range(DISTRIBUTIONS):
        name, info = f"comb_{number}", site / f"comb_{number}-1.{number}.dist-info"
        info.mkdir()
        (info / "METADATA").write_text(
            f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.{number}\n"
            f"Requires-Dist: comb_{(number + 1) % DISTRIBUTIONS}\n"
            f"Requires-Dist: comb_{(number + 7) % DISTRIBUTIONS}>=1; python_version >= '3'\n\n{about}\n"
        )
        (info / "INSTALLER").write_text("pip\n")
        files = "".join(f"{name}/part_{part}.py,sha256=x,12\n" for part in range(20))
        (info / "RECORD").write_text(f"{name}/__init__.py,,\n{files}{info.name}/METADATA,,\n{info.name}/RECORD,,\n")
        (site / name).mkdir()
        (site / name / "__init__.py").touch()


def once(argv: list[str], home: Path) -> tuple[float, bytes]:
    variables = {"HOME": str(home), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}
    began = time.perf_counter()
    done = subprocess.run(argv, cwd=home, env=variables, capture_output=True, check=True)
    return time.perf_counter() - began, done.stdout


def measure() -> list[Row]:
    kalyx, base = str(Path(sys.executable).with_name("kalyx")), os.path.realpath(sys.executable)
    rows: dict[str, float] = {}
    with tempfile.TemporaryDirectory(prefix="kalyx-bench-") as place:
        home, target = Path(place, "home"), Path(place, "made")
        home.mkdir()
        ratios = []
        for _ in range(MAKINGS):
            own, _ = once([kalyx, "prepare", str(target), "--python", base, "--yes", "--json"], home)
            if not (target / "bin" / "pip").exists():
                raise SystemExit("measured nothing: no environment was made")
            shutil.rmtree(target)
            standard, _ = once([base, "-m", "venv", str(target)], home)
            shutil.rmtree(target)
            ratios.append(own / standard)
        rows["prepare"] = statistics.median(ratios)
        once([base, "-m", "venv", "--without-pip", str(target)], home)
        fill(next(target.glob("lib/python*/site-packages")))
        ratios = []
        for _ in range(RUNS):
            own, said = once([kalyx, "packages", str(target), "--json"], home)
            if len([package for package in json.loads(said)["packages"] if package["version"]]) != DISTRIBUTIONS:
                raise SystemExit("measured nothing: the list is not whole")
            reader, said = once([str(target / "bin" / "python"), "-c", READER], home)
            if len(json.loads(said)) != DISTRIBUTIONS:
                raise SystemExit("measured nothing: the reader's list is not whole")
            ratios.append(own / reader)
        rows["packages"] = statistics.median(ratios)
    return [
        Row("`prepare` without packages", "the standard module that makes the same", rows["prepare"], 1.15),
        Row(
            f"`packages --json`, {DISTRIBUTIONS} distributions",
            "the interpreter's own metadata reader",
            rows["packages"],
            0.4,
        ),
    ]


if __name__ == "__main__":
    sys.exit(shown(measure))
