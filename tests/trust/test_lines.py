"""Lines to paste: each shell reads back the words that were given, and a name never becomes a command."""

import json
import os
import subprocess
import sys

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kalyx.core.text import shells
from kalyx.core.text.quoting import Unquotable, line_for
from tests.conftest import make_environment
from tests.equipment import LONG, NEW, need

PRINTS = [sys.executable, "-c", "import json, os, sys; print(json.dumps([list(os.fsencode(w)) for w in sys.argv[1:]]))"]
SHELLS = {
    "sh": ["-s"], "bash": ["--norc", "-s"], "dash": ["-s"], "zsh": ["-f", "-s"], "ksh": ["-s"], "fish": ["--no-config"],
    "tcsh": ["-f"], "xonsh": ["--no-rc", "--no-env"],
}  # fmt: skip
HOSTILE = [
    "", " ", "a b", "'", '"', "\\", "a\\", "a'b\\", "\\'; touch RAN; '", "$(touch RAN)", "`touch RAN`", "${HOME}", "$HOME", "!!", "!touch RAN",
    "a!b'c", "a\nb", "\ntouch RAN\n", "a\tb", "a\rb", "\x1b[31m", "\x07", "\x7f", "~", "~root", "*", "?", "[a]", "{a,b}", "#x", "a#b", "&", "&& touch RAN",
    "; touch RAN", "| touch RAN", "> RAN", "< RAN", "%1", "%self", "%PATH%", "^", "=ls", "a=b", "-rf", "--", "@", "@(1)", "žluť", "蜂", "\u2028", "\udcff",
    "a\udc80b", "\udcffa0", "\u200b", "‘x’", "(touch RAN)", "a\\nb", "\\x41", "$'x'", "a'\"'\"'b", "\\\\", "'\\''", "\\ ", "x\\;touch RAN", "e\u0301", "\u202eabc",
    "or touch RAN", "; and touch RAN", "$PATH[1]", "\\$HOME", "%{x%}", "a\u00a0b", "1>&2", "x:y", "//x", "C:\\x y\\", "a,b", "a+b",
]  # fmt: skip


def read_back(shell: str, line: str, folder) -> list[bytes]:
    """The words that a program gets when this line is typed into the shell."""
    environment = {"PATH": "/usr/bin:/bin", "HOME": str(folder), "LANG": "C.UTF-8", "TERM": "dumb", "XDG_CACHE_HOME": str(folder),
                   "XDG_DATA_HOME": str(folder), "XDG_CONFIG_HOME": str(folder), "PYTHONUTF8": "1", "TMPDIR": os.environ["TMPDIR"]}  # fmt: skip
    done = subprocess.run([need(shell), *SHELLS[shell]], input=os.fsencode(line + "\n"), env=environment, cwd=folder,
                          capture_output=True, check=False, timeout=60)  # fmt: skip
    rows = [row for row in done.stdout.decode("utf-8", "replace").splitlines() if row.startswith("[[") or row == "[]"]
    assert rows, (shell, line, done.stdout, done.stderr)
    return [bytes(word) for word in json.loads(rows[-1])]


def check(shell: str, words: list[str], folder) -> int:
    """The words that arrive are those given; how many of them the shell could carry."""
    carried = []
    for word in words:
        try:
            line_for([word], shell)
            carried.append(word)
        except Unquotable as refusal:
            assert refusal.reason
    line = line_for([*PRINTS, *carried], shell)
    assert line.isprintable(), "what is pasted holds nothing that a terminal acts upon"
    assert read_back(shell, line, folder) == [os.fsencode(word) for word in carried]
    assert os.listdir(folder) == [] or "RAN" not in os.listdir(folder)
    return len(carried)


# Shells whose own program no test runs, with the shell of the same rules that is run instead; None: no program of it here.
ALIKE = {"ash": "dash", "ksh93": "ksh", "mksh": "ksh", "csh": "tcsh", "pwsh": None, "powershell": None, "cmd": None}


def test_every_shell_is_run_here():
    """Each shell of the table, or one of the same rules; those of Windows are tested by ``tests/windows`` and in memory."""
    from tests.real import test_entering

    for name, row in shells.SHELLS.items():
        run = ALIKE.get(name, name)
        if run is None:
            assert row.language in ("powershell", "cmd"), name
            continue
        other = shells.SHELLS[run]
        assert run in SHELLS and run in {"sh", *test_entering.SHELLS}, name
        assert (row.language, row.has_extensions, row.reads, row.activation) == (other.language, other.has_extensions, other.reads, other.activation)
        assert row.tells == other.tells and (row.language == "xonsh" or (row.modes and row.start_files)), name


