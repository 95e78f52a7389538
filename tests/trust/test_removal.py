"""Nothing is lost: what must not be removed is found before anything is, and what is restored is what it was."""

import json
import os
import shutil
import stat
import subprocess
from contextlib import contextmanager

import pytest

from kalyx.core.actions.backup import keep
from kalyx.core.actions.transaction import Transaction
from kalyx.core.environments.reading import read_environment
from kalyx.core.packages.unowned import unowned_files
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.system.live_writer import LiveWriter
from tests.conftest import make_environment, started
from tests.equipment import NEW, as_root
from tests.real.test_kernels import standin_argv

NOBODY = 65534


def whole(top) -> dict[str, tuple]:
    """Everything that belongs to each file of a tree: kind, mode, owner, names, times, attributes, content or target."""
    found = {}
    for folder, folders, files in os.walk(top):
        for path in [folder, *(os.path.join(folder, name) for name in folders + files)]:
            seen = os.lstat(path)
            more = os.readlink(path) if stat.S_ISLNK(seen.st_mode) else None
            if stat.S_ISREG(seen.st_mode):
                with open(path, "rb") as file:
                    more = file.read()
            attributes = {name: os.getxattr(path, name, follow_symlinks=False) for name in os.listxattr(path, follow_symlinks=False)}
            names = seen.st_nlink if not stat.S_ISDIR(seen.st_mode) else 0
            found[os.path.relpath(path, top)] = (seen.st_mode, seen.st_uid, seen.st_gid, names, seen.st_mtime_ns, str(attributes), more)
    return found


@contextmanager
def mounted(*words):
    subprocess.run(["mount", *map(str, words)], check=True)
    try:
        yield
    finally:
        subprocess.run(["umount", str(words[-1])], check=True)


@contextmanager
def fixed(path):
    subprocess.run(["chattr", "+i", str(path)], check=True)
    try:
        yield
    finally:
        subprocess.run(["chattr", "-i", str(path)], check=True)


@contextmanager
def owned(path):
    os.chown(path, NOBODY, NOBODY)
    yield


def file_system(folder):
    folder.mkdir(exist_ok=True)
    return mounted("-t", "tmpfs", "none", folder)


def bind(folder):
    """The same file system, so that only the system's table of mounts tells."""
    other = folder.parents[3] / "shared"
    other.mkdir(exist_ok=True)
    (other / "thesis.txt").write_text("mine")
    return mounted("--bind", other, folder)


OBSTACLES = {
    "another file system": (lambda site: file_system(site.parents[2] / "share"), "mount point"),
    "a bind over site-packages": (lambda site: bind(site), "mount point"),
    "a file that is marked immutable": (lambda site: fixed(site / "hivescale.py"), "immutable"),
    "a folder that is marked immutable": (lambda site: fixed(site), "may not be written"),
    "a file of another user": (lambda site: owned(site / "hivescale.py"), "another user"),
}


@as_root
@pytest.mark.parametrize("name", OBSTACLES)
def test_a_removal_is_refused_whole(name, moor):
    """By the dry run too: one line, status 2, and each file with all that belongs to it as before; the kernel too."""
    prefix = moor.root / "heath"
    python = make_environment(NEW, prefix, "--without-pip")
    site = next(prefix.glob("lib/python*/site-packages"))
    (site / "hivescale.py").write_text("")
    kernel = moor.kernel("heath", [python, "-m", "none"])
    put, word = OBSTACLES[name]
    with put(site):
        before = whole(prefix)
        for words in (["--dry-run"], ["--yes"], ["--yes", "--with-own-files"]):
            ran = moor.kalyx("discard", prefix, *words)
            assert (ran.status, ran.err.count("\n")) == (2, 1), (ran.out, ran.err)
            assert word in ran.err or "--with-own-files" in ran.err, ran.err
            assert whole(prefix) == before and kernel.is_dir()
        assert word in ran.err
    os.chown(site / "hivescale.py", 0, 0)
    (site / "thesis.txt").unlink(missing_ok=True)
    assert moor.kalyx("discard", prefix, "--yes", "--with-own-files").status == 0 and not prefix.exists()


