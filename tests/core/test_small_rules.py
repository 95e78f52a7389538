"""Rules that a row of arguments cannot hold: start files, scripts, captures, drawings. Written from faults that no near test noticed."""

import json
import os
import shutil
import sys
from contextlib import nullcontext
from pathlib import Path
from types import SimpleNamespace

import pytest

from kalyx.core.actions import proving
from kalyx.core.diagnosis import catalogue, fixes
from kalyx.core.environments.reading import read_environment
from kalyx.core.imports.names import parse_wanted
from kalyx.core.imports.trial import Trial
from kalyx.core.interpreters.consent import objection
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.interpreters.shell_syntax import parsed
from kalyx.core.kernels.folders import Server, provisioners
from kalyx.core.kernels.specs import read_kernel
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Finding, Fix, Interpreter, KalyxError, Package, Seat
from kalyx.core.model.steps import UnregisterKernel
from kalyx.core.queries.why import why_import
from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell_words import meanings
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.reader import Process
from kalyx.core.system.runner import Ended
from kalyx.core.targets import resolve
from kalyx.core.text.essence import Essence
from tests.made import BINARY, HOME, Files

TEMPLATE = "Traceback (most recent call last):\n  File \"/a.py\", line 1, in <module>\n    import a\nImportError: {}\n"


def test_the_last_chain_of_a_pasted_text():
    """Words in front are no traceback; of two the last counts, and what that came from."""
    from kalyx.core.imports.traceback import _last_chain, read_traceback

    first, second = TEMPLATE.format("one"), TEMPLATE.format("two")
    during = "\nDuring handling of the above exception, another exception occurred:\n\n"
    assert _last_chain("no traceback") == ["no traceback"]
    assert [block.count("ImportError: one") for block in _last_chain("$ python a.py\n" + first)] == [1]
    assert [("one" in block, "two" in block) for block in _last_chain(first + "$ again\n" + second)] == [(False, True)]
    assert len(_last_chain(first + during + second)) == 2
    assert read_traceback(first + "$ again\n" + second).frames == [("/a.py", 1)]


@pytest.mark.parametrize("shell, text, kind, words", [
    ("bash", "hash -p /opt/python3 python\n", "remembered place", ("/opt/python3",)),
    ("bash", "hash -p $(pwd)/python3 python\n", "remembered place", None),
    ("zsh", "hash python=~/python3\n", "remembered place", (f"{HOME}/python3",)),
    ("zsh", "hash python=/opt/a=b/python3\n", "remembered place", ("/opt/a=b/python3",)),
    ("bash", "alias python=python3\n[ -n \"$x\" ] && unalias python\n", "alias", None),
    ("bash", "alias python='/opt/my python'\n", "alias", ("/opt/my", "python")),
    ("bash", "alias python=python3\nif [ -n \"$x\" ]; then\n  alias python=/opt/other\nfi\npython() {\n  /opt/mine\n}\n", "alias", None),
    ("bash", "alias python=/opt/python3\nswarm() {\n  alias python=/opt/other\n}\nif swarm; then\n  :\nfi\n", "alias", None),
    ("bash", "alias python=/opt/python3\nif [ -n \"$x\" ]; then\n  . ~/more\nfi\n", "alias", None),
])  # fmt: skip
def test_what_a_start_file_makes_of_a_word(shell, text, kind, words):
    files = {f"{HOME}/.{shell}rc": text, f"{HOME}/more": "alias python=/opt/other\n"}
    reader = MemoryReader("linux", files, home=HOME, folder=HOME, variables={"HOME": HOME})
    taken = meanings(reader, ShellFound(shell, 1, "the process above"))
    (meaning,) = [found for found in taken.of_python() if found.kind != "function"]
    assert (meaning.kind, meaning.word, meaning.words) == (kind, "python", words)
    assert {found.word for found in taken.functions.values()} >= ({"python", "python3"} if "/opt/mine" in text else set())


@pytest.mark.parametrize("text, same", [
    ("cat <<END\npython x\nEND\npython y\n", "cat <END\npython y\n"),
    ("cat <<-END\n\tpython x\n\tEND\npython y\n", "cat <END\npython y\n"),
    ("python \\\n  x\n", "python   x\n"),
    ("python a\\ b\n", "python 'a b'\n"),
])  # fmt: skip
def test_a_script_means_the_same_written_otherwise(text, same):
    def shape(nodes):
        return [["".join(part.text for part in word) for word in node.words] for node in nodes]

    def shown(text):
        return shape(item for item in parsed(text) if hasattr(item, "words"))

    assert shown(text)[-1] == shown(same)[-1] and len(shown(text)) == len(shown(same))


@pytest.mark.parametrize("words, kept", [
    (["python", "-m", "ipykernel_launcher", "-f", "/x/kernel-1.json", "--ip=10.0.0.1", "--quiet", "secretly", "/opt/x"], [1, 1, 1, 1, 1, 0, 1, 0, 1]),
    (["bash", "-c", "echo hello"], [1, 1, 0]),
    (["python", "-W", "ignore", "C:\\x\\a.py", "7", "--n=3", "--to=/x"], [1, 1, 1, 1, 1, 1, 1]),
])  # fmt: skip
def test_what_is_kept_of_a_command(words, kept):
    said = Essence(b"salt").command(words)
    assert [int(before == after) for before, after in zip(words, said, strict=True)] == kept


def test_a_file_of_an_editor_is_kept_by_its_keys():
    """Of a project's file the names that Kalyx asks for; of a shell's file the words that it reads."""
    essence = Essence(b"salt")
    xml = essence.content("/home/k/.idea/misc.xml", b'<component project-jdk-name="Python 3.11 (heath)">private words</component>').decode()
    assert 'project-jdk-name="Python 3.11 (heath)"' in xml and "private words" not in xml
    settings = essence.content("/home/k/a/.git/config", b"[core]\n\texcludesFile = ~/mine\n\tpager = roses\n").decode()
    assert "[core]" in settings and "~/mine" in settings and "roses" not in settings
    shell = essence.content("/home/k/.bashrc", b"alias python=/opt/python3\nexport FLOWERS=roses\n").decode()
    assert "alias python=/opt/python3" in shell and "roses" not in shell and "export" in shell


