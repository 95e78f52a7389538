"""Set up Kalyx in this clone, and run the demo or the tests: tools/clone.py set-up | demo | tests [--quick | --whole]

Makes .venv in the clone (again when it is not usable), installs Kalyx into it
and goes on there. Repeats safely. Needs Python 3.10 or newer with pip and venv.
"""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
from pathlib import Path

CLONE = Path(__file__).resolve().parents[1]
PLACE = CLONE / ".venv"
# Many tests wait for a server, a kernel or a shell: two more than there are processors.
WORKERS = min(6, (os.cpu_count() or 1) + 2)
PYTHON = PLACE / ("Scripts/python.exe" if os.name == "nt" else "bin/python")


# Without the variable that forbids compiled files: each program that the tests start would compile its modules again.
ENVIRONMENT = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
# Programs that the tests start often: run once, each compiles the modules that it uses.
OFTEN = ("jupyter_server", "ipykernel_launcher", "notebook", "xonsh")


def run(*words: object) -> int:
    return subprocess.run([str(word) for word in words], cwd=CLONE, env=ENVIRONMENT, check=False).returncode


def begun(*words: object, stdout: int | None = None) -> subprocess.Popen[bytes]:
    """A program that runs beside what follows."""
    return subprocess.Popen([str(word) for word in words], cwd=CLONE, env=ENVIRONMENT, stdout=stdout)


def installed(*words: object) -> int:
    # --no-input: a set-up that asks would wait for ever where nobody sits.
    options = ("--quiet", "--no-input", "--disable-pip-version-check")
    return run(PYTHON, "-m", "pip", "install", *options, *words)


def set_up_for_tests() -> int:
    """What the tests need; of its thousands of files those are compiled that are used."""
    status = installed("--no-compile", "-e", f"{CLONE}[test]")
    warming = [begun(PYTHON, "-m", name, "--version") for name in OFTEN]
    for program in warming:
        program.wait()
    return status


def usable() -> bool:
    code = "import sys, pip; sys.exit(sys.version_info < (3, 10))"
    return PYTHON.exists() and subprocess.run([str(PYTHON), "-c", code], check=False).returncode == 0


def main() -> int:
    wanted = sys.argv[1] if len(sys.argv) > 1 else ""
    if wanted not in ("demo", "tests", "set-up"):
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
    what = str(CLONE) if wanted == "demo" else f"{CLONE}[test]"
    # What was set up already, from the same list of what is needed, is not looked up again.
    needed = what + hashlib.sha256((CLONE / "pyproject.toml").read_bytes()).hexdigest()
    known = PLACE / "set-up-for"
    if not known.exists() or known.read_text() != needed:
        if installed("-e", CLONE) or (wanted != "demo" and set_up_for_tests()):
            return 2
        known.write_text(needed)
    if wanted == "set-up":
        return 0
    if wanted == "demo":
        return run(PYTHON, "-m", "kalyx", "demo", CLONE / "larkmoor-demo", "--yes")
    types = begun(PYTHON, "-m", "mypy", stdout=subprocess.PIPE)
    status = run(PYTHON, "-m", "ruff", "check", ".")
    chosen = [word for word in sys.argv[2:] if word != "--whole"]
    # A fourth of what takes long (tests/in_turn.txt), unless tests are named or all are asked for.
    part = ["--in-turn"] if chosen == sys.argv[2:] and all(word.startswith("-") for word in chosen) else []
    status = status or run(PYTHON, "-m", "pytest", "-n", WORKERS, "--dist", "loadgroup", *part, *chosen)
    found = types.communicate()[0].decode(errors="replace")
    print(found if types.returncode else "", end="", flush=True)
    return status or types.returncode


if __name__ == "__main__":
    sys.exit(main())
