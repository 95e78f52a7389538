"""What is read of an interpreter is what the interpreter says of itself, on every one of this machine."""

import os
import shutil
import signal
import subprocess
import sys
import time

import msgspec
import pytest

from kalyx.core.imports.trial import try_import
from kalyx.core.interpreters.asking import ask_who
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.model.records import Interpreter
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.system.live_runner import LiveRunner
from tests.conftest import make_environment, until
from tests.equipment import BY_VERSION, CAN_MAKE, NEW, REAL, VERSIONS, running_with

SAYS = "import sys; print(repr(('.'.join(map(str, sys.version_info[:3])), sys.prefix, getattr(sys, 'base_prefix', sys.prefix))))"


def test_the_survey_loses_no_interpreter(moor):
    """Those that are here were found without Kalyx, each by its own word: the survey has them all, and says the same."""
    moor.variables |= {"PATH": os.environ["PATH"], "HOME": os.path.expanduser("~")}
    rows = msgspec.convert(moor.kalyx("survey", "--json").json["interpreters"], list[Interpreter])
    found = {item.real_executable: item for item in rows}
    for item in REAL:
        assert item.real_executable in found, f"the survey loses {item.executable}"
        row = found.pop(item.real_executable)
        said = (row.implementation, row.prefix, row.base_prefix, os.path.realpath(row.executable))
        assert said == (item.implementation, item.prefix, item.base_prefix, item.real_executable)
        assert row.version == item.version
    assert not found, f"the survey has what is not here: {list(found)}"


@pytest.mark.parametrize("version", VERSIONS)
def test_reading_and_the_witness_agree_with_the_interpreter(version, tmp_path):
    reader = LiveReader()
    interpreter = read_interpreter(reader, BY_VERSION[version].executable)
    said = eval(subprocess.run([interpreter.executable, "-c", SAYS], capture_output=True, text=True, check=True).stdout)
    assert (interpreter.version, interpreter.prefix, interpreter.base_prefix) == said
    asked = ask_who(reader, LiveRunner(), interpreter.executable)
    assert asked is not None and asked.known_by == "asking"
    assert (asked.version, asked.prefix) == said[:2]
    if version in CAN_MAKE:
        python = make_environment(version, tmp_path / "heath", "--without-pip")
        inside = read_interpreter(LiveReader(), python)
        said = eval(subprocess.run([python, "-c", SAYS], capture_output=True, text=True, check=True).stdout)
        assert (inside.version, inside.prefix, inside.base_prefix) == said


@pytest.mark.parametrize("version", VERSIONS)
def test_the_witness_runs_on_every_version(version, tmp_path):
    runner, executable = LiveRunner(), BY_VERSION[version].executable
    (tmp_path / "loud.py").write_text("import os, sys\nprint('hello')\nos.write(1, b'raw')\nsys.stdin.read()\n")
    (tmp_path / "torn.py").write_text("import gone_for_good\n")
    (tmp_path / "exits.py").write_text("import sys\nsys.exit(3)\n")
    loud = try_import(runner, executable, "loud", first=str(tmp_path), folder=str(tmp_path))
    assert loud.imports and loud.file == str(tmp_path / "loud.py") and {"hello", "raw"} == {word for word in ("hello", "raw", "x") if word in loud.output}
    torn = try_import(runner, executable, "torn", first=str(tmp_path), folder=str(tmp_path))
    assert not torn.imports and torn.root.text.startswith("No module named") and "gone_for_good" in torn.root.text
    assert any(frame.file == str(tmp_path / "torn.py") and frame.line == 1 for frame in torn.root.frames)
    exits = try_import(runner, executable, "exits", first=str(tmp_path), folder=str(tmp_path))
    assert exits.answered and exits.root.type == "SystemExit"
    assert not list(tmp_path.rglob("*.pyc")), "a trial leaves no bytecode"


