"""What is drawn on the made-up machines that ship, word for word: a change of it is seen, and read, before it is kept.

``KALYX_DRAW=1 python -m pytest tests/cli/test_drawn.py`` writes the files of ``drawn`` anew; read their difference then.
"""

import re
from pathlib import Path

import pytest

from kalyx.demo.machines import MACHINES
from tests.kept import as_kept, differs

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
"""


@pytest.mark.parametrize("machine", MACHINES)
def test_what_is_drawn(machine, moor):
    told = []
    for line in CALLS.strip().splitlines():
        words = line.split()
        if words[0] == "why" and "from" in words:  # one import statement is one word
            end = words.index("--in") if "--in" in words else len(words)
            words[1:end] = [" ".join(words[1:end])]
        ran = moor.kalyx(*words, *(["--on", machine] if words[0] != "causes" else []))
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
