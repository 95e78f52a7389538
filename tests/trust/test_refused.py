"""What this user may not read is not gone: nothing is removed, unregistered or remade because of it."""

import json
import os
import subprocess
import sys
from contextlib import contextmanager
from pathlib import Path

import pytest

from kalyx.core.actions import preparing, registering
from kalyx.core.actions.transaction import Transaction
from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.reading import read_environment
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Unreadable, own_files
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.reader import Refused
from kalyx.core.targets import resolve
from tests.conftest import make_environment, tree
from tests.equipment import NEW, need
from tests.faults.environments import environment_over, installation
from tests.made import BINARY, dist

# What no fix may do here, and no sentence say.
FORBIDDEN = ("rm ", "discard", "unregister", "--take-over", "-m venv", "was interrupted", "is gone", "does not exist (")


@contextmanager
def shut(path: Path):
    """A folder or a file that this user may not look into, for as long as the block lasts."""
    mode = path.stat().st_mode
    path.chmod(0o000)
    try:
        yield
    finally:
        path.chmod(mode)


def as_one_who_may_not(moor) -> list[str]:
    """The words before a command that take from root what lets it read everything."""
    return [need("setpriv"), "--bounding-set", "-dac_override,-dac_read_search"] if os.getuid() == 0 else []


# What is shut, in an environment heath on a base of its own with a kernel, and what is asked then.
PLACES = ["heath", "heath/bin", "heath/bin/python", "heath/pyvenv.cfg", "heath/lib", "heath/lib/{python}", "heath/lib/{python}/site-packages",
          "base", "base/bin", "base/lib", "base/lib/{python}", "data/kernels/heath", "data/kernels/heath/kernel.json", "data/kernels"]  # fmt: skip
QUESTIONS = [
    ["why", "hivescale", "--in", "{root}/heath"],
    ["why", "json", "--in", "kernel:heath"],
    ["why", "hivescale", "--in", "{root}/heath", "--fix", "--yes"],
    ["survey", "--under", "{root}", "--unsound"],
    ["kernels", "-v"],
    ["here", "-v"],
]


