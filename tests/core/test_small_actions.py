"""What is started, kept and removed, on machines in memory. Written from faults that no near test noticed."""

import json
import os
import shutil
import sys
from contextlib import nullcontext
from pathlib import Path
from types import SimpleNamespace

import pytest

from kalyx.core.actions import proving
from kalyx.core.actions.transaction import Transaction, recover
from kalyx.core.imports.trial import Trial
from kalyx.core.interpreters import consent
from kalyx.core.interpreters.consent import objection
from kalyx.core.machine import Machine
from kalyx.core.model.records import Fix, Interpreter, KalyxError, Package
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.own_files import own_folder
from kalyx.core.system.reader import Process
from kalyx.core.text.essence import Essence
from tests.made import BINARY, HOME, Files
from tests.support.memory_writer import MemoryWriter


@pytest.mark.parametrize("words, kept", [
    (["python", "-m", "ipykernel_launcher", "-f", "/x/kernel-1.json", "--ip=10.0.0.1", "--quiet", "secretly", "/opt/x"], [1, 1, 1, 1, 1, 0, 1, 0, 1]),
    (["bash", "-c", "echo hello"], [1, 1, 0]),
    (["python", "-W", "ignore", "C:\\x\\a.py", "7", "--n=3", "--to=/x"], [1, 1, 1, 1, 1, 1, 1]),
])  # fmt: skip
def test_what_is_kept_of_a_command(words, kept):
    said = Essence(b"salt").command(words)
    assert [int(before == after) for before, after in zip(words, said, strict=True)] == kept


@pytest.mark.parametrize("key", ["python-shell-interpreter", "cmd"])
def test_of_a_settings_command_only_what_starts_is_kept(key):
    own = Essence(b"salt")
    said = own._of_settings([key], "", "/opt/heath/bin/python -m hive secretly")
    assert "secretly" not in said and said.startswith("/opt/heath/bin/python -m hive ")
    assert own._of_settings([key], "", "/opt/heath") == "/opt/heath" and own._of_settings(["unknown"], "", "/opt/heath") != "/opt/heath"


def test_a_kernel_whose_file_is_gone_is_not_removed_again():
    from kalyx.core.actions import unregistering

    files = Files()
    files.kernel("moor", "/usr/bin/python3")
    machine = files.machine()
    (kernel,) = machine.kernels
    machine.reader.drop(f"{kernel.folder}/kernel.json")
    writer = MemoryWriter(machine.reader)
    with pytest.raises(KalyxError, match=f"{kernel.folder} is gone already"), Transaction(machine.reader, writer) as transaction:
        unregistering.remove(machine, [kernel], transaction)
    assert machine.reader.again().is_folder(kernel.folder)


@pytest.mark.parametrize("ended, text", [
    ({"timed_out": True}, "the import took longer than 20 seconds"), ({"signal": "SIGKILL", "status": -9}, "the interpreter was ended by SIGKILL"),
    ({"problem": "exec format error"}, "exec format error"), ({"status": 3}, "the interpreter ended with status 3"),
])  # fmt: skip
def test_an_import_that_gave_no_answer_says_why(monkeypatch, ended, text):
    machine = SimpleNamespace(runner=SimpleNamespace(empty_folder=nullcontext), reader=SimpleNamespace(variables={}), seconds=20.0)
    monkeypatch.setattr(proving, "try_import", lambda *words, **named: Trial(answered=False, **ended))
    package = Package(name="hivescale", version="2.1", modules=["hivescale"], location="/site", origin="own")
    (answer,) = proving.proofs(machine, SimpleNamespace(executable="/usr/bin/python3"), package)
    assert (answer.outcome, answer.error.type, answer.error.text) == ("fails", "no answer", text)


@pytest.mark.parametrize("folder, where", [("heath/src", f"{HOME}/heath, as the current folder is"), ("heath", "the current folder")])
def test_where_an_interpreter_lies_that_is_not_started(folder, where):
    files = Files()
    files[f"{HOME}/heath/src/a.py"] = b""
    machine = Machine(MemoryReader("linux", files, variables=files.variables, home=HOME, folder=f"{HOME}/{folder}"))
    python, prefix = f"{HOME}/heath/src/venv/bin/python" if folder == "heath" else f"{HOME}/heath/venv/bin/python", f"{HOME}/heath/venv"
    interpreter = Interpreter(executable=python, real_executable=python, version="3.11.7", implementation="cpython", prefix=prefix, base_prefix="/usr")
    assert f"was not started: it is in {where}, and you did not name it" in objection(machine.reader, interpreter, "machine")


