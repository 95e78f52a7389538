"""The survey against environments made, moved, broken and counted here, and against the system's own tools."""

import json
import os
import random
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.core.environments.tracked import is_ignored
from kalyx.core.system.live_reader import LiveReader
from tests.conftest import make_environment
from tests.equipment import BY_VERSION, LONG, NEW, OLD, need


def by_folder(moor, *words) -> dict:
    answer = moor.kalyx("survey", "--under", moor.root, *words, "--json").json
    return {Path(environment["prefix"]).name: environment for environment in answer["environments"]}


def test_conditions_of_real_environments(moor):
    """Each is made for real and bent; the survey gives its one name, evidence that exists, and a fix."""
    root = moor.root
    # The home folder is a made-up one: where this user's interpreters lie must be said.
    moor.variables |= {
        "PATH": os.environ["PATH"],
        "PYENV_ROOT": os.environ.get("PYENV_ROOT", str(Path.home() / ".pyenv")),
    }
    make_environment(NEW, root / "sound", "--without-pip")
    make_environment(OLD, root / "old", "--without-pip")
    make_environment(NEW, root / "sees", "--without-pip", "--system-site-packages")
    make_environment(NEW, root / "before", "--without-pip")
    shutil.move(root / "before", root / "moved")
    make_environment(NEW, root / "copied-from", "--without-pip")
    shutil.copytree(root / "copied-from", root / "copied", symlinks=True)
    make_environment(NEW, root / "dangling", "--without-pip")
    for link in (root / "dangling" / "bin").glob("python*"):
        link.unlink()
    os.symlink("/no/where/python3.11", root / "dangling" / "bin" / "python")
    make_environment(OLD, root / "upgraded", "--without-pip")
    site = root / "upgraded" / "lib" / f"python{OLD}" / "site-packages"
    (site / "broodmap-1.0.dist-info").mkdir()
    for link in (root / "upgraded" / "bin").glob("python*"):
        link.unlink()
    os.symlink(BY_VERSION[NEW].executable, root / "upgraded" / "bin" / "python")
    make_environment(OLD, root / "replaced", "--without-pip")
    make_environment(OLD, root / "o'neill \"$x", "--without-pip")
    make_environment(OLD, root / "two", "--without-pip")
    for name, word, version in (("replaced", "python", NEW), ("replaced", "python3", NEW), ("two", "python", OLD), ("two", "python3", NEW)):
        (root / name / "bin" / word).unlink()
        os.symlink(BY_VERSION[version].executable, root / name / "bin" / word)
    make_environment(OLD, root / "barred", "--without-pip", "--copies")
    make_environment(OLD, root / "text", "--without-pip", "--copies")
    for program in (root / "barred" / "bin").glob("python*"):
        program.chmod(0o644)
    for program in (root / "text" / "bin").glob("python*"):
        program.write_text("hello\n")
    (root / "killed").mkdir()
    (root / "killed" / "pyvenv.cfg").write_text("home = /usr/bin\n")
    make_environment(NEW, root / "unscripted", "--without-pip")
    for script in (root / "unscripted" / "bin").glob("[aA]ctivate*"):
        script.unlink()
    make_environment(NEW, root / "marked", "--without-pip")
    moor.left_unfinished(root / "marked", "prepare")
    (root / "bare" / "conda-meta").mkdir(parents=True)
    make_environment(NEW, root / "garbled", "--without-pip")
    (root / "garbled" / "pyvenv.cfg").write_bytes(b"home = \xff\xfe\n")
    make_environment(NEW, root / "piped", "--without-pip")
    (root / "piped" / "pyvenv.cfg").unlink()
    os.mkfifo(root / "piped" / "pyvenv.cfg")
    found = by_folder(moor)
    expected = {
        "sound": "sound", "old": "sound", "sees": "sound", "moved": "moved", "copied": "moved", "copied-from": "sound",
        "dangling": "base-gone", "upgraded": "base-gone" if OLD != NEW else "sound", "killed": "half-made", "unscripted": "half-made",
        "replaced": "base-gone" if OLD != NEW else "sound", "two": "mixed-versions" if OLD != NEW else "sound", "o'neill \"$x": "sound",
        "barred": "no-interpreter", "text": "no-interpreter", "marked": "half-made", "bare": "no-interpreter", "garbled": "unreadable", "piped": "unreadable",
    }  # fmt: skip
    assert {name: found[name]["condition"] for name in expected} == expected
    assert found["old"]["version"] == BY_VERSION[OLD].version and found["sees"]["sees_base"]
    for name, condition in expected.items():
        for finding in found[name]["findings"]:
            assert finding["fixes"] and finding["evidence"], (name, finding)
            assert all(os.path.lexists(item["path"]) for item in finding["evidence"] if item["path"]), (name, finding)
        assert bool(found[name]["findings"]) == (condition != "sound"), found[name]["findings"]
    shown = moor.kalyx("survey", "--under", moor.root, "--unsound")
    assert shown.status == 1 and "sound " not in shown.out and "fix " in shown.out
    # The fix for a base that went on is carried out as printed, and the environment is sound again.
    for name in ("upgraded", "replaced", "two", "moved", "copied") if OLD != NEW else ("moved", "copied"):
        for step in found[name]["findings"][0]["fixes"][0]["steps"]:
            if step["command"] is not None:
                subprocess.run(step["line"], shell=True, check=True, capture_output=True)
        assert by_folder(moor)[name]["condition"] == "sound", name