def test_a_package_that_only_one_side_has_is_called_by_its_name():
    from kalyx.core.queries.contrast import _packages

    found = []
    _packages([], [Package(name="Hive.Scale", version="1", modules=[], location="/x", origin="own")], found)
    _packages([Package(name="Nectar_Flow", version="1", modules=[], location="/x", origin="own")], [], found)
    assert [(item.name, item.left, item.right) for item in found] == [("Hive.Scale", None, "1 (own)"), ("Nectar_Flow", "1 (own)", None)]


def test_lines_are_filled_to_the_last_column():
    from kalyx.cli.render.seats import _hops

    screen = SimpleNamespace(plain=False, path=lambda path: path)
    assert _hops(screen, ["/a", "/b", "/c"], 7) == ["/a → /b", "→ /c"]
    assert _hops(screen, ["/a", "/b", "/c"], 6) == ["/a", "→ /b", "→ /c"]
    assert _hops(screen, ["/a", "/b", "/b", "/c"], 12) == ["/a → /b → /c"]


def test_the_lines_of_a_fix(capsys, monkeypatch):
    """``then`` stands in front of each step after the first, whether it is a command or done by hand."""
    from kalyx.cli.render.screen import Screen

    monkeypatch.setenv("COLUMNS", "60")
    machine = Files().machine()
    screen, removal = Screen(machine, plain=True), fixes.step(machine, UnregisterKernel(kernel="heath"))
    for steps, first in (([fixes.by_hand("open the page"), removal], "open"), ([removal, fixes.by_hand("reload the page")], "kalyx")):
        screen.fix(0, "fix", Fix(message="do both", steps=steps, tried="works", undo="put back"))
        lines = capsys.readouterr().out.splitlines()
        assert [line.split()[0] for line in lines] == ["fix", first, "then", "tested:", "undo"]
        assert {len(line) - len(line[9:].lstrip()) for line in lines} == {9}, lines


@pytest.mark.parametrize("tried, shown", [(["fails", "works", None], ["fix b", "or c"]), (["fails", "fails"], ["may help a", "or b"])])
def test_a_fix_that_was_tested_and_fails_is_no_fix(capsys, tried, shown):
    from kalyx.cli.render.screen import Screen

    made = [Fix(message=name, steps=[fixes.by_hand(f"do {name}")], tried=came, state="may-help" if came == "fails" else "certain")
            for name, came in zip("abc", tried, strict=False)]  # fmt: skip
    Screen(Files().machine(), plain=True).finding(Finding(cause="absent", certainty="proven", message="x", fixes=made))
    lines = [" ".join(line.split()) for line in capsys.readouterr().out.splitlines()]
    assert [line for line in lines if line.startswith(("fix ", "or ", "may help "))] == shown, lines


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


@pytest.mark.parametrize("kind, called", [
    ("path", "~/a.py  (heath, 3.11.7)"), ("program", "program ~/a.py  (heath, 3.11.7)"), ("shell", "the shell  (heath, 3.11.7)"), ("kernel", "kernel /home/keeper/a.py  (heath, 3.11.7)"),
])  # fmt: skip
def test_how_a_place_is_called(kind, called):
    from kalyx.cli.render.screen import Screen
    from kalyx.cli.render.stories import place_of

    machine = Files().machine()
    environment = Environment(prefix="/heath", name="heath", kind="virtual", key="/heath", version="3.11.7", base_prefix="/usr")
    seat = Seat(seat=kind, name=f"{HOME}/a.py", interpreter=machine.interpreters[0], environment=environment, reason=None)
    assert place_of(Screen(machine, plain=True), seat) == called


def test_an_interpreter_whose_base_may_not_be_looked_at_is_refused_not_dead():
    from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter

    files = {f"{HOME}/heath/bin/python": BINARY, f"{HOME}/heath/pyvenv.cfg": "home = /locked/bin\n", "/locked": Shut(), "/locked/bin/python3": BINARY}
    reader = MemoryReader("linux", files, home=HOME, folder=HOME)
    with pytest.raises(NotAnInterpreter) as said:
        read_interpreter(reader, f"{HOME}/heath/bin/python")
    assert said.value.refused and "may not look at" in str(said.value)


def test_who_can_bring_a_version():
    """An environment manager's own program, where it is there."""
    from kalyx.core.actions.kernel_package import _commands

    files = Files()
    files[f"{HOME}/miniconda3/conda-meta/history"] = b""
    files[f"{HOME}/miniconda3/bin/conda"] = b"#!/bin/sh\n"
    files[f"{HOME}/miniconda3/bin/python"] = b"\x7fELF" + b"\0" * 16 + b"\x003.11.7\x00"
    files[f"{HOME}/miniconda3/lib/python3.11/os.py"] = b""
    commands = [" ".join(words) for words in _commands(files.machine(), "3.12.1")]
    assert f"{HOME}/miniconda3/bin/conda create --prefix {HOME}/spring/python3.12 python=3.12.1" in commands, commands


@pytest.mark.parametrize("told, brings", [("  Candidate: 3.12.3-1\n", True), ("  Candidate: (none)\n", False), ("  Candidate: 3.11.2-1\n", False), ("  Installed: 3.12.3-1\n", False)])
def test_whether_the_system_can_bring_a_version(told, brings):
    from kalyx.core.actions.kernel_package import _commands

    files = Files()
    files["/usr/bin/apt-get"] = BINARY
    machine = files.machine()
    machine.runner = SimpleNamespace(run=lambda argv, seconds: Ended(0, f"python3.12:\n{told}".encode(), b"", 0.0))
    assert (["/usr/bin/apt-get", "install", "python3.12", "python3.12-venv"] in list(_commands(machine, "3.12"))) == brings


def test_environments_named_by_others_are_read_and_empty_words_are_not():
    from kalyx.core.environments.found import found_environments

    reader = Files().machine().reader
    views = found_environments(reader, [], [], ["", f"{HOME}/heath"], [], known=[])
    assert [(view.environment.prefix, only) for view, only in views] == [(f"{HOME}/heath", False)]


@pytest.mark.parametrize("of", ["heath", "orchard"])
def test_a_program_of_its_own_environment_has_no_finding(of):
    """And one whose first line starts another environment's Python has."""
    from kalyx.core.queries.why_program import why_program

    files = Files()
    files[f"{HOME}/heath/bin/hive"] = f"#!{HOME}/{of}/bin/python\nimport os\n"
    answer = why_program(files.machine(), "hive", tell=lambda text: None)
    assert [finding.cause for finding in answer.findings] == ([] if of == "heath" else ["first-line-dead"])