@as_root
def test_a_folder_that_may_not_be_written_is_an_obstacle(tmp_path):
    """As a user without rights sees it: the folder itself, or the one that holds it."""

    def as_nobody(path) -> str:
        reading, writing = os.pipe()
        child = os.fork()
        if not child:
            os.setresgid(NOBODY, NOBODY, NOBODY)
            os.setresuid(NOBODY, NOBODY, NOBODY)
            os.write(writing, (LiveWriter().obstacle(str(path)) or "none").encode())
            os._exit(0)
        os.close(writing)
        os.waitpid(child, 0)
        with os.fdopen(reading) as file:
            return file.read()

    upper = tmp_path / "upper"
    inner = upper / "env" / "inner"
    inner.mkdir(parents=True)
    (inner / "file").write_text("")
    for path in (tmp_path, *tmp_path.parents[:-2]):
        path.chmod(0o755)
    for path in (upper, upper / "env", inner, inner / "file"):
        os.chown(path, NOBODY, NOBODY)
    assert as_nobody(upper / "env") == "none"
    inner.chmod(0o555)
    assert "inner may not be written" in as_nobody(upper / "env")
    inner.chmod(0o755)
    upper.chmod(0o555)
    assert "upper may not be written" in as_nobody(upper / "env")


def test_a_file_in_use_is_an_obstacle(moor):
    prefix = moor.root / "heath"
    make_environment(NEW, prefix, "--without-pip")
    with (prefix / "pyvenv.cfg").open() as file, started(["/bin/sleep", "60"], stdin=file):
        ran = moor.kalyx("discard", prefix, "--yes")
        assert ran.status == 2 and "has a file of it open" in ran.err, ran.err
    assert moor.kalyx("discard", prefix, "--yes").status == 0


def test_every_file_is_looked_at(moor, monkeypatch):
    """More files than any limit there was: the last is found."""
    prefix = moor.root / "heath"
    make_environment(NEW, prefix, "--without-pip")
    reader = LiveReader(moor.variables, str(moor.folder))
    listed, data = reader.listing, str(prefix / "share")

    def listing(folder):
        if folder == data:
            return {f"part{number}": "folder" for number in range(500)}
        if folder.startswith(data):
            last = folder.endswith("part0")
            return {f"{number}.pyc": "file" for number in range(900)} | ({"thesis.txt": "file"} if last else {})
        return {**listed(folder), **({"share": "folder"} if folder == str(prefix) else {})}

    monkeypatch.setattr(reader, "listing", listing)
    view = read_environment(reader, str(prefix))
    assert list(unowned_files(reader, view)) == ["share/part0/thesis.txt"]


# -- what was found is not believed ---------------------------------------------------------------------------------

MARK = "0123456789abcdef0123456789abcdef"


def forged(moor, prefix, victim) -> dict[str, list[list[str]]]:
    """What somebody else can leave in an environment, and the calls that would act on it."""
    before = prefix / ".kalyx-before"
    repair = [["fill", str(prefix), "--repair", "--yes"], ["fill", str(prefix), "hivescale", "--yes"]]
    scenes = {"copies": (lambda: ((before / "0").mkdir(parents=True), (before / "0" / "theirs").write_text("x")), before, repair)}
    for name in (".kalyx-discarding", ".kalyx-unfinished"):
        scenes[name] = (lambda name=name: (prefix / name).write_text(f"1 2\n{MARK}\n"), prefix / name,
                        [["discard", str(prefix), "--yes"], ["prepare", str(prefix), "--yes"]])  # fmt: skip
    scenes["a claim that is a file of the user's"] = (
        lambda: (prefix / ".kalyx-filling").write_text("my notes"), prefix / ".kalyx-filling", [repair[1]])  # fmt: skip
    return scenes


def test_what_a_folder_brought_is_not_believed(moor, wheels):
    """Copies, marks and claims that no journal knows: refused in one line, named, and left; no file of anybody moves."""
    prefix, victim = moor.root / "heath", moor.root / "victim"
    make_environment(NEW, prefix)
    (prefix / "thesis.txt").write_text("mine")
    (victim / "inner").mkdir(parents=True)
    (victim / "inner" / "kept.txt").write_text("kept")
    (prefix / "out").symlink_to(victim)
    for name, (put, place, calls) in forged(moor, prefix, victim).items():
        put()
        before = whole(moor.root)
        for words in calls:
            ran = moor.kalyx(*words, *(["--wheels", wheels] if words[0] != "discard" else []))
            assert ran.status == 2 and ran.err.count("\n") == 1, (name, words, ran.out, ran.err)
            assert {path: item for path, item in whole(moor.root).items() if "/journal" not in path and path not in (".", "heath", ".local")
                    and not path.startswith(".local/")} == {path: item for path, item in before.items() if path not in (".", "heath")}, (name, words)  # fmt: skip
        shutil.rmtree(place) if place.is_dir() else place.unlink()


