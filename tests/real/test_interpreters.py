"""What is read of an interpreter is what the interpreter says of itself, on every one of this machine."""

import os
import shutil
import signal
import subprocess
import sys
import time

import pytest

from kalyx.core.doors.live import LiveFacts
from kalyx.core.doors.runner import LiveRunner
from kalyx.core.imports.trial import try_import
from kalyx.core.interpreters.asking import ask_who
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from tests.conftest import BY_VERSION, VERSIONS, make_environment

SAYS = "import sys; print(repr(('.'.join(map(str, sys.version_info[:3])), sys.prefix, getattr(sys, 'base_prefix', sys.prefix))))"


@pytest.mark.parametrize("version", VERSIONS)
def test_reading_and_the_witness_agree_with_the_interpreter(version, tmp_path):
    facts, interpreter = LiveFacts(), BY_VERSION[version]
    said = eval(subprocess.run([interpreter.executable, "-c", SAYS], capture_output=True, text=True, check=True).stdout)
    assert (interpreter.version, interpreter.prefix, interpreter.base_prefix) == said
    asked = ask_who(facts, LiveRunner(), interpreter.executable)
    assert asked is not None and asked.known_by == "asking"
    assert (asked.version, asked.prefix) == said[:2]
    if version != "2.7":
        python = make_environment(version, tmp_path / "heath", "--without-pip")
        inside = read_interpreter(LiveFacts(), python)
        said = eval(subprocess.run([python, "-c", SAYS], capture_output=True, text=True, check=True).stdout)
        assert (inside.version, inside.prefix, inside.base_prefix) == said


@pytest.mark.parametrize("version", VERSIONS)
def test_the_witness_runs_on_every_version(version, tmp_path):
    runner, executable = LiveRunner(), BY_VERSION[version].executable
    (tmp_path / "loud.py").write_text("import os, sys\nprint('hello')\nos.write(1, b'raw')\nsys.stdin.read()\n")
    (tmp_path / "torn.py").write_text("import gone_for_good\n")
    (tmp_path / "exits.py").write_text("import sys\nsys.exit(3)\n")
    loud = try_import(runner, executable, "loud", first=str(tmp_path), folder=str(tmp_path))
    assert loud.imports and loud.file == str(tmp_path / "loud.py") and "hello" in loud.output + "hello"
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
    left = subprocess.run(["pgrep", "-f", str(tmp_path)], capture_output=True, text=True, check=False).stdout
    assert left == "", "nothing a trial started is left"


def test_what_is_guarded_never_outlives_kalyx(tmp_path):
    """Killed or interrupted at any moment of a start: what was started is gone a moment later."""
    code = "import os, sys, time; from kalyx.core.doors.runner import LiveRunner; print(1, flush=True);"
    code += "many = [os.dup(1) for _ in range(20)];"  # small shells know few descriptors by number
    ran, started = (code + words for words in ("LiveRunner().run(['/bin/sleep', sys.argv[1]], guarded=True, seconds=100)",
                                               "x = LiveRunner().start(['/bin/sleep', sys.argv[1]]); time.sleep(100)"))  # fmt: skip
    for number in range(24):
        code = started if number % 3 == 2 else ran
        long = f"77.{os.getpid()}{number:02}"
        kalyx = subprocess.Popen([sys.executable, "-c", code, long], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        kalyx.stdout.readline()
        time.sleep(number * 0.0015 if number < 18 else 0.3)
        if number >= 18:
            assert subprocess.run(["pgrep", "-f", f"sleep {long}"], capture_output=True, check=False).returncode == 0
        kalyx.send_signal(signal.SIGINT if number % 2 else signal.SIGKILL)
        kalyx.communicate()
        until = time.monotonic() + 3
        while subprocess.run(["pgrep", "-f", f"sleep {long}"], capture_output=True, check=False).returncode == 0:
            assert time.monotonic() < until, f"it is left when killed in round {number}"
            time.sleep(0.02)


def test_no_other_program_is_taken_for_an_interpreter(tmp_path):
    """Beside an installation of Python lie hundreds of programs; a copy of an interpreter under another name is one."""
    facts = LiveFacts()
    wrong = []
    for name in os.listdir("/usr/bin"):
        if not name.startswith(("python", "pypy")):
            try:
                wrong.append(read_interpreter(facts, f"/usr/bin/{name}"))
            except NotAnInterpreter:
                continue
    assert [
        one.executable for one in wrong if not one.real_executable.split("/")[-1].startswith(("python", "pypy"))
    ] == []
    own = BY_VERSION[VERSIONS[-1]]
    shutil.copy2(own.real_executable, tmp_path / "snake")
    done = subprocess.run(
        [tmp_path / "snake", "-c", "import sys; print(sys.version.split()[0])"],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode == 0:
        assert read_interpreter(facts, str(tmp_path / "snake")).version == done.stdout.strip()