@pytest.mark.parametrize("content, note", [
    (b"#!/usr/bin/node\n", "hive starts no Python: its first line names /usr/bin/node: a program, but no Python interpreter"),
    (b"\x7fELF", "hive is a program of its own, no script: it starts no Python"),
    (b"#!/bin/sh\nexec $(cat where)\n", "what hive starts is not known: "),
    (Link("/usr/bin/python3.11"), "hive is a Python interpreter; to ask about a module in it: kalyx why MODULE --in /usr/local/bin/hive"),
    (b'#!/bin/sh\nexec /usr/bin/python3.11 "$@"\n', "hive starts /usr/bin/python3.11 (3.11.7)"),
])  # fmt: skip
def test_a_program_that_is_no_script_of_python(content, note):
    from kalyx.core.queries.why_program import why_program

    files = Files()
    files["/usr/local/bin/hive"], files["/usr/bin/node"] = content, b"\x7fELF"
    files.variables["PATH"] = "/usr/local/bin:/usr/bin"
    answer = why_program(files.machine(), "hive", tell=lambda text: None)
    assert not answer.findings and not answer.imports and answer.notes[-1].startswith(note), (answer.notes, answer.findings)


@pytest.mark.parametrize("folder, starts", [("/opt", "/opt/python3.11"), ("/gone", "/usr/bin/python3.11"), ('"$(cat where)"', None)])
def test_a_script_goes_into_a_folder(folder, starts):
    """Where only running tells whether that works, both ways are followed: what starts is not known."""
    from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter

    files = Files()
    files["/opt/python3.11"] = Link("/usr/bin/python3.11")
    files["/usr/bin/hive-python"] = f'#!/bin/sh\ncd {folder} && exec /opt/python3.11 "$@" || exec /usr/bin/python3.11 "$@"\n'
    try:
        found = read_interpreter(files.machine().reader, "/usr/bin/hive-python").executable
    except NotAnInterpreter:
        found = None
    assert found == starts


@pytest.mark.parametrize("form", ["import", "script", "notebook", "folder", "program", "traceback", "everywhere", "command"])
def test_a_failing_import_is_never_without_a_finding(form, monkeypatch):
    """Whichever way it is asked about, and though no cause says anything of it."""
    from kalyx.core.imports.names import ImportStatement
    from kalyx.core.model.records import ImportAnswer
    from kalyx.core.queries import why, why_everywhere, why_files, why_program, why_traceback

    files = Files()
    files[f"{HOME}/heath/bin/hive"] = f"#!{HOME}/heath/bin/python\nimport lonely\n"
    files[f"{HOME}/spring/a.py"] = b"import lonely\n"
    files[f"{HOME}/spring/a.ipynb"] = json.dumps({"cells": [{"cell_type": "code", "source": "import lonely"}], "metadata": {}, "nbformat": 4}).encode()
    machine, told, wanted = files.machine(), TEMPLATE.format("No module named 'lonely'").replace("ImportError", "ModuleNotFoundError"), ImportStatement("import lonely", "lonely")
    monkeypatch.setattr(why, "_answered", lambda machine, seat, wanted, *more: ImportAnswer(statement=wanted.statement, module=wanted.module, outcome="fails"))
    seat, tell = machine.shell_seat, lambda text: None
    ask = {
        "import": lambda: [why.why_import(machine, seat, wanted, named=True)], "program": lambda: why_program.why_program(machine, "hive", tell=tell).imports,
        **{name: lambda path=path: why_files.why_files(machine, seat, f"{HOME}/spring{path}", named=True, tell=tell).imports for name, path in (("script", "/a.py"), ("notebook", "/a.ipynb"), ("folder", ""))},
        "traceback": lambda: why_traceback.why_traceback(machine, told, seat, named=True, tell=tell).imports, "everywhere": lambda: [item.imports[0] for item in why_everywhere.why_everywhere(machine, wanted, tell=tell).seats],
        "command": lambda: [why.why_import(machine, seat, wanted, named=True, command="python a.py")],
    }  # fmt: skip
    answers = ask[form]()
    assert answers and all(answer.outcome == "fails" and answer.findings for answer in answers), answers


def test_an_archive_of_packages_is_unpacked_to_a_limit(monkeypatch):
    """What unpacks to more than the limit, and a file that is larger, is said to be cut."""
    import io
    import zipfile

    from kalyx.core.packages import metadata

    raw = io.BytesIO()
    with zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(9):
            archive.writestr(f"hive{number}-1.0.dist-info/METADATA", f"Name: hive{number}\nVersion: 1.0\n\n{'x' * 50_000}")
    for limit, found, is_cut in ((200_000, 3, True), (1_000_000, 9, False), (1_000, 0, True)):
        monkeypatch.setattr(metadata, "_ARCHIVE_LIMIT", limit)
        reader = MemoryReader("linux", {f"{HOME}/{limit}.zip": raw.getvalue()}, home=HOME, folder=HOME)
        assert ([distribution.name for distribution in metadata.installed_in(reader, f"{HOME}/{limit}.zip")], f"{HOME}/{limit}.zip" in reader.cut) == ([f"hive{n}" for n in range(found)], is_cut)


def test_whether_somebody_chose_what_runs():
    """A shell's environment was activated, a kernel's was named; what the server itself runs nobody chose."""
    from kalyx.core.diagnosis.causes.not_activated import _is_chosen

    def case(seat, kind, prefix="/heath"):
        return SimpleNamespace(seat=SimpleNamespace(seat=seat), environment=SimpleNamespace(kind=kind), interpreter=SimpleNamespace(prefix=prefix))

    machine = SimpleNamespace(server=SimpleNamespace(interpreter=SimpleNamespace(prefix="/served")))
    rows = [("shell", "virtual", "/heath", True), ("shell", "installation", "/usr", False), ("kernel", "installation", "/usr", True), ("kernel", "virtual", "/served", False)]
    assert [_is_chosen(machine, case(seat, kind, prefix)) for seat, kind, prefix, _ in rows] == [chosen for *_, chosen in rows]


def test_the_words_of_an_error_and_of_the_line_that_asked():
    from kalyx.core.diagnosis.causes.shadowed import _spoken

    case = SimpleNamespace(raised=SimpleNamespace(text="cannot import name 'mean'"), asking_line=lambda: "from hive.scale import mean,weigh")
    assert _spoken(case) == ["cannot", "import", "name", "mean", "from", "hive", "scale", "import", "mean", "weigh"]


