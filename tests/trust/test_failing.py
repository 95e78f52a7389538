"""A failure of Kalyx's own is said as one, and no error of the system at any step becomes a traceback or a false status."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import KALYX, make_environment
from tests.equipment import LONG, NEW

BREAKS = "import kalyx.core.machine as m\nm.Machine.kernels = property(lambda self: 1 / 0)\n"


@pytest.mark.parametrize("form", [[], ["--json"]])
def test_a_failure_of_its_own_is_one_line(moor, form):
    script = f"import sys; sys.argv = ['kalyx', 'kernels', *{form!r}]\n{BREAKS}from kalyx.cli.start import main\nmain()"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, cwd=moor.folder, env=moor.variables, check=False)
    assert done.returncode == 2 and "Traceback" not in done.stdout + done.stderr, done.stderr
    said = json.loads(done.stdout)["message"] if form else done.stderr
    assert "failure of Kalyx itself (ZeroDivisionError" in said and (form or said.count("\n") == 1)
    kept = Path(said.rpartition("details are in ")[2].strip())
    assert "1 / 0" in kept.read_text() or "ZeroDivisionError" in kept.read_text()
    kept.unlink()


def test_surroundings_that_are_missing(moor):
    """A folder that is gone, streams that are closed or full, no temporary folder, few open files: one line each."""
    gone = moor.root / "gone"
    gone.mkdir()
    command = f"{sys.executable} {KALYX}"
    for line, status in [
        (f"cd {gone}; rmdir {gone}; {command} here", (2,)),
        (f"cd {moor.folder}; {command} here >&-", (0, 1)),
        (f"cd {moor.folder}; {command} here 2>&-", (0, 1)),
        (f"cd {moor.folder}; {command} why - <&-", (2,)),
        (f"cd {moor.folder}; TMPDIR=/nowhere {command} here", (0, 1)),
        (f"cd {moor.folder}; ulimit -n 24; {command} here", (0, 1, 2)),
        (f"cd {moor.folder}; PYTHONIOENCODING=ascii {command} here", (0, 1)),
        *((f"cd {moor.folder}; {command} {words} > /dev/full", (2,)) for words in ("here", "here --json", "--help", "why --help", "--version", "", "here --watch")),
        (f"cd {moor.folder}; {command} nothing --json > /dev/full 2> /dev/full", (2,)),
        (f"cd {moor.folder}; {command} why lonely 2> /dev/full", (1,)),
        (f"cd {moor.folder}; printf '\\377\\376 x' | {command} why -", (2,)),
    ]:
        done = subprocess.run(["sh", "-c", line], capture_output=True, env=moor.variables, check=False)
        said = (done.stdout + done.stderr).decode("utf-8", "replace")
        assert done.returncode in status and "Traceback" not in said, (line, done.returncode, said)
        assert "failure of Kalyx itself" not in said, said


def test_whoever_reads_may_go_away(moor):
    """The status is what was found, not what became of the reader."""
    moor.kernel("gone", ["/no/such/python", "-f", "{connection_file}"])
    whole = moor.kalyx("here").status
    for words in ("here", "here --json", "survey"):
        line = f"{{ {sys.executable} {KALYX} {words}; echo status $? >&2; }} | true"
        done = subprocess.run(["sh", "-c", line], capture_output=True, text=True, env=moor.variables, cwd=moor.folder, check=False)
        assert "Traceback" not in done.stderr and f"status {whole if words != 'survey' else 0}" in done.stderr, done.stderr


ERRORS = ["ENOSPC", "EACCES", "EIO", "ENOENT"]


@pytest.mark.parametrize("error", ERRORS if LONG else ERRORS[:1])
def test_a_step_that_is_refused(moor, error):
    """Each step of what changes something is refused once: one line, status 2, and the files are old or new."""
    old, new = (make_environment(NEW, moor.root / name, "--without-pip") for name in ("heath", "orchard"))
    site = next((moor.root / "orchard").glob("lib/python*/site-packages"))
    shutil.copy(Path(__file__).parents[2] / "src/kalyx/demo/standin/kalyx_standin_kernel.py", site)
    file, spec = moor.folder / ".vscode" / "settings.json", moor.data / "kernels" / "hive" / "kernel.json"

    def begin() -> None:
        shutil.rmtree(file.parent, ignore_errors=True)
        shutil.rmtree(moor.data, ignore_errors=True)
        file.parent.mkdir()
        file.write_text(json.dumps({"python.defaultInterpreterPath": old}))
        moor.kernel("hive", [old, "-m", "x"])

    for words in (["point", "editor", new, "--yes"], ["register", new, "--id", "hive", "--take-over", "--yes", "--static"],
                  ["unregister", "hive", "--yes"], ["record", new, "-o", moor.root / "list.txt", "--yes"]):  # fmt: skip
        begin()
        before = {path: path.read_bytes() for path in (file, spec)}
        steps = moor.steps_of(*words)
        after = {path: path.read_bytes() if path.exists() else None for path in (file, spec)}
        for number in range(1, len(steps) + 1, 1 if LONG else 2):
            begin()
            status, _, said = moor.stepped(error, number, *words)
            assert "Traceback" not in said and "failure of Kalyx itself" not in said, (words, steps[number - 1], said)
            assert status in (0, 1, 2), (status, said)
            for path in (file, spec):
                now = path.read_bytes() if path.exists() else None
                assert now in (before[path], after[path]), (words, steps[number - 1], said)
            left = [name for name in os.listdir(file.parent) if name != "settings.json"]
            assert not left, (words, steps[number - 1], left)
