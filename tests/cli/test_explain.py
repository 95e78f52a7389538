"""``kalyx explain -- COMMAND``: the command's own status, output and signals; behind them the answer where an import ended it."""

import os
import pty
import select
import signal
import subprocess
import sys
import time

import pytest

from kalyx.core.system import watched
from tests.conftest import KALYX, started
from tests.equipment import running_with

EXPLAIN = [sys.executable, KALYX, "explain", "--plain", "--"]

# Commands, and what the answer behind their standard error says; None: no import ended it.
COMMANDS = [
    ([sys.executable, "-c", "import gone_one"], "gone_one is in none"),
    ([sys.executable, "-I", "-c", "print('on'); import gone_one"], "gone_one is in none"),
    ([sys.executable, "script.py", "--json", "-h"], "gone_two is in none"),
    ([sys.executable, "-m", "gone_three"], "gone_three"),
    (["sh", "-c", f"A=1 exec {sys.executable} script.py"], "gone_two is in none"),
    ([sys.executable, "-c", "import sys; sys.stderr.write('x' * 3000000); import gone_one"], "gone_one is in none"),
    ([sys.executable, "-c", "1/0"], None),
    ([sys.executable, "-c", "print('out'); import sys; sys.exit(7)"], None),
    (["sh", "-c", "echo out; echo err >&2; exit 3"], None),
    (["sh", "-c", "printf 'no line end' >&2; kill -TERM $$"], None),
    (["sh", "-c", "sleep 0.7; echo late >&2; exit 3"], None),
    (["sh", "-c", "kill -KILL $$"], None),
    ([sys.executable, "-c", "import sys; print(sys.stdin.read())"], None),
    ([sys.executable, "-c", "try:\n import gone_one\nexcept ImportError: pass"], None),
    ([sys.executable, "-c", "import os; os.write(2, bytes(range(256)))"], None),
]


@pytest.mark.parametrize("words, message", COMMANDS)
def test_the_command_is_as_it_is_without_kalyx(moor, words, message):
    (moor.folder / "script.py").write_text("import gone_two\n")
    how = {"cwd": moor.folder, "env": moor.variables, "input": b"given", "capture_output": True, "timeout": 100}
    alone = subprocess.run(words, **how, check=False)
    ran = subprocess.run([*EXPLAIN, *words], **how, check=False)
    assert (ran.returncode, ran.stdout) == (alone.returncode, alone.stdout)
    assert ran.stderr.startswith(alone.stderr)
    answer = ran.stderr[len(alone.stderr) :].decode()
    assert (message in answer and "because" in answer and "Traceback" not in answer) if message is not None else not answer, answer[-2000:]


@pytest.mark.parametrize("words, status, message", [
    (["--", "gone-program"], 127, "there is no such program"),
    (["--", "."], 126, "ermission"),
    (["--"], 2, "COMMAND is missing"),
    (["--static", "--", "touch", "started"], 2, "--static starts no program"),
])  # fmt: skip
def test_what_cannot_be_started(moor, words, status, message):
    ran = moor.kalyx("explain", *words)
    assert not (moor.folder / "started").exists()
    assert ran.status == status and message in ran.err and ran.err.count("\n") == 1


def test_what_a_kernel_hands_over_is_checked(moor):
    for given in ("", "[]", "{", '{"pid": "x"}', '{"pid": 1}'):
        ran = moor.kalyx("explain", "-", given=given)
        assert ran.status == 2 and "holds no failure of a kernel" in ran.err and ran.err.count("\n") == 1


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGUSR1])
def test_a_signal_reaches_the_command(moor, number):
    """One that the command heeds in its own way, and one that ends it: Kalyx ends alike."""
    code = (f"import signal, sys, time\nsignal.signal({int(number)}, lambda *_: sys.exit(9))\n"
            "print('ready', flush=True)\ntime.sleep(60)")  # fmt: skip
    for script, expected in ((code, 9), (f"import signal, time; signal.signal({int(number)}, signal.SIG_DFL); print('ready', flush=True); time.sleep(60)", -number)):
        with started([*EXPLAIN, sys.executable, "-c", script], cwd=moor.folder, env=moor.variables, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as running:
            assert running.stdout.readline() == b"ready\n"
            running.send_signal(number)
            assert running.wait(20) == expected, running.stderr.read()


def test_a_signal_before_the_command_is_started_reaches_it(monkeypatch):
    """It is sent while the system starts the command, when nobody has its number yet."""
    start = subprocess.Popen

    def starts(*words, **named):
        os.kill(os.getpid(), signal.SIGUSR1)
        return start(*words, **named)

    monkeypatch.setattr(subprocess, "Popen", starts)
    assert watched.run_watched(["sleep", "30.03125"])[0] == -signal.SIGUSR1


def test_a_program_that_the_command_leaves_behind_keeps_nobody_waiting(moor):
    began = time.monotonic()
    ran = moor.kalyx("explain", "--", "sh", "-c", "sleep 30.0625 >/dev/null & exit 4")
    assert ran.status == 4 and time.monotonic() - began < 15
    for pid in running_with("30.0625"):
        os.kill(pid, signal.SIGTERM)


def test_at_a_terminal_the_command_has_one(moor):
    """What is asked of standard error is answered as without Kalyx; the bytes are the same."""
    code = "import sys, os; print([os.isatty(n) for n in range(3)], os.get_terminal_size(2), file=sys.stderr); sys.stderr.write('a\\tb\\r\\n'); import gone_one"
    texts = []
    for words in ([sys.executable, "-c", code], [*EXPLAIN, sys.executable, "-c", code]):
        pid, handle = pty.fork()
        if pid == 0:
            os.chdir(moor.folder)
            os.execve(words[0], words, moor.variables)
        text = b""
        while select.select([handle], [], [], 60)[0]:
            try:
                chunk = os.read(handle, 65536)
            except OSError:
                break
            text += chunk
        os.close(handle)
        assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 1
        texts.append(text)
    assert texts[0].startswith(b"[True, True, True]") and texts[1].startswith(texts[0]) and b"because" in texts[1], texts