def test_which_entries_are_the_standard_librarys():
    from kalyx.core.imports.case import Case

    entries = [SimpleNamespace(entry=name, put_by=name) for name in ("program", "library", "own")]
    assert Case.standard.fget(SimpleNamespace(search=SimpleNamespace(entries=entries))) == ["library"]


@pytest.mark.parametrize("minor, flags", [("3.7", "m"), ("3.6", "m"), ("3.8", "")])
def test_the_abi_of_an_interpreter_without_headers(minor, flags):
    from kalyx.core.interpreters.reading import _abi_flags
    from kalyx.core.interpreters.versions import Installation

    installation = Installation("/usr", minor, f"/usr/lib/python{minor}", "cpython", "lib")
    reader = MemoryReader("linux", {f"/usr/lib/python{minor}/os.py": b""})
    assert _abi_flags(reader, installation) == flags


@pytest.mark.skipif(os.name != "posix" or not os.path.isdir("/proc/self"), reason="no folder of processes")
def test_the_numbers_of_processes():
    from kalyx.core.system.processes import numbers

    assert os.getpid() in numbers()


def test_a_base_that_became_another_version_in_place():
    """The settings and the packages are of 3.10; the same path now starts 3.11."""
    from kalyx.core.diagnosis import catalogue
    from kalyx.core.environments.reading import view_of
    from kalyx.core.interpreters.reading import read_interpreter

    files = Files()
    files[f"{HOME}/meadow/pyvenv.cfg"] = "home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.10.1\n"
    files[f"{HOME}/meadow/bin/python"] = Link("/usr/bin/python3.11")
    files[f"{HOME}/meadow/lib/python3.10/site-packages/hive.py"] = b""
    machine = files.machine()
    judged = {}
    for name in ("heath", "meadow"):
        view = view_of(machine.reader, read_interpreter(machine.reader, f"{HOME}/{name}/bin/python"))
        judged[name] = catalogue.judge_environment(view, machine)
    assert judged["heath"].condition == "sound"
    (finding, *_) = judged["meadow"].findings
    assert judged["meadow"].condition == "base-gone" and "3.10" in finding.message and "3.11" in finding.message, finding


@pytest.mark.parametrize("target, causes", [("/usr/bin/python3.11", ["half-made"]), ("/gone/python3.11", ["base-gone"])])
def test_an_environment_without_its_settings_file(target, causes):
    """Where its python starts the base's, that is what is wrong; where nothing starts, that comes first."""
    from kalyx.core.diagnosis import catalogue
    from kalyx.core.environments.reading import read_environment

    files = Files()
    del files[f"{HOME}/heath/pyvenv.cfg"]
    files[f"{HOME}/heath/bin/python"] = Link(target)
    machine = files.machine()
    judged = catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/heath"), machine)
    assert (judged.kind, [finding.cause for finding in judged.findings]) == ("virtual", causes)


def test_a_demo_on_a_machine_with_one_python_says_so():
    from kalyx.demo.machine import _bases

    files, notes = Files(), []
    files["/usr/lib/python3.11/venv/__init__.py"] = files["/usr/lib/python3.11/ensurepip/__init__.py"] = b""
    newer, older = _bases(files.machine(), notes)
    assert newer is older and notes == ["only one Python is here, so both environments have version 3.11.7"]


@pytest.mark.parametrize("system, word, found", [
    ("linux", "hive", "/usr/bin/hive"), ("linux", "./hive", "/w/hive"), ("linux", "bin/hive", "/w/bin/hive"), ("linux", "../hive", "/hive"),
    ("linux", "/w/bin/hive", "/w/bin/hive"), ("linux", "./gone", None), ("linux", "~/hive", None),
    ("windows", ".\\hive", "C:\\w\\hive.exe"), ("windows", "./hive", "C:\\w\\hive.exe"), ("windows", "hive", "C:\\bin\\hive.exe"),
])  # fmt: skip
def test_a_word_with_a_separator_is_no_word_of_the_path(system, word, found):
    if system == "linux":
        files = dict.fromkeys(("/usr/bin/hive", "/w/hive", "/w/bin/hive", "/hive", "/usr/bin/gone", "/home/hive"), b"")
        reader = MemoryReader(system, files, home="/home", folder="/w", variables={"PATH": "/usr/bin:/bin"})
    else:
        reader = MemoryReader(system, {"C:\\w\\hive.exe": b"", "C:\\bin\\hive.exe": b""}, home="C:\\h", folder="C:\\w", variables={"PATH": "C:\\bin"})
    assert next(reader.lookup(word), None) == found


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


def test_a_capture_keeps_what_a_launcher_and_a_first_line_choose():
    from kalyx.core.interpreters.shims import RULES
    from kalyx.core.text.essence import Essence

    for name in ("weigh", "weigh.py"):
        kept = Essence(b"salt").content(f"{HOME}/{name}", b"#!/usr/bin/env python3.9\n# of Saturday\nimport hive\n")
        assert kept.startswith(b"#!/usr/bin/env python3.9\n#") and kept.endswith(b"import hive\n") and b"Saturday" not in kept
    mapping = b"MAPPING = {'hive': '/w/hive'}\n"
    assert Essence(b"salt").content("/site-packages/__editable___hive_1_0_finder.py", mapping) == mapping
    assert b"/w/hive" not in Essence(b"salt").content("/site-packages/hive.py", mapping)
    kept = Essence(b"salt").content("/w/a.py", b"name = 'H\xfcter'\nif last in {'site-packages'}: pass\n")
    assert b"'site-packages'" in kept and b"ter" not in kept and len(kept) == 50
    with pytest.raises(UnicodeDecodeError):
        kept.decode()
    for name in (name for rule in RULES for name in (rule.local_file, rule.global_file)):
        assert Essence(b"salt").content(f"{HOME}/.manager/{name}", b"3.11.7\nsystem\n") == b"3.11.7\nsystem\n"


def test_a_program_that_python_runs_is_its_script():
    from kalyx.core.invocation import command_given

    files = Files()
    files["/usr/bin/hive"] = b"#!/usr/bin/python3\nimport hive\n"
    command = command_given(files.machine().reader, "hive a b")
    assert command.words == ["/usr/bin/hive", "a", "b"] and command_given(files.machine().reader, "absent a").words == ["a"]


