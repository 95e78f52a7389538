"""Draw docs/screenshots/ anew: real commands in a real terminal window under Xvfb.

    python tools/pictures.py [NAME...]

Builds the demo machine in a temporary folder and takes one picture a command,
about 1280x800; of a page, in a browser without a window. Needs Debian's xvfb,
xterm, imagemagick, chromium and chromium-driver; of a notebook, the packages
of the tests.
"""

from __future__ import annotations

import json
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from selenium.webdriver.chrome.webdriver import WebDriver

FOLDER = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
DISPLAY = ":97"

# Name of the picture, and what is typed, in the demo's spring folder.
PICTURES = {
    "here": "kalyx here",
    "survey": "kalyx survey --on windows-larkmoor; echo; kalyx here --on windows-larkmoor",
    "why": "kalyx why hivescale --in spring_weights.ipynb",
    "kernels": "kalyx kernels",
    "causes": "kalyx causes name-misleads",
    "explain": "kalyx explain -- ~/larkmoor/heath/bin/python spring_weights.py",
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
    "demo": "kalyx demo ~/larkmoor-again --yes | head -37",
}

# Name of the picture, and the line that writes the page.
PAGES = {"report": "kalyx report -o ../page.html --on windows-larkmoor --why hivescale"}


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
            for name, line in PAGES.items():
                if not names or name in names:
                    take_page(demo, name, line)
            if not names or CELL in names:
                take_cell(demo)
        finally:
            shutil.rmtree(demo, ignore_errors=True)
    finally:
        server.terminate()
    return 0


# A notebook whose kernel explains its failing import.
CELL = "explain-in-a-notebook"
_FIRST = {"cell_type": "code", "id": "a", "execution_count": None, "metadata": {}, "outputs": []}
_FIRST["source"] = "import pollenkit"
_KERNEL = {"name": "croft", "display_name": "Croft", "language": "python"}
_NOTEBOOK = {"cells": [_FIRST], "metadata": {"kernelspec": _KERNEL}, "nbformat": 4, "nbformat_minor": 5}


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
            crop(target)
            print(target)
    finally:
        window.terminate()
        window.wait()


def crop(picture: str) -> None:
    """Take the empty lower part of a terminal's picture away: what it shows ends with a margin as above."""
    said = subprocess.run(
        ["convert", picture, "-shave", "4x4", "-fuzz", "2%", "-format", "%@", "info:"],
        check=True,
        capture_output=True,
        text=True,
    )
    size, _, top = said.stdout.rpartition("+")
    bottom = int(size.partition("+")[0].partition("x")[2]) + int(top) + 20
    subprocess.run(["convert", picture, "-crop", f"1276x{bottom}+0+0", "+repage", picture], check=True)


def take_cell(demo: Path) -> None:
    """Run a cell in a real notebook whose kernel explains, and take the picture of the page."""
    enter = f". {shlex.quote(str(demo / 'enter.sh'))}\n"

    def typed(line: str) -> str:
        return subprocess.run(["bash", "--norc", "-c", enter + line], check=True, capture_output=True, text=True).stdout

    home, spring = (Path(path) for path in typed('echo "$HOME"; pwd').splitlines()[-2:])
    croft = home / "larkmoor" / "croft"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", croft], check=True)
    own = next(path for path in sys.path if path.endswith("site-packages"))
    (next((croft / "lib").glob("python*")) / "site-packages" / "shared.pth").write_text(own + "\n")
    typed("kalyx register ~/larkmoor/croft --label Croft --explain --yes")
    (spring / "pollen.ipynb").write_text(json.dumps(_NOTEBOOK))
    line = f"{enter}exec {shlex.quote(sys.executable)} -m notebook --allow-root --no-browser --port=18917"
    null = subprocess.DEVNULL
    words = ["bash", "--norc", "-c", f"{line} --IdentityProvider.token="]
    server = subprocess.Popen(words, stdout=null, stderr=null)
    browser = _browser()
    try:
        from selenium.webdriver.common.action_chains import ActionChains
        from selenium.webdriver.common.keys import Keys

        time.sleep(6)
        browser.get("http://127.0.0.1:18917/notebooks/pollen.ipynb")
        for _ in range(8):
            time.sleep(3)
            focused = "const field = document.querySelector('.jp-CodeCell .cm-content'); if (field) field.focus()"
            browser.execute_script(focused)
            ActionChains(browser).key_down(Keys.SHIFT).send_keys(Keys.ENTER).key_up(Keys.SHIFT).perform()
            time.sleep(4)
            if browser.execute_script("return document.querySelector('.kalyx-answer') !== null"):
                break
        target = str(FOLDER / f"{CELL}.png")
        browser.save_screenshot(target)
        # What stands above the notebook is the front end's own: its name and its signs are no part of this.
        subprocess.run(["convert", target, "-crop", "1280x696+0+104", "+repage", target], check=True)
        print(target)
    finally:
        browser.quit()
        server.terminate()
        server.wait()


def _browser() -> WebDriver:
    """A browser without a window, of the size of the pictures."""
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or "chromium"
    for word in ("--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--hide-scrollbars"):
        options.add_argument(word)
    browser = webdriver.Chrome(options=options, service=webdriver.ChromeService(shutil.which("chromedriver")))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    return browser


def take_page(demo: Path, name: str, line: str) -> None:
    """Write a page in the demo, and take its picture as a reader first sees it."""
    script = f". {shlex.quote(str(demo / 'enter.sh'))}\n{line}\npwd\n"
    said = subprocess.run(["bash", "--norc", "-c", script], check=True, capture_output=True, text=True).stdout
    page = Path(said.splitlines()[-1]).parent / "page.html"
    browser = _browser()
    try:
        browser.get(page.as_uri())
        time.sleep(0.5)
        target = str(FOLDER / f"{name}.png")
        browser.save_screenshot(target)
        print(target)
    finally:
        browser.quit()
        page.unlink()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