def test_a_demo_on_a_machine_with_one_python_says_so():
    from kalyx.demo.machine import _bases

    files, notes = Files(), []
    files["/usr/lib/python3.11/venv/__init__.py"] = files["/usr/lib/python3.11/ensurepip/__init__.py"] = b""
    newer, older = _bases(files.machine(), notes)
    assert newer is older and notes == ["only one Python is here, so both environments have version 3.11.7"]


def test_an_answer_with_bytes_that_are_no_text_has_the_form_of_every_other():
    from kalyx.cli.context import _json_of

    assert _json_of({"path": ["a"]}) == '{\n "path": [\n  "a"\n ]\n}' and _json_of({"path": ["\udce9"]}) == '{\n "path": [\n  "\\udce9"\n ]\n}'


@pytest.mark.parametrize("letters", [1, 90])
def test_a_local_socket_needs_a_short_folder(letters, tmp_path, monkeypatch):
    from kalyx.core.system import loopback

    folder = Path("/tmp", f"{tmp_path.name[-8:]}{'x' * letters}")
    folder.mkdir()
    try:
        monkeypatch.setattr(loopback, "guard", lambda: SimpleNamespace(new_folder=lambda: str(folder)))
        if letters == 1:
            assert loopback.Connection("ipc").address == os.path.join(folder, "kernel")
        else:
            with pytest.raises(KalyxError, match="set TMPDIR to a folder with a shorter path"):
                loopback.Connection("ipc")
    finally:
        shutil.rmtree(folder)


@pytest.mark.parametrize("before, value, after", [
    ("'C:\\old'", "C:\\new", "'C:\\new'"), ("'old'", "it's", '"it\'s"'), ('"old"', "C:\\new", '"C:\\\\new"'), ("'old'", "a\tb", '"a\\tb"'),
    ("['old', 'x']", "/new", "['/new', 'x']"),
])  # fmt: skip
def test_a_text_keeps_its_quotes_where_they_can_hold_the_new_one(before, value, after):
    from kalyx.core.formats import toml

    assert toml.with_value(f"[tool]\npython = {before}  # mine\n", ["tool", "python"], value) == f"[tool]\npython = {after}  # mine\n"


@pytest.mark.parametrize("how, is_killed", [("over", True), ("runs", False), ("interrupted", False), ("refused", True)])
def test_the_guard_goes_home_only_where_nothing_runs(how, is_killed, tmp_path):
    """Else the guard itself ends what runs, once its input is closed; so where a start was interrupted half-way."""
    from kalyx.core.system.guard import Guard

    told: list[str] = []
    made = Guard()
    made.folder, made._held = str(tmp_path / "gone"), os.open(os.devnull, os.O_WRONLY)
    made._shell = SimpleNamespace(kill=lambda: told.append("killed"), wait=lambda: told.append("ended"))
    mark = made.new_mark()
    if how == "refused":
        made.refused(mark)
    elif how != "interrupted":
        made.begun(mark, 7)
    if how == "over":
        made.over(7)
    made.dismiss()
    assert told == ["killed", "ended"] if is_killed else told == ["ended"]


@pytest.mark.parametrize("before, after, says", [
    (("ImportError", "a (/one/x)"), ("ImportError", "a (/two/x)"), None),  # the same, elsewhere
    (("ImportError", "a"), ("ImportError", "b"), "fails at something else: ImportError: b"),
    (("ImportError", "a"), ("ValueError", "a"), "fails at something else: ValueError: a"),
    (None, ("ValueError", "a"), None),
    (("ImportError", "a"), None, None),
])  # fmt: skip
def test_what_comes_after_a_fix_is_said_where_it_is_something_else(before, after, says):
    from kalyx.core.actions.trying import _what_comes_next

    raised = [SimpleNamespace(type=item[0], text=item[1]) if item else None for item in (before, after)]
    told = _what_comes_next(SimpleNamespace(error=raised[0]), Fix(message="do it", steps=[]), SimpleNamespace(imports=False, root=raised[1]))
    assert [item.fact.partition("import ")[2] for item in told] == ([says] if says else [])
    assert _what_comes_next(SimpleNamespace(error=raised[0]), Fix(message="do it", steps=[]), SimpleNamespace(imports=True, root=raised[1])) == []