@pytest.mark.parametrize("given, address", [
    ({"base_url": "/moor/"}, "http://127.0.0.1:8888/moor/"), ({"base_url": 7}, "http://127.0.0.1:8888/"), ({"secure": True}, "https://127.0.0.1:8888/"),
])  # fmt: skip
def test_the_address_of_a_server(given, address):
    from kalyx.core.seats.server import _read

    path, running = f"{HOME}/jpserver-5.json", Process(5, 1, "/usr/bin/python3", ("python3",), HOME, {}, None)
    document = {"pid": 5, "port": 8888, "token": "x", "root_dir": HOME, **given}
    assert _read(MemoryReader("linux", {path: json.dumps(document)}, processes={5: running}), path).address == address


def test_libraries_that_need_each_other_are_read_once(monkeypatch):
    from kalyx.core.diagnosis.shared import dlls

    needed = {"C:\\x\\a.pyd": ["b.dll"], "C:\\x\\b.dll": ["c.dll"], "C:\\x\\c.dll": ["b.dll", "C.DLL"]}
    read = []
    monkeypatch.setattr(dlls, "read_header", lambda reader, path: read.append(path) or SimpleNamespace(needed=needed[path]))
    monkeypatch.setattr(dlls, "_path_of", lambda case, machine, library, own: "C:\\x\\" + library)
    assert dlls.missing_dll(None, SimpleNamespace(reader=MemoryReader("windows", {})), ["C:\\x\\a.pyd"]) is None
    assert read == list(needed)


def test_what_stands_around_an_element():
    """Of elements that follow each other none lies in the one before."""
    from kalyx.core.formats.xml import tags

    assert [(tag.name, [upper.name for upper in tag.within]) for tag in tags("<a><b><c/></b><d/></a>")] == [
        ("a", []), ("b", ["a"]), ("c", ["a", "b"]), ("d", ["a"])]  # fmt: skip


def test_provisioners_are_those_of_installed_packages():
    """By the entry points of distributions, not by a file of that name elsewhere in the folder."""
    files = Files()
    site, group = files.site("heath"), "[jupyter_client.kernel_provisioners]\n"
    files.package("heath", "moorkit", "1.0", "moorkit")
    files[f"{site}/moorkit-1.0.dist-info/entry_points.txt"] = f"[other]\nx = y\n{group}moor = moorkit:Moor\n\n[more]\nz = z\n"
    files[f"{site}/decoy/entry_points.txt"] = f"{group}decoy = decoy:Decoy\n"
    machine = files.machine()
    server = Server(read_interpreter(machine.reader, f"{HOME}/heath/bin/python"), {})
    assert provisioners(machine.reader, server) == ["moor"]


@pytest.mark.parametrize("asked, runs", [("/usr/bin/python3", "/usr/bin/python3.11"), ("/usr/bin/nothing", f"{HOME}/heath/bin/python")])
def test_a_starter_that_asks_whether_a_program_is_there(asked, runs):
    files = Files()
    files[f"{HOME}/heath/bin/python"] = BINARY
    files[f"{HOME}/start"] = f"#!/bin/sh\nif command -v {asked} >/dev/null 2>&1; then\n  exec /usr/bin/python3 \"$@\"\nfi\nexec {HOME}/heath/bin/python \"$@\"\n"
    files["/bin/sh"] = BINARY
    assert read_interpreter(files.machine().reader, f"{HOME}/start").real_executable == runs


@pytest.mark.parametrize("words, runs", [
    ([f"{HOME}/weigh", "-v"], f"{HOME}/heath/bin/python"), ([f"{HOME}/orchard/bin/python", "x.py"], f"{HOME}/orchard/bin/python"),
    (["python3", "x.py"], "/usr/bin/python3"), ([f"{HOME}/moor"], None), (["nowhere"], None),
])  # fmt: skip
def test_the_interpreter_of_a_command(words, runs):
    from kalyx.core.queries.explain import _seat_of_command

    files = Files()
    files[f"{HOME}/weigh"], files[f"{HOME}/moor"] = f"#!{HOME}/heath/bin/python\n", b"no program"
    seat = _seat_of_command(files.machine(), words)
    assert (seat and seat.interpreter.executable) == runs


@pytest.mark.parametrize("folder, words, counts", [
    (f"{HOME}/spring", ["x.py"], True), (f"{HOME}/spring/deep", ["x.py"], True), (HOME, ["x.py"], False), (None, ["x.py"], False),
    (HOME, [f"{HOME}/spring/x.py"], True), (HOME, ["x.py", f"{HOME}/springs"], False),
])  # fmt: skip
def test_which_programs_stand_in_a_folder(folder, words, counts):
    from kalyx.core.seats.process import programs_of

    files = Files()
    running = Process(pid=7, parent=1, executable="/usr/bin/python3.11", command=("python3", *words), folder=folder, variables={}, started=1.0)
    reader = MemoryReader("linux", files, home=HOME, folder=HOME, processes={7: running})
    assert [process.pid for process in programs_of(reader, f"{HOME}/spring")] == [7] * counts


@pytest.mark.parametrize("variables, plain, coloured", [({}, False, True), ({"NO_COLOR": "1"}, False, False), ({}, True, False)])
def test_what_is_coloured(monkeypatch, variables, plain, coloured):
    from kalyx.cli.render.screen import Screen

    monkeypatch.delenv("NO_COLOR", raising=False)
    for name, value in variables.items():
        monkeypatch.setenv(name, value)
    monkeypatch.setattr(sys, "stdout", SimpleNamespace(isatty=lambda: True, encoding="utf-8"))
    console = Screen(Files().machine(), plain=plain).console
    assert console.no_color == (not coloured)


@pytest.mark.parametrize("kind, shown", [("editor", True), ("notebook", True), ("shell", False)])
def test_where_a_choice_is_written(capsys, kind, shown):
    from kalyx.cli.render.screen import Screen
    from kalyx.cli.render.seats import _details

    machine = Files().machine()
    seat = Seat(seat=kind, name="x", interpreter=machine.interpreters[0], environment=None, reason=None, source=f"{HOME}/a.json", line=3)
    _details(Screen(machine, plain=True), seat, 0)
    assert ("~/a.json, line 3" in capsys.readouterr().out) == shown