@pytest.fixture(scope="module")
def ground(tmp_path_factory):
    """An environment on a base of its own, a kernel that starts it, and a notebook; not touched by any question."""
    from tests.conftest import Moor

    moor = Moor(tmp_path_factory.mktemp("ground") / "moor")
    python = installation(NEW, moor.root / "base")
    environment_over(python, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath" / "lib").glob("python*")) / "site-packages"
    (site / "hivescale.py").write_text("GRAMS = 1\n")
    (site / "kalyx_standin_kernel.py").write_text("")
    moor.kernel(
        "heath", [str(moor.root / "heath" / "bin" / "python"), "-m", "kalyx_standin_kernel", "-f", "{connection_file}"]
    )
    moor.notebook("spring.ipynb", "heath")
    moor.variables["KALYX_ONLY_BELOW"] = str(moor.root)  # not what other tests have running meanwhile
    moor.variables["PATH"] = f"{moor.root}/heath/bin:/usr/bin:/bin"
    return moor, site.parent.name


@pytest.mark.parametrize("place", PLACES)
def test_what_may_not_be_read_is_not_gone(ground, place):
    moor, python = ground
    target = moor.root / place.format(python=python)
    before = tree(moor.root)
    with shut(target):
        for words in QUESTIONS:
            ran = moor.kalyx(*[word.format(root=moor.root) for word in words], before=as_one_who_may_not(moor))
            said = ran.out + ran.err
            lines = [line for line in said.splitlines() if not line.lstrip().startswith(("seen", "undo"))]
            wrong = [line for line in lines for word in FORBIDDEN if word in line]
            assert not wrong, f"{words}: {wrong}\n{said}"
            assert "Traceback" not in said and ran.status in (0, 1, 2)
    assert tree(moor.root) == before, "nothing went"


def test_the_reason_is_said(ground):
    moor, python = ground
    with shut(moor.root / "heath" / "bin"):
        ran = moor.kalyx("survey", "--under", moor.root, "--json", before=as_one_who_may_not(moor))
        (one,) = [environment for environment in ran.json["environments"] if environment["prefix"] == str(moor.root / "heath")]
        assert one["condition"] == "unreadable" and "permission denied" in json.dumps(one["findings"][0])
        ran = moor.kalyx("why", "hivescale", "--in", moor.root / "heath", "--json", before=as_one_who_may_not(moor))
        assert ran.json["imports"][0]["findings"][0]["cause"] == "unreadable", ran.out
        ran = moor.kalyx("kernels", "--json", before=as_one_who_may_not(moor))
        assert "interpreter-gone" not in ran.json["kernels"][0]["conditions"]
        ran = moor.kalyx("discard", moor.root / "heath", "--yes", before=as_one_who_may_not(moor))
        assert ran.status == 2, ran.out
    assert moor.kalyx("survey", "--under", moor.root, "--json").json["environments"], (
        "and it is sound when it may be read"
    )


@pytest.mark.parametrize(
    ("place", "words"),
    [
        ("heath/lib/{python}/site-packages", ["packages", "{root}/heath"]),
        ("heath/lib/{python}/site-packages", ["record", "{root}/heath"]),
        ("heath/lib/{python}/site-packages", ["contrast", "{root}/heath", "{root}/heath"]),
        ("data/kernels", ["kernels"]),
        ("heath/lib/{python}/site-packages", ["survey", "--under", "{root}", "--unsound"]),
    ],
)
def test_what_was_left_out_is_said_and_all_is_not_well(ground, place, words):
    moor, python = ground
    words = [word.format(root=moor.root) for word in words]
    with shut(moor.root / place.format(python=python)):
        ran = moor.kalyx(*words, before=as_one_who_may_not(moor))
        assert ran.status == 1 and "permission denied" in ran.out + ran.err and "found is sound" not in ran.out, ran.out + ran.err


@pytest.mark.parametrize("shut_folder", ["/home/keeper/heath/bin", "/home/keeper/heath", "/home", "/opt/base", "/opt/base/lib"])
def test_the_same_in_memory(shut_folder):
    """Every folder on the way, on a machine that only a dictionary holds."""
    files = {
        "/opt/base/bin/python3.11": b"\x7fELF" + b"\0" * 16 + b"\x003.11.7\x00",
        "/opt/base/lib/python3.11/os.py": b"",
        "/home/keeper/heath/pyvenv.cfg": "home = /opt/base/bin\nversion = 3.11.7\n",
        "/home/keeper/heath/bin/python": Link("/opt/base/bin/python3.11"),
        "/home/keeper/heath/lib/python3.11/site-packages/x.py": b"",
    }
    sound = Machine(MemoryReader("linux", files))
    assert catalogue.judge_environment(read_environment(sound.reader, "/home/keeper/heath"), sound).condition == "sound"
    machine = Machine(MemoryReader("linux", {**files, shut_folder: Shut()}))
    judged = catalogue.judge_environment(read_environment(machine.reader, "/home/keeper/heath"), machine)
    assert judged.condition == "unreadable" and [finding.cause for finding in judged.findings] == ["unreadable"], judged.findings
    assert not [step.command for finding in judged.findings for fix in finding.fixes for step in fix.steps if step.command]


@pytest.mark.parametrize("folder, owner, counts", [("rook", 1001, False), (".venv", 1001, True), ("heath", None, True), ("venv", None, True)])
def test_a_folder_that_another_user_shuts_is_no_environment(folder, owner, counts):
    """Nor is it near a TARGET; what names it, and this user's own, is an environment that may not be read."""
    path = f"/home/keeper/spring/{folder}"
    files = {f"{path}/x": b"", path: Shut(owner), "/home/keeper/spring/notes.txt": b""}
    machine = Machine(MemoryReader("linux", files, folder="/home/keeper/spring"))
    assert [environment.prefix for environment in machine.environments.known] == [path] * counts
    with pytest.raises(KalyxError, match="is not an environment") as refusal:
        resolve(machine, "/home/keeper/spring")
    assert refusal.value.candidates == [path] * counts
    named = MemoryReader("linux", files, folder="/home/keeper/spring", variables={"VIRTUAL_ENV": path})
    assert [environment.prefix for environment in Machine(named).environments.known] == [path]
    # No answer names the closed folder of another user that nothing led to.
    _ = machine.environments.known, (elsewhere := Machine(named)).environments.known
    assert [list(other.reader.refused_places()) for other in (machine, elsewhere)] == [[path] * counts, [path]]


@pytest.mark.parametrize("folder, counts", [("C:\\System Volume Information", False), ("C:\\Users\\bee", False), ("C:\\Users\\keeper\\heath", True)])
def test_a_folder_that_windows_shuts_is_no_environment(folder, counts):
    files = {"C:\\Users\\keeper\\spring\\notes.txt": b"", f"{folder}\\x": b"", folder: Shut()}
    machine = Machine(MemoryReader("windows", files, folder="C:\\Users\\keeper\\spring"))
    assert [environment.prefix for environment in machine.environments.known] == [folder] * counts
    assert list(machine.reader.refused_places()) == [folder] * counts


ASKED_BEFORE_A_CHANGE = {
    "its kind": lambda reader, path: reader.known_kind(path),
    "a new environment": lambda reader, path: preparing._refuse_what_is_there(Machine(reader), path),
    "below it": lambda reader, path: preparing._refuse_what_is_there(Machine(reader), f"{path}/heath"),
    "a kernel": lambda reader, path: registering._existing(Machine(reader), path, "heath", None),
    "its kernel.json": lambda reader, path: registering._existing(Machine(reader), reader.parent(path), "heath", None),
    "its start-up file": lambda reader, path: registering._content_of(reader, path),
    "a file of Kalyx's": lambda reader, path: own_files.believed(reader, path, 10),
    "what an undo needs": lambda reader, path: Transaction(reader, Shelf()).write(path, b"x"),
}


class Shelf:
    """A writer that nothing reaches."""

    def __getattr__(self, name):
        return lambda *words, **named: pytest.fail(f"{name} {words}") if name in ("write", "remove_file") else None


@pytest.mark.parametrize("asked", ASKED_BEFORE_A_CHANGE)
def test_what_may_not_be_looked_at_is_not_taken_for_absent(asked):
    """Nor for a file of another kind: before anything is changed, the answer is why it is not known."""
    path = "/home/keeper/kernels/kernel.json"
    reader = MemoryReader("linux", {path: b"{}", "/home/keeper/kernels": Shut(1001)})
    reader.again = lambda: reader
    for reading in (reader.kind(path), reader.status(path)):
        assert isinstance(reading, Refused) and reading.reason == "permission denied" == reader.refusal(path)
    with pytest.raises((Unreadable, KalyxError), match="permission denied"):
        ASKED_BEFORE_A_CHANGE[asked](reader, path)


def test_the_helper_can_fail(ground):
    """Were nothing shut, the questions would be answered: the shut place is what makes the difference."""
    moor, _ = ground
    assert moor.kalyx("why", "hivescale", "--in", moor.root / "heath").status == 0
    with shut(moor.root / "heath" / "bin"):
        words = [
            *as_one_who_may_not(moor),
            sys.executable,
            "-c",
            f"import os; os.listdir({str(moor.root / 'heath' / 'bin')!r})",
        ]
        assert subprocess.run(words, capture_output=True, check=False).returncode != 0


def test_a_bare_name_is_never_somebody_elses_environment(moor, tmp_path):
    """The line is repeated when what it named is gone: the name then means nothing, not one that lies elsewhere."""
    elsewhere = tmp_path / "elsewhere" / "heath"
    make_environment(NEW, elsewhere, "--without-pip")
    own = moor.root / "heath"
    make_environment(NEW, own, "--without-pip")
    elsewhere_first = {"VIRTUAL_ENV": str(elsewhere), "PATH": f"{elsewhere}/bin:{own}/bin:/usr/bin:/bin"}
    assert moor.kalyx("discard", str(own), "--yes").status == 0 and not own.exists()
    for words in (["discard", "heath", "--yes"], ["fill", "heath", "hivescale", "--yes"], ["register", "heath", "--yes"]):
        ran = moor.kalyx(*words, **elsewhere_first)
        assert ran.status == 2 and "outside your home and this folder" in ran.err and str(elsewhere) in ran.err, (words, ran.err)
        assert (elsewhere / "pyvenv.cfg").exists()
    assert moor.kalyx("why", "json", "--in", "heath", **elsewhere_first).status == 0, "a question may use the name"
    assert moor.kalyx("discard", str(elsewhere), "--yes").status == 0 and not elsewhere.exists(), "its path names it"


@pytest.mark.parametrize("path, there, may_be, exists, dangling", [
    ("/home/a", True, True, True, False), ("/home/none", False, False, False, False), ("/home/broken", True, True, False, True),
    ("/shut/a", False, True, True, False), ("/home/to-shut", True, True, True, False),  # what is behind the link is not known
])  # fmt: skip
def test_what_is_not_known_to_be_there(path, there, may_be, exists, dangling):
    reader = MemoryReader("linux", {"/home/a": b"", "/home/broken": Link("/home/none"), "/home/to-shut": Link("/shut/a"), "/shut/a": b"", "/shut": Shut()})
    assert (reader.is_there(path), reader.may_be_there(path), reader.exists(path), reader.is_dangling(path)) == (there, may_be, exists, dangling)


@pytest.mark.parametrize("python, kind, cause", [
    (Link("/locked/bin/python3.11"), "pyvenv.cfg", "absent"),  # whether that starts is not known
    (b"#!/bin/sh\nexec $(cat where)\n", "pyvenv.cfg", "absent"),
    (Link("/gone/python3.11"), "conda-meta/history", "absent"),  # an environment manager's, which recreates its own
    (Link("/gone/python3.11"), "pyvenv.cfg", "elsewhere"),
])  # fmt: skip
def test_only_an_environment_that_certainly_starts_nothing_is_recreated(python, kind, cause):
    from kalyx.core.imports.names import parse_wanted
    from kalyx.core.invocation import NAMED
    from kalyx.core.queries.why import why_import

    site = "/home/keeper/heath/lib/python3.11/site-packages"
    files = {"/usr/bin/python3.11": BINARY, "/usr/bin/python3": Link("python3.11"), "/usr/lib/python3.11/os.py": b"", f"/home/keeper/heath/{kind}": b"home = /usr/bin\nversion = 3.11.7\n", "/home/keeper/heath/bin/python": python,
             **dist("comb", "1.0", {"comb.py": ""}, where=site), "/locked/bin/python3.11": BINARY, "/locked": Shut(1001)}  # fmt: skip
    machine = Machine(MemoryReader("linux", files, variables={"VIRTUAL_ENV": "/home/keeper/heath"}))
    answer = why_import(machine, resolve(machine, "/usr/bin/python3"), parse_wanted("import comb")[0], NAMED)
    assert [finding.cause for finding in answer.findings][:1] == [cause], answer.findings
    assert cause == "elsewhere" or not any("heath" in step.line for finding in answer.findings for fix in finding.fixes for step in fix.steps)