def _program(content: bytes, mode: int):
    def spoil(prefix: Path) -> None:
        (prefix / "bin" / "python").write_bytes(content)
        (prefix / "bin" / "python").chmod(mode)

    return spoil


LOST = {
    "settings": lambda prefix: (prefix / "pyvenv.cfg").unlink(), "settings-folder": lambda prefix: [(prefix / "pyvenv.cfg").unlink(), (prefix / "pyvenv.cfg").mkdir()],
    "settings-nowhere": lambda prefix: [(prefix / "pyvenv.cfg").unlink(), (prefix / "pyvenv.cfg").symlink_to("nothing")], "no-program": lambda prefix: None,
    "empty": _program(b"", 0o755), "text": _program(b"hello\n", 0o755), "not-executable": _program(b"\x7fELF", 0o644), "folder": lambda prefix: (prefix / "bin" / "python").mkdir(),
    "circle": lambda prefix: (prefix / "bin" / "python").symlink_to("python"), "dangling": lambda prefix: (prefix / "bin" / "python").symlink_to("/no/where"),
}  # fmt: skip


def test_a_part_that_is_lost(moor):
    """Its settings or its ``python``: told with the reason; the folders are fixed by the printed lines, packages kept."""
    moor.variables |= {"PATH": os.environ["PATH"], "PYENV_ROOT": os.environ.get("PYENV_ROOT", str(Path.home() / ".pyenv"))}
    for name, spoil in LOST.items():
        folder = moor.root / name / "bin"
        make_environment(NEW, moor.root / name, "--without-pip")
        for link in folder.glob("python*"):
            link.unlink()
        (folder / f"python{NEW}").symlink_to(BY_VERSION[NEW].executable)
        if name.startswith("settings"):
            (folder / "python").symlink_to(f"python{NEW}")
        next(folder.parent.glob("lib/python*/site-packages")).joinpath("combs.py").touch()
        spoil(folder.parent)
    found = by_folder(moor)
    for name in LOST:
        (finding,) = found[name]["findings"]
        assert (found[name]["condition"], found[name]["kind"], finding["cause"]) == ("half-made", "virtual", "half-made"), name
        assert ("pyvenv.cfg" if name.startswith("settings") else "its python does not start") in finding["message"], finding
        if "folder" not in name:
            continue  # to fix one takes four seconds, and the lines are the same
        for step in finding["fixes"][0]["steps"]:
            subprocess.run(step["line"], shell=True, check=True, capture_output=True)
        python = moor.root / name / "bin" / "python"
        own = subprocess.run([python, "-c", "import combs, sys; print(sys.prefix)"], capture_output=True, text=True, check=False)
        assert own.stdout.strip() == str(moor.root / name), (name, own.stderr)
    assert {item["condition"] for name, item in by_folder(moor).items() if "folder" in name} == {"sound"}