@pytest.mark.parametrize("name, shut, step", [("heath", False, "kalyx unregister heath"), ("od d!", False, None), ("heath", True, "look at")])
def test_the_fix_of_a_kernel_file_that_cannot_be_used(name, shut, step):
    """Removed by its id; a folder that no id may name is left, and one that may not be read is its owner's."""
    from kalyx.core.diagnosis.conditions.spec_unreadable import look_at_kernel

    folder = f"{HOME}/.local/share/jupyter/kernels/{name}"
    reader = MemoryReader("linux", {**Files(), f"{folder}/kernel.json": None if shut else b"{"}, home=HOME, folder=HOME, variables={"HOME": HOME})
    machine = Machine(reader)
    finding = look_at_kernel(read_kernel(reader, folder, machine.server), machine)
    assert (finding and finding.fixes[0].steps[0].line.startswith(step)) == (step and True)


def test_environments_in_a_folder_are_not_its_sources():
    from kalyx.core.imports.sources import read_folder

    files = {f"{HOME}/spring/{path}": b"import hive\n" for path in (
        "a.py", "deep/b.ipynb", "deep/er/c.py", "notes.txt", "env/pyvenv.cfg", "env/x.py", "kept/conda-meta/history", "kept/y.py", ".git/z.py",
    )}  # fmt: skip
    assert sorted(read.path for read in read_folder(MemoryReader("linux", files), f"{HOME}/spring")) == [
        f"{HOME}/spring/{path}" for path in ("a.py", "deep/b.ipynb", "deep/er/c.py")]  # fmt: skip


@pytest.mark.parametrize("before, value, after", [
    ("'C:\\old'", "C:\\new", "'C:\\new'"), ("'old'", "it's", '"it\'s"'), ('"old"', "C:\\new", '"C:\\\\new"'), ("'old'", "a\tb", '"a\\tb"'),
    ("['old', 'x']", "/new", "['/new', 'x']"),
])  # fmt: skip
def test_a_text_keeps_its_quotes_where_they_can_hold_the_new_one(before, value, after):
    from kalyx.core.formats import toml

    assert toml.with_value(f"[tool]\npython = {before}  # mine\n", ["tool", "python"], value) == f"[tool]\npython = {after}  # mine\n"


@pytest.mark.parametrize("text, words", [
    ("python() { /opt/mine \"$@\"; }\n", ("/opt/mine",)), ("python() {\n  /opt/mine \"$@\"\n}\n", ("/opt/mine",)),
    ("python() {\n  echo bees\n  /opt/mine \"$@\"\n}\n", None), ("python() {\n  if true; then\n    /opt/mine \"$@\"\n  fi\n}\n", None),
])  # fmt: skip
def test_a_function_of_one_command_is_that_command(text, words):
    reader = MemoryReader("linux", {f"{HOME}/.bashrc": text}, home=HOME, folder=HOME, variables={"HOME": HOME})
    meaning = meanings(reader, ShellFound("bash", 1, "the process above")).functions["python"]
    assert (meaning.words and meaning.words[:1]) == words, meaning


@pytest.mark.parametrize("line, runs", [
    ("case x in y) false;; esac && exec /usr/bin/python3 \"$@\"", "/usr/bin/python3.11"), ("case x in x) false;; esac && exec /usr/bin/python3 \"$@\"", f"{HOME}/heath/bin/python"),
    ("case x in x) true;; esac && exec /usr/bin/python3 \"$@\"", "/usr/bin/python3.11"),
    ("case x in (y) exit 1;; (x|z) exec /usr/bin/python3 \"$@\";; esac", "/usr/bin/python3.11"),
    ("case x in (y|z) exec /usr/bin/python3 \"$@\";; esac", f"{HOME}/heath/bin/python"),
])  # fmt: skip
def test_which_branch_of_a_case_is_taken(line, runs):
    files = Files()
    files[f"{HOME}/heath/bin/python"] = files["/bin/sh"] = BINARY
    files[f"{HOME}/start"] = f"#!/bin/sh\n{line}\nexec {HOME}/heath/bin/python \"$@\"\n"
    assert read_interpreter(files.machine().reader, f"{HOME}/start").real_executable == runs


@pytest.mark.parametrize("folder, is_there", [("/opt/moor/lib", True), ("/usr/local/lib", True), ("/opt/lib", False), ("{site}/hive.libs", True), ("{site}/hive", False)])
def test_where_a_library_may_lie_that_no_loader_searches(folder, is_there):
    from kalyx.core.diagnosis.causes.library_missing import _elsewhere

    files = Files()
    path = f"{folder.format(site=files.site('heath'))}/libhoney.so"
    files[path] = b""
    machine = files.machine()
    case = SimpleNamespace(interpreter=read_interpreter(machine.reader, f"{HOME}/heath/bin/python"), sites=[files.site("heath")])
    assert _elsewhere(case, machine, "libhoney.so") == (path if is_there else None)


def test_an_environment_that_may_not_be_read_is_still_one_that_a_repository_holds():
    files = Files()
    files[f"{HOME}/.git/HEAD"], files[f"{HOME}/heath/bin"] = b"ref: refs/heads/main\n", Shut(1001)
    machine = files.machine()
    judged = catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/heath"), machine)
    assert [finding.cause for finding in judged.findings] == ["unreadable", "in-version-control"]


def test_a_capture_keeps_what_was_refused():
    """Neither absent nor there, with the reason; what the capture does not hold is refused as well."""
    from kalyx.core.queries.captures import finished
    from kalyx.core.system.player import NOT_HERE, Capture, load, machine_of
    from kalyx.core.system.reader import Refused
    from kalyx.core.system.recorder import Recorder

    path, gone, link = f"{HOME}/kernels/heath", f"{HOME}/gone", f"{HOME}/link"
    reader = MemoryReader("linux", {path: b"{}", f"{HOME}/kernels": Shut(1001), link: Link(path)}, home=HOME, folder=HOME)
    recorder = Recorder(reader, made := Capture({}))
    asked = [(read, item) for item in (path, gone, link) for read in ("kind", "status")]
    there = [getattr(recorder, read)(item) for read, item in asked]
    assert there[:4] == [Refused("permission denied")] * 2 + [None] * 2 and there[4:] == ["link", Refused("permission denied")]
    played, _ = machine_of(load(finished(made, reader).write(bytes), "x"))
    assert [getattr(played, read)(item) for read, item in asked] == there
    assert played.kind("/never/asked") == played.status("/never/asked") == Refused(NOT_HERE)