IN_CLONE, OUTSIDE = f"{HOME}/aviary/bin", "/usr/bin"


@pytest.mark.parametrize("word, own_path, path, entered, let_through, starts", [
    (f"{IN_CLONE}/hive", OUTSIDE, None, None, (), False),
    (f"{IN_CLONE}/hive", OUTSIDE, None, None, (f"{IN_CLONE}/hive",), True),
    (f"{IN_CLONE}/hive", OUTSIDE, None, None, (f"{OUTSIDE}/hive",), False),
    (f"{OUTSIDE}/hive", IN_CLONE, None, None, (), True),
    ("hive", OUTSIDE, None, None, (), True),
    ("hive", f"{IN_CLONE}:{OUTSIDE}", None, None, (), False),
    ("hive", f"{OUTSIDE}:{IN_CLONE}", None, None, (), True),
    ("hive", OUTSIDE, f"{IN_CLONE}:{OUTSIDE}", None, (), False),  # by the PATH of what is started
    ("hive", f"{IN_CLONE}:{OUTSIDE}", OUTSIDE, None, (), True),
    ("hive", IN_CLONE, None, f"{HOME}/aviary", (), True),
    ("hive", IN_CLONE, None, f"{HOME}/other", (), False),
    ("hive", IN_CLONE, None, None, (f"{IN_CLONE}/hive",), True),
    ("hive", "bin", None, None, (), False),
    ("absent", IN_CLONE, None, None, (), True),  # nothing is found, and nothing is started
    (sys.executable, IN_CLONE, None, None, (), True),
])  # fmt: skip
def test_the_gate_starts_nothing_that_the_folder_brought(word, own_path, path, entered, let_through, starts):
    from kalyx.core.interpreters.consent import Gate

    files = {f"{IN_CLONE}/hive": BINARY, f"{OUTSIDE}/hive": BINARY, f"{HOME}/aviary/.git/HEAD": b"", f"{HOME}/other/bin/python": BINARY}
    variables = {"PATH": own_path, **({"VIRTUAL_ENV": entered} if entered else {})}
    reader = MemoryReader("linux", files, variables=variables, home=HOME, folder=f"{HOME}/aviary")
    started = []
    inner = SimpleNamespace(run=lambda argv, **more: started.append(argv), start=lambda argv, **more: started.append(argv))
    gate, given = Gate(inner, reader, set(let_through)), {"PATH": path} if path is not None else None
    ended = gate.run([word, "-V"], variables=given)
    with nullcontext() if starts else pytest.raises(OSError, match="may have come with the current folder"):
        gate.start([word, "-V"], variables=given)
    assert started == ([[word, "-V"]] * 2 if starts else [])
    assert starts or (ended.status is None and "and you did not name it" in ended.problem)


def process(pid, command=("/usr/bin/python3",), folder="/"):
    return Process(pid, 1, "/usr/bin/python3.11", command, folder, None, None, name="hive")


@pytest.mark.parametrize("program, starts", [
    (f"{HOME}/heath/bin/python", True), (f"{HOME}/heath/bin/gone", True), (f"{HOME}/orchard/bin/python", False), (f"{HOME}/orchard/bin/gone", False), ("gone", False),
])  # fmt: skip
def test_the_kernels_that_go_with_an_environment(program, starts):
    """Those that start the environment, also by a program of it that is gone; and the notebooks that ask for them are named."""
    from kalyx.core.actions import discarding

    files = Files()
    files.kernel("moor", program)
    files[f"{HOME}/spring/a.ipynb"] = json.dumps({"metadata": {"kernelspec": {"name": "Moor", "display_name": "x"}}, "cells": [], "nbformat": 4})
    machine = files.machine()
    assert [discarding._starts(machine, kernel, f"{HOME}/heath") for kernel in machine.kernels] == [starts]
    (pointer,) = discarding._pointers(machine, f"{HOME}/heath", machine.kernels)
    assert pointer.startswith(f"{HOME}/spring/a.ipynb asks for the kernel Moor: kalyx point ")


