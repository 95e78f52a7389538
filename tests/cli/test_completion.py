"""Completion asked of real shells, taught as the help says: commands, options, and names that are on the machine."""

import os
import pty
import re
import select
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import make_environment
from tests.equipment import NEW, need

# What is typed, and what of the answers must and must not be there.
TYPED = [
    ("kalyx wh", {"why"}, {"here"}),
    ("kalyx why --ev", {"--everywhere"}, {"--json"}),
    ("kalyx why hivesc", {"hivescale"}, {"nectarflow"}),
    ("kalyx why hivescale.fr", {"hivescale.frames"}, {"hivescale"}),
    ("kalyx why combs --in heat", {"heath"}, {"orchard"}),
    ("kalyx rehearse orch", {"orchard-spring"}, {"heath"}),
    ("kalyx causes shadow", {"shadowed"}, {"unmet"}),
    ("kalyx why spring_", {"spring_weights.ipynb"}, {"hivescale"}),
    ("kalyx completion fi", {"fish"}, {"bash"}),
]

BASH = """
eval "$(kalyx completion bash)"
while IFS= read -r COMP_LINE; do
  COMP_POINT=${#COMP_LINE} COMP_TYPE=9 COMP_WORDS=($COMP_LINE) COMPREPLY=()
  COMP_CWORD=$((${#COMP_WORDS[@]} - 1))
  _python_argcomplete kalyx
  echo "${COMPREPLY[@]}"
done
"""
FISH = """
kalyx completion fish | source
while read --local line
  echo (complete -C "$line" | string replace -r '\\t.*' '' | string join ' ')
end
"""


@pytest.fixture
def typed_in(moor):
    """The moor with two environments, one of them on PATH, a kernel and a notebook; Kalyx is on PATH."""
    for name in ("heath", "orchard"):
        make_environment(NEW, moor.root / name, "--without-pip")
    site = next((moor.root / "heath").glob("lib/python*/site-packages"))
    for path in ("hivescale/__init__.py", "hivescale/frames.py", "nectarflow.py"):
        (site / path).parent.mkdir(exist_ok=True)
        (site / path).write_text("")
    moor.kernel("orchard-spring", [str(moor.root / "orchard/bin/python"), "-m", "x"])
    moor.notebook("spring_weights.ipynb", "orchard-spring")
    moor.variables["PATH"] = f"{moor.root}/heath/bin:{Path(sys.executable).parent}:/usr/bin:/bin"
    return moor


def judged(answers: list[str]) -> None:
    assert len(answers) == len(TYPED), answers
    for (line, wanted, unwanted), answer in zip(TYPED, answers, strict=True):
        words = {word.strip("'\"") for word in answer.split()}
        assert wanted <= words and not unwanted & words, (line, answer)


@pytest.mark.parametrize("shell, script", [("bash", BASH), ("fish", FISH)])
def test_what_a_shell_is_told(typed_in, shell, script):
    lines = "".join(f"{line}\n" for line, _, _ in TYPED)
    flags = ["--norc", "--noprofile", "-c"] if shell == "bash" else ["--no-config", "-c"]
    done = subprocess.run([need(shell), *flags, script], input=lines, cwd=typed_in.folder, env=typed_in.variables, capture_output=True, text=True, check=False)
    judged(done.stdout.splitlines())


def test_what_a_line_editor_writes(typed_in):
    """The one shell whose completion lives in its line editor alone: keys are typed at a terminal, the line is read."""
    variables = {**typed_in.variables, "TERM": "dumb", "COLUMNS": "200", "ZDOTDIR": str(typed_in.root)}
    zsh = need("zsh")
    child, terminal = pty.fork()
    if child == 0:
        os.chdir(typed_in.folder)
        os.execve(zsh, ["zsh", "-f", "-i"], variables)

    def answered(keys: str, until: str, seconds: float = 20) -> str:
        os.write(terminal, keys.encode())
        text, end = "", time.monotonic() + seconds
        while until not in text and time.monotonic() < end:
            if select.select([terminal], [], [], 0.2)[0]:
                text += os.read(terminal, 65536).decode(errors="replace")
        return text

    try:
        answered("PROMPT=; autoload -Uz compinit && compinit -u -D && eval \"$(kalyx completion zsh)\"; echo taught-$((1+1))\n", "taught-2")
        for line, wanted, _ in TYPED:
            (word,) = wanted
            # The line as it stands then is printed by the shell itself: its beginning and its end are typed around it.
            said = answered(f"{line}\t\x01echo got-$((1+1)) \x05 -end\n", "got-2")
            said += answered("", "-end", 2) if "-end" not in said.rpartition("got-2")[2] else ""
            whole = " ".join([*line.split()[:-1], word])
            assert f"got-2 {whole} " in re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", said), (line, said)
    finally:
        os.close(terminal)
        os.waitpid(child, 0)