def test_sizes_are_the_systems_own(moor):
    python = make_environment(NEW, moor.root / "weighed")
    site = next((moor.root / "weighed" / "lib").glob("python*")) / "site-packages"
    (site / "big.bin").write_bytes(os.urandom(3_000_000))
    os.link(site / "big.bin", site / "same.bin")
    os.symlink("/usr", site / "out")
    answer = by_folder(moor, "--sizes")["weighed"]
    counted = subprocess.run(["du", "-s", "--block-size=1", str(moor.root / "weighed")], capture_output=True, text=True,
                             check=True).stdout.split()[0]  # fmt: skip
    assert abs(answer["size_bytes"] - int(counted)) <= int(counted) * 0.01
    pip = next(package_size for package_size in answer["package_sizes"] if package_size["name"] == "pip")
    assert pip["size_bytes"] > 1_000_000 and python


def test_version_control_is_noticed(moor):
    work = moor.root / "work"
    work.mkdir()
    git = [need("git"), "-C", str(work), "-c", "user.name=x", "-c", "user.email=x@example.org"]
    subprocess.run([*git, "init", "-q"], check=True)
    for name in ("tracked", "loose", "ignored", "kept-out"):
        make_environment(NEW, work / name, "--without-pip")
        (work / name / ".gitignore").unlink(missing_ok=True)
    (work / ".gitignore").write_text("# environments\n[[a]b\n/ignored/\nkept-*\n!kept-not\n")
    subprocess.run([*git, "add", "-f", "tracked"], check=True)
    found = by_folder(moor)
    assert moor.kalyx("survey", "--under", moor.root).err == "", "the library of patterns warns of the first"
    causes = {
        name: [finding["cause"] for finding in found[name]["findings"]]
        for name in ("tracked", "loose", "ignored", "kept-out")
    }
    assert causes == {"tracked": ["in-version-control"], "loose": ["in-version-control"], "ignored": [], "kept-out": []}
    assert all(found[name]["condition"] == "sound" for name in causes)
    for name in causes:
        ignored = subprocess.run([*git, "check-ignore", "-q", name], check=False).returncode == 0
        assert ignored == (name in ("ignored", "kept-out")), "the tool itself agrees"
    step = found["tracked"]["findings"][0]["fixes"][0]["steps"][0]
    subprocess.run(step["line"], shell=True, check=True)
    assert (work / "tracked" / "bin" / "python").exists()
    assert subprocess.run([*git, "ls-files"], capture_output=True, text=True, check=True).stdout == ""


def test_hostile_places_do_not_stop_it(moor):
    root = moor.root / "odd"
    root.mkdir()
    os.symlink(root, root / "loop")
    (root / "line\nbreak\x1b[31m").mkdir()
    (root / "line\nbreak\x1b[31m" / "pyvenv.cfg").write_text("x = y\n")
    (root / "huge").mkdir()
    with open(root / "huge" / "pyvenv.cfg", "wb") as file:
        file.truncate(1 << 30)
    many = root / "many"
    many.mkdir()
    for number in range(20_000):
        (many / f"f{number}").touch()
    deep = root
    for _ in range(40):
        deep = deep / "d"
    deep.mkdir(parents=True)
    locked = root / "locked"
    locked.mkdir()
    locked.chmod(0)
    make_environment(NEW, root / "right", "--without-pip")
    ran = moor.kalyx("survey", "--under", moor.root)
    assert ran.status == 0 and "\x1b" not in ran.out and "line\\nbreak" in ran.out
    found = by_folder(moor)
    assert found["right"]["condition"] == "sound" and found["huge"]["condition"] == "unreadable"
    locked.chmod(0o755)


