"""Every reading of every command refused once, with each error the system can give: true words, no traceback.

The readings are those of ``refusing.py``. A short run takes some by chance, a long one (KALYX_LONG) each.
"""

import json
import os
import random
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import Moor, make_environment, preloaded
from tests.equipment import LONG, NEW
from tests.real.test_kernels import standin_argv

ERRORS = ["EACCES", "EIO", "GONE", "ESTALE", "ETIMEDOUT", "EINTR", "EMFILE"]

COMMANDS = {
    "here": ["here"],
    "here json": ["here", "--json"],
    "survey": ["survey", "--under", "{root}"],
    "why": ["why", "hivescale"],
    "why in": ["why", "hivescale", "--in", "{heath}", "--json"],
    "why kernel": ["why", "hivescale", "--in", "kernel:orchard"],
    "why file": ["why", "weigh.py"],
    "why folder": ["why", ".", "--json"],
    "why everywhere": ["why", "hivescale", "--everywhere"],
    "why static": ["why", "hivescale", "--in", "{heath}", "--static"],
    "packages": ["packages", "{heath}", "--json"],
    "contrast": ["contrast", "{heath}", "{orchard}"],
    "contrast json": ["contrast", "{heath}", "{orchard}", "--json"],
    "kernels": ["kernels"],
    "kernels json": ["kernels", "--json"],
    "rehearse": ["rehearse", "kernel:orchard"],
    "enter": ["enter", "{heath}"],
    "record": ["record", "{heath}"],
    "point": ["point", "editor", "{orchard}", "--yes"],
    "register": ["register", "{heath}", "--id", "heath", "--yes", "--static"],
    "unregister": ["unregister", "orchard", "--dry-run"],
    "discard": ["discard", "{orchard}", "--with-own-files", "--dry-run"],
    "prepare": ["prepare", "{root}/new", "--dry-run"],
    "fill": ["fill", "{heath}", "hivescale", "--wheels", "{root}/wheels", "--dry-run"],
    "causes": ["causes", "absent"],
}


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    """A moor with two environments, a kernel, a notebook, a script and settings, for all of this module."""
    moor = Moor(tmp_path_factory.mktemp("refusing") / "moor")
    heath = make_environment(NEW, moor.root / "heath")
    orchard = make_environment(NEW, moor.root / "orchard", "--without-pip")
    site = next((moor.root / "orchard" / "lib").glob("python*")) / "site-packages"
    (site / "hivescale.py").write_text("def weights():\n    return [1]\n")
    (site / "kalyx_standin_kernel.py").write_text(Path(standin_argv()[1]).read_text())
    (site / "hivescale-2.1.dist-info").mkdir()
    (site / "hivescale-2.1.dist-info" / "METADATA").write_text("Metadata-Version: 2.1\nName: hivescale\nVersion: 2.1\n\n")
    (site / "hivescale-2.1.dist-info" / "RECORD").write_text("hivescale.py,,\n")
    moor.kernel("orchard", [str(orchard), "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    moor.notebook("weights.ipynb", "orchard")
    (moor.folder / "weigh.py").write_text("import hivescale\nimport json\n")
    (moor.folder / ".vscode").mkdir()
    (moor.folder / ".vscode" / "settings.json").write_text(json.dumps({"python.defaultInterpreterPath": str(heath)}))
    (moor.root / "wheels").mkdir()
    write_wheel(Package("hivescale", "2.1", {"hivescale.py": ""}), str(moor.root / "wheels"))
    moor.variables["PATH"] = f"{Path(heath).parent}:/usr/bin:/bin"
    return moor


def run(moor: Moor, error: str, number: int, words: list[str]) -> tuple[int, list[str], str, str]:
    report = moor.root.parent / f"readings-{os.getpid()}"
    report.unlink(missing_ok=True)
    words = [word.format(root=moor.root, heath=moor.root / "heath", orchard=moor.root / "orchard") for word in words]
    done = preloaded().run([error, str(number), str(report), *words], str(moor.folder), moor.variables, None, 120, "tests.refusing")
    taken = report.read_text(errors="surrogateescape").splitlines() if report.exists() else []
    return done.returncode, taken, done.stdout, done.stderr


def reset(moor: Moor) -> None:
    """What the commands that change something changed."""
    heath = moor.root / "heath" / "bin" / "python"
    (moor.folder / ".vscode" / "settings.json").write_text(json.dumps({"python.defaultInterpreterPath": str(heath)}))
    for path in (moor.data / "kernels").glob("heath/*"):
        path.unlink()


def known(answer: dict) -> list:
    """Of an answer about packages what must be the same wherever nothing was said to be left out."""
    target = answer.get("target") or answer["right"]
    return [answer.get("packages"), answer.get("differences"), [entry["entry"] for entry in target["search_path"]], target["environment"]["sees_base"]]


@pytest.mark.parametrize("name", COMMANDS)
def test_every_reading_refused_once(place, name, record_property):
    words = COMMANDS[name]
    reset(place)
    status, taken, out, err = run(place, "EACCES", 0, words)
    assert status in (0, 1) and taken, out + err
    usual = known(json.loads(out)) if words[0] in ("packages", "contrast") and "--json" in words else []
    chance = random.Random(name)
    numbers = list(range(1, len(taken) + 1))
    chosen = sorted(chance.sample(numbers, min(150 if LONG else 2, len(numbers))))
    for number in chosen:
        error = chance.choice(ERRORS)
        reset(place)
        status, steps, out, err = run(place, error, number, words)
        said = f"{error} at {number} of {len(taken)} ({steps[number - 1] if len(steps) >= number else '-'}): {out[-300:]}{err[-600:]}"
        assert status in (0, 1, 2) and "Traceback" not in out + err, said
        assert "failure of Kalyx itself" not in out + err, said
        if "--json" in words:
            whole = json.loads(out)
            if words[0] in ("packages", "contrast") and status == 0 and error != "GONE":
                assert known(whole) == usual, said
            assert whole["schema"].startswith("kalyx."), said
            assert (status == 2) <= (whole["schema"] == "kalyx.error/2" or "undetermined" in out or "not-asked" in out), said
        elif status == 2:
            assert err.strip() or out.strip(), said
    record_property("refused readings", len(chosen))
