"""What is drawn on the made-up machines that ship, word for word: a change of it is seen, and read, before it is kept.

``KALYX_DRAW=1 python -m pytest tests/cli/test_drawn.py`` writes the files of ``drawn`` anew; read their difference then.
"""

import json
import os
import re
from pathlib import Path

import pytest

from kalyx.demo.machines import MACHINES
from tests.conftest import make_environment
from tests.equipment import BY_VERSION, NEW
from tests.faults.environments import installation
from tests.kept import as_kept, differs, story_differs

FOLDER = Path(__file__).with_name("drawn")
CALLS = """
here
here -v
here --against editor
here --plain
here --json
survey
survey -v
survey --json
kernels
kernels -v
kernels --json
packages
packages orchard -v
packages orchard --unmet
packages orchard --hidden
packages heath --origin base
contrast orchard heath
contrast orchard heath --json
contrast shell kernel:orchard
contrast shell editor
record orchard
record heath --everything
enter orchard
enter orchard --shell bash
enter orchard --shell fish
enter orchard --shell tcsh
enter orchard --shell powershell
enter orchard --shell cmd
enter orchard --json
why hivescale
why hivescale -v
why hivescale --json
why hivescale --everywhere
why hivescale --in kernel:orchard
why hivescale --in kernel:orchard-spring
why hivescale --in heath
why hivescale --in editor
why statistics
why statistics --in orchard
why from statistics import mean
why nectarflow --in orchard
why hivescal --in orchard
why hiveskales --in orchard
why lonely_meadow
why numpy yaml cv2 --in heath
why json.decoder --in orchard
why from json import lods --in orchard
why urlparse --in orchard
why tomllib --in heath
why .
why program:pip
why program:jupyter
why program:nothing
why json --in version:3.11
why json --in kernel:nothing
why json --in nowhere
why 1a
packages nowhere
contrast orchard
causes
causes shadowed
causes seat-differs --json
COLUMNS=50 here -v
COLUMNS=50 survey -v
COLUMNS=50 kernels -v
COLUMNS=50 packages orchard -v
COLUMNS=50 why hivescale -v
COLUMNS=50 why hivescale --everywhere
COLUMNS=50 contrast orchard heath
COLUMNS=70 why hivescale --in heath
COLUMNS=70 contrast shell editor
"""


@pytest.mark.parametrize("machine", MACHINES)
def test_what_is_drawn(machine, moor):
    told = []
    for line in CALLS.strip().splitlines():
        words = line.split()
        width = dict([words.pop(0).split("=")]) if words[0].startswith("COLUMNS=") else {}
        if words[0] == "why" and "from" in words:  # one import statement is one word
            end = words.index("--in") if "--in" in words else len(words)
            words[1:end] = [" ".join(words[1:end])]
        ran = moor.kalyx(*words, *(["--on", machine] if words[0] != "causes" else []), **width)
        told.append(f"$ kalyx {line}\n{ran.out}{ran.err}= {ran.status}\n\n")
    difference = differs(FOLDER / f"{machine}.txt", as_kept("".join(told), {str(moor.root): "root"}))
    assert not difference, difference


def test_the_page_that_is_drawn(moor):
    """The same of the page: its words and its drawing, without what differs with each run."""
    told = []
    for machine in MACHINES:
        ran = moor.kalyx("report", "-o", moor.root / f"{machine}.html", "--on", machine, "--why", "hivescale", "--why", "statistics", "--yes")
        assert ran.status in (0, 1), ran.err
        told += [f"== {machine}", *(moor.root / f"{machine}.html").read_text(encoding="utf-8").splitlines()]
    # Its style and script are files of the product.
    told = re.sub(r"(?s)<(style|script)\b[^>]*>.*?</\1>", r"<\1/>", "\n".join(told) + "\n")
    text = re.sub(r"Kalyx [\d.]+ on [\d-]+ [\d:]+ UTC", "Kalyx {version} on {time}", told)
    difference = differs(FOLDER / "pages.html", text)
    assert not difference, difference[:6000]