@pytest.mark.parametrize("entered, script, asked, says", [
    ("orchard", "orchard", "hivescale", "orchard is activated, and python starts heath"),
    ("orchard", "orchard", "combs", None),  # not there either
    ("old", "old", "hivescale", f"entered {HOME}/old, which is {HOME}/orchard by now"),
    ("old", "other", "hivescale", None),  # whose folder that was is not known
])  # fmt: skip
def test_an_import_in_a_shell_that_entered_another_environment(entered, script, asked, says):
    files = Files()
    files.package("orchard", "hivescale", "2.1", "hivescale")
    files[f"{HOME}/orchard/bin/activate"] = f"VIRTUAL_ENV={HOME}/{script}\n"
    files.variables["VIRTUAL_ENV"] = f"{HOME}/{entered}"
    found = why_asked(files, asked, "activation-differs", "shell")
    assert (says in found.message) if says is not None else found is None, found


def why_asked(files, statement, cause, target="heath"):
    """The finding with this cause, for an import that is read only; None where it is not found."""
    machine = files.machine()
    answer = why_import(machine, resolve(machine, target if target == "shell" else f"{HOME}/{target}"), parse_wanted(statement)[0], named=True)
    return next((finding for finding in answer.findings if finding.cause == cause), None)


@pytest.mark.parametrize("there, upgrades", [("frames.py", True), ("frames/__init__.py", True), ("frames/notes.txt", False), ("trays.py", False)])
def test_a_version_that_has_a_part_has_a_module_of_that_name(there, upgrades):
    """A folder without code answers to the name too, and no version is asked for because of it."""
    files = Files()
    files.package("heath", "hivescale", "1.0", "hivescale")
    files.package("orchard", "hivescale", "2.1", "hivescale")
    files[f"{files.site('orchard')}/hivescale/{there}"] = b""
    finding = why_asked(files, "hivescale.frames", "submodule-gone")
    assert any("as in orchard" in fix.message for fix in finding.fixes) == upgrades, finding.fixes


def test_what_a_capture_holds_is_listed():
    from kalyx.core.system.player import Capture, contents_of

    held = Capture({"variables": {"PATH": "/usr/bin"}})
    read = {"bytes": "aGl2ZQ=="}
    held.readings = {("listing", HOME): {"map": {"a": "file"}}, ("kind", f"{HOME}/never"): "file", ("read", f"{HOME}/a", 8, 0): read,
                     ("read", f"{HOME}/a", 9, 0): read, ("read", f"{HOME}/shut", 8, 0): {"refused": "permission denied"}}  # fmt: skip
    held.answers = {(("python3", "-V"),): {}}
    assert contents_of(held) == [("variables", "PATH=/usr/bin", 0), ("files, with their content", f"{HOME}/a", 16),
                                 ("folders, with the names in them", HOME, 0), ("programs that were asked", "python3 -V", 0)]  # fmt: skip


@pytest.mark.parametrize("ends, is_killed", [(True, True), (False, False)])
def test_the_guard_goes_home_only_where_nothing_runs(ends, is_killed, tmp_path, monkeypatch):
    """Else the guard itself ends what runs, once its input is closed."""
    from kalyx.core.system.guard import Guard

    told: list[str] = []
    made = Guard()
    made.folder, made._held = str(tmp_path / "gone"), os.open(os.devnull, os.O_WRONLY)
    made._shell = SimpleNamespace(kill=lambda: told.append("killed"), wait=lambda: told.append("ended"))
    made.begun(7)
    if ends:
        made.over(7)
    made.dismiss()
    assert told == ["killed", "ended"] if is_killed else told == ["ended"]


def test_a_version_is_the_shells_own_interpreter_and_not_its_installers():
    """Of two of one version: the one that ``python`` starts, wherever ``pip`` installs."""
    files = Files()
    files["/opt/hive/bin/python3.11"], files["/opt/hive/lib/python3.11/os.py"], files["/opt/tools/pip"] = BINARY, b"", "#!/opt/hive/bin/python3.11\n"
    files["/opt/hive/bin/python3"] = Link("python3.11")
    for first, expected in (("/opt/tools:/usr/bin", "/usr/bin/python3.11"), ("/opt/tools:/opt/hive/bin:/usr/bin", "/opt/hive/bin/python3.11")):
        files.variables["PATH"] = first
        assert resolve(files.machine(), "version:3.11").interpreter.real_executable == expected


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


@pytest.mark.parametrize("text, starts, reason", [
    ("#!/opt/hive/python3 -E\n", "/opt/hive/python3", None),
    ("#! /opt/hive/python3\n", "/opt/hive/python3", None),
    ("#!\n", None, "an empty first line"),
    ("#!/bin/sh\n'''exec' \"/opt/my hive/python\" \"$0\" \"$@\"\n' '''\n", "/opt/my hive/python", None),
    ("#!/bin/sh\n'''exec' /opt/hive/python \"$0\" \"$@\"\n' '''\n", "/opt/hive/python", None),
    ("#!/bin/sh\n'''exec' \n", None, "a second line that names nothing"),
    ("#!/usr/bin/env python3\n", "/usr/bin/python3", None),
    ("#!/usr/bin/env -S A=b python3 -E\n", "/usr/bin/python3", None),
    ("#!/usr/bin/env -S\n", None, "a first line that names nothing"),
    ("#!/usr/bin/env python9\n", None, "python9 is not on PATH"),
    ("no script", None, "a program of its own, no script"),
])  # fmt: skip
def test_what_a_script_names_in_its_first_lines(text, starts, reason):
    files = Files()
    files["/opt/tools/hive"] = text
    found = interpreter_of_script(files.machine().reader, "/opt/tools/hive")
    assert (found.path, found.reason, found.is_unknown) == (starts, reason, False)


def test_environments_of_one_name_are_told_apart_by_the_folder_above_and_then_by_the_path():
    from kalyx.core.environments.found import names_of

    files, prefixes = Files(), ["/a/own", "/b/own", "/c/b/own", "/c/single"]
    for prefix in prefixes:
        files.environment(prefix)
    reader = files.machine().reader
    read = [read_environment(reader, prefix).environment for prefix in prefixes]
    names = [names_of(reader, read)[environment.key] for environment in read]
    assert names == ["a/own", "/b/own", "/c/b/own", "single"]


@pytest.mark.parametrize("marker, installs", [("pyproject.toml", True), ("setup.py", True), ("setup.cfg", False), ("notes.txt", False)])
def test_only_what_the_installer_takes_for_a_project_is_to_be_installed(marker, installs):
    files = Files()
    files[f"{HOME}/spring/src/combs.py"], files[f"{HOME}/spring/{marker}"] = b"", b""
    finding = why_asked(files, "combs", "path-cut")
    assert any("install the project" in fix.message for fix in finding.fixes) == installs, finding.fixes


