"""What a word starts in a shell whose start files take it over: read, and run for real in each of six shells.

Start files are made by chance from building blocks; the shell itself says what ``python`` starts. Reading may leave open
what only running a file tells, and must never name another program than the shell starts.
"""

import os
import random
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell import read_shell
from kalyx.core.system.live_reader import LiveReader
from tests.equipment import LONG, SEED, need

POSIX = [
    "alias python={x}/alpha", "alias python='{x}/alpha -q'", 'alias python="env A=1 {x}/alpha"', "alias python='python -B'", "alias python=python3", "alias python3={x}/beta",
    "alias python={x}/missing", "unalias python", 'python() {{ {x}/alpha "$@"; }}', 'python() {{\n  {x}/beta "$@"\n}}', 'python3() {{ command python "$@"; }}',
    "if false; then\n  alias python={x}/beta\nfi", "if true; then alias python={x}/alpha; fi", "[ -n x ] && alias python={x}/beta", ". {x}/more", ". $HOME/more", 'alias python="$HOME/alpha"',
    "alias python='$HOME/beta'", "# alias python={x}/beta", "alias python={x}/alpha  # mine", "alias hive=x python={x}/beta", 'eval "alias python={x}/alpha"', "alias python='{x}/my\\ dir/alpha'",
    "alias python='\"{x}/my dir/alpha\"'", "alias pip={x}/alpha", 'python() {{\n  if true; then {x}/alpha "$@"; else {x}/beta; fi\n}}', "alias python='A=1 python3'",
    "alias swarm=python3", "alias python=swarm", 'swarm() {{ {x}/alpha "$@"; }}', "alias swarm='alias python={x}/beta'", "swarm-out() {{\n  alias python={x}/alpha\n}}\nswarm-out", "swarm", "unalias swarm",
    "swarm() {{\n  brood\n}}", "brood() {{\n  alias python={x}/beta\n}}", "brood () {{ unalias python; }}", "if false; then\n  unalias python\nfi", "alias brood='python3 -B'", "if false; then\n  swarm\nfi",
    "alias python=\\\n{x}/beta", "alias python='exec {x}/alpha'", "case x in\n  x) alias python={x}/beta ;;\nesac", "true; alias python={x}/alpha", "alias python='~/alpha'", "alias python=alpha",
    "alias python {x}/beta", "alias hive python={x}/beta", "alias -g python={x}/alpha", "alias -p python={x}/beta", "swarm() {{ {x}/alpha \"$@\"; }}; alias python=swarm", "brood() {{ swarm; }}; python() {{ {x}/beta; }}; unalias python3", "unset python", "unset -f python", ". ./more", "alias -- python={x}/beta",
    "swarm() {{\n  echo ${{HOME}}\n  alias python={x}/beta\n}}", "brood() {{ echo ${{HOME}}; alias python={x}/alpha; }}",
]  # fmt: skip
LINES = {
    "bash": [*POSIX, "hash -p {x}/beta python", 'function python {{ {x}/alpha "$@"; }}', "unset -f python", "builtin alias python={x}/alpha", "shopt -s expand_aliases"],
    "zsh": [*POSIX, "hash python={x}/beta", 'function python {{ {x}/alpha "$@" }}', "alias -g hive={x}/beta", "unfunction python", "unhash -f python", "unhash -a python"],
    "dash": POSIX,
    "ksh": [*POSIX, 'function python {{ {x}/alpha "$@"; }}'],
    "fish": ["alias python={x}/alpha", "alias python '{x}/beta -q'", "alias python 'env A=1 {x}/alpha'", "function python; {x}/alpha $argv; end", "function python\n  {x}/beta $argv\nend",
             "function python3\n  command python $argv\nend", "if false\n  alias python={x}/beta\nend", "if true\n  alias python={x}/alpha\nend", "source {x}/more", "functions -e python",
             "# alias python={x}/beta", "alias python=python3", "alias python3={x}/beta", "alias python={x}/missing", "true; and alias python={x}/beta", "function python --wraps x\n  {x}/alpha $argv\nend",
             "alias -s python={x}/beta", "alias --save python {x}/alpha", "alias -x python={x}/beta", "function brood; swarm; end; alias python={x}/beta", "function python; {x}/alpha; end; alias python3={x}/beta", "source ./more", "alias swarm=python3", "alias python=swarm", "function swarm; {x}/alpha $argv; end", "function swarm-out\n  alias python={x}/beta\nend", "swarm-out", "swarm", "if false\n  swarm\nend"],
    "tcsh": ["alias python {x}/alpha", "alias python '{x}/beta -q'", "alias python '{x}/alpha \\!*'", "alias python python3", "alias python3 {x}/beta", "unalias python", "alias python {x}/missing",
             "if (0) alias python {x}/beta", "if (1) then\n  alias python {x}/alpha\nendif", "source {x}/more", "# alias python {x}/beta", "alias python 'env A=1 {x}/beta'", "alias python \"$HOME/alpha\"",
             "alias python={x}/beta", "alias -g python {x}/beta", "alias swarm python3", "alias python swarm", "alias swarm 'alias python {x}/beta'", "swarm", "if (0) swarm", "alias swarm {x}/alpha"],
}  # fmt: skip
RC = {"bash": ".bashrc", "zsh": ".zshrc", "dash": ".dashrc", "ksh": ".kshrc", "fish": ".config/fish/config.fish", "tcsh": ".tcshrc"}
SECONDS = float(os.environ.get("KALYX_EXPLORE_SECONDS", 120 if LONG else 4))


