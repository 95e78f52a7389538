"""Which interpreter or environment a language checker looks in, beside the checker's own verbose words.

Configuration by chance in three folders, one in the other: the files that checkers know, each whole, empty, malformed or
with another's section, with paths of every kind. Every difference is printed as the files that make it.
"""

import json
import os
import random
import re
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.core.seats.editor import editor_seats
from kalyx.core.system.live_reader import LiveReader
from tests.conftest import make_environment
from tests.equipment import CAN_MAKE, LONG, SEED

BIN = Path(sys.executable).parent
DEPTHS = ["p", "p/q", "p/q/r"]


@pytest.fixture(scope="module")
def envs(tmp_path_factory):
    root = tmp_path_factory.mktemp("checkers").resolve()
    for name, python in (("heath", CAN_MAKE[-1]), ("orchard", CAN_MAKE[-2:][0])):
        make_environment(python, root / "envs" / name, "--without-pip")
    return root


def paths(chance: random.Random, root: Path, depth: str, *, interpreter: bool) -> str:
    """A path to an environment, or its interpreter, as somebody may write it."""
    end = "/bin/python" if interpreter else ""
    up = "../" * (depth.count("/") + 1)
    name = chance.choice(["heath", "orchard", "orchard", "skep"])
    return chance.choice([
        f"{root}/envs/{name}{end}", f"{up}envs/{name}{end}", f"~/envs/{name}{end}", "$LARK/envs/heath" + end,
        "${workspaceFolder}/" + f"{up}envs/heath{end}", "${env:LARK}/envs/heath" + end,
        *(["python3", "python", f"$MYPY_CONFIG_FILE_DIR/{up}envs/heath/bin/python"] if interpreter else []),
    ])  # fmt: skip


def by_section(chance, root, depth):
    venv = chance.choice(["heath", "orchard", "skep", "", f"{root}/envs/orchard", "../envs/heath"])
    told = {"venvPath": paths(chance, root, depth, interpreter=False).rpartition("/")[0], "venv": venv}
    for key in [key for key in told if chance.random() < 0.1]:
        del told[key]
    if chance.random() < 0.2:
        told["pythonVersion"] = "3.10"
    return told


def files(chance: random.Random, root: Path, family: str) -> dict[str, str]:
    found = {}
    for depth in DEPTHS:
        if chance.random() < 0.15:
            found[f"{depth}/{chance.choice(['.git', '.hg'])}/HEAD"] = ""
        for name in ("pyrightconfig.json", "pyproject.toml") if family == "checker" else ("mypy.ini", ".mypy.ini", "pyproject.toml", "setup.cfg"):
            if chance.random() < 0.55:
                continue
            if family == "checker":
                told = by_section(chance, root, depth)
                if chance.random() < 0.15:
                    found[f"{depth}/base.json"], told = json.dumps(told), {"extends": "base.json"}
                text = json.dumps(told)
                if name == "pyproject.toml":
                    text = "".join(f"{key} = {json.dumps(value)}\n" for key, value in told.items() if key != "extends")
                    text = chance.choice(["[tool.pyright]\n", "[tool.pyright]\n", "[tool.other]\n"]) + text
                elif chance.random() < 0.3:
                    text = chance.choice(["{}", "", "// mine\n" + text.replace("}", ",}")])
            else:
                value = paths(chance, root, depth, interpreter=True)
                head = "tool.mypy" if name == "pyproject.toml" else "mypy"
                mark = chance.choice(["=", ":"]) if name != "pyproject.toml" else "="
                body = f"python_executable {mark} " + (json.dumps(value) if name == "pyproject.toml" else value) + "\n"
                text = f"[{chance.choice([head, head, head, head + 'x'])}]\n" + (body if chance.random() < 0.9 else "")
            text = chance.choice([text] * 12 + ["\ufeff" + text, text.replace("]", "", 1)])
            found[f"{depth}/{name}"] = text
    return found


def asked(root: Path, variables: dict[str, str], family: str) -> str | None:
    """What the checker itself says: the environment, or the executable, or None where it takes its own; "!": it stops."""
    if family == "checker":
        done = subprocess.run([BIN / "basedpyright", "--verbose", "m.py"], cwd=root / "p/q/r", env=variables, capture_output=True, text=True, check=False)
        sites = re.findall(r"^ +(\S+)/lib/python3[^/]*/site-packages$", done.stdout, re.M)
        assert "Search paths" in done.stdout, done.stdout + done.stderr
        return next((site for site in sites if site.startswith(str(root))), None)
    done = subprocess.run([BIN / "mypy", "-v", "m.py", "--cache-dir", root / "cache"], cwd=root / "p/q/r", env=variables, capture_output=True, text=True, check=False)
    said = done.stdout + done.stderr
    if "Invalid python executable" in said:
        return "!"
    found = next(iter(re.findall(r"Configured Executable: +(.*)", said)), None)
    assert found is not None, said
    return None if os.path.realpath(found) == os.path.realpath(BIN / "python") and "/envs/" not in found else found


def read(root: Path, variables: dict[str, str], family: str) -> str | None:
    folder = str(root / "p/q/r")
    seats = [seat for seat in editor_seats(LiveReader(variables, folder), folder) if seat.parts and seat.parts[0].role == "check"]
    if not seats:
        return None
    (seat,) = seats
    if family == "checker":
        found = seat.environment.prefix if seat.environment is not None else None
        return found if found and found.startswith(str(root)) else None
    return seat.interpreter.executable if seat.interpreter is not None else "!"


def same(one: str | None, other: str | None, folder: Path) -> bool:
    if one is None or other is None or "!" in (one, other):
        return one == other
    asks = [one, "-c", "import sys; print(sys.executable)"]  # a launcher starts another
    found = one if "/" in one else subprocess.run(asks, cwd=folder, capture_output=True, text=True, check=True).stdout.strip()
    return os.path.realpath(folder / found) == os.path.realpath(other)


@pytest.mark.parametrize("family", ["checker", "types"])
def test_the_checker_says_the_same(envs, family, record_property):
    chance = random.Random(f"{family} {SEED}")
    variables = {**os.environ, "HOME": str(envs), "LARK": str(envs), "NO_COLOR": "1"}
    differing = []
    rounds = 150 if LONG else 4
    for _ in range(rounds):
        folder = envs / "p"
        subprocess.run(["rm", "-rf", folder], check=True)
        made = files(chance, envs, family)
        for name, text in {**made, "p/q/r/m.py": "x: int = 1\n"}.items():
            (envs / name).parent.mkdir(parents=True, exist_ok=True)
            (envs / name).write_text(text)
        message, reading = asked(envs, variables, family), read(envs, variables, family)
        if not same(message, reading, envs / "p/q/r"):
            differing.append((message, reading, made))
    record_property("configurations", rounds)
    assert not differing, "\n".join(f"it takes {message}, read {reading}\n{json.dumps(made, indent=1)}" for message, reading, made in differing[:3])
