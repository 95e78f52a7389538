"""Killed before each step that changes something: old, new or marked, never half; and the next call finishes it.

The steps are those of ``stepping.py``, each tried; of more than a dozen like ones (files of a tree that goes) some,
all with KALYX_LONG. No step is found by sleeping and hoping.
"""

import json
import os
import re
import shlex
import shutil
from pathlib import Path

import pytest

from tests.conftest import Moor, make_environment, tree, until
from tests.equipment import LONG, NEW, running_with
from tests.faults.environments import installation
from tests.real.test_kernels import standin_argv

SETTINGS = '{\n  // the moor\n  "a": [1,\n 2],\n  "python.defaultInterpreterPath": "%s", // mine\n}\n'


_STOPS = 200  # at most, of one command in a long run
# Steps of one kind that follow each other: files that are made, and files that go, of one tree.
_MADE = ("open", "os.mkdir", "os.link", "os.symlink", "os.chmod")
_KINDS = {**dict.fromkeys(_MADE, "made"), "os.remove": "gone", "os.rmdir": "gone"}


def chosen(steps: list[str], most: int) -> list[int]:
    """The numbers of the steps to stop at: of like ones in a row the first, the middle and the last; all with LONG."""
    rows: list[list[int]] = []
    last = None
    for number, step in enumerate(steps, 1):
        kind = _KINDS.get(step.split(" ")[0], step.split(" ")[0])
        if kind != last:
            rows.append([])
        last = kind
        rows[-1].append(number)
    found = sorted({row[at] for row in rows for at in (0, len(row) // 2, len(row) - 1)})
    if LONG:
        # Of a tree of a thousand files every so many; of less each.
        return sorted({*found, *range(1, len(steps) + 1, max(1, len(steps) // _STOPS))})
    if len(found) <= most:
        return found
    return [found[round(part * (len(found) - 1) / (most - 1))] for part in range(most)]


def never_written_in_place(path: Path, steps: list[str]) -> None:
    """Between the emptying of a file and its filling no step falls: it must not be opened for writing at all."""
    assert f"open {path}" not in steps and any(step.startswith("os.rename") for step in steps), steps


def told(seen: dict[str, int], record_property) -> None:
    """What was seen how often, for docs/results.md."""
    for state, times in seen.items():
        record_property(f"stopped: {state}", times)


# How a run ends that is stopped by a signal: killed, or of itself, once it has cleared what it began.
ENDS = {"KILL": -9, "TERM": 143, "INT": 130, "HUP": 129}


@pytest.mark.parametrize("action", ENDS)
def test_while_registering(moor, action, record_property):
    """The folder holds the old spec or the new one, whole; what a kill leaves beside it is no kernel to anybody."""
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath" / "lib").glob("python*")) / "site-packages"
    shutil.copy(standin_argv()[1], site)
    folder = moor.kernel("orchard", [python, "old"])
    old = (folder / "kernel.json").read_bytes()
    words = ["register", python, "--id", "orchard", "--take-over", "--yes", "--static"]
    # What a first run leaves for every later one (a folder for what is replaced) is there before the steps are counted.
    assert moor.kalyx(*words).status == 0
    shutil.rmtree(folder)
    moor.kernel("orchard", [python, "old"])
    steps = moor.steps_of(*words)
    never_written_in_place(folder / "kernel.json", steps)
    new = (folder / "kernel.json").read_bytes()
    names, seen = sorted(os.listdir(folder)), {"old": 0, "new": 0}
    for number in chosen(steps, 14) if action == "KILL" else [len(steps) // 2, len(steps)]:
        shutil.rmtree(folder)
        moor.kernel("orchard", [python, "old"])
        status, _, said = moor.stepped(action, number, *words)
        found = (folder / "kernel.json").read_bytes()
        assert status == ENDS[action] and found in (old, new), (number, said)
        seen["old" if found == old else "new"] += 1
        if action != "KILL":
            assert sorted(os.listdir(folder)) in (names, ["kernel.json"]), "what can be cleared is cleared"
        listed = [kernel["id"] for kernel in moor.kalyx("kernels", "--json").json["kernels"] if "orchard" in kernel["id"]]
        assert listed == ["orchard"]
    status, _, said = moor.stepped("KILL", 0, *words)
    assert status == 0 and sorted(os.listdir(folder)) == names, "the next run clears what was left"
    told(seen, record_property)


def test_while_pointing(moor, record_property):
    """The user's file is the old one or the new one, to the byte."""
    old, new = (make_environment(NEW, moor.root / name, "--without-pip") for name in ("heath", "orchard"))
    file = moor.folder / ".vscode" / "settings.json"
    file.parent.mkdir()
    file.write_text(SETTINGS % old)
    words = ["point", "editor", new, "--yes"]
    seen = {"old": 0, "new": 0}
    moor.kalyx(*words)  # what only a first run makes is there
    file.write_text(SETTINGS % old)
    steps = moor.steps_of(*words)
    never_written_in_place(file, steps)
    for number in chosen(steps, 14):
        file.write_text(SETTINGS % old)
        status, _, said = moor.stepped("KILL", number, *words)
        assert status == -9 and file.read_text() in (SETTINGS % old, SETTINGS % new), said
        seen["old" if file.read_text() == SETTINGS % old else "new"] += 1
        assert all(path.name.startswith(".kalyx-") for path in file.parent.iterdir() if path != file)
    file.write_text(SETTINGS % old)
    assert moor.kalyx(*words).status == 0 and os.listdir(file.parent) == ["settings.json"]
    told(seen, record_property)


def test_while_removing(moor, record_property):
    """The environment is whole or marked; a second call finishes it, and nothing outside goes."""
    start, prefix = moor.root / "start", moor.root / "heath"
    make_environment(NEW, start, "--without-pip")
    (moor.root / "beside.txt").write_text("kept")
    words, whole = ["discard", prefix, "--yes"], tree(start).keys()
    seen = {"whole": 0, "marked": 0, "gone": 0}

    def begin() -> None:
        shutil.copytree(start, prefix, symlinks=True)
        moor.kernel("heath", [str(prefix / "bin" / "python"), "-m", "none"])

    begin()
    assert moor.kalyx(*words).status == 0
    begin()
    for number in chosen(moor.steps_of(*words), 16):
        begin()
        assert moor.stepped("KILL", number, *words)[0] == -9
        if not prefix.exists():
            seen["gone"] += 1
        elif (prefix / ".kalyx-discarding").exists():
            seen["marked"] += 1
            if (prefix / "pyvenv.cfg").exists():
                found = moor.kalyx("survey", "--under", moor.root, "--json").json["environments"]
                (one,) = [item for item in found if item["prefix"] == str(prefix)]
                assert one["condition"] == "half-made"
                assert one["findings"][0]["fixes"][0]["steps"][0]["command"][:2] == ["kalyx", "discard"]
        elif tree(prefix):
            seen["whole"] += 1
            assert tree(prefix).keys() == whole
        else:
            seen["gone"] += 1  # but for the empty folder
        if prefix.exists():
            ran = moor.kalyx(*words)
            assert ran.status == 0, (number, ran.err)
        assert not prefix.exists() and (moor.root / "beside.txt").read_text() == "kept"
        assert not (moor.data / "kernels" / "heath").exists()
    assert seen["marked"]
    told(seen, record_property)


def nothing_runs(prefix: Path) -> None:
    until(lambda: not running_with(str(prefix)), "the end of all that was started", 5)


@pytest.mark.parametrize("action", ["KILL", "INT"])
def test_while_preparing(moor, wheels, action, record_property):
    """The folder is absent, whole, or marked; an interrupted run clears it, and the next run makes it whole."""
    path = moor.root / "env"
    moor.variables["KALYX_STEP_WATCHES"] = str(path)
    words = [
        "prepare",
        path,
        "--python",
        installation(NEW, moor.root / "base"),
        "--want",
        "hivescale",
        "--wheels",
        wheels,
        "--yes",
    ]
    seen = {"absent": 0, "marked": 0, "whole": 0}
    assert moor.kalyx(*words).status == 0  # from now on the list of what Kalyx made is there
    shutil.rmtree(path)
    for number in chosen(moor.steps_of(*words), 3)[0 if action == "KILL" or LONG else 2 :]:
        shutil.rmtree(path, ignore_errors=True)
        status, taken, said = moor.stepped(action, number, *words)
        if status == 0 and len(taken) < number:
            continue  # this run came to its end in fewer steps
        assert status == ENDS[action], said
        nothing_runs(path)
        if not path.exists() or not any(path.iterdir()):
            seen["absent"] += 1
            continue
        whole = (path / "bin" / "python").exists() and not (path / ".kalyx-unfinished").exists()
        seen["whole" if whole else "marked"] += 1
        found = moor.kalyx("survey", "--under", moor.root, "--json").json["environments"]
        condition = [item["condition"] for item in found if item["prefix"] == str(path)]
        assert condition in (["sound"] if whole else ["half-made"], []), (number, condition)
        assert whole or action == "KILL", "an interrupted run clears its folder"
        if not whole:
            assert (path / ".kalyx-unfinished").exists()
            if seen["marked"] == 1:
                assert moor.kalyx(*words).status == 0, "the next run makes it whole"
                assert moor.kalyx("why", "hivescale", "--in", path).status == 0
    told(seen, record_property)


def test_once_the_environment_is_there(moor):
    """Stopped before the new environment is checked: Kalyx keeps it and says so; the line printed removes it."""
    path = moor.root / "env"
    words = ["prepare", path, "--python", installation(NEW, moor.root / "base"), "--yes"]
    steps = moor.steps_of(*words)
    assert f"os.remove {path / '.kalyx-unfinished'}" in steps[:-1], "the last step follows the creation"
    shutil.rmtree(path)
    status, _, said = moor.stepped("TERM", len(steps), *words)
    assert status == ENDS["TERM"] and "was created: it is kept and was not checked" in " ".join(said.split()), said
    found = moor.kalyx("survey", "--under", moor.root, "--json").json["environments"]
    assert [item["condition"] for item in found if item["prefix"] == str(path)] == ["sound"]
    line = re.search(r"kalyx (discard .*)", said)[1]
    status, _, said = moor.stepped("TERM", 60, *shlex.split(line), "--yes")  # it has begun to remove files there
    assert status == ENDS["TERM"] and "freed" in said and not path.exists(), said


def test_while_the_answer_is_printed(moor, wheels):
    """What was changed is told to its end, with the line that undoes it, whatever arrives meanwhile."""
    python, made = make_environment(NEW, moor.root / "heath"), moor.root / "made"
    shutil.copy(standin_argv()[1], next((moor.root / "heath" / "lib").glob("python*")) / "site-packages")
    settings, heath = moor.folder / ".vscode" / "settings.json", moor.root / "heath"
    settings.parent.mkdir()
    settings.write_text(SETTINGS % "/usr/bin/python3")
    moor.variables["KALYX_STEP_PRINTS"] = "1"
    for there, back in (
        (["register", python, "--id", "orchard", "--static"], ["unregister", "orchard"]),
        (["unregister", "orchard"], ["unregister", "orchard", "--undo"]),
        (["point", "editor", python], ["point", "editor", "/usr/bin/python3"]),
        (["prepare", made, "--python", installation(NEW, moor.root / "base")], ["discard", made]),
        (["fill", heath, "hivescale", "--wheels", wheels], ["fill", heath, "--remove", "hivescale", "nectarflow"]),
    ):
        if there[0] == "unregister":
            assert moor.kalyx("register", python, "--id", "orchard", "--static", "--yes").status == 0
        calls = [[*words, "--yes"] for words in (there, back)]
        # A first run makes what later runs find, so its steps are others.
        whole = [moor.stepped("TERM", 0, *words) for words in calls * 2][2:]
        for words, (status, steps, said) in zip(calls, whole, strict=True):
            assert status == 0 and said, (words, said)
            last = len(steps) - steps[::-1].index("print")
            status, _, again = moor.stepped("TERM", last, *words)
            # The time in the name of a folder, and sizes, differ from call to call.
            assert (status, re.sub(r"\d+", "0", again)) == (0, re.sub(r"\d+", "0", said)), words


def test_while_filling(moor, wheels, record_property):
    """The environment is as it was, as it is to be, or marked; the next run puts it back."""
    start, prefix = moor.root / "start", moor.root / "heath"
    make_environment(NEW, start)
    assert moor.kalyx("fill", start, "nectarflow==1.0", "--wheels", wheels, "--yes").status == 0
    moor.variables["KALYX_STEP_WATCHES"] = str(prefix)
    words = ["fill", prefix, "hivescale", "broad", "--wheels", wheels, "--yes"]
    seen = {"as it was": 0, "as it is to be": 0, "marked": 0}

    def begin() -> dict[str, str]:
        shutil.rmtree(prefix, ignore_errors=True)
        shutil.copytree(start, prefix, symlinks=True)
        return tree(prefix)

    begin()
    steps = moor.steps_of(*words)
    whole = tree(prefix)
    at_work = [number for number, step in enumerate(steps, 1) if step.startswith("wait for a program that has begun")]
    for number in sorted({*chosen(steps, 4), at_work[1]}):  # after the installer was asked what it would do
        before = begin()
        assert moor.stepped("KILL", number, *words)[0] == -9
        nothing_runs(prefix)
        now = tree(prefix)
        left = {name: value for name, value in now.items() if not name.startswith(".kalyx-")}
        found = moor.kalyx("survey", "--under", moor.root, "--json").json["environments"]
        (one,) = [item for item in found if item["prefix"] == str(prefix)]
        line = ["kalyx", "fill", str(prefix), "--repair"]
        is_marked = one["condition"] == "half-made"
        if is_marked:
            line = one["findings"][0]["fixes"][0]["steps"][0]["command"]
        assert moor.kalyx(*line[1:], "--yes").status == 0
        assert tree(prefix) == (before if is_marked else left), "what the run kept meanwhile is cleared"
        if is_marked:
            seen["marked"] += 1
        elif left == before:
            seen["as it was"] += 1
        else:
            seen["as it is to be"] += 1
            assert left.keys() == whole.keys(), left.keys() ^ whole.keys()
    ran = moor.kalyx(*words)
    assert ran.status == 0 and tree(prefix).keys() == whole.keys()
    assert not [name for name in os.listdir(prefix) if name.startswith(".kalyx")] and seen["marked"]
    told(seen, record_property)


def test_a_step_can_be_spoilt(tmp_path):
    """The tests above can fail: a step that is refused is refused, and a write that is not whole would be seen."""
    moor = Moor(tmp_path / "moor")
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    words = ["point", f"editor:{moor.folder / '.vscode' / 'settings.json'}", python, "--yes"]
    assert moor.kalyx(*words).status == 0  # what only a first run makes is there
    shutil.rmtree(moor.folder / ".vscode")
    steps = moor.steps_of(*words)
    last = max(number for number, step in enumerate(steps, 1) if step.startswith("open") and ".vscode" in step)
    shutil.rmtree(moor.folder / ".vscode")
    status, steps, said = moor.stepped("ENOSPC", last, *words)
    assert status == 2 and "no space left" in said, said
    assert not (moor.folder / ".vscode" / "settings.json").exists() and len(steps) >= 2
    assert json.loads(moor.kalyx(*words, "--json").out)["done"]