# How many of the hostile names each shell carries: those without control characters at least.
@pytest.mark.parametrize("shell", SHELLS)
def test_every_hostile_name_arrives_or_is_refused(shell, tmp_path):
    carried = check(shell, HOSTILE, tmp_path)
    assert carried >= {
        "bash": len(HOSTILE),
        "zsh": len(HOSTILE),
        "ksh": len(HOSTILE),
        "fish": len(HOSTILE),
        "xonsh": 30,
    }.get(shell, 60)


@pytest.mark.parametrize("shell", [shell for shell in SHELLS if shell != "xonsh"])
@settings(max_examples=300 if LONG else 6, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    words=st.lists(
        st.text(st.characters(exclude_characters="\0", exclude_categories=()), max_size=12), min_size=20, max_size=30
    )
)
def test_names_by_chance(shell, tmp_path, words):
    words = [word for word in words if _can_be_a_word(word)]
    check(shell, words, tmp_path)


def _can_be_a_word(word: str) -> bool:
    try:
        os.fsencode(word)
    except UnicodeEncodeError:
        return False
    return True


# By the documented rules of the systems that do not run here.
OTHERS = [
    ("cmd", "C:\\a b\\", '"C:\\a b\\\\"'),
    ("cmd", "C:\\plain", "C:\\plain"),
    ("cmd", "a&b", '"a&b"'),
    ("cmd", "100%", None),
    ("cmd", 'a"b', None),
    ("cmd", "a!b", None),
    ("cmd", "a\nb", None),
    ("powershell", "C:\\it's", "'C:\\it''s'"),
    ("powershell", "a‘b", "'a‘‘b'"),
    ("powershell", "$(x)", "'$(x)'"),
    ("powershell", 'a"b', None),
    ("powershell", "--yes", "--yes"),
    ("powershell", "-a;b", "'-a;b'"),
    ("pwsh", "", "''"),
]


@pytest.mark.parametrize("shell, word, line", OTHERS)
def test_the_other_systems_by_their_rules(shell, word, line):
    if line is None:
        with pytest.raises(Unquotable):
            line_for(["x", word], shell)
    else:
        assert line_for(["x", word], shell) == f"x {line}"
    assert line_for(["C:\\a b\\python.exe", "x"], "powershell").startswith("& '")


FOLDERS = [
    "plain",
    "a b",
    "x\\",
    "it's",
    "$(touch RAN)",
    "a;touch RAN;b",
    "`touch RAN`",
    "!touch RAN",
    "end\\'; touch RAN; '",
    "a&b",
    "žluť",
]


@pytest.mark.parametrize("shell", [shell for shell in SHELLS if shell not in ("sh", "xonsh")])
def test_entering_a_folder_runs_nothing_that_it_is_called(shell, moor):
    """The real shell evaluates the line for each folder's name: it is in the environment, and no name was run."""
    program = need(shell)
    entered = 0
    for name in FOLDERS if LONG else FOLDERS[1:8]:
        prefix = moor.root / name
        make_environment(NEW, prefix, "--without-pip")
        ran = moor.kalyx("enter", str(prefix), "--shell", shell)
        if ran.status == 2:
            assert "no line of" in ran.err, ran.err
            continue
        line = ran.out.strip()
        asked = "python -c 'import sys; print(sys.prefix)'"
        before = "set prompt=x\n" if shell == "tcsh" else ""
        done = subprocess.run([program, *SHELLS[shell]], input=f"{before}{line}\n{asked}\n", env={**moor.variables, "TERM": "dumb"},
                              capture_output=True, text=True, cwd=moor.folder, check=False)  # fmt: skip
        assert str(prefix) in done.stdout.splitlines(), (name, line, done.stdout, done.stderr)
        assert not list(moor.root.rglob("RAN")), (name, line)
        entered += 1
    assert entered >= 5


def test_a_hostile_folder_is_asked_as_what_it_is(moor):
    """An environment of every such name is found, tried and told of; its name is nothing but a name."""
    for name in FOLDERS[:8]:
        python = make_environment(NEW, moor.root / name, "--without-pip")
        ran = moor.kalyx("why", "nothing_of_the_kind", "--in", str(moor.root / name), "--json")
        assert ran.status == 1 and ran.json["target"]["interpreter"]["executable"] == python
    assert not list(moor.root.rglob("RAN"))