def test_what_was_asked_is_remembered(moor):
    """A damaged cache is rebuilt; a current one spares the question; --static never needs it."""
    others: list[str] = []
    cache = Path(moor.root).parent / "cache" / "kalyx" / "interpreters.json"
    for content in (
        None,
        b"{",
        b"[]",
        b'{"schema": "other", "known": {}}',
        b'{"schema": "kalyx.remembered/1", "known": {"a": 1}}',
    ):
        if content is not None:
            cache.parent.mkdir(parents=True, exist_ok=True)
            cache.write_bytes(content)
        rows = moor.kalyx("survey", "--json").json["interpreters"]
        others = [row["executable"] for row in rows if row["known_by"] == "asking"]
        versions = {row["executable"]: row["version"] for row in rows}
        assert all(version.count(".") == 2 for version in versions.values())
    if others:
        assert json.loads(cache.read_text())["schema"] == "kalyx.remembered/1"
    assert moor.kalyx("survey", "--static").status == 0


@pytest.mark.parametrize("width", [80, 120])
def test_two_hundred_rows_stay_readable(moor, width):
    for number in range(200):
        prefix = moor.root / "envs" / f"hive-{number:03}"
        (prefix / "bin").mkdir(parents=True)
        (prefix / "lib" / f"python{NEW}" / "site-packages").mkdir(parents=True)
        os.symlink(BY_VERSION[NEW].executable, prefix / "bin" / "python")
        (prefix / "bin" / "activate").write_text(f"VIRTUAL_ENV={prefix}\n")
        (prefix / "pyvenv.cfg").write_text(f"home = {Path(BY_VERSION[NEW].executable).parent}\nversion = {NEW}.0\n")
    ran = moor.kalyx("survey", "--plain", COLUMNS=str(width), KALYX_ONLY_BELOW=str(moor.root))  # not what other tests have running
    rows = [line for line in ran.out.splitlines() if "hive-" in line]
    assert len(rows) == 200 and max(map(len, ran.out.splitlines())) <= width
    assert all(row.split()[2].endswith(row.split()[0]) for row in rows), "a path keeps its end"


def test_running_and_listed_places_are_found(moor):
    """Environments that only a process, a kernel or the list file of the home folder names."""
    away = moor.root.parent / "away"
    python = make_environment(NEW, away / "by-process", "--without-pip")
    kernel = make_environment(NEW, away / "by-kernel", "--without-pip")
    moor.kernel("k", [kernel, "-m", "x", "-f", "{connection_file}"])
    (away / "by-list" / "conda-meta").mkdir(parents=True)
    (moor.root / ".conda").mkdir()
    (moor.root / ".conda" / "environments.txt").write_text(f"{away / 'by-list'}\nnot a path\n/gone/away\n")
    sleeper = subprocess.Popen([python, "-c", "import time; time.sleep(60)"])
    try:
        answer = moor.kalyx("survey", "--json").json
    finally:
        sleeper.kill()
        sleeper.wait()
    found = {Path(environment["prefix"]).name: environment for environment in answer["environments"]}
    assert {"by-process", "by-kernel", "by-list"} <= set(found)
    assert found["by-kernel"]["kernels"] and found["by-list"]["condition"] == "no-interpreter"
    assert sys.executable