@pytest.mark.parametrize("path", ["out/inner", "out"])
def test_a_copy_is_not_moved_through_a_link(moor, path):
    """A folder of the environment that was replaced by a link since the copy was made."""
    prefix, victim = moor.root / "heath", moor.root / "victim"
    make_environment(NEW, prefix)
    (victim / "inner").mkdir(parents=True)
    (victim / "inner" / "kept.txt").write_text("kept")
    (prefix / "out").symlink_to(victim)
    before = prefix / ".kalyx-before"
    (before / "0").mkdir(parents=True)
    moor.left_unfinished(prefix, "fill", {"how": "restore", "path": str(prefix / path), "to": str(before / "0")})
    seen = whole(victim)
    ran = moor.kalyx("fill", prefix, "--repair", "--yes")
    assert ran.status == 2 and "is behind a link that leads to" in ran.err and ran.err.count("\n") == 1, ran.out + ran.err
    assert whole(victim) == seen and (before / "0").is_dir() and (prefix / "out").is_symlink()


def test_a_journal_that_others_can_write_is_not_believed(moor):
    prefix = moor.root / "heath"
    make_environment(NEW, prefix, "--without-pip")
    entry = moor.left_unfinished(prefix, "discard")
    seen = lambda: [environment["condition"] for environment in moor.kalyx("survey", "--under", moor.root, "--json").json["environments"]  # noqa: E731
                    if environment["prefix"] == str(prefix)]  # fmt: skip
    assert seen() == ["half-made"]
    entry.chmod(0o666)
    assert seen() == ["sound"]
    entry.chmod(0o600)
    content = entry.read_bytes()
    for spoilt in (b"[]", b'{"schema": 1}', content.replace(b"discard", b"prepare"), content[:-2], b"[" * 3000):
        entry.write_bytes(spoilt)
        assert seen() == ["sound"], spoilt


