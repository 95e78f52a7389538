"""Each step of every command that starts a program, reaches out or changes something refused once by the system.

The steps are those of ``stepping.py``. No traceback, no failure of Kalyx's own; a run that ends with 0 has done all that
an undisturbed one does; nothing of ours is left running or lying about. A short run takes some steps, a long one each.
"""

import json
import os
import random
import re
import shutil

import psutil
import pytest

from tests.conftest import make_environment, tree
from tests.equipment import LONG, NEW
from tests.faults.environments import installation
from tests.trust.test_readings_refused import COMMANDS as READING
from tests.trust.test_readings_refused import place, reset  # noqa: F401

ERRORS = ["EACCES", "ENOSPC", "EIO", "ETIMEDOUT", "EINTR", "ENOENT", "EMFILE"]
# That the child's end cannot be waited for is no error that a system gives; the probe of the temporary folder is the
# standard library's.
NO_STEP = re.compile(r"wait for a program|.*/scratch/[a-z0-9_]{8}$")

CHANGING = {
    "register": ["register", "{orchard}", "--id", "heath2", "--yes", "--json"],
    "register env": ["register", "{orchard}", "--id", "heath3", "--reach", "env", "--yes"],
    "record": ["record", "{heath}", "-o", "{root}/out.txt", "--yes"],
    "unregister": ["unregister", "heath2", "--yes"],
    "prepare": ["prepare", "{root}/new", "--python", "{base}", "--want", "hivescale", "--wheels", "{root}/wheels", "--yes", "--json"],
    "fill": ["fill", "{root}/new", "hivescale", "--wheels", "{root}/wheels", "--yes", "--json"],
    "discard": ["discard", "{root}/new", "--yes"],
    "point": ["point", "editor", "{orchard}", "--yes"],
    "point notebook": ["point", "notebook:weights.ipynb", "kernel:orchard", "--yes"],
}
COMMANDS = {
    **CHANGING,
    "here live": ["here", "--live", "--json"],
    "rehearse": ["rehearse", "orchard", "--import", "hivescale", "--json"],
    "why fails": ["why", "absentia", "--in", "{heath}", "--json"],
    **{name: READING[name] for name in ("why", "why everywhere", "why folder", "kernels", "survey", "packages", "contrast")},
}


def begin(moor, name: str) -> None:
    """The state that the command starts from."""
    reset(moor)
    fresh = moor.root.parent / "fresh"
    if not fresh.exists():
        make_environment(NEW, fresh)
    for left in (moor.data / "kernels" / "heath2", moor.data / "kernels" / "heath3", moor.root / "orchard" / "share", moor.root / "new", moor.data / "kalyx-removed"):
        shutil.rmtree(left, ignore_errors=True)
    (moor.root / "out.txt").unlink(missing_ok=True)
    for left in moor.root.rglob(".kalyx*"):
        shutil.rmtree(left) if left.is_dir() else left.unlink()
    if name in ("fill", "discard"):
        shutil.copytree(fresh, moor.root / "new", symlinks=True)
    if name == "unregister":
        shutil.copytree(moor.data / "kernels" / "orchard", moor.data / "kernels" / "heath2")
    moor.notebook("weights.ipynb", "another" if name == "point notebook" else "orchard")


def state(moor) -> set[str]:
    """What lies there, but for what has another name in every run."""
    volatile = ("__pycache__", "kalyx-removed", ".cache", "/said/", "interpreters.json", "/state/")
    return {path for path in map(str, tree(moor.root)) if not any(word in path for word in volatile)}


def left_running(moor) -> list[str]:
    told = [" ".join(process.info["cmdline"] or ()) for process in psutil.process_iter(["cmdline"])]
    return [line for line in told if str(moor.root) in line and "stepping" not in line]


@pytest.mark.parametrize("name", COMMANDS)
def test_every_step_refused_once(place, name, record_property):  # noqa: F811
    base = installation(NEW, place.root.parent / "base") if name == "prepare" else ""
    words = [word.format(root=place.root, heath=place.root / "heath", orchard=place.root / "orchard", base=base) for word in COMMANDS[name]]
    scratch = place.root.parent / "scratch"
    place.variables |= {"TMPDIR": str(scratch), "KALYX_STEP_REACHES": "1"}
    scratch.mkdir(exist_ok=True)
    begin(place, name)
    status, steps, said = place.stepped("KILL", 0, *words)
    whole, usual = state(place), status
    assert status in (0, 1) and "Traceback (most" not in said, said
    chance = random.Random(name)
    numbers = [number for number, step in enumerate(steps, 1) if not NO_STEP.match(step)]
    chosen = sorted(chance.sample(numbers, min(len(numbers), 60 if LONG else 2 if name == "prepare" else 3)))
    for number in chosen:
        error = chance.choice(ERRORS)
        begin(place, name)
        status, taken, said = place.stepped(error, number, *words)
        about = f"{error} at {number} of {len(steps)} ({steps[number - 1][:90]}) -> {status}: {said[-700:]}"
        assert status in (0, 1, 2) and "Traceback (most" not in said and "failure of Kalyx itself" not in said, about
        if status == 2:
            assert said.strip(), about
        elif name in CHANGING and status == usual:
            assert state(place) == whole, (about, state(place) ^ whole)
        if "--json" in words:
            answer = said[said.index("{") : said.rindex("}") + 1]
            assert json.loads(answer)["schema"].startswith("kalyx."), about
        assert not left_running(place), (about, left_running(place))
        left = sorted(os.listdir(scratch))
        shutil.rmtree(scratch)
        scratch.mkdir()
        assert not [item for item in left if "failure" not in item and not re.fullmatch("[a-z0-9_]{8}", item)], (about, left)
    record_property("refused steps", len(chosen))