def test_limits_hold(tmp_path):
    runner = LiveRunner()
    (tmp_path / "sleeps.py").write_text("import time\ntime.sleep(60)\n")
    (tmp_path / "floods.py").write_text("import os\nfor _ in range(4000): os.write(1, b'x' * 65536)\n")
    (tmp_path / "dies.py").write_text("import os, signal\nos.kill(os.getpid(), signal.SIGSEGV)\n")
    (tmp_path / "forks.py").write_text("import os, time\nif os.fork() == 0:\n    time.sleep(60)\n    os._exit(0)\n")
    kwargs = {"first": str(tmp_path), "folder": str(tmp_path)}
    assert try_import(runner, sys.executable, "sleeps", seconds=1, **kwargs).timed_out
    assert try_import(runner, sys.executable, "floods", **kwargs).imports
    assert try_import(runner, sys.executable, "dies", **kwargs).signal == "SIGSEGV"
    assert try_import(runner, sys.executable, "forks", **kwargs).imports
    assert not running_with(str(tmp_path)), "nothing a trial started is left"


def test_what_was_started_never_outlives_kalyx(tmp_path):
    """Killed or interrupted at any moment of a start: what was started is gone a moment later, and its folder too.

    Also what left its group and its session: it keeps the mark among its variables.
    """
    script = tmp_path / "away.py"
    script.write_text("import os, sys, time\nif os.fork() == 0:\n    os.setsid()\n    if os.fork():\n        os._exit(0)\n"
                      "print('on', flush=True)\ntime.sleep(float(sys.argv[1]))\n")  # fmt: skip
    begin = (
        "import os, sys, time; from kalyx.core.system.live_runner import LiveRunner; r = LiveRunner(); f = r.empty_folder();"
    )
    begin += "print(f.__enter__(), flush=True); words = [sys.executable, sys.argv[1], sys.argv[2]];"
    changes = ["r.run(words, seconds=100)", "x = r.start(words); time.sleep(100)"]
    for number in range(16):
        long = f"77.{os.getpid()}{number:02}"
        argv = [sys.executable, "-c", begin + changes[number % 2], str(script), long]
        with subprocess.Popen(argv, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as kalyx:
            folder = kalyx.stdout.readline().strip()
            if number < 12:
                time.sleep(number * 0.003)
            else:
                until(lambda long=long: len(running_with(long)) >= 3, "the program and its stray")
            kalyx.send_signal(signal.SIGINT if number % 4 > 1 else signal.SIGKILL)
        until(lambda long=long: not running_with(long), f"the end of what is left when killed in round {number}", 5)
        until(lambda folder=folder: not os.path.exists(os.path.dirname(folder)), "the end of its folder", 5)


def test_no_other_program_is_taken_for_an_interpreter(tmp_path):
    """Beside an installation of Python lie hundreds of programs; a copy of an interpreter under another name is one."""
    reader = LiveReader()
    wrong = []
    for name in os.listdir("/usr/bin"):
        if not name.startswith(("python", "pypy")):
            try:
                wrong.append(read_interpreter(reader, f"/usr/bin/{name}"))
            except NotAnInterpreter:
                continue
    assert [
        item.executable for item in wrong if not item.real_executable.split("/")[-1].startswith(("python", "pypy"))
    ] == []
    own = BY_VERSION[NEW]
    shutil.copy2(own.real_executable, tmp_path / "snake")
    done = subprocess.run(
        [tmp_path / "snake", "-c", "import sys; print(sys.version.split()[0])"],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode == 0:
        assert read_interpreter(reader, str(tmp_path / "snake")).version == done.stdout.strip()


@pytest.mark.parametrize("version", VERSIONS)
def test_what_lacks_below_a_module_is_called_by_its_whole_name(version, moor):
    """Version 2 says "No module named combs" of ``json.combs``, also where a file of the user's asks for that."""
    (moor.folder / "weaver.py").write_text("import json.combs.deep\n")
    for asked in ("json.combs", "sys.combs", "math.combs", "weaver"):
        finding = moor.kalyx("why", asked, "--in", BY_VERSION[version].executable, "--json").json["imports"][0]["findings"][0]
        assert (finding["cause"], finding["message"].rpartition(" ")[2]) == ("submodule-gone", "combs"), (asked, finding["message"])