def test_the_users_files_in_a_half_removed_environment_stay(moor):
    """What came after the removal was stopped is the user's: refused, unless asked for."""
    prefix = moor.root / "heath"
    make_environment(NEW, prefix, "--without-pip")
    words = ["discard", prefix, "--yes"]
    shutil.copytree(prefix, moor.root / "start", symlinks=True)
    steps = moor.steps_of(*words)
    shutil.copytree(moor.root / "start", prefix, symlinks=True)
    last = max(number for number, step in enumerate(steps, 1) if step.startswith("os.rmdir"))
    assert moor.stepped("KILL", last // 2, *words)[0] == -9 and (prefix / ".kalyx-discarding").exists()
    # Which files are gone by then, the file system decides: also what a link to the interpreter leads to.
    for name in ("python", f"python{NEW}"):
        (prefix / "bin").mkdir(exist_ok=True)
        (prefix / "bin" / name).unlink(missing_ok=True)
        (prefix / "bin" / name).symlink_to("python3")
    (prefix / "bin" / "python3").unlink(missing_ok=True)
    (prefix / "thesis.txt").write_text("mine")
    ran = moor.kalyx(*words)
    assert ran.status == 2 and "thesis.txt" in ran.err and (prefix / "thesis.txt").exists()
    (prefix / "thesis.txt").unlink()
    ran = moor.kalyx(*words)
    assert ran.status == 0 and not prefix.exists(), ran.err


# -- what is restored, and what is written ----------------------------------------------------------------------------


@as_root
def test_a_restored_environment_is_what_it_was(moor):
    """Owner, mode, times, links, further names and attributes, after an installer has changed and left what it likes."""
    prefix = moor.root / "heath"
    make_environment(NEW, prefix, "--without-pip")
    site = next(prefix.glob("lib/python*/site-packages"))
    (site / "hivescale").mkdir()
    (site / "hivescale" / "core.py").write_text("1")
    (site / "hivescale" / "core.py").chmod(0o640)
    os.link(site / "hivescale" / "core.py", site / "hivescale" / "again.py")
    os.setxattr(site / "hivescale" / "core.py", "user.bee", b"queen")
    (site / "linked.py").symlink_to("hivescale/core.py")
    for path in [prefix, *prefix.rglob("*")]:
        os.chown(path, NOBODY, NOBODY, follow_symlinks=False)
        if not path.is_symlink():
            os.utime(path, (1_600_000_000, 1_600_000_000))
    reader = LiveReader(moor.variables, str(moor.folder))
    before = whole(prefix)
    transaction = Transaction(reader, LiveWriter(), "fill", str(prefix))
    keep(transaction, str(prefix), [str(site), str(prefix / "bin"), str(prefix / "share")])
    (site / "hivescale" / "core.py").unlink()
    (site / "hivescale" / "core.py").write_text("2")
    (site / "new").mkdir()
    (prefix / "share").mkdir()
    (prefix / "bin" / "new").write_text("")
    assert transaction.roll_back() == []
    after = whole(prefix)
    # The two names of one file are the same file as ever; of the others the copy is as the file was.
    assert {path for path in before | after if before.get(path) != after.get(path)} == set()
    assert not (moor.root / ".local/state/kalyx/journal").exists() or not os.listdir(moor.root / ".local/state/kalyx/journal")


def test_what_lies_behind_a_link_is_not_the_environments(moor, wheels):
    """Packages are not installed through a link that leads out of the environment, by the dry run neither."""
    prefix, shared = moor.root / "heath", moor.root / "shared"
    make_environment(NEW, prefix)
    site = next(prefix.glob("lib/python*/site-packages"))
    site.rename(shared)
    site.symlink_to(shared)
    before = whole(shared)
    for words in (["--yes"], ["--dry-run"]):
        ran = moor.kalyx("fill", prefix, "nectarflow", "--wheels", wheels, *words)
        assert ran.status == 2 and "leads out of the environment" in ran.err, ran.out + ran.err
    assert whole(shared) == before and site.is_symlink()


@as_root
def test_a_file_that_is_changed_stays_the_same_file(moor):
    """By ``point`` and by its undo: owner, mode, attributes and further names; by the undo the times too."""
    old, new = (make_environment(NEW, moor.root / name, "--without-pip") for name in ("heath", "orchard"))
    for second in (False, True):
        file = moor.folder / ".vscode" / "settings.json"
        file.parent.mkdir(exist_ok=True)
        file.write_text(json.dumps({"python.defaultInterpreterPath": old}))
        file.chmod(0o640)
        os.chown(file, NOBODY, NOBODY)
        os.setxattr(file, "user.bee", b"queen")
        os.utime(file, (1_600_000_000, 1_600_000_000))
        if second:
            os.link(file, file.with_name("second.json"))
        before = whole(file.parent)
        ran = moor.kalyx("point", "editor", new, "--yes", "--json")
        assert ran.status == 0 and new in file.read_text(), ran.err
        for name, one in whole(file.parent).items():
            assert name == "." or one[:4] + one[5:6] == before[name][:4] + before[name][5:6], name
        assert moor.kalyx(*ran.json["undo"][1:], "--yes").status == 0
        assert {**whole(file.parent), ".": 0} == {**before, ".": 0}


@as_root
def test_a_kernel_on_another_file_system(moor):
    """It is removed, and put back, by a copy that was compared."""
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    kernels = moor.data / "kernels"
    kernels.mkdir(parents=True)
    with mounted("-t", "tmpfs", "none", kernels):
        folder = moor.kernel("heath", [python, *standin_argv()[1:]])
        os.utime(folder / "kernel.json", (1_600_000_000, 1_600_000_000))
        before = whole(folder)
        ran = moor.kalyx("unregister", "heath", "--yes", "--json")
        assert ran.status == 0 and not folder.exists(), ran.err
        assert moor.kalyx(*ran.json["undo"][1:], "--yes").status == 0
        assert whole(folder) == before
        assert moor.kalyx("discard", moor.root / "heath", "--yes").status == 0 and not folder.exists()
        assert not (moor.root / "heath").exists()


def test_a_link_in_the_place_of_what_kalyx_keeps(moor, wheels):
    """A folder of the user's behind a link where an installer's words would go: nothing in it is removed."""
    python = make_environment(NEW, moor.root / "heath")
    mine = moor.root / "mine"
    mine.mkdir()
    for number in range(9):
        (mine / f"installer-2026010{number}-000000-000000.txt").write_text("mine")
        (mine / f"{number}.txt").write_text("mine")
    cache = moor.root.parent / "cache" / "kalyx"
    cache.mkdir(parents=True)
    (cache / "said").symlink_to(mine)
    assert moor.kalyx("fill", python, "nowhere-to-be-had", "--wheels", wheels, "--yes").status == 2
    assert len(list(mine.iterdir())) == 18
    (cache / "said").unlink()
    mine.rename(cache / "said")
    assert moor.kalyx("fill", python, "torn-comb", "broad===9", "--wheels", wheels, "--yes").status == 2
    assert len([path for path in (cache / "said").iterdir() if path.name[0].isdigit()]) == 9
