"""A stop at any moment: one line, the state of before, the signal's status; or all of it done, with its undo line."""

import json
import os
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor

import pytest

from tests.conftest import make_environment, tree, until
from tests.equipment import LONG, NEW, running_with
from tests.real.test_kernels import standin_argv
from tests.real.test_stopped import chosen

NUMBERS = {"INT": 2, "HUP": 1, "TERM": 15, "USR1": 10}

# The n-th module that is loaded brings the signals with it.
EARLY = """
import os, signal, sys
numbers, at = [int(one) for one in sys.argv[1].split(",")], int(sys.argv[2])
seen = [0]
def heard(event, arguments):
    if event == "import":
        seen[0] += 1
        if seen[0] == at:
            for number in numbers:
                os.kill(os.getpid(), number)
sys.argv = ["kalyx", "survey"]
from kalyx.cli.entry import main
sys.addaudithook(heard)
main()
"""


@pytest.mark.parametrize("numbers", ["2", "15", "1", "10", "2,2", "2,15", "15,2", "1,2,15"])
def test_while_modules_load(moor, numbers):
    """And a second signal right behind the first."""
    ended = set()
    for at in range(1, 240, 4 if LONG else 24):
        done = subprocess.run([sys.executable, "-c", EARLY, numbers, str(at)], cwd=moor.folder, env=moor.variables, capture_output=True, text=True, check=False)
        expected = {128 + int(word) for word in numbers.split(",")} | {0, 1}
        assert done.returncode in expected and done.stderr.count("\n") <= 1, (at, done.returncode, done.stderr)
        ended.add(done.returncode)
    assert ended & {128 + int(word) for word in numbers.split(",")}


# A signal while the library of records reads a type: an exception in there would end the interpreter itself.
READING = """
import os, signal, sys, time
from kalyx.core import signals
import msgspec
signals.heed()
def fire():
    os.kill(os.getpid(), 15)
    for turn in range(1000): pass
    return int
class Hive(msgspec.Struct):
    bees: "fire()"
    combs: "dict[str, fire()]"
try:
    msgspec.json.Decoder(Hive)
    sys.stdout.write("read\\n")
    time.sleep(5)
except signals.Stopped as stop:
    sys.exit(100 + stop.number)
"""