@pytest.mark.parametrize("base, prefix, where, is_refused", [
    ("/opt/hive/bin/python3.11", "/opt/hive", f"{HOME}/orchard", True), ("/usr/bin/python3.11", "/opt/hive", f"{HOME}/orchard", False), ("/usr/bin/python3.11", f"{HOME}/heath", f"{HOME}/orchard", True),
    ("/opt/hive/bin/python3.11", "/opt/hive", "/opt/hive/inner", False),  # it goes with the base
])  # fmt: skip
def test_the_base_of_another_environment_is_not_removed(base, prefix, where, is_refused):
    from kalyx.core.actions import discarding

    files = Files()
    files["/opt/hive/bin/python3.11"], files["/opt/hive/lib/python3.11/os.py"] = BINARY, b""
    files.environment(where, base)
    if prefix.endswith("heath"):  # its interpreter is a link to that one's
        files[f"{where}/bin/python"] = Link(f"{HOME}/heath/bin/python")
    reader = files.machine().reader
    machine = SimpleNamespace(reader=reader, environments=SimpleNamespace(everywhere=[discarding.read_environment(reader, where).environment]))
    with pytest.raises(KalyxError, match=f"is the base Python of other environments: {where}") if is_refused else nullcontext():
        discarding._refuse_a_base_of_others(machine, prefix)


@pytest.mark.parametrize("was_listed", [True, False])
def test_a_removal_that_is_refused_at_its_last_check_leaves_everything(was_listed, monkeypatch):
    """What was on the list of managed environments stays on the list, and nothing else comes on it."""
    from kalyx.core.actions import discarding, managed_envs

    reader, prefix = Files().machine().reader, f"{HOME}/heath"
    writer = MemoryWriter(reader)
    machine = Machine(reader, None, writer=writer)
    if was_listed:
        managed_envs.remember(reader, prefix, writer)
    leaving = discarding.plan(machine, prefix, own_prefix="/opt/kalyx", with_own_files=True)
    before = sorted(reader.again().names(prefix))
    monkeypatch.setattr(writer, "obstacle", lambda path: f"{path} is held")
    with pytest.raises(KalyxError, match=f"{prefix} is held; nothing of {prefix} was removed"):
        discarding.carry_out(machine, leaving, lambda text: None)
    assert sorted(reader.again().names(prefix)) == before
    assert discarding.made_prefixes(reader.again()) == ([prefix] if was_listed else [])
    monkeypatch.undo()
    names: list[str] = []
    discarding.carry_out(machine, leaving, names.append)
    assert names[-2:] == ["pyvenv.cfg", ".kalyx-discarding"] and not reader.again().exists(prefix)
    assert discarding.made_prefixes(reader.again()) == []


@pytest.mark.parametrize("system, owner, mode, says", [
    ("linux", 1000, 0o600, None), ("linux", 0, 0o644, None), ("linux", 1001, 0o600, "it belongs to another user (number 1001)"), ("linux", 1000, 0o646, "every user may write it"),
    ("linux", 1000, 0o664, None), ("windows", 1001, 0o666, None),
])  # fmt: skip
def test_whose_files_kalyx_believes(system, owner, mode, says, monkeypatch):
    from kalyx.core.system.own_files import distrust
    from kalyx.core.system.reader import FileStat, Refused

    reader = MemoryReader(system, {})
    monkeypatch.setattr(reader, "status", lambda path: FileStat("file", 1, 0, 1, 1, mode, owner))
    assert distrust(reader, "/a") == says
    monkeypatch.setattr(reader, "status", lambda path: Refused("permission denied"))
    assert distrust(reader, "/a") == "permission denied"


def killed(reader):
    """The tree before, and a run that was stopped in its changes: a file written, one made in a new folder, one moved, one removed."""
    writer, before = MemoryWriter(reader), tree_of(reader)
    begun = Transaction(reader, writer)
    begun.write(f"{HOME}/a", b"new")
    begun.write(f"{HOME}/made/in/b", b"made")
    begun.move(f"{HOME}/c", f"{HOME}/moved/c")
    begun.remove_file(f"{HOME}/d")
    assert tree_of(reader) == {f"{HOME}/a": b"new", f"{HOME}/made/in/b": b"made", f"{HOME}/moved/c": b"c"}
    return writer, before


def tree_of(reader):
    return {path: content for path, content in reader._nodes.items() if content is not None and "kalyx" not in path}


def memory_of_a_run(started=5.0):
    files = {f"{HOME}/{name}": name.encode() for name in "acd"}
    running = Process(1, 0, "/usr/bin/python3", ("kalyx",), "/", None, started)
    return MemoryReader("linux", files, home=HOME, folder=HOME, variables={"HOME": HOME}, processes={1: running})


