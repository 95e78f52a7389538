"""What goes on is told at a terminal where it takes long, drawn over and gone when it is done; a pipe is told nothing."""

import os
import pty
import subprocess
import sys

from tests.conftest import KALYX, make_environment
from tests.equipment import NEW


def test_what_takes_long_is_told(moor):
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath").glob("lib/python*/site-packages"))
    (site / "slowcomb.py").write_text("import time\ntime.sleep(1.5)\n")
    words = [sys.executable, str(KALYX), "why", "slowcomb", "--in", python]
    ours, theirs = pty.openpty()
    variables = {**moor.variables, "TERM": "xterm", "COLUMNS": "100"}
    done = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=theirs, stdin=subprocess.DEVNULL, env=variables, cwd=moor.folder)
    os.close(theirs)
    text = b""
    while True:
        try:
            read = os.read(ours, 65536)
        except OSError:  # the other end is closed
            break
        if not read:
            break
        text += read
    os.close(ours)
    out = done.stdout.read().decode()
    assert done.wait() == 0 and "imports" in out and "looking" not in out
    drawn = text.decode("utf-8", "replace")
    assert "looking:" in drawn
    assert drawn.rpartition("looking:")[2].endswith(("\x1b[1A\x1b[2K", "\x1b[2K")), drawn
    piped = subprocess.run(words, capture_output=True, text=True, env=variables, cwd=moor.folder, check=True)
    assert piped.stderr == ""
