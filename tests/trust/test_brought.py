"""Nothing that a folder brought is run: a canary in everything that it can bring, and every command asked in it.

With KALYX_LONG every command is asked in every way of standing there; else each way asks some of them.
"""

import json
import os
import random
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Moor, make_environment
from tests.equipment import BY_VERSION, CAN_MAKE, LONG, NEW, SEED, need

# The version of Kalyx's own Python, which asks where nothing else is said: what such environments hold fits that one.
OWN = f"3.{sys.version_info[1]}" if f"3.{sys.version_info[1]}" in CAN_MAKE else NEW

MODULES = ("kalyx", "msgspec", "rich", "psutil", "argparse", "packaging", "zmq", "sitecustomize", "usercustomize", "encodings",
           "collections", "tomllib", "platformdirs", "pathspec", "argcomplete", "elftools",
           "pip", "venv", "ensurepip", "typing", "logging", "json", "ast", "runpy", "ipykernel_launcher")  # fmt: skip
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
    """A working copy that somebody else wrote, with a canary in all that it brings; and the user who stands in it.

    ``repository``: where a version control's folder lies: at its top, nowhere (an archive), in the folder stood in.
    """

    def __init__(self, root: Path, repository: str = "top") -> None:
        self.moor = Moor(root / "moor")
        self.aviary = root / "ran"
        self.aviary.mkdir()
        self.top = root / "clone"  # not below the home folder's own
        self.folder = self.top / "spring"
        self.folder.mkdir(parents=True)
        if repository:
            place = self.top if repository == "top" else self.folder
            subprocess.run([need("git"), "-C", place, "init", "-q"], check=True, env=self.moor.variables)
        self.own = make_environment(OWN, self.moor.root / "orchard", "--without-pip")
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
        (self.folder / ".venv" / "pyvenv.cfg").open("a").write("prompt = --in=.venv\n")
        self.linked()
        self.settings()
        if repository == "top":
            self.repository()

    def code(self, what: str) -> str:
        return f"open({str(self.aviary / what)!r}, 'w').close()\n"

    def environment(self, prefix: Path, what: str) -> None:
        """An environment of the clone's own, whose interpreter is a link to this machine's."""
        make_environment(OWN, prefix, "--without-pip")
        site = next(prefix.glob("lib/python*/site-packages"))
        (site / "sitecustomize.py").write_text(self.code(f"{what}-sitecustomize"))
        (site / "late.pth").write_text(f"import os; open({str(self.aviary / (what + '-pth'))!r}, 'w').close()\n")
        (site / "hivescale.py").write_text(self.code(f"{what}-module"))
        folder = prefix / "share" / "jupyter" / "kernels" / "brought"
        folder.mkdir(parents=True)
        (folder / "kernel.json").write_text(json.dumps({"argv": [str(self.top / "bin" / "python"), "{connection_file}"],
                                                        "display_name": "brought", "language": "python"}))  # fmt: skip

    def linked(self) -> None:
        """An environment whose program is a link to one that the clone brought elsewhere, an installation of its own."""
        tools = self.top / "tools"
        (tools / "bin").mkdir(parents=True)
        (tools / "lib" / f"python{OWN}").mkdir(parents=True)
        (tools / "lib" / f"python{OWN}" / "os.py").write_text("")
        source = self.top / "canary.c"
        source.write_text(f'#include <stdio.h>\nint main(void) {{ FILE *f = fopen("{self.aviary}/linked-program", "w"); return !f; }}\n')
        subprocess.run([need("gcc"), "-o", tools / "bin" / f"python{OWN}", source], check=True)
        for name in ("python", "python3"):
            (tools / "bin" / name).symlink_to(f"python{OWN}")
        for prefix in (self.folder / "env", self.top / "env"):
            (prefix / "bin").mkdir(parents=True)
            (prefix / "lib" / f"python{OWN}" / "site-packages").mkdir(parents=True)
            (prefix / "pyvenv.cfg").write_text(f"home = {tools}/bin\ninclude-system-site-packages = true\n")
            (prefix / "bin" / "python").symlink_to(tools / "bin" / f"python{OWN}")

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
        # A command that you name is run; what its words name is not.
        frames = f"{self.folder}/.venv/lib/python{OWN}/site-packages/x.py:1: in <module>\n"
        says = self.folder / "says"
        says.write_text(f"#!/bin/sh\ncat >&2 <<'E'\n{frames}E   ModuleNotFoundError: No module named 'hivescale'\nE\nexit 1\n")
        says.chmod(0o755)
        (self.folder / "use.py").write_text("import hivescale\nimport nothing_of_the_kind\n")
        # What a script's first line names is the script's word.
        for name, python in (("by-venv", ".venv/bin/python"), ("by-env", "env/bin/python"), ("by-path.py", ".venv/bin/python")):
            script = self.folder / name
            script.write_text(f"#!{self.folder}/{python}\nimport hivescale\n")
            script.chmod(0o755)

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