@pytest.mark.parametrize("asked, there, found", [
    ("beexy", "bee_x_y", "bee_x_y"), ("bee_x_y", "beexy", "beexy"), ("bee", "bea", None), ("hive", "hove", "hove"), ("hives", "have", None),
    ("hivescale", "hivescall", "hivescall"), ("hivescale", "hivestale", "hivestale"), ("hivescale", "hivestall", "hivestall"), ("hivescale", "jivescalf", None),
])  # fmt: skip
def test_which_name_is_near_another(asked, there, found):
    """But for its form it is the same; else by a letter of four, or two of eight that begin alike."""
    files = Files()
    files.package("heath", there, "1.0", there)
    finding = why_asked(files, asked, "misspelt")
    assert (finding.message.split("; ")[1].endswith(f" {found}, which is here") if found else finding is None), finding


def test_a_standard_module_of_another_version_is_nobodys_package():
    """It lies in the library of the environment that has it, where nobody installed it."""
    files = Files()
    files["/usr/bin/python3.9"], files["/usr/lib/python3.9/os.py"] = BINARY.replace(b"3.11.7", b"3.9.18"), b""
    files[f"{HOME}/heath/bin/python"], files["/usr/lib/python3.11/tomllib/__init__.py"] = Link("/usr/bin/python3.9"), b""
    assert why_asked(files, "tomllib", "stdlib-newer") is not None and why_asked(files, "tomllib", "elsewhere") is None


@pytest.mark.parametrize("words, causes", [(["-S"], ["kernel-package-absent"]), ([], []), (["-I"], [])])
def test_a_kernel_that_leaves_out_its_environments_packages(words, causes):
    files = Files()
    files.package("heath", "ipykernel", "6.29", "ipykernel")
    files.package("heath", "ipykernel-launcher", "6.29", "ipykernel_launcher.py")
    files.kernel("heath", f"{HOME}/heath/bin/python")
    path = f"{HOME}/.local/share/jupyter/kernels/heath/kernel.json"
    files[path] = files[path].replace('"-m"', ", ".join([*map(json.dumps, words), '"-m"']))
    machine = files.machine()
    found = catalogue.judge_kernel(machine.kernels[0], machine).findings
    assert [finding.cause for finding in found] == causes
    assert not found or (found[0].evidence[0].path, found[0].message) == (path, "kernel heath runs ipykernel_launcher, and its -S leaves out the packages of heath")


@pytest.mark.parametrize("command, words, reach", [
    ("/opt/hive/python -E", ("/opt/hive/python", "-E"), "any"), ("exec python3", ("python3",), "path"), ("nohup python3", ("python3",), "path"), ("command python3", ("python3",), "no function"),
    ("exec command python3", ("python3",), "path"), ("env -u A -i B=c python3 \"$@\"", ("python3",), "path"), ("A=b python3", ("python3",), "any"), ("time ~/bin/python3", (f"{HOME}/bin/python3",), "any"),
    ("$(which python3)", None, "any"), ("python3 'a", None, "any"), ("env", None, "any"),
])  # fmt: skip
def test_what_a_plain_command_of_a_start_file_starts(command, words, reach):
    from kalyx.core.seats.shell_words import _StartFiles
    from kalyx.core.text.shells import shell_called

    reader = MemoryReader("linux", {}, home=HOME, folder=HOME, variables={"HOME": HOME})
    assert _StartFiles(reader, shell_called("bash"))._command(command) == (words, reach)


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


@pytest.mark.parametrize("sees", [True, False])
def test_an_environment_that_was_moved_is_made_again_as_it_was(sees):
    files = Files()
    files[f"{HOME}/heath/pyvenv.cfg"] = files[f"{HOME}/heath/pyvenv.cfg"].replace("false", "true" if sees else "false")
    files[f"{HOME}/heath/bin/activate"] = "VIRTUAL_ENV=/old/heath\n"
    machine = files.machine()
    (finding,) = catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/heath"), machine).findings
    assert finding.cause == "moved" and ("--system-site-packages" in finding.fixes[0].steps[0].command) == sees


def test_an_import_that_several_environments_have_names_three_others():
    files = Files()
    for name in ("a", "b", "c", "d", "orchard"):
        files.environment(f"{HOME}/{name}")
        files.package(name, "hivescale", "2.1", "hivescale")
    facts = [item.fact for item in why_asked(files, "hivescale", "elsewhere").evidence]
    assert len([fact for fact in facts if fact.startswith("also in ")]) == 3, facts


@pytest.mark.parametrize("name, counts", [("PYTHON_ROOT", True), ("PYTHON_HOME", True), ("PYTHON_BASE", True), ("EBROOTPYTHON", True), ("EBROOTPYTHON3", True), ("PYTHONHOME", False)])
def test_the_variables_of_module_systems_name_installations(name, counts):
    from kalyx.core.interpreters.sitemodules import module_prefixes

    files = {"/apps/python/3.11/bin/python3": BINARY}
    for value, expected in (("/apps/python/3.11/", ["/apps/python/3.11"]), ("apps/python/3.11", []), ("/apps/python/gone", [])):
        reader = MemoryReader("linux", files, home=HOME, folder="/", variables={"HOME": HOME, name: value})
        assert list(module_prefixes(reader)) == (expected if counts else [])


def process(pid, command=("/usr/bin/python3",), folder="/"):
    return Process(pid, 1, "/usr/bin/python3.11", command, folder, None, None, name="hive")


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


@pytest.mark.parametrize("base, prefix, is_refused", [("/opt/hive/bin/python3.11", "/opt/hive", True), ("/usr/bin/python3.11", "/opt/hive", False), ("/usr/bin/python3.11", f"{HOME}/heath", True)])
def test_the_base_of_another_environment_is_not_removed(base, prefix, is_refused):
    from kalyx.core.actions import discarding

    files = Files()
    files["/opt/hive/bin/python3.11"], files["/opt/hive/lib/python3.11/os.py"] = BINARY, b""
    files.environment(f"{HOME}/orchard", base)
    if prefix.endswith("heath"):  # its interpreter is a link to that one's
        files[f"{HOME}/orchard/bin/python"] = Link(f"{HOME}/heath/bin/python")
    with pytest.raises(KalyxError, match=f"is the base Python of other environments: {HOME}/orchard") if is_refused else nullcontext():
        discarding._refuse_a_base_of_others(files.machine(), prefix)
