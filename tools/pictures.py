"""Draw docs/screenshots/ anew: real commands in a real terminal window under Xvfb.

    python tools/pictures.py [NAME...]

Builds the demo machine in a temporary folder and takes one picture a command,
about 1280x800. Needs Debian's xvfb, xterm and imagemagick.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

FOLDER = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
DISPLAY = ":97"

# Name of the picture, and what is typed, in the demo's spring folder.
PICTURES = {
    "here": "kalyx here",
    "survey": "kalyx survey --on windows-larkmoor; echo; kalyx here --on windows-larkmoor",
    "why": "kalyx why hivescale --in spring_weights.ipynb",
    "why-prove": "kalyx why hivescale --in ~/larkmoor/heath --prove --wheels $PIP_FIND_LINKS",
    "kernels": "kalyx kernels",
    "causes": "kalyx causes name-misleads",
    "register": "kalyx register ~/larkmoor/orchard --id orchard-spring --label 'Orchard, spring' --take-over --yes",
    "rehearse": "kalyx rehearse orchard-spring --import hivescale",
    "here-after": "kalyx here",
    "packages": "kalyx packages ~/larkmoor/orchard",
    "prepare": "kalyx prepare ~/larkmoor/meadow --want hivescale --want pollen-kit --wheels $PIP_FIND_LINKS --yes",
    "fill": "kalyx fill ~/larkmoor/heath pollen-kit --wheels $PIP_FIND_LINKS --yes",
    "contrast": "kalyx contrast ~/larkmoor/orchard ~/larkmoor/heath",
    "record": "kalyx record ~/larkmoor/orchard",
    "point": "kalyx point editor:.vscode/settings.json ~/larkmoor/meadow --yes; echo; kalyx here",
    "discard": "kalyx discard ~/larkmoor/meadow --yes",
    "demo": "kalyx demo ~/larkmoor-again --yes | tail -37",
}


def main(names: list[str]) -> int:
    missing = [word for word in ("Xvfb", "xterm", "import") if shutil.which(word) is None]
    if missing:
        print("needed and not here:", ", ".join(missing))
        return 2
    FOLDER.mkdir(parents=True, exist_ok=True)
    server = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1)
        # A short path that a reader might have, where this user may make it.
        above = "/" if os.access("/", os.W_OK) and not os.path.exists("/moor") else tempfile.mkdtemp(prefix="moor-")
        demo = Path(above, "moor")
        try:
            words = [sys.executable, "-m", "kalyx", "demo", str(demo), "--build-only", "--yes"]
            subprocess.run(words, check=True, stdout=subprocess.DEVNULL)
            for name, line in PICTURES.items():
                # Commands that change the machine are run even when no picture of them is wanted.
                if not names or name in names or name in ("register", "prepare"):
                    take(demo, name, line, keep=not names or name in names)
        finally:
            shutil.rmtree(demo, ignore_errors=True)
    finally:
        server.terminate()
    return 0


def take(demo: Path, name: str, line: str, keep: bool) -> None:
    """Type one line in a terminal window that stands in the demo, and take its picture."""
    done = demo / "done"
    script = demo / "typed.sh"
    script.write_text(
        "export TERM=xterm-256color COLORTERM=truecolor\n"
        f". {shlex.quote(str(demo / 'enter.sh'))}\nclear\nprintf '\\033[1m$ %s\\033[0m\\n\\n' {shlex.quote(line)}\n"
        f"{line}\ntouch {shlex.quote(str(done))}\nsleep 30\n"
    )
    done.unlink(missing_ok=True)
    environment = {**os.environ, "DISPLAY": DISPLAY, "TERM": "xterm-256color", "LANG": "C.UTF-8"}
    for variable in ("COLUMNS", "LINES", "NO_COLOR"):
        environment.pop(variable, None)
    window = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "140x44+0+0", "-bg", "#fdfaf3", "-fg", "#26231c",
         "-b", "8", "-e", "bash", "--norc", str(script)],
        env=environment, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        for _ in range(600):
            if done.exists() or window.poll() is not None:
                break
            time.sleep(0.1)
        time.sleep(0.6)
        if keep:
            target = str(FOLDER / f"{name}.png")
            subprocess.run(["import", "-window", "root", target], env=environment, check=True)
            print(target)
    finally:
        window.terminate()
        window.wait()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