def world(root: Path) -> dict[str, str]:
    """A home folder with programs that say who they are, and what a shell started there has for variables."""
    home = root / "home"
    for folder in (home / "bin", home / "my dir", home / ".config" / "fish"):
        folder.mkdir(parents=True)
    for path in ("alpha", "beta", "my dir/alpha", "bin/python", "bin/python3", "bin/pip", "bin/alpha"):
        (home / path).write_text('#!/bin/sh\necho "I AM $0"\n')
        (home / path).chmod(0o755)
    return {"HOME": str(home), "PATH": f"{home}/bin:/usr/bin:/bin", "LANG": "C.UTF-8", "TERM": "dumb", "XDG_CONFIG_HOME": f"{home}/.config"}


def said(shell: str, variables: dict[str, str], word: str) -> str | None:
    """The program that the shell starts for the word; None where it starts none that says who it is."""
    flags = ["-c"] if shell == "tcsh" else ["-ic"]
    # A function that an alias named like what it calls goes round for ever; bash counts the calls where it is told to.
    done = subprocess.run([shell, *flags, f"echo STARTED; {word}"], env={**variables, "FUNCNEST": "30"}, cwd=variables["HOME"], capture_output=True, text=True, check=False, timeout=60, stdin=subprocess.DEVNULL, start_new_session=True)
    lines = [line.partition("I AM ")[2] for line in done.stdout.rpartition("STARTED")[2].splitlines() if "I AM " in line]
    return lines[-1] if lines else None


@pytest.mark.parametrize("shell", LINES)
def test_what_a_word_starts(shell, tmp_path, record_property):
    need(shell)
    chance = random.Random(f"{shell} {SEED}")
    compared = left_open = 0
    until = time.monotonic() + SECONDS
    while time.monotonic() < until:
        root = tmp_path / str(compared + left_open)
        variables = world(root)
        if shell == "dash":
            variables["ENV"] = f"{variables['HOME']}/.dashrc"
        home = Path(variables["HOME"])
        lines = [line.format(x=home) for line in chance.sample(LINES[shell], chance.choice([1, 1, 2, 3, 4]))]
        (home / RC[shell]).write_text("\n".join(lines) + "\n")
        more = [line for line in LINES[shell] if "more" not in line]
        (home / "more").write_text(chance.choice(more).format(x=home) + "\n")
        reader = LiveReader(variables=variables, folder=str(home))
        seat = read_shell(reader, ShellFound(shell, None, "test"))
        parts = {part.word: part for part in seat.parts}
        for word in ("python", "python3"):
            own, part = said(shell, variables, word), parts[word]
            about = f"seed {SEED}, {word} in {shell}: the shell starts {own}, reading says {part.path} ({part.reason})\n" + "\n".join(lines) + "\n-- more:\n" + (home / "more").read_text()
            if part.undecided and part.path is None:
                left_open += 1
                continue
            there = part.path if part.path is not None and os.access(part.path, os.X_OK) else None
            assert there == own, about
            compared += 1
        shutil.rmtree(root)
    assert compared > 3 * left_open or compared + left_open < 20, (compared, left_open)
    record_property("words compared", compared)