@pytest.mark.parametrize("lives, since", [("no more", None), ("as another", None), ("still", None), ("no more", "a"), ("no more", "made/in/b"), ("no more", "c"), ("no more", "d"), ("no more", "made/other")])
def test_what_a_killed_run_changed_is_rolled_back_once_it_is_gone(lives, since):
    """Not while it runs; of what somebody wrote since nothing."""
    reader = memory_of_a_run()
    writer, before = killed(reader)
    if since is not None:
        reader.put(f"{HOME}/{since}", b"mine")
    if lives != "still":
        reader._processes = {1: memory_of_a_run(6.0).process(1)} if lives == "as another" else {}
    at_work, told = tree_of(reader), recover(reader, writer)
    if lives == "still":
        assert told == [] and tree_of(reader) == at_work
        reader._processes = {}
        assert recover(reader, writer)
    expected = before | ({f"{HOME}/{since}": b"mine"} if since else {})
    expected |= {f"{HOME}/moved/c": b"c"} if since == "c" else {}  # where it was another one is
    assert tree_of(reader) == expected and (reader.kind(f"{HOME}/moved") is None) == (since != "c")
    assert reader.kind(f"{HOME}/made") == ("folder" if since and since.startswith("made") else None)
    assert recover(reader, writer) == [], "once"


@pytest.mark.parametrize("path, to, is_believed", [(f"{HOME}/moved", f"{HOME}/c", True), ("moved", f"{HOME}/c", False), (f"{HOME}/moved", "c", False)])
def test_a_journal_names_no_path_of_the_current_folder(path, to, is_believed):
    """Such a journal was written by nobody but somebody else."""
    reader = memory_of_a_run()
    folder = reader.join(own_folder(reader, "state"), "journal")
    mark = "1" * 32
    journal = {"schema": "kalyx.changes/1", "worker": "7 1.0", "mark": mark, "inverses": [{"how": "move", "path": path, "to": to}]}
    reader.put(f"{folder}/changes-{mark}.json", json.dumps(journal).encode())
    assert bool(recover(reader, MemoryWriter(reader))) == is_believed
    assert reader.is_file(f"{HOME}/moved") == is_believed and reader.is_file(f"{HOME}/c") != is_believed


def test_a_change_that_is_refused_has_no_inverse():
    reader = memory_of_a_run()
    begun = Transaction(reader, MemoryWriter(reader, full=False))
    begun.write(f"{HOME}/a", b"new")
    begun.writer = MemoryWriter(reader, full=True)
    with pytest.raises(KalyxError, match="no space left"):
        begun.write(f"{HOME}/c", b"new")
    assert [inverse.path for inverse in begun.inverses] == [f"{HOME}/a"]
    begun.writer = MemoryWriter(reader)
    assert begun.roll_back() == [] and tree_of(reader) == {f"{HOME}/{name}": name.encode() for name in "acd"}


def test_the_lock_stays_where_the_folder_is_named_through_a_link():
    files = Files()
    files |= {f"{HOME}/store/x": b"", f"{HOME}/envs": Link(f"{HOME}/store")}
    reader, folder = files.machine().reader, f"{HOME}/envs/new"
    begun = Transaction(reader, MemoryWriter(reader), "prepare", folder)
    begun.folder(folder)
    begun.lock()
    reader.put(f"{HOME}/store/new/left", b"")
    begun.empty()
    assert reader.again().names(folder) == [".kalyx-unfinished"]
    assert begun.roll_back() == [] and reader.again().kind(folder) is None


def test_what_packages_brought_is_no_users_file_behind_a_link():
    from kalyx.core.environments.reading import read_environment
    from kalyx.core.packages.unowned import unowned_files

    files = Files()
    files |= {f"{HOME}/linked": Link("."), f"{files.site('heath')}/loose.py": b""}
    reader = files.machine().reader
    here, linked = ([*unowned_files(reader, read_environment(reader, f"{upper}/heath"))] for upper in (HOME, f"{HOME}/linked"))
    assert "lib/python3.11/site-packages/loose.py" in here and linked == here


