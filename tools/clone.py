"""Set up Kalyx in this clone and run the demo or all tests: python3 tools/clone.py demo | tests

Makes .venv in the clone (again when it is not usable), installs Kalyx into it
and goes on there. Repeats safely. Needs Python 3.10 or newer with pip and venv.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

CLONE = Path(__file__).resolve().parents[1]
PLACE = CLONE / ".venv"
PYTHON = PLACE / ("Scripts/python.exe" if os.name == "nt" else "bin/python")


def run(*words: object) -> int:
    return subprocess.run([str(word) for word in words], cwd=CLONE, check=False).returncode


def usable() -> bool:
    code = "import sys, pip; sys.exit(sys.version_info < (3, 10))"
    return PYTHON.exists() and subprocess.run([str(PYTHON), "-c", code], check=False).returncode == 0


def main() -> int:
    wanted = sys.argv[1] if len(sys.argv) > 1 else ""
    if wanted not in ("demo", "tests"):
        print(__doc__)
        return 2
    if sys.version_info < (3, 10):
        print("Kalyx runs on Python 3.10 or newer; this is", sys.version.split()[0])
        return 2
    if not usable():
        words = [sys.executable, "-m", "venv", "--clear", PLACE]
        if run(*words):
            print("no environment could be made; on Debian: apt-get install python3-venv")
            return 2
    what = f"{CLONE}[test]" if wanted == "tests" else str(CLONE)
    # --no-input: a set-up that asks would wait for ever where nobody sits.
    if run(PYTHON, "-m", "pip", "install", "--quiet", "--no-input", "--disable-pip-version-check", "-e", what):
        return 2
    if wanted == "demo":
        return run(PYTHON, "-m", "kalyx", "demo", CLONE / "larkmoor-demo", "--yes")
    for words in (
        ["-m", "ruff", "check", "."],
        ["-m", "mypy"],
        ["-m", "pytest", "-n", str(min(4, os.cpu_count() or 1)), "--dist", "loadgroup", *sys.argv[2:]],
    ):
        status = run(PYTHON, *words)
        if status == 1 and "pytest" in words:
            status = once_more_alone(status)
        if status:
            return status
    return 0


def once_more_alone(status: int) -> int:
    """At most three tests that failed beside others are tried again by themselves; they are named either way.

    Real interpreters, servers and shells share two cores with the rest of the run, and some tests wait for them.
    """
    try:
        failed = list(json.loads((CLONE / ".pytest_cache" / "v" / "cache" / "lastfailed").read_text(encoding="utf-8")))
    except (OSError, ValueError):
        return status
    if not 0 < len(failed) <= 3:
        return status
    failed = [re.sub(r"@[^\[\]@]*$", "", one) for one in failed]  # without the group that ran it
    print("once more, alone:", *failed, sep="\n  ", flush=True)
    return run(PYTHON, "-m", "pytest", "-n", "1", *failed)


if __name__ == "__main__":
    sys.exit(main())
