"""Nothing that a folder brought is run: a canary in everything that it can bring, and every command asked in it.

With KALYX_LONG every command is asked in every way of standing there; else each way asks some of them.
"""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Moor, make_environment
from tests.equipment import BY_VERSION, LONG, NEW, need

MODULES = ("kalyx", "msgspec", "rich", "psutil", "argparse", "packaging", "zmq", "sitecustomize", "usercustomize", "encodings",
           "collections", "tomllib", "platformdirs", "pathspec", "argcomplete", "elftools")  # fmt: skip
PROGRAMS = (
    "python",
    "python3",
    "pip",
    "pip3",
    "kalyx",
    "git",
    "sh",
    "bash",
    "jupyter",
    "jupyter-lab",
    "ps",
    "hive-tool",
)


class Clone:
    """A working copy that somebody else wrote, with a canary in all that it brings; and the user who stands in it."""

    def __init__(self, root: Path) -> None:
        self.moor = Moor(root / "moor")
        self.aviary = root / "ran"
        self.aviary.mkdir()
        self.top = root / "clone"  # not below the home folder's own
        self.folder = self.top / "spring"
        self.folder.mkdir(parents=True)
        subprocess.run([need("git"), "-C", self.top, "init", "-q"], check=True, env=self.moor.variables)
        self.own = make_environment(NEW, self.moor.root / "orchard", "--without-pip")
        self.moor.variables["PATH"] = f"{self.moor.root}/orchard/bin:/usr/bin:/bin"
        for name in MODULES:
            (self.folder / f"{name}.py").write_text(self.code(name))
        for name in PROGRAMS:
            for folder in (self.folder, self.top / "bin"):
                folder.mkdir(exist_ok=True)
                program = folder / name
                program.write_text(f"#!/bin/sh\n: > {self.aviary}/program-{name}\n")
                program.chmod(0o755)
        self.environment(self.folder / ".venv", "venv")
        self.environment(self.top / "above", "above")
        self.settings()
        self.repository()

    def code(self, what: str) -> str:
        return f"open({str(self.aviary / what)!r}, 'w').close()\n"

    def environment(self, prefix: Path, what: str) -> None:
        """An environment of the clone's own, whose interpreter is a link to this machine's."""
        make_environment(NEW, prefix, "--without-pip")
        site = next(prefix.glob("lib/python*/site-packages"))
        (site / "sitecustomize.py").write_text(self.code(f"{what}-sitecustomize"))
        (site / "late.pth").write_text(f"import os; open({str(self.aviary / (what + '-pth'))!r}, 'w').close()\n")
        (site / "hivescale.py").write_text(self.code(f"{what}-module"))
        folder = prefix / "share" / "jupyter" / "kernels" / "brought"
        folder.mkdir(parents=True)
        (folder / "kernel.json").write_text(json.dumps({"argv": [str(self.top / "bin" / "python"), "{connection_file}"],
                                                        "display_name": "brought", "language": "python"}))  # fmt: skip

    def settings(self) -> None:
        (self.folder / ".vscode").mkdir()
        (self.folder / ".vscode" / "settings.json").write_text(
            json.dumps({"python.defaultInterpreterPath": str(self.top / "above/bin/python")})
        )
        (self.folder / ".python-version").write_text("../../bin\n")
        (self.folder / "pyproject.toml").write_text(
            '[build-system]\nrequires = []\nbuild-backend = "kalyx"\nbackend-path = ["."]\n'
        )
        (self.folder / "setup.py").write_text(self.code("setup"))
        (self.folder / "conftest.py").write_text(self.code("conftest"))
        (self.folder / ".envrc").write_text(f": > {self.aviary}/envrc\n")
        self.moor.folder = self.folder
        self.moor.notebook("spring.ipynb", "brought")
        (self.folder / "src").mkdir()
        (self.folder / "src" / "ownmodule.py").write_text(self.code("own-module"))
        (self.folder / "use.py").write_text("import hivescale\nimport nothing_of_the_kind\n")

    def repository(self) -> None:
        for name in ("post-checkout", "pre-commit", "fsmonitor-watchman", "post-index-change"):
            hook = self.top / ".git" / "hooks" / name
            hook.write_text(f"#!/bin/sh\n: > {self.aviary}/hook-{name}\n")
            hook.chmod(0o755)
        with (self.top / ".git" / "config").open("a") as file:
            file.write(f"[core]\n\tfsmonitor = {self.top}/bin/git\n\tpager = {self.top}/bin/sh\n")

    def ran(self) -> list[str]:
        return sorted(path.name for path in self.aviary.iterdir())


@pytest.fixture(scope="module")
def clone(tmp_path_factory):
    return Clone(tmp_path_factory.mktemp("c"))


TRACEBACK = 'Traceback (most recent call last):\n  File "{venv}/lib/python{new}/site-packages/x.py", line 1, in <module>\n' \
            "ModuleNotFoundError: No module named 'hivescale'\n"  # fmt: skip