def test_while_a_type_is_read():
    done = subprocess.run([sys.executable, "-c", READING], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (115, "read\n", ""), (done.returncode, done.stdout, done.stderr)


@pytest.fixture
def hive(moor):
    """An environment whose kernel answers, and one that is registered under the id already."""
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath").glob("lib/python*/site-packages"))
    shutil.copy(standin_argv()[1], site)
    return moor, python


def state(moor) -> dict[str, str]:
    kernels = moor.data / "kernels"
    return tree(kernels) if kernels.exists() else {}


@pytest.mark.parametrize("taken", [False, True], ids=["a new kernel", "taken over"])
@pytest.mark.parametrize("action", [*NUMBERS, "KILL"])
def test_while_a_kernel_is_proven(hive, action, taken):
    """The kernel of before, or none, until the new one has answered; what a kill leaves, the next call takes back."""
    moor, python = hive
    words = ["register", python, "--id", "orchard", *(["--take-over"] if taken else []), "--yes"]

    def begin() -> dict[str, str]:
        shutil.rmtree(moor.data, ignore_errors=True)
        if taken:
            moor.kernel("orchard", [python, "old"])
        return state(moor)

    begin()
    steps = moor.steps_of(*words)
    new = state(moor)
    seen = set()
    for number in chosen(steps, 9 if action != "KILL" else 6):
        old = begin()
        status, _, said = moor.stepped(action, number, *words)
        until(lambda: not running_with("kalyx_standin_kernel"), "the end of the kernel", 5)
        if action == "KILL":
            moor.kalyx("unregister", "nobody", "--yes")  # any call that changes something
            assert state(moor) in (old, new), (number, steps[number - 1])
        elif status == 128 + NUMBERS[action] and "to undo" not in said:
            assert state(moor) == old and said.splitlines()[-1:] == [f"kalyx: {'interrupted' if action == 'INT' else f'ended by signal {NUMBERS[action]}'}"], (number, said)
        else:
            assert state(moor) == new and "to undo" in said, (number, status, said)
        seen.add(state(moor) == new)
    assert False in seen


def test_what_a_killed_run_left_beside_a_file_goes(hive):
    """The next call that changes something takes it away, wherever it changes something."""
    moor, python = hive
    settings = moor.folder / ".vscode" / "settings.json"
    words = ["point", f"editor:{settings}", python, "--yes"]
    moor.steps_of(*words)
    shutil.rmtree(settings.parent)
    steps = moor.steps_of(*words)
    shutil.rmtree(settings.parent)
    at = max(number for number, step in enumerate(steps, 1) if step.startswith("open") and str(settings.parent) in step)
    assert moor.stepped("KILL", at + 1, *words)[0] == -9 and [name for name in os.listdir(settings.parent) if name.startswith(".kalyx-new-")]
    moor.kalyx("unregister", "nobody", "--yes")
    assert not settings.parent.exists() or os.listdir(settings.parent) == []


def test_several_kernels_go_all_or_none(hive):
    """Whichever change is refused: every kernel is where it was."""
    moor, python = hive
    names = [f"hive{number}" for number in range(3)]

    def begin() -> dict[str, str]:
        shutil.rmtree(moor.data, ignore_errors=True)
        for name in names:
            moor.kernel(name, [python, "-m", "x"])
        return state(moor)

    begin()
    words = ["unregister", *names, "--yes"]
    steps = moor.steps_of(*words)
    assert not state(moor)
    refused = 0
    for number in chosen(steps, 14):
        old = begin()
        status, _, said = moor.stepped("EACCES", number, *words)
        assert state(moor) == (old if status == 2 else {}), (number, steps[number - 1], said)
        refused += status == 2
    assert refused >= 3


def at_once(calls: list[list[str]], moor) -> list[int]:
    with ThreadPoolExecutor(len(calls)) as pool:
        return [ran.status for ran in pool.map(lambda words: moor.kalyx(*words), calls)]


def test_many_at_once(hive):
    """Of several calls about one kernel one does it; what was removed is kept, whoever came second."""
    moor, python = hive
    ended = at_once([["register", python, "--id", "orchard", "--yes", "--static"]] * 8, moor)
    assert sorted(ended) == [0] + [2] * 7, ended
    before = state(moor)
    folder = str(moor.data / "kernels" / "orchard")
    for _ in range(3):
        assert sorted(at_once([["unregister", folder, "--yes"]] * 4, moor)) == [0, 2, 2, 2] and not state(moor)
        assert moor.kalyx("unregister", folder, "--undo", "--yes").status == 0 and state(moor) == before


def test_a_file_that_appears_meanwhile_is_not_replaced(hive, tmp_path):
    """Made by somebody else between the look and the writing: it stays, and the call says so."""
    moor, python = hive
    for words, target in ((["record", moor.root / "heath", "-o"], tmp_path / "r.txt"), (["report", "-o"], tmp_path / "p.html"), (["capture"], tmp_path / "c.kalyx")):
        script = f"""
import os, sys
busy = []
def once(event, arguments):
    if event == "open" and ".kalyx-new-" in str(arguments[0]) and not busy:
        busy.append(1)
        with open({str(target)!r}, "w") as file:
            file.write("theirs")
sys.addaudithook(once)
sys.argv = ["kalyx", *{[str(word) for word in (*words, target)]!r}]
from kalyx.cli.start import main
main()
"""
        done = subprocess.run([sys.executable, "-c", script], cwd=moor.folder, env=moor.variables, capture_output=True, text=True, check=False)
        assert target.read_text() == "theirs" and done.returncode == 2 and "appeared meanwhile" in done.stderr, (done.stdout, done.stderr)
        assert not [name for name in os.listdir(tmp_path) if name.startswith(".kalyx")]


def test_a_file_that_only_quotes_the_sign_of_a_page_is_not_replaced(hive, tmp_path):
    moor, _ = hive
    page = tmp_path / "p.html"
    assert moor.kalyx("report", "-o", page).status == 0 and moor.kalyx("report", "-o", page).status == 0
    for text in ('my notes: <meta name="generator" content="kalyx report">', "<!DOCTYPE html>" + " " * 500 + '<meta name="generator" content="kalyx report">',
                 "<p><!-- kalyx report --></p>"):  # fmt: skip
        page.write_text(text)
        assert moor.kalyx("report", "-o", page).status == 2 and page.read_text() == text


def test_what_is_kept_only_the_user_may_read(hive, tmp_path):
    moor, python = hive
    os.umask(0o022)
    assert moor.kalyx("capture", tmp_path / "c.kalyx").status == 0
    assert moor.kalyx("register", python, "--id", "orchard", "--yes", "--static").status == 0
    assert moor.kalyx("register", python, "--id", "orchard", "--take-over", "--yes", "--static").status == 0
    assert moor.kalyx("unregister", "orchard", "--yes").status == 0
    settings = moor.folder / ".vscode" / "settings.json"
    assert moor.kalyx("point", f"editor:{settings}", python, "--yes").status == 0
    kept = [tmp_path / "c.kalyx", *(moor.data / "kalyx-removed").glob("*.json"), *(moor.data / "kalyx-removed").glob("*.was"),
            *(moor.root / ".local").rglob("*.json")]  # fmt: skip
    assert len(kept) >= 4 and [path for path in kept if path.stat().st_mode & 0o077] == [], kept
    assert json.loads(settings.read_text())


def test_what_cannot_be_taken_back_is_said(hive):
    """A refusal after which the inverse is refused too: nobody is told that all is as before."""
    moor, _ = hive
    from kalyx.core.actions.transaction import Transaction
    from kalyx.core.model.records import KalyxError
    from kalyx.core.system.live_reader import LiveReader
    from kalyx.core.system.live_writer import LiveWriter

    class Stubborn(LiveWriter):
        def remove_file(self, path: str) -> None:
            if path.endswith("comb"):
                raise KalyxError(f"{path}: permission denied")
            super().remove_file(path)

    reader = LiveReader(moor.variables, str(moor.folder))
    with pytest.raises(KalyxError, match=r"the second; .*comb: not rolled back \(.*permission denied\)"), Transaction(reader, Stubborn()) as transaction:
        transaction.write(str(moor.folder / "comb"), b"x")
        raise KalyxError("the second")
    assert (moor.folder / "comb").exists() and len(list((moor.root / ".local/state/kalyx/journal").iterdir())) == 1