@pytest.mark.parametrize("kind", ["empty", "not to be executed", "a script"])
def test_an_own_interpreter_that_does_not_start_is_renewed_as_printed(moor, kind):
    """What is wrong with that file is said, and the printed lines make it start again, its packages kept."""
    prefix = moor.root / "heath"
    python = Path(make_environment(NEW, prefix))
    make_environment(NEW, moor.root / "orchard", "--without-pip")  # so that the base below is known here
    kept = next(prefix.glob("lib/python*/site-packages")) / "hivescale.py"
    kept.touch()
    for name in prefix.glob("bin/python*"):
        name.unlink()
    python.write_bytes({"empty": b"", "not to be executed": Path(BY_VERSION[NEW].real_executable).read_bytes(), "a script": b"#!/bin/sh\nexit 3\n"}[kind])
    python.chmod(0o644 if kind == "not to be executed" else 0o755)
    answer = moor.kalyx("survey", "--under", moor.root, "--json").json
    (found,) = [environment for environment in answer["environments"] if environment["prefix"] == str(prefix)]
    assert found["condition"] == "no-interpreter" and "gone" not in found["findings"][0]["message"]
    for step in found["findings"][0]["fixes"][0]["steps"]:
        subprocess.run(step["line"], shell=True, env=moor.variables, check=True, capture_output=True)
    assert subprocess.run([python, "-c", "import hivescale"], check=False).returncode == 0 and kept.exists()


def test_installations_below_are_rows_of_their_own(moor):
    """One that only --under leads to, and one that an environment there stands on; what was too deep is said."""
    base = BY_VERSION[NEW]
    hidden = moor.root / "away" / f"python-{NEW}"
    shutil.copytree(Path(base.prefix) / "bin", hidden / "bin", symlinks=True)
    (hidden / "lib").mkdir()
    (hidden / "lib" / f"python{NEW}").symlink_to(Path(base.prefix) / "lib" / f"python{NEW}")
    make_environment(OLD, moor.root / "heath", "--without-pip")
    inside = ["heath/.venv", "heath/work/inner", "heath/.venv/tools/deep", "heath/lib/beside", "heath/share/shared", "heath/share/shared/lib/last"]
    for inner in inside:
        make_environment(NEW, moor.root / inner, "--without-pip")
    deep = moor.root / "away" / "/".join("abcdefgh")
    deep.mkdir(parents=True)
    answer = moor.kalyx("survey", "--under", moor.root / "away", "--under", moor.root, "--json").json
    prefixes = {interpreter["prefix"] for interpreter in answer["interpreters"]}
    assert str(hidden) in prefixes and BY_VERSION[OLD].prefix in prefixes
    found = {os.path.relpath(environment["prefix"], moor.root) for environment in answer["environments"]}
    assert {"heath", *inside} <= found
    said = [item["reason"] for item in answer["unread"]]
    assert any("folders deep" in reason for reason in said), said


PATTERNS = ["/heath", "heath/", "*env*", "!spring/env", ".venv", "orch?rd", "/envs/**", "[hx]eath", "# heath", "**/skep", "two\\ words", "spring/*", "!.venv/", "env", "!skep", "/envs/", "!/envs/skep/", "*", "!*/", "!envs", "envs/*", "!envs/skep", "/spring/env/*", "skep/**", "!**/env", "spring/**/bin",
            "**", "!heath", "heath/*", "!heath/pyvenv.cfg", "/", "*.cfg", "bin/", " ", "!", "envs/skep/", "s*ng", "!/spring/", "spring/", "a\\", "[", "ENV", "/bin/", "/*.cfg"]  # fmt: skip