@pytest.fixture(scope="module", params=["", "inner"], ids=["an archive", "a repository planted in the folder"])
def archive(request, tmp_path_factory):
    return Clone(tmp_path_factory.mktemp("a"), request.param)


# What each word of a command may be; a command that comes with a word of its own needs a row.
SAMPLES = {
    "FOLDER": ["."], "TARGET": ["shell", "{own}", "editor"], "WHAT": ["hivescale", "use.py"], "ID": ["brought"], "SHELL": ["bash"],
    "LEFT": ["shell"], "RIGHT": ["shell"], "REQUIREMENT": ["hivescale"], "COMMANDLINE": ["python -m tool"], "TEXT": ["hive"], "NAME": ["absent"],
    "NAME=VALUE": ["HIVE=1"], "SECONDS": ["9"], "MODULE": ["hivescale"], "LABEL": ["hive"], "SEAT": ["editor"], "dir": ["made"], "DIR": ["wheels"],
    "FILE": ["{file}"], "COMMAND": ["/bin/false", "./says"],
}  # fmt: skip
# Of a change the dry run is asked; what waits for somebody, or needs another machine's file, is not asked here.
NOT_ASKED = {"--help", "--watch", "--yes", "--on", "--since", "--paste", "--json", "--plain", "--verbose", "--undo", "--show"}


def calls_of_the_parser(aviary: Path, own: str) -> list[list[str]]:
    """Every command of the parser, with each word that it takes, and with each of its options by itself."""
    import argparse

    from kalyx.cli.start import COMMANDS, command_parser

    count = iter(range(10_000))

    def samples(action: argparse.Action) -> list[str]:
        known = list(action.choices) if action.choices else SAMPLES[str(action.metavar or action.dest)]
        return [str(item).format(own=own, file=aviary.parent / f"written-{next(count)}.html") for item in known]

    calls = []
    for command in sorted(set(COMMANDS) - {"demo"}):
        actions = [item for item in command_parser(command)._actions if not NOT_ASKED & set(item.option_strings)]
        places = [samples(item) for item in actions if not item.option_strings]
        needed = [word for item in actions if item.required and item.option_strings for word in (item.option_strings[-1], samples(item)[0])]
        dry = ["--dry-run"] if any("--dry-run" in item.option_strings for item in actions) and command not in ("why", "capture", "report") else []
        first = [place[0] for place in places]
        for number, several in enumerate(places):
            calls += [[command, *first[:number], word, *first[number + 1 :], *needed, *dry] for word in several]
        calls += [[command, *needed, *dry]] if not places else []
        for item in actions:
            if item.option_strings and not item.required and "--dry-run" not in item.option_strings:
                for value in samples(item) if item.nargs != 0 else [None]:
                    wheels = ["--wheels", "wheels"] if item.option_strings[-1] == "--prove" else []
                    fresh = samples(actions[[a.dest for a in actions].index("file")])[:1] if command == "capture" else first
                    words = [item.option_strings[-1], *([value] if value is not None else []), *wheels]
                    calls.append([command, *fresh, *needed, *words, *dry, *(["--yes"] if command in ("why", "report") else [])])
    return calls