ACTIONS = """
survey --under {moor}
fill heath hivescale --wheels {wheels} --dry-run
fill heath hivescale --wheels {wheels} --yes
fill heath nectarflow==1.0 --wheels {wheels} --dry-run --json
fill heath combtool --wheels {wheels} --yes
fill heath gone-for-good --wheels {wheels} --yes
fill heath --remove hivescale --dry-run
fill heath --remove hivescale --yes --json
packages heath
register heath --id heath --wheels {wheels} --yes
register heath --id heath --bring-package --wheels {wheels} --dry-run
register heath --id heath --label Heath --bring-package --wheels {wheels} --yes
register heath --id heath --label Heath --yes
register orchard --id heath --static --yes
register orchard --id heath --static --take-over --yes --json
unregister heath --undo --yes
register heath --id orchard --label Orchard --env NECTAR=1 --yes
kernels
rehearse heath --import nectarflow --import gone_for_good
rehearse heath --json
why nectarflow --in kernel:heath
why gone_for_good --in kernel:heath
point editor orchard --dry-run
point editor orchard --yes
point editor --undo --yes
point notebook:weights.ipynb kernel:heath --yes
point notebook:weights.ipynb --undo --yes --json
point terminal orchard
unregister heath --dry-run
unregister heath --yes
unregister heath --undo --yes
unregister nothing --yes
record heath
record heath -o {moor}/heath.txt --yes
prepare {moor}/again --from {moor}/heath.txt --python {base} --wheels {wheels} --dry-run
prepare {moor}/again --from {moor}/heath.txt --python {base} --wheels {wheels} --yes
prepare {moor}/again --python {base} --yes
contrast heath {moor}/again
contrast heath {moor}/heath.txt
prepare {moor}/second --python {base} --want hivescale --wheels {wheels} --kernel second --point-editor --yes --json
discard {moor}/second --dry-run
discard {moor}/second --yes
discard {moor}/again --yes --json
discard orchard --yes
discard orchard --with-own-files --yes
discard {moor} --yes
enter heath
survey --under {moor}
"""


def test_what_actions_say(moor, wheels):
    """What is foreseen, done and taken back on a real machine, word for word."""
    heath = make_environment(NEW, moor.root / "heath")
    make_environment(NEW, moor.root / "orchard", "--without-pip")
    (moor.root / "orchard" / "mine.txt").write_text("mine")
    base = installation(NEW, moor.root.parent / "base")
    moor.notebook("weights.ipynb", "heath")
    (moor.folder / ".vscode").mkdir()
    (moor.folder / ".vscode" / "settings.json").write_text(json.dumps({"python.defaultInterpreterPath": heath}, indent=2))
    moor.variables |= {"PATH": f"{moor.root}/heath/bin:/usr/bin:/bin", "KALYX_ONLY_BELOW": str(moor.root.parent), "PIP_NO_INDEX": "1", "COLUMNS": "1000"}
    names = {"moor": str(moor.root), "wheels": str(wheels), "base": str(base)}
    told = []
    for line in ACTIONS.strip().splitlines():
        words = [word.format(**names) for word in line.split()]
        words = [str(moor.root / word) if word in ("heath", "orchard") and words[at - 1] not in ("--id", "unregister", "rehearse") else word for at, word in enumerate(words)]
        ran = moor.kalyx(*words)
        told.append(f"$ kalyx {line}\n{ran.out}{ran.err}= {ran.status}\n\n")
    real = BY_VERSION[NEW]
    paths = {path: name for name, path in names.items()} | {str(moor.root.parent): "root", real.prefix: "real"}
    made_by = f"Python {real.version}, user {'root' if os.geteuid() == 0 else 'other'}"
    difference = story_differs(FOLDER / "actions.txt", as_kept("".join(told), paths), made_by)
    assert not difference, difference