@pytest.mark.parametrize("seed", range(3))
def test_what_ignore_files_leave_out(tmp_path, seed):
    """By chance, in four places: as the tool itself has it of an environment's settings and interpreter."""
    chance, work, variables = random.Random(seed), tmp_path / "work", {"HOME": str(tmp_path), "PATH": os.environ["PATH"], "GIT_CONFIG_NOSYSTEM": "1"}
    subprocess.run([need("git"), "init", "-q", str(work)], check=True, env=variables)
    folders = ["heath", "orchard", "spring/.venv", "spring/env", "envs/skep", "two words", "spring/deep/env"]
    files = {"": ("pyvenv.cfg", "bin/python")} | {folder: (f"{folder}/pyvenv.cfg", f"{folder}/bin/python") for folder in folders}
    for file in (file for pair in files.values() for file in pair):
        (work / file).parent.mkdir(parents=True, exist_ok=True)
        (work / file).touch()
    places = (".gitignore", "spring/.gitignore", "envs/.gitignore", ".git/info/exclude")
    fixed = [([], [], [], ["/*.cfg", "/bin/"]), (["/envs/**", "!/envs/skep/", "!/envs/skep/**"], [], [], []), (["/envs/", "!/envs/skep/"], [], [], []), (["*"], [], ["!skep"], []), (["!*/"], [], [], ["*"]), (["spring/"], ["!env"], [], []), (["heath/*", "!heath/pyvenv.cfg"], [], [], [])]
    made = [[chance.choices(PATTERNS, k=chance.randint(1, 4) - min(number, 1)) for number in range(4)] for _ in range(300 if LONG else 40)]
    for patterns in [*fixed, *made]:
        for name, lines in zip(places, patterns, strict=True):
            (work / name).write_text("\n".join(lines) + "\n")
        asked = "\n".join(file for pair in files.values() for file in pair)
        out = subprocess.run(["git", "-C", str(work), "check-ignore", "--no-index", "--stdin"], input=asked, capture_output=True, text=True, check=False, env=variables).stdout
        left_out = {line.strip('"') for line in out.splitlines()}
        reader = LiveReader(variables, str(work))
        assert {folder: is_ignored(reader, str(work), str(work / folder)) for folder in files} == {folder: left_out.issuperset(pair) for folder, pair in files.items()}


@pytest.mark.parametrize("how", ["usual place", "named in the home folder", "named in the repository", "shared by a worktree"])
def test_ignore_files_of_the_users_own_count(moor, how):
    """The tool itself is asked whether it leaves the folders out."""
    work = moor.root / "work"
    work.mkdir()
    env = {**moor.variables, "GIT_CONFIG_NOSYSTEM": "1"}
    git = [need("git"), "-c", "user.name=x", "-c", "user.email=x@example.org"]
    subprocess.run([*git, "init", "-q", str(work)], check=True, env=env)
    (work / "a.txt").touch()
    subprocess.run([*git, "-C", str(work), "add", "a.txt"], check=True, env=env)
    subprocess.run([*git, "-C", str(work), "commit", "-qm", "x"], check=True, env=env)
    patterns = moor.root / "patterns"
    if how == "usual place":
        patterns = moor.root / ".config" / "git" / "ignore"
    elif how == "named in the home folder":
        (moor.root / ".gitconfig").write_text("[user]\n\tname = x\n[core]\n\texcludesFile = ~/patterns\n")
    elif how == "named in the repository":
        with (work / ".git" / "config").open("a") as file:
            file.write(f'[core]\n\texcludesfile = "{patterns}"\n')
    else:
        patterns = work / ".git" / "info" / "exclude"
        subprocess.run([*git, "-C", str(work), "worktree", "add", "-q", str(moor.root / "tree")], check=True, env=env)
        work = moor.root / "tree"
    patterns.parent.mkdir(parents=True, exist_ok=True)
    patterns.write_text("left*/\n")
    for name in ("left-out", "kept"):
        make_environment(NEW, work / name, "--without-pip")
        (work / name / ".gitignore").unlink(missing_ok=True)
        ignored = subprocess.run([*git, "-C", str(work), "check-ignore", "-q", name], check=False, env=env).returncode == 0
        assert ignored == (name == "left-out")
    found = by_folder(moor)
    assert {name: [finding["cause"] for finding in found[name]["findings"]] for name in ("left-out", "kept")} == {"left-out": [], "kept": ["in-version-control"]}