def test_no_command_of_the_parser_runs_anything(clone):
    """Asked of the parser itself: a command, option or word that is new is asked too."""
    (clone.folder / "wheels").mkdir(exist_ok=True)
    calls = calls_of_the_parser(clone.aviary, clone.own)
    assert len(calls) > 100 and {"capture", "report", "completion", "rehearse", "fill"} <= {words[0] for words in calls}
    # Of those with an option a fourth, another each time.
    chance = random.Random(f"{SEED} calls")
    calls = [words for words in calls if LONG or len(words) < 3 or chance.random() < 0.25]
    for words in calls:
        if words[0] == "rehearse":
            continue  # the user names a kernel to be started: that it is started is asked for
        ran = clone.moor.kalyx(*words)
        assert clone.ran() == [], f"{words}: {clone.ran()} ran\n{ran.out}{ran.err}"
        assert ran.status in (0, 1, 2)
    for words in (["capture", clone.aviary.parent / "x.kalyx", "--why", "hivescale", "--why", "use.py"], ["report", "-o", clone.aviary.parent / "x.html", "--why", "use.py"]):
        ran = clone.moor.kalyx(*words)
        assert ran.status == 0 and clone.ran() == [], (words, clone.ran(), ran.err)


def test_completion_runs_nothing(clone):
    for line in ("kalyx why ", "kalyx why --in ", "kalyx packages ", "kalyx rehearse ", "kalyx point "):
        variables = {"_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE_STDOUT_FILENAME": str(clone.aviary.parent / "said"),
                     "_ARGCOMPLETE_SUPPRESS_SPACE": "1", "_ARGCOMPLETE_SHELL": "bash"}  # fmt: skip
        clone.moor.kalyx(**variables)
        assert clone.ran() == [], (line, clone.ran())


@pytest.mark.parametrize("path", ["/usr/bin:/bin", "{folder}/bin:..:/usr/bin:/bin", "../tools/bin:/usr/bin:/bin"])
def test_nothing_of_an_archive_is_run(archive, path):
    """What lies elsewhere in what was brought: by a link, by an environment above, by a relative entry of PATH."""
    variables = {"PATH": path.format(folder=archive.folder)}
    for words in (["survey"], ["here"], ["why", "hivescale"], ["why", "hivescale", "--everywhere"], ["why", "hivescale", "--prove"],
                  ["packages"], ["report", "-o", archive.aviary.parent / "map.html", "--yes"], ["prepare", "made", "--dry-run"],
                  ["prepare", "made", "--python", "shell", "--dry-run"], ["fill", "shell", "hivescale", "--dry-run"],
                  ["capture", archive.aviary.parent / "again.kalyx"], ["here", "--live"]):  # fmt: skip
        (archive.aviary.parent / "again.kalyx").unlink(missing_ok=True)
        ran = archive.moor.kalyx(*words, **variables)
        assert archive.ran() == [], f"{words}: {archive.ran()} ran\n{ran.out}{ran.err}"


def test_a_text_imports_nothing(clone, tmp_path):
    """A pasted traceback names a folder: nothing there is imported, and the answer says how the user asks for it."""
    folder = tmp_path / "any"
    folder.mkdir()
    (folder / "uses.py").write_text("import hivemark\n")
    (folder / "hivemark.py").write_text(clone.code("hivemark"))
    text = f'Traceback (most recent call last):\n  File "{folder}/uses.py", line 1, in <module>\nModuleNotFoundError: No module named \'hivemark\'\n'
    ran = clone.moor.kalyx("why", "-", "--json", given=text)
    assert clone.ran() == [] and ran.status == 1, ran.out
    assert any(f"kalyx why hivemark --from {folder}" in note for note in ran.json["notes"]), ran.json["notes"]
    ran = clone.moor.kalyx("why", "hivemark", "--in", "shell", "--from", folder)
    assert ran.status == 0 and clone.ran() == ["hivemark"], ran.out + ran.err
    (clone.aviary / "hivemark").unlink()


