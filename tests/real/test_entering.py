"""The printed line evaluated by the real shells; what undoes it there; site modules that bring the base."""

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.core.interpreters.sitemodules import available_modules, loaded_modules, settings_of
from kalyx.core.seats.startfiles import taken_over
from kalyx.core.system.memory_reader import MemoryReader
from kalyx.core.text.quoting import line_that_runs_output
from tests.conftest import make_environment
from tests.equipment import BY_VERSION, NEW, OTHER, need


def said(done) -> str:
    """The last line; one shell quotes a path that has blanks."""
    return (done.stdout.strip().splitlines() or [""])[-1].strip("'")


SHELLS = {
    "bash": ["-c"],
    "xonsh": ["--no-rc", "-c"],
    "dash": ["-c"],
    "zsh": ["-fc"],
    "ksh": ["-c"],
    "fish": ["-c"],
    "tcsh": ["-fc"],
}


def program_of(shell: str) -> str:
    return need(shell)


@pytest.mark.parametrize("shell", SHELLS)
def test_the_printed_line_enters(moor, shell):
    """The real shell evaluates the line, and says where python then is."""
    program = program_of(shell)
    prefix = moor.root / "a b" / "orchard"
    python = make_environment(NEW, prefix, "--without-pip")
    line = moor.kalyx("enter", str(prefix), "--shell", shell).out.strip()
    asked = "which python" if shell in ("tcsh", "xonsh") else "command -v python"
    before = "set prompt=x; " if shell == "tcsh" else ""
    done = subprocess.run(
        [program, *SHELLS[shell], f"{before}{line}; {asked}"],
        env=moor.variables,
        capture_output=True,
        text=True,
        check=False,
    )
    assert said(done) == python, done.stdout + done.stderr
    # As it is pasted from where Kalyx says how to enter: the shell itself carries out what the command prints.
    pasted = line_that_runs_output(["kalyx", "enter", str(prefix), "--shell", shell], shell)
    path = {"PATH": f"{Path(sys.executable).parent}:{moor.variables['PATH']}"}
    done = subprocess.run(
        [program, *SHELLS[shell], f"{before}{pasted}; {asked}"],
        env=moor.variables | path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert said(done) == python, done.stdout + done.stderr
    for script in (prefix / "bin").glob("[aA]ctivate*"):
        script.unlink()
    line = moor.kalyx("enter", str(prefix), "--shell", shell).out.strip()
    done = subprocess.run(
        [program, *SHELLS[shell], f"{line}; {asked}"], env=moor.variables, capture_output=True, text=True, check=False
    )
    assert said(done) == python, done.stdout + done.stderr


# Shell, start file, its line, how the shell is made to read it. The shell itself says what the word means then.
OVERRIDES = [
    ("bash", ".bashrc", "alias python='echo from-alias'", ["-ic"]),
    ("bash", ".bashrc", ". ~/.more\n", ["-ic"]),
    ("zsh", ".zshrc", "function python { echo from-alias; }", ["-ic"]),
    ("ksh", ".kshrc", "python() { echo from-alias; }", ["-ic"]),
    ("fish", ".config/fish/functions/python.fish", "function python; echo from-alias; end", ["-c"]),
    ("fish", ".config/fish/conf.d/bees.fish", "alias python 'echo from-alias'", ["-c"]),
    ("tcsh", ".tcshrc", "alias python echo from-alias", ["-c"]),
]


@pytest.mark.parametrize(("shell", "file", "line", "flags"), OVERRIDES, ids=lambda value: str(value)[:18])
def test_what_undoes_the_line_is_said(moor, shell, file, line, flags):
    prefix = moor.root / "orchard"
    python = make_environment(NEW, prefix, "--without-pip")
    assert moor.kalyx("enter", str(prefix), "--shell", shell).err == ""
    path = moor.root / file
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(line + "\n")
    (moor.root / ".more").write_text("unset x\nalias python='echo from-alias'\n")
    ran = moor.kalyx("enter", str(prefix), "--shell", shell)
    words = f"{ran.out.strip()}\npython" if shell != "tcsh" else f"set prompt=x; {ran.out.strip()}; python"
    env = {**moor.variables, "ENV": str(moor.root / ".kshrc"), "TERM": "dumb"}
    done = subprocess.run([program_of(shell), *flags, words], env=env, capture_output=True, text=True, check=False,
                          stdin=subprocess.DEVNULL)  # fmt: skip
    # One shell reads aliases before it runs any line, another after: a word given at once may pass it over.
    assert "from-alias" in done.stdout or shell in ("ksh", "tcsh"), done.stderr
    where = path if line != ". ~/.more\n" else moor.root / ".more"
    assert f"by {where}, line" in ran.err and "wins over PATH" in ran.err
    assert python


TCL = """#%Module1.0
set version 3.9.18
set root /opt/lark/$version
prepend-path PATH $root/bin
prepend-path -d : PYTHONPATH "/opt/lark/site"
setenv LARK [exec pwd]
"""
LUA = """local root = "/opt/lark/3.8" -- where it lies
local site = root .. "/site"
prepend_path("PATH", pathJoin(root, "bin"))
prepend_path{"PYTHONPATH", site}
setenv("LARK", os.getenv("HOME"))
"""


@pytest.mark.parametrize(
    ("name", "text", "wanted"),
    [
        ("3.9", TCL, [("PATH", "/opt/lark/3.9.18/bin", 4), ("PYTHONPATH", "/opt/lark/site", 5)]),
        ("3.8.lua", LUA, [("PATH", "/opt/lark/3.8/bin", 3), ("PYTHONPATH", "/opt/lark/3.8/site", 4)]),
        ("odd", "set a\nprepend-path PATH /x\n", []),
    ],
)
def test_module_files_are_read(name, text, wanted):
    variables = {"MODULEPATH": "/m:relative", "LOADEDMODULES": "larkpython/3.9", "_LMFILES_": f"/m/larkpython/{name}"}
    reader = MemoryReader("linux", {f"/m/larkpython/{name}": text.encode()}, variables=variables)
    (module,) = available_modules(reader)
    assert module.path == loaded_modules(reader)[0].path
    assert [(item.variable, item.value, item.line) for item in settings_of(reader, module)] == wanted


MODULES = "/usr/share/modules/init/bash"


def test_a_real_module_system(moor):
    """The survey finds an installation that only a module names; the line loads that module and then enters."""
    need("a module system")
    base = BY_VERSION[OTHER]
    hidden = moor.root / "site" / f"python-{OTHER}"
    shutil.copytree(Path(base.prefix) / "bin", hidden / "bin", symlinks=True)
    (hidden / "lib").mkdir()
    (hidden / "lib" / f"python{OTHER}").symlink_to(Path(base.prefix) / "lib" / f"python{OTHER}")
    folder = moor.root / "modules" / "lark-python"
    folder.mkdir(parents=True)
    (moor.root / "reaching").mkdir()
    (folder / OTHER).write_text(f"#%Module\nset root {hidden}\nprepend-path PATH $root/bin\n"
                                f"prepend-path PYTHONPATH {moor.root}/reaching\n")  # fmt: skip
    prefix = moor.root / "heath"
    subprocess.run([hidden / "bin" / f"python{OTHER}", "-m", "venv", "--without-pip", str(prefix)], check=True)

    def in_bash(words: str) -> subprocess.CompletedProcess:
        words = f'. {MODULES}; module use {folder.parent}; kalyx() {{ {sys.executable} -m kalyx "$@"; }}; {words}'
        return subprocess.run(["bash", "-c", words], env=moor.variables, capture_output=True, text=True, check=True)

    found = in_bash("kalyx survey --json || true").stdout
    assert f'"{hidden}/bin/python{OTHER}"' in found or f'"{hidden}/bin/python3"' in found
    line = in_bash(f"kalyx enter {prefix}").stdout.strip()
    assert line == f"module load lark-python/{OTHER}; source {prefix}/bin/activate"
    done = in_bash(f"{line}; command -v python; echo $LOADEDMODULES; kalyx enter {prefix}")
    assert done.stdout.split()[:2] == [str(prefix / "bin" / "python"), f"lark-python/{OTHER}"]
    assert f"PYTHONPATH is set by the site module lark-python/{OTHER}" in done.stderr


def test_start_files_are_bounded_and_follow_no_circle():
    home = "/home/keeper"
    files = {
        f"{home}/.bashrc": b"source ~/.bashrc\n. ~/.two\nalias pip=pip3\nalias ls='ls -l'\n",
        f"{home}/.two": b"\xff\n",
    }
    reader = MemoryReader("linux", files, home=home)
    assert [(item.word, item.line) for item in taken_over(reader, "bash")] == [("pip", 3)]
    files |= {f"{home}/.config/powershell/profile.ps1": b"set-alias python py\nSet-Alias ls dir\nfunction pip3 { py -m pip }\n"}
    assert [(item.kind, item.word, item.line) for item in taken_over(MemoryReader("linux", files, home=home), "pwsh")] == [
        ("alias", "python", 1), ("function", "pip3", 3)]  # fmt: skip