COMMANDS = [
    ["here"], ["here", "-v"], ["here", "--live"], ["survey"], ["survey", "--under", "."], ["kernels"], ["kernels", "--running"],
    ["packages"], ["packages", "--unmet"], ["packages", "shell"], ["why", "hivescale"], ["why", "hivescale", "--everywhere"], ["why", "nothing_of_the_kind"],
    ["why", "nothing_of_the_kind", "--mend", "--yes"], ["why", "ownmodule", "--in", "shell"], ["why", "ownmodule", "--in", "shell", "--prove"], ["why", "hivescale", "--prove"],
    ["why", "nothing_of_the_kind", "--in", "editor", "--prove"], ["why", "hivescale", "--in", "editor", "--mend", "--yes"], ["why", "hivescale", "--in", "shell"], ["why", "hivescale", "--in", "editor"], ["why", "use.py"], ["why", "."], ["why", "spring.ipynb"], ["why", "program:python"],
    ["why", "program:hive-tool"], ["why", "-"], ["causes"], ["contrast", "shell", "shell"], ["record", "shell"], ["enter", "shell"],
    ["point", "editor", "{own}", "--dry-run"], ["register", "{own}", "--dry-run"], ["why", "hivescale", "--static"],
    ["prepare", "new", "--dry-run"], ["unregister", "brought", "--dry-run"],
]  # fmt: skip
# How the user stands there: what is on PATH and around besides the clone's files.
WAYS = {
    "plainly": {},
    "the folder first on PATH": {"PATH": "{folder}:{own}:/usr/bin:/bin"},
    "a dot first on PATH": {"PATH": ".:{own}:/usr/bin:/bin"},
    "an empty entry on PATH": {"PATH": ":{own}:/usr/bin:/bin"},
    "the environment's bin on PATH": {"PATH": "{folder}/.venv/bin:{own}:/usr/bin:/bin"},
    "the folder above on PATH": {"PATH": "{top}/bin:{top}/above/bin:/usr/bin:/bin"},
    "kernels of the folder": {"JUPYTER_PATH": "{folder}/.venv/share/jupyter"},
}


@pytest.mark.parametrize("way", WAYS)
def test_nothing_is_run(clone, way):
    moor = clone.moor
    places = {"folder": str(clone.folder), "top": str(clone.top), "own": str(Path(clone.own).parent)}
    variables = {name: value.format(**places) for name, value in WAYS[way].items()}
    chosen = COMMANDS if LONG or way == "plainly" else COMMANDS[:: len(WAYS) // 2 + 1]
    for words in chosen:
        words = [word.format(own=clone.own) for word in words]
        given = TRACEBACK.format(venv=clone.folder / ".venv", new=NEW) if words == ["why", "-"] else None
        ran = moor.kalyx(*words, given=given, **variables)
        assert clone.ran() == [], f"{words}, standing {way}: {clone.ran()} ran\n{ran.out}{ran.err}"
        assert ran.status in (0, 1, 2)


def test_what_is_not_asked_is_said(clone):
    """The reason, and how to name it; the status says that nothing was found out."""
    variables = {"PATH": f"{clone.folder}/.venv/bin:/usr/bin:/bin"}
    ran = clone.moor.kalyx("why", "hivescale", "--in", "shell", "--json", **variables)
    (answer,) = ran.json["imports"]
    assert (ran.status, answer["outcome"]) == (2, "undetermined") and answer["findings"][-1]["cause"] == "not-asked"
    assert f"--in {clone.folder}/.venv/bin/python" in answer["findings"][-1]["says"] and ran.err.count("\n") == 1
    assert clone.ran() == []


def test_what_the_user_named_is_asked(clone):
    """The canaries sing: named by the user, entered by the user, they run; so the tests above can fail."""
    ran = clone.moor.kalyx("why", "hivescale", "--in", clone.folder / ".venv")
    # A system's own sitecustomize lies before any environment's.
    base = BY_VERSION[NEW].executable
    has_own = subprocess.run([base, "-I", "-c", "import sitecustomize"], capture_output=True, check=False).returncode == 0
    expected = {"venv-pth", "venv-module", *([] if has_own else ["venv-sitecustomize"])}
    assert ran.status == 0 and set(clone.ran()) >= expected, ran.out + ran.err
    shutil.rmtree(clone.aviary)
    clone.aviary.mkdir()
    entered = {"PATH": f"{clone.folder}/.venv/bin:/usr/bin:/bin", "VIRTUAL_ENV": str(clone.folder / ".venv")}
    assert clone.moor.kalyx("why", "hivescale", "--in", "shell", **entered).status == 0 and "venv-module" in clone.ran()
    shutil.rmtree(clone.aviary)
    clone.aviary.mkdir()


def test_kalyx_starts_itself_by_its_own_path(clone):
    """A remedy that is a call of Kalyx, carried out where a ``kalyx.py`` and a command ``kalyx`` lie."""
    moor = clone.moor
    make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "orchard").glob("lib/python*/site-packages"))
    (site / "hivescale.py").write_text("")
    (site / "kalyx_standin_kernel.py").write_text(
        (Path(__file__).parents[2] / "src/kalyx/demo/standin/kalyx_standin_kernel.py").read_text()
    )
    moor.kernel(
        "orchard",
        [str(moor.root / "heath" / "bin" / "python"), "-m", "kalyx_standin_kernel", "-f", "{connection_file}"],
    )
    ran = moor.kalyx(
        "why",
        "hivescale",
        "--in",
        "kernel:orchard",
        "--mend",
        "--yes",
        "--json",
        PATH=f"{clone.folder}:{Path(clone.own).parent}:/usr/bin:/bin",
        VIRTUAL_ENV=str(Path(clone.own).parents[1]),
    )
    assert ran.status == 0 and ran.json["done"], ran.out + ran.err
    assert clone.ran() == []
    done = subprocess.run(
        [sys.executable, "-I", "-m", "kalyx", "here"],
        cwd=clone.folder,
        env=moor.variables,
        capture_output=True,
        check=False,
    )
    assert done.returncode in (0, 1) and clone.ran() == [] and os.listdir(clone.folder)
