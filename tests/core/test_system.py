"""Each door's live and in-memory form over the same tree: what one says, the other says, and the system itself."""

import errno
import os
import posixpath
import random
import shutil
import subprocess
import sys
from collections import deque
from types import SimpleNamespace

import pytest

from kalyx.core.model.records import KalyxError
from kalyx.core.system import Unreadable, guard, live_writer, watched
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.system.live_runner import LiveRunner
from kalyx.core.system.live_writer import LiveWriter
from kalyx.core.system.memory_reader import Link, MemoryReader, Pipe
from tests.equipment import LONG
from tests.support.memory_writer import MemoryWriter

# Below a folder of their own: files, links of every kind, names that mean something elsewhere.
TREE = {
    "base/bin/python3.11": b"ELF",
    "base/bin/python3": Link("python3.11"),
    "base/lib/os.py": b"import sys\n",
    "env/bin/python": Link("../../base/bin/python3"),
    "env/bin/absolute": Link("{root}/base/bin/python3"),
    "env/lib64": Link("lib"),
    "env/lib/x.py": "é\n",
    "store/deep/env": Link("../../env"),
    "store/deep/up.py": b"1",
    "by-link": Link("store/deep"),
    "by-link-again": Link("by-link/env"),
    "~": Link("env"),
    "home": Link("~"),
    "~keeper/file": b"",
    "loop": Link("loop"),
    "one": Link("other"),
    "other": Link("one"),
    "dangling": Link("nowhere/at/all"),
    "through-a-file": Link("base/lib/os.py/x"),
    "a b/-x": b"",
    "a b/'": Link("-x"),
    "empty/": None,
    "pipe": Pipe(),
    "back\\slash": b"",
}