def test_copies_stay_where_a_rollback_failed(monkeypatch):
    """A commit after that changes nothing: the copies are all that there is of the former packages."""
    from kalyx.core.actions.backup import keep

    reader, heath = Files().machine().reader, f"{HOME}/heath"
    writer = MemoryWriter(reader)
    begun = Transaction(reader, writer, "fill", heath)
    keep(begun, heath, [f"{heath}/bin"])
    monkeypatch.setattr(writer, "move", lambda path, to: (_ for _ in ()).throw(KalyxError("permission denied")))
    assert begun.roll_back() == [f"{heath}/bin: not rolled back (permission denied)"]
    begun.commit()
    assert reader.again().names(f"{heath}/.kalyx-before") == ["0"] and reader.again().is_file(f"{heath}/.kalyx-filling")


def test_what_could_not_be_rolled_back_is_tried_again():
    reader = memory_of_a_run()
    writer, before = killed(reader)
    reader._processes = {}
    told = recover(reader, MemoryWriter(reader, full=True))
    assert [line.partition(" (")[0] for line in told[1:]] == [f"{HOME}/d: not rolled back", f"{HOME}/c: not rolled back", f"{HOME}/a: not rolled back"], told
    assert len(recover(reader, writer)) == 1 and tree_of(reader) == before


# Where an interpreter lies; who names it; whether it may be started, and where its environment has been activated.
PLACES = {"system": ("/usr/bin/python3.11", "/usr", False), "tree": (f"{HOME}/aviary/own/bin/python", f"{HOME}/aviary/own", False), "beside": (f"{HOME}/heath/bin/python", f"{HOME}/heath", False),
          "linked": ("/srv/hive/bin/python", "/srv/hive", True), "linked system": ("/usr/bin/python3.11", "/usr", True)}  # fmt: skip
MAY = [
    *((place, "user", True, True) for place in PLACES),
    *((place, by, False, True) for place in PLACES for by in ("folder", "text")),
    *(("tree", by, True, True) for by in ("kernel", "process")), ("tree", "shell", False, True), ("tree", "machine", False, True),
    *(("beside", by, True, True) for by in ("kernel", "process", "shell", "machine")),
    *((place, by, True, True) for place in ("system", "linked system") for by in ("kernel", "process", "shell", "machine")),
    *(("linked", by, True, True) for by in ("kernel", "process", "shell")), ("linked", "machine", False, True),
]  # fmt: skip


@pytest.mark.parametrize("variable", ["VIRTUAL_ENV", "CONDA_PREFIX", "OTHER"])
@pytest.mark.parametrize("place, by, plain, entered", MAY)
def test_who_may_have_what_started(place, by, plain, entered, variable):
    executable, prefix, by_link = PLACES[place]
    files = {f"{HOME}/aviary/.git/HEAD": b"", "/usr/bin/python3.11": BINARY, f"{HOME}/aviary/deep/a.py": b"", f"{HOME}/heath/bin/python": BINARY}
    interpreter = Interpreter(executable=executable, real_executable=executable, version="3.11.7", implementation="cpython", prefix=prefix, base_prefix="/usr", by_link=by_link)
    for variables, expected in (({}, plain), ({variable: prefix}, plain if variable == "OTHER" else entered)):
        reader = MemoryReader("linux", files, variables=variables, home=HOME, folder=f"{HOME}/aviary/deep")
        assert (objection(reader, interpreter, by) is None) == expected, variables


@pytest.mark.parametrize("home, folder, tops, tree, around", [
    (HOME, f"{HOME}/a/b/c", [f"{HOME}/a/.git", f"{HOME}/a/b/.git"], f"{HOME}/a", f"{HOME}/a"),
    (HOME, f"{HOME}/a/b/c", [f"{HOME}/a/b/.hg"], f"{HOME}/a/b", f"{HOME}/a"),
    (HOME, f"{HOME}/a/b/c", [f"{HOME}/a/b/.svn"], f"{HOME}/a/b", f"{HOME}/a"),
    (HOME, f"{HOME}/a/b/c", [], f"{HOME}/a/b/c", f"{HOME}/a"),
    (HOME, HOME, [f"{HOME}/.git"], None, None),
    (HOME, "/home", [], None, None),
    (HOME, f"{HOME}/a", [f"{HOME}/.git"], f"{HOME}/a", f"{HOME}/a"),  # the home folder is nobody else's
    (HOME, "/srv/moor/a", ["/srv/moor/.git"], "/srv/moor", "/srv/moor"),
    (HOME, "/usr/lib/a", [], "/usr/lib/a", None),
    ("/srv/homes/keeper", "/srv/homes/moor", [], "/srv/homes/moor", "/srv/homes"),
])  # fmt: skip
def test_what_may_have_been_brought(home, folder, tops, tree, around):
    """The outermost working copy; around it the folder below the home folder, or below one of the root."""
    reader = MemoryReader("linux", dict.fromkeys([*(f"{top}/x" for top in tops), f"{folder}/a.py", f"{home}/bin/python"], b""), home=home, folder=folder)
    assert (consent.tree_of(reader), consent.surroundings_of(reader)) == (tree, around)
    assert consent.brought_along(reader, f"{home}/bin/python") is None
    assert (consent.brought_along(reader, f"{folder}/bin/python") is not None) == (around is not None)