def test_a_fix_is_what_was_proven(moor, wheels):
    """Proven with a folder of wheels, carried out with that folder: the index is never asked."""
    python = make_environment(OWN, moor.root / "heath")
    moor.variables["VIRTUAL_ENV"] = str(moor.root / "orchard")  # so that it is known, and has what heath lacks
    orchard = make_environment(OWN, moor.root / "orchard")
    assert moor.kalyx("fill", moor.root / "orchard", "nectarflow", "--wheels", wheels, "--yes").status == 0
    ran = moor.kalyx("why", "nectarflow", "--in", python, "--prove", "--wheels", wheels, "--json")
    lines = [fix["steps"][0]["command"] for fix in ran.json["imports"][0]["findings"][0]["fixes"] if fix["tried"] == "works"]
    assert lines and all(line[4:7] == ["--no-index", "--find-links", str(wheels)] for line in lines if line[1:3] == ["-m", "pip"]), lines
    assert any(line[0].startswith(str(Path(orchard).parent)) for line in lines), "the user's other environment is tried too"
    variables = {"PIP_INDEX_URL": "http://127.0.0.1:9/simple"}
    ran = moor.kalyx("why", "nectarflow", "--in", python, "--wheels", wheels, "--fix", "--yes", "--json", **variables)
    assert ran.status == 0 and ran.json["done"], ran.out + ran.err


TRACEBACK = 'Traceback (most recent call last):\n  File "{venv}/lib/python{new}/site-packages/x.py", line 1, in <module>\n' \
            "ModuleNotFoundError: No module named 'hivescale'\n"  # fmt: skip
COMMANDS = [
    ["here"], ["here", "-v"], ["here", "--live"], ["survey"], ["survey", "--under", "."], ["kernels"], ["kernels", "--running"],
    ["packages"], ["packages", "--unmet"], ["packages", "shell"], ["why", "hivescale"], ["why", "hivescale", "--everywhere"], ["why", "nothing_of_the_kind"],
    ["why", "nothing_of_the_kind", "--fix", "--yes"], ["why", "ownmodule", "--in", "shell"], ["why", "ownmodule", "--in", "shell", "--prove"], ["why", "hivescale", "--prove"],
    ["why", "nothing_of_the_kind", "--in", "editor", "--prove"], ["why", "hivescale", "--in", "editor", "--fix", "--yes"], ["why", "hivescale", "--in", "shell"], ["why", "hivescale", "--in", "editor"], ["why", "use.py"], ["why", "."], ["why", "spring.ipynb"], ["why", "program:python"],
    ["why", "program:hive-tool"], ["why", "./by-venv"], ["why", "program:./by-env"], ["why", "by-path.py"], ["why", "./by-env", "--prove"], ["why", "-"], ["causes"], ["contrast", "shell", "shell"], ["record", "shell"], ["enter", "shell"],
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
        given = TRACEBACK.format(venv=clone.folder / ".venv", new=OWN) if words == ["why", "-"] else None
        ran = moor.kalyx(*words, given=given, **variables)
        assert clone.ran() == [], f"{words}, standing {way}: {clone.ran()} ran\n{ran.out}{ran.err}"
        assert ran.status in (0, 1, 2)


def test_what_is_not_asked_is_said(clone):
    """The reason, and how to name it; the status says that nothing was found out."""
    variables = {"PATH": f"{clone.folder}/.venv/bin:/usr/bin:/bin"}
    ran = clone.moor.kalyx("why", "hivescale", "--in", "shell", "--json", **variables)
    (answer,) = ran.json["imports"]
    assert (ran.status, answer["outcome"]) == (2, "undetermined") and answer["findings"][-1]["cause"] == "not-asked"
    assert f"--in {clone.folder}/.venv/bin/python" in answer["findings"][-1]["message"] and ran.err.count("\n") == 1
    assert clone.ran() == []


def test_what_the_user_named_is_asked(clone):
    """The canaries sing: named by the user, entered by the user, they run; so the tests above can fail."""
    ran = clone.moor.kalyx("why", "hivescale", "--in", clone.folder / ".venv")
    # A system's own sitecustomize lies before any environment's.
    base = BY_VERSION[OWN].executable
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
    """A fix that is a call of Kalyx, carried out where a ``kalyx.py`` and a command ``kalyx`` lie."""
    moor = clone.moor
    make_environment(OWN, moor.root / "heath", "--without-pip")
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
        "--fix",
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