def on_disk(root) -> None:
    for name, content in TREE.items():
        path = os.path.join(root, name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        if isinstance(content, Link):
            os.symlink(content.format(root=root), path)
        elif isinstance(content, Pipe):
            os.mkfifo(path)
        elif content is not None:
            with open(path, "wb") as file:
                file.write(content.encode() if isinstance(content, str) else content)


def in_memory(root) -> MemoryReader:
    files = {
        f"{root}/{name}": Link(content.format(root=root)) if isinstance(content, Link) else content
        for name, content in TREE.items()
        if content is not None
    }
    reader = MemoryReader("linux", files, variables={"HOME": str(root)}, home=str(root), folder=str(root))
    reader.put(f"{root}/empty", None, folder=True)
    return reader


def outcome(ask, *words):
    """What a reading gives, or which path it refuses."""
    try:
        found = ask(*words)
    except Unreadable as error:
        return "unreadable", error.path
    return dict(found) if hasattr(found, "items") else found


NAMES = sorted({part for name in TREE for part in name.strip("/").split("/")} | {"..", ".", "nothing", "x" * 300})


def paths(root: str, seed: int, count: int) -> list[str]:
    """Every path of the tree, and words put together by chance."""
    chance = random.Random(seed)
    found = [f"{root}/{name.strip('/')}" for name in TREE] + [root]
    while len(found) < count:
        path = "/".join([root, *(chance.choice(NAMES) for _ in range(chance.randint(1, 6)))])
        if posixpath.realpath(path).startswith(root + "/"):  # not out of the tree
            found.append(path)
    return found + [root + "/long" * 1200]


@pytest.mark.parametrize("seed", range(40 if LONG else 4))
def test_reading(tmp_path, seed):
    root = str(tmp_path.resolve())
    on_disk(root)
    memory = in_memory(root)
    for path in paths(root, seed, 400):
        live = LiveReader({"HOME": root}, root)  # anew: what it remembers must not help
        for reading in ("kind", "link", "exists", "is_file", "is_folder", "real", "hops", "names", "listing", "read"):
            one, other = outcome(getattr(live, reading), path), outcome(getattr(memory, reading), path)
            assert one == other, (reading, path)
        there = live.status(path), memory.status(path)
        assert [item and (item.kind, item.size if item.kind == "file" else 0) for item in there][0] == (
            there[1] and (there[1].kind, there[1].size if there[1].kind == "file" else 0)
        ), path
        # And the system's own word.
        assert live.exists(path) == (os.path.exists(path) or os.path.lexists(path) and not os.path.islink(path))
        if os.path.exists(path):
            assert live.real(path) == os.path.realpath(path), path
            assert live.is_folder(path) == os.path.isdir(path) and live.is_file(path) == os.path.isfile(path)
        if os.path.islink(path):
            assert live.link(path) == os.readlink(path)


def test_what_a_door_remembers_is_what_it_would_find(tmp_path):
    """A listing answers for what lies in it: in any order of asking, the answers are the same."""
    root = str(tmp_path.resolve())
    on_disk(root)
    warm = LiveReader({"HOME": root}, root)
    asked = [*paths(root, 99, 300), f"{root}/env/..", f"{root}/env/."]
    for path in asked:
        warm.names(path)
    for path in asked:
        fresh = LiveReader({"HOME": root}, root)
        for reading in ("kind", "link", "exists", "is_folder", "real", "hops"):
            assert getattr(warm, reading)(path) == getattr(fresh, reading)(path), (reading, path)


# -- writing --------------------------------------------------------------------------------------------------------

ACTIONS = [
    ("folder", 1), ("write", 1), ("mark", 1), ("claim", 1), ("remove_file", 1), ("remove_folder", 1),
    ("remove_empty_folder", 1), ("move", 2), ("copy_folder", 2), ("link", 2),
]  # fmt: skip
PLACES = ["env", "env/bin/python", "env/bin", "base/lib/os.py", "by-link/new", "by-link", "new/deeper", "new", "dangling",
          "store/deep", "empty", "a b/-x", "~", "base/lib/os.py/x", "nothing/here", "env/lib64/x.py"]  # fmt: skip


def snapshot(reader, folder: str) -> dict[str, object]:
    found: dict[str, object] = {}
    for name in reader.names(folder):
        path = reader.join(folder, name)
        kind = reader.kind(path)
        if kind == "folder":
            found[path] = "folder"
            found |= snapshot(reader, path)
        else:
            found[path] = reader.link(path) if kind == "link" else reader.read(path) if kind == "file" else kind
    return found


def did(change, action: str, words: list[str]) -> str:
    try:
        extra = {"copy_folder": {"linked": False}}.get(action, {})
        content = [b"new"] if action in ("write", "mark", "claim") else []
        return repr(getattr(change, action)(*words, *content, **extra))
    except KalyxError as error:
        return f"refused: {error.message.partition(': ')[2].partition(';')[0]}"


@pytest.mark.parametrize("seed", range(300 if LONG else 30))
def test_writing(tmp_path, seed):
    """The same changes, by chance: the same trees, the same refusals."""
    chance = random.Random(seed)
    root = str(tmp_path.resolve())
    on_disk(root)
    os.unlink(f"{root}/pipe")  # copying one is for ever
    memory = in_memory(root)
    memory.drop(f"{root}/pipe")
    live, other = LiveWriter(), MemoryWriter(memory)
    for _ in range(12):
        action, count = chance.choice(ACTIONS)
        words = [f"{root}/{chance.choice(PLACES)}" for _ in range(count)]
        if action in ("move", "copy_folder"):
            words[1] = f"{root}/to-{chance.randint(1, 3)}"
            if action == "copy_folder" and (LiveReader({}, root).kind(words[1]) or not LiveReader({}, root).is_folder(words[0])):
                continue
        one, two = did(live, action, words), did(other, action, words)
        assert one == two, (action, words)
        assert snapshot(LiveReader({}, root), root) == snapshot(memory, root), (action, words)


def test_a_file_with_a_further_name_keeps_it(tmp_path):
    for name in ("long", "short"):
        old, twin = tmp_path / name, tmp_path / f"{name}-twin"
        old.write_text("old words" if name == "long" else "o")
        os.link(old, twin)
        LiveWriter().write(str(old), b"newer", mode=0o640, times=(5, 7_000_000_000))
        status = old.stat()
        assert (twin.read_bytes(), status.st_nlink, status.st_mode & 0o777, status.st_mtime_ns) == (b"newer", 2, 0o640, 7_000_000_000)
    assert sorted(os.listdir(tmp_path)) == ["long", "long-twin", "short", "short-twin"]


def test_what_killed_runs_left_half_written(tmp_path):
    with subprocess.Popen([sys.executable, "-c", ""]) as gone:
        gone.wait()
    names = [f".kalyx-new-{gone.pid}-{'a' * 8}", f".kalyx-new-{os.getpid()}-{'a' * 8}", f".kalyx-new-{gone.pid}-{'a' * 7}", f".kalyx-new-{gone.pid}-{'a' * 9}", ".kalyx-new-x-aaaaaaaa", f"kalyx-new-{gone.pid}-{'a' * 8}"]
    for name in names:
        (tmp_path / name).write_text("")
    (tmp_path / f".kalyx-new-{gone.pid}-{'f' * 8}").mkdir()
    LiveWriter().clear_left_over(str(tmp_path))
    assert sorted(os.listdir(tmp_path)) == sorted([*names[1:], f".kalyx-new-{gone.pid}-{'f' * 8}"])
    LiveWriter().clear_left_over(str(tmp_path / "gone"))


def test_what_killed_runs_left_in_the_temporary_folder(tmp_path):
    with subprocess.Popen([sys.executable, "-c", ""]) as gone:
        gone.wait()
    names = [f"kalyx-{gone.pid}-x", f"kalyx-{os.getpid()}-x", "kalyx-x-x", f"other-{gone.pid}-x", f"kalyx-{gone.pid}-file"]
    for name in names[:-1]:
        (tmp_path / name / "in it").mkdir(parents=True)
    (tmp_path / names[-1]).write_text("")
    guard._clear_left_over(str(tmp_path))
    assert sorted(os.listdir(tmp_path)) == sorted(names[1:])
    guard._clear_left_over(str(tmp_path / "gone"))


def test_the_channels_of_a_kernel_have_free_ports_of_their_own():
    from kalyx.core.system.loopback import CHANNELS, Connection

    two = [Connection("tcp"), Connection("tcp")]
    ports = [port for connection in two for port in connection.ports.values()]
    assert len(set(ports)) == 2 * len(CHANNELS) and min(ports) > 1023
    for connection in two:
        connection.close()


def test_a_temporary_folder_that_somebody_clears_is_made_again(monkeypatch, tmp_path):
    monkeypatch.setattr(guard.tempfile, "gettempdir", lambda: str(tmp_path))
    monkeypatch.setattr(guard.Guard, "stand", lambda self: None)
    own = guard.Guard()
    first = own.new_folder()
    shutil.rmtree(own.folder)
    assert os.path.isdir(own.new_folder()) and not os.path.exists(first)
    own.dismiss()
    assert os.listdir(tmp_path) == []


def test_what_a_watched_program_prints_late(monkeypatch):
    """A program that runs is waited for, however long it says nothing; what it left running is not, once it has ended."""
    source, end = os.pipe()
    monkeypatch.setattr(watched, "_AFTER", 0.01)
    monkeypatch.setattr(watched, "_write", lambda chunk: None)
    answers = iter([None, None, None, 0])

    def poll():
        answer = next(answers)
        if answer is None:
            os.write(end, b"late ")
        return answer

    kept = deque()
    watched._copy(source, SimpleNamespace(poll=poll), kept)
    assert b"".join(kept) == b"late late late "
    os.close(end)
    os.close(source)


@pytest.mark.parametrize(("refused", "said"), [(FileExistsError(17, "x"), "a file of this name appeared meanwhile"), (PermissionError(1, "x"), None)])
def test_a_new_file_replaces_none(tmp_path, monkeypatch, refused, said):
    """Also where the file system makes no links."""

    def link(*words):
        raise refused

    monkeypatch.setattr(os, "link", link)
    path = tmp_path / "new"
    if said is None:
        LiveWriter().write(str(path), b"new", mode=0o640, new=True)
        assert (path.read_bytes(), path.stat().st_mode & 0o777) == (b"new", 0o640)
    else:
        with pytest.raises(KalyxError, match=said):
            LiveWriter().write(str(path), b"new", new=True)
    assert os.listdir(tmp_path) == ([] if said else ["new"])


@pytest.mark.parametrize("what", ["file", "folder", "taken", "not the same", "stopped"])
def test_a_move_to_another_file_system(tmp_path, monkeypatch, what):
    rename, refused = os.rename, []

    def once(path, to):
        if not refused:
            refused.append(path)
            raise OSError(errno.EXDEV, "x")
        if what == "stopped":
            raise KeyboardInterrupt
        rename(path, to)

    source, target = tmp_path / "a", tmp_path / "b"
    if what == "folder":
        (source / "deep").mkdir(parents=True)
        (source / "deep" / "x").write_text("x")
    else:
        source.write_text("x")
    if what == "taken":
        target.write_text("mine")
    if what == "not the same":
        monkeypatch.setattr(live_writer, "first_difference", lambda *words: "x")
    monkeypatch.setattr(os, "rename", once)
    before = snapshot(LiveReader({}, str(tmp_path)), str(tmp_path))
    if what in ("file", "folder"):
        LiveWriter().move(str(source), str(target))
        moved = snapshot(LiveReader({}, str(tmp_path)), str(tmp_path))
        assert str(moved) == str(before).replace(str(source), str(target)) and not source.exists()
        return
    with pytest.raises((KalyxError, KeyboardInterrupt)) as refusal:
        LiveWriter().move(str(source), str(target))
    assert {"taken": "file exists", "not the same": "the copy is not the same", "stopped": ""}[what] in str(refusal.value)
    assert snapshot(LiveReader({}, str(tmp_path)), str(tmp_path)) == before


@pytest.mark.parametrize(("times", "said"), [(0, ""), (4, ""), (5, "a: resource busy; nothing was removed")])
def test_a_tree_that_something_writes_into_is_removed(tmp_path, monkeypatch, times, said):
    rmtree, refused, slept = shutil.rmtree, [], []

    def busy(path, **words):
        if len(refused) < times:
            refused.append(path)
            raise OSError(errno.EBUSY, "resource busy", "a")
        rmtree(path, **words)

    (tmp_path / "tree" / "deep").mkdir(parents=True)
    (tmp_path / "tree" / "deep" / "x").write_text("x")
    monkeypatch.setattr(live_writer.shutil, "rmtree", busy)
    monkeypatch.setattr(live_writer.time, "sleep", slept.append)
    if said:
        with pytest.raises(KalyxError, match=said):
            LiveWriter().remove_folder(str(tmp_path / "tree"))
    else:
        LiveWriter().remove_folder(str(tmp_path / "tree"))
    assert ((tmp_path / "tree").exists(), slept) == (bool(said), [0.1] * min(times, 4))
    LiveWriter().remove_folder(str(tmp_path / "gone"))


def test_a_locked_folder_is_waited_for(tmp_path, monkeypatch):
    import fcntl

    held = os.open(tmp_path, os.O_RDONLY)
    fcntl.flock(held, fcntl.LOCK_EX)
    slept = []

    def sleep(seconds):
        slept.append(seconds)
        if len(slept) == 3:
            os.close(held)  # the other one is done

    monkeypatch.setattr(live_writer.time, "sleep", sleep)
    with LiveWriter().alone(str(tmp_path)):
        assert slept == [0.02] * 3


LINKED = [({}, ""), ({"hive.py": ""}, ""), ({"pack/mod.py": "other.py", "wax.py": "gone/wax_own.py"}, ""), ({"deep/er/x.py": ""}, "pack"), ({}, "pack"), ({}, "hive.py")]


@pytest.mark.parametrize(("instead", "deep"), LINKED)
def test_a_folder_of_links(tmp_path, instead, deep):
    """The real one and that of the model are the same."""
    from tests.support.model_python import ModelPython

    names = ("hive.py", "wax.py", "pack/__init__.py", "pack/mod.py", "pack/__pycache__/mod.pyc", "__pycache__/hive.pyc", "deep/er/x.py", "deep/er/y.py", "deeper/z.py")
    for name in names:
        (tmp_path / "real" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "real" / name).write_text(name)
    memory = MemoryReader("linux", {f"{tmp_path}/real/{name}": name for name in names}, folder="/")
    given = {f"{tmp_path}/real/{name}": to for name, to in instead.items()}
    for runner in (LiveRunner(), ModelPython(memory)):
        runner.link_all(f"{tmp_path}/real", f"{tmp_path}/made", given, deep)
    assert snapshot(LiveReader({}, str(tmp_path)), str(tmp_path)) == snapshot(memory, str(tmp_path))


def test_what_is_half_written_goes_at_any_end(tmp_path, monkeypatch):
    def ends(*words, **named):
        raise KeyboardInterrupt

    monkeypatch.setattr(os, "replace", ends)
    monkeypatch.setattr(os, "rename", ends)
    with pytest.raises(KeyboardInterrupt):
        LiveWriter().write(str(tmp_path / "a.txt"), b"half")
    assert os.listdir(tmp_path) == []


# -- starting -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "code, status, output, errors",
    [("print('hive')", 0, b"hive\n", b""), ("import sys; sys.stderr.write('no'); sys.exit(3)", 3, b"", b"no"),
     ("print('x' * 100)", 0, b"x" * 40, b"")],
)  # fmt: skip
def test_starting(code, status, output, errors):
    begun: list[int] = []
    ended = LiveRunner().run([sys.executable, "-c", code], limit=40, begun=lambda: begun.append(1))
    assert (ended.status, ended.output, ended.errors, ended.timed_out) == (status, output, errors, False)
    assert ended.cut == (len(output) == 40) and begun == [1]


def test_what_is_not_there_is_not_started():
    gone = LiveRunner().run(["/nowhere/at/all"])
    assert gone.status is None and gone.problem == "cannot be started: no such file or directory"


@pytest.mark.skipif(shutil.which("du") is None, reason="needs du")
def test_what_a_folder_takes_on_disk_is_what_du_says(tmp_path):
    """Each block once: a file of two names, a link, an empty folder, one that this user made of holes."""
    (tmp_path / "deep" / "er").mkdir(parents=True)
    (tmp_path / "deep" / "a").write_bytes(b"x" * 10_000)
    os.link(tmp_path / "deep" / "a", tmp_path / "twin")
    os.symlink("/usr", tmp_path / "link")
    with open(tmp_path / "holes", "wb") as file:
        file.truncate(5_000_000)
    said = subprocess.run(["du", "-s", "--block-size=512", tmp_path], capture_output=True, text=True, check=True).stdout.split()[0]
    assert LiveReader().usage(str(tmp_path)) == (512 * int(said), 0)
