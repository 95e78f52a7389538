"""Modules that do on import what no module should: always an answer, in the time allowed, and nothing left behind."""

import time

import pytest

from tests.conftest import Moor
from tests.equipment import BY_VERSION, NEW, running_with

# The source, and what the answer must be: it imports, or the cause.
HOSTILE = {
    "prints escapes": ("print('\\x1b[2J\\x1b]0;x\\x07' * 50)", None),
    "prints without end": ("for _ in range(40):\n    print('x' * 1000000)", None),
    "reads its input": ("input()", "raises"),
    "forks": ("import os, time\nif os.fork() == 0:\n    time.sleep(60)", None),
    "starts threads": ("import threading, time\nthreading.Thread(target=time.sleep, args=(60,)).start()", None),
    "ends": ("raise SystemExit(0)", "raises"),
    "goes elsewhere": ("import os\nos.chdir('/')", None),
    "hooks imports": ("import sys\nclass H:\n    def find_spec(self, *a):\n        raise RuntimeError('no')\nsys.meta_path.insert(0, H())", None),
    "leaves the table of modules": ("import sys\ndel sys.modules[__name__]", "raises"),
    "puts another thing there": (
        "import sys\nclass M:\n    def __getattr__(self, name):\n        raise ValueError(name)\nsys.modules[__name__] = M()", "raises"),
    "closes its output": ("import os, sys\nsys.stdout.close()\nos.close(2)", None),
    "has a long line": ("x = '" + "a" * 10_000_000 + "'", None),
    "is nested deeply": ("x = " + "(" * 5000 + ")" * 5000, "raises"),
    "recurs": ("def f():\n    f()\nf()", "raises"),
    "never ends its exit": ("import atexit\ndef f():\n    while True:\n        pass\natexit.register(f)", None),
    "raises what cannot be read": ("class E(BaseException):\n    def __str__(self):\n        raise ValueError\nraise E()", "raises"),
    "raises a long text": ("raise ValueError('x' * 20_000_000)", "raises"),
    "raises escapes": ("raise ValueError('\\x1b[31m\\udc80')", "raises"),
    "ends itself by a signal": ("import os, signal\nos.kill(os.getpid(), signal.SIGTERM)", "crashes"),
    "spoils the built-ins": ("import builtins\nbuiltins.print = builtins.repr = builtins.open = None", None),
    "closes every file": ("import os\nos.closerange(3, 64)", "crashes"),
    "hangs": ("while True:\n    pass", "hangs"),
    "has another encoding": ("# -*- coding: no-such-thing -*-\n", "raises"),
}  # fmt: skip


@pytest.mark.parametrize("what", HOSTILE)
def test_there_is_always_an_answer(what, tmp_path):
    source, cause = HOSTILE[what]
    moor = Moor(tmp_path / "moor")
    name = f"hivemark_{list(HOSTILE).index(what)}_"
    (moor.folder / f"{name}.py").write_text(source, encoding="utf-8", errors="surrogatepass")
    seconds = "3" if what == "hangs" else "8"
    began = time.monotonic()
    ran = moor.kalyx("why", name, "--in", BY_VERSION[NEW].executable, "--timeout", seconds, "--json")
    assert time.monotonic() - began < 30
    (answer,) = ran.json["imports"]
    found = answer["findings"][0]["cause"] if answer["findings"] else None
    assert (ran.status, found) == (0 if cause is None else 1, cause), answer
    assert "\x1b" not in moor.kalyx("why", name, "--in", BY_VERSION[NEW].executable, "--timeout", seconds, "--plain").out
    assert not running_with(name)
