"""What the tests share: the built program, real interpreters, a home folder of one's own."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from functools import cache
from pathlib import Path

import jsonschema
import pytest

from kalyx.core.doors.live import LiveFacts
from kalyx.core.machine import Machine

REAL = Machine(LiveFacts()).interpreters
BY_VERSION = {".".join(one.version.split(".")[:2]): one for one in reversed(REAL) if one.implementation == "cpython"}
VERSIONS = sorted(BY_VERSION, key=lambda version: [int(part) for part in version.split(".")])


class Ran:
    """One call of the built program: status, output, and its JSON."""

    def __init__(self, done: subprocess.CompletedProcess) -> None:
        self.status, self.out, self.err = done.returncode, done.stdout, done.stderr

    @property
    def json(self) -> dict:
        """What it printed, which must fit the schema that is published for it."""
        answer = json.loads(self.out)
        name = answer["schema"].removeprefix("kalyx.").split("/")[0]
        jsonschema.validate(answer, _schema(name))
        return answer


@cache
def _schema(name: str) -> dict:
    return json.loads((Path(__file__).parents[1] / "docs" / "schema" / f"{name}.json").read_text())


class Moor:
    """A home folder for a test: variables, files, and the program run in it."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.folder = root / "spring"
        self.folder.mkdir(parents=True)
        self.data = root / "data"
        self.variables = {
            "HOME": str(root),
            "PATH": "/usr/bin:/bin",
            "JUPYTER_DATA_DIR": str(self.data),
            "IPYTHONDIR": str(root / "ipython"),
            "LANG": "C.UTF-8",
            "PYTHONDONTWRITEBYTECODE": "1",
            "XDG_CACHE_HOME": str(root.parent / "cache"),
            "PIP_DISABLE_PIP_VERSION_CHECK": "1",
        }

    def kalyx(self, *words: str, cwd: Path | None = None, **variables: str) -> Ran:
        done = subprocess.run(
            [sys.executable, "-m", "kalyx", *map(str, words)],
            cwd=cwd or self.folder,
            env={**self.variables, **variables},
            capture_output=True,
            text=True,
            encoding="utf-8",
            errors="surrogateescape",
            stdin=subprocess.DEVNULL,
            timeout=180,
            check=False,
        )
        assert "Traceback (most recent call last)" not in done.stderr, done.stderr
        return Ran(done)

    def kernel(self, identifier: str, argv: list[str] | None = None, raw: str | None = None, **more: object) -> Path:
        folder = self.data / "kernels" / identifier
        folder.mkdir(parents=True, exist_ok=True)
        spec = {"argv": argv, "display_name": identifier, "language": "python", **more}
        (folder / "kernel.json").write_text(json.dumps(spec, indent=1) if raw is None else raw)
        return folder

    def notebook(self, name: str, kernel: str) -> Path:
        path = self.folder / name
        metadata = {"kernelspec": {"name": kernel, "display_name": kernel, "language": "python"}}
        path.write_text(json.dumps({"cells": [], "metadata": metadata, "nbformat": 4, "nbformat_minor": 5}, indent=1))
        return path


@pytest.fixture
def moor(tmp_path: Path) -> Moor:
    return Moor(tmp_path / "moor")


@pytest.fixture
def wheels(tmp_path: Path) -> Path:
    """A folder of made-up wheels: two versions of one package, one that breaks another, one that does not import."""
    from kalyx.demo.wheels import Package, standin_package, write_wheel

    folder = tmp_path / "wheels"
    folder.mkdir()
    for package in (
        Package("hivescale", "2.1", {"hivescale/__init__.py": "import nectarflow\n"}, requires=["nectarflow>=1.1"]),
        Package("nectarflow", "1.0", {"nectarflow.py": ""}),
        Package("nectarflow", "1.2", {"nectarflow.py": ""}),
        Package("combtool", "1.0", {"combtool.py": ""}, requires=["nectarflow<1.1"]),
        Package("torn-comb", "1.0", {"torncomb.py": "import gone_for_good\n"}),
        Package("broad", "1.0", {f"broad/part{number}.py": f"x = {number}\n" for number in range(400)}),
        standin_package(),
    ):
        write_wheel(package, str(folder))
    return folder


def make_environment(version: str, prefix: Path, *more: str) -> str:
    """A real virtual environment; returns its interpreter's path."""
    clean = {key: value for key, value in os.environ.items() if not key.startswith("PYTHON")}
    subprocess.run(
        [BY_VERSION[version].executable, "-m", "venv", *more, str(prefix)], check=True, env=clean, capture_output=True
    )
    return str(prefix / "bin" / "python")


def answer_of(executable: str, code: str, *flags: str, **kwargs: object) -> object:
    """What an interpreter itself says: a Python literal printed by ``code``."""
    import ast

    done = subprocess.run([executable, *flags, "-c", code], capture_output=True, text=True, check=True, **kwargs)
    return ast.literal_eval(done.stdout)