def test_a_capture_keeps_what_was_refused():
    """Neither absent nor there, with the reason; what the capture does not hold is refused as well."""
    from kalyx.core.queries.captures import finished
    from kalyx.core.system.player import NOT_HERE, Capture, load, machine_of
    from kalyx.core.system.reader import Refused
    from kalyx.core.system.recorder import Recorder

    path, gone, link = f"{HOME}/kernels/heath", f"{HOME}/gone", f"{HOME}/link"
    reader = MemoryReader("linux", {path: b"{}", f"{HOME}/kernels": Shut(1001), link: Link(path)}, home=HOME, folder=HOME)
    recorder = Recorder(reader, made := Capture())
    asked = [(read, item) for item in (path, gone, link) for read in ("kind", "status")]
    there = [getattr(recorder, read)(item) for read, item in asked]
    assert there[:4] == [Refused("permission denied")] * 2 + [None] * 2 and there[4:] == ["link", Refused("permission denied")]
    played, _ = machine_of(load(finished(made, reader).write(bytes), "x"))
    assert [getattr(played, read)(item) for read, item in asked] == there
    assert played.kind("/never/asked") == played.status("/never/asked") == Refused(NOT_HERE)


def test_an_environments_own_folder_is_not_copied_into_itself():
    """A folder of packages that is the environment itself, or lies outside, is refused; the others are named once."""
    from kalyx.core.actions.backup import folders_inside

    files, heath = Files(), f"{HOME}/heath"
    files[f"{HOME}/heath/itself"], files[f"{HOME}/heath/away"], files[f"{HOME}/heath/lib64"] = Link("."), Link("../orchard"), Link("lib")
    reader = files.machine().reader
    assert folders_inside(reader, heath, [f"{heath}/lib", f"{heath}/lib64", f"{heath}/bin"]) == [f"{heath}/lib", f"{heath}/bin"]
    for name in ("itself", "away"):
        with pytest.raises(KalyxError, match="leads out of the environment"):
            folders_inside(reader, heath, [f"{heath}/{name}"])


@pytest.mark.parametrize("command, folder, opened, loaded, says", [
    (("/usr/bin/python3",), "/", [], [], None),
    ((f"{HOME}/heath/bin/python", "-m", "hive"), "/", [], [], "runs from it"),
    (("/usr/bin/python3", f"{HOME}/heath/bin/hive"), "/", [], [], "runs from it"),
    (("/usr/bin/python3", "-m", "hive", f"{HOME}/heath/notes"), "/", [], [], None),  # a word of what runs, no program
    (("bash",), f"{HOME}/heath/lib", [], [], "has its current folder in it"),
    (("bash",), f"{HOME}/heathen", [], [], None),
    (("bash",), "/", [f"{HOME}/heath/log.txt"], [], "has a file of it open"),
    (("bash",), "/", [], [f"{HOME}/heath/lib/_core.so"], "runs from it"),
])  # fmt: skip
def test_an_environment_in_use_is_not_removed(command, folder, opened, loaded, says, monkeypatch):
    from kalyx.core.actions import discarding

    reader = MemoryReader("linux", Files(), home=HOME, folder="/", processes={1: process(1, (f"{HOME}/heath/bin/kalyx",)), 7: process(7, command, folder)})
    monkeypatch.setattr(reader, "opened_by", lambda pid: opened)
    monkeypatch.setattr(reader, "loaded_by", lambda pid: loaded)
    with pytest.raises(KalyxError, match=f"in use: process 7 .* {says}; end that first") if says else nullcontext():
        discarding._refuse_what_is_in_use(Machine(reader), f"{HOME}/heath")
