"""Rules that a row of arguments cannot hold: start files, scripts, names, drawings. Written from faults that no near test noticed."""

import json
import sys
from types import SimpleNamespace

import pytest

from kalyx.core.environments.reading import read_environment
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.interpreters.shell_syntax import parsed
from kalyx.core.kernels.folders import Server, provisioners
from kalyx.core.model.records import Environment, Package, Seat
from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell_words import meanings
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.reader import Process
from kalyx.core.targets import resolve
from tests.made import BINARY, HOME, Files


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
    ("python a\\ b\n", "python 'a b'\n"), ("python '' x'' ''y\n", 'python "" x y\n'),
])  # fmt: skip
def test_a_script_means_the_same_written_otherwise(text, same):
    def shape(nodes):
        return [["".join(part.text for part in word) for word in node.words] for node in nodes]

    def shown(text):
        return shape(item for item in parsed(text) if hasattr(item, "words"))

    assert shown(text)[-1] == shown(same)[-1] and len(shown(text)) == len(shown(same))


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


def test_environments_named_by_others_are_read_and_empty_words_are_not():
    from kalyx.core.environments.found import found_environments

    reader = Files().machine().reader
    views = found_environments(reader, [], [], ["", f"{HOME}/heath"], [], known=[])
    assert [(view.environment.prefix, only) for view, only in views] == [(f"{HOME}/heath", False)]


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


@pytest.mark.parametrize("minor, flags", [("3.7", "m"), ("3.6", "m"), ("3.8", "")])
def test_the_abi_of_an_interpreter_without_headers(minor, flags):
    from kalyx.core.interpreters.reading import _abi_flags
    from kalyx.core.interpreters.versions import Installation

    installation = Installation("/usr", minor, f"/usr/lib/python{minor}", "cpython", "lib")
    reader = MemoryReader("linux", {f"/usr/lib/python{minor}/os.py": b""})
    assert _abi_flags(reader, installation) == flags


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


def test_environments_in_a_folder_are_not_its_sources():
    from kalyx.core.imports.sources import read_folder

    files = {f"{HOME}/spring/{path}": b"import hive\n" for path in (
        "a.py", "deep/b.ipynb", "deep/er/c.py", "notes.txt", "env/pyvenv.cfg", "env/x.py", "kept/conda-meta/history", "kept/y.py", ".git/z.py",
    )}  # fmt: skip
    assert sorted(read.path for read in read_folder(MemoryReader("linux", files), f"{HOME}/spring")) == [
        f"{HOME}/spring/{path}" for path in ("a.py", "deep/b.ipynb", "deep/er/c.py")]  # fmt: skip


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


def test_a_version_is_the_shells_own_interpreter_and_not_its_installers():
    """Of two of one version: the one that ``python`` starts, wherever ``pip`` installs."""
    files = Files()
    files["/opt/hive/bin/python3.11"], files["/opt/hive/lib/python3.11/os.py"], files["/opt/tools/pip"] = BINARY, b"", "#!/opt/hive/bin/python3.11\n"
    files["/opt/hive/bin/python3"] = Link("python3.11")
    for first, expected in (("/opt/tools:/usr/bin", "/usr/bin/python3.11"), ("/opt/tools:/opt/hive/bin:/usr/bin", "/opt/hive/bin/python3.11")):
        files.variables["PATH"] = first
        assert resolve(files.machine(), "version:3.11").interpreter.real_executable == expected


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


@pytest.mark.parametrize("command, words, reach", [
    ("/opt/hive/python -E", ("/opt/hive/python", "-E"), "any"), ("exec python3", ("python3",), "path"), ("nohup python3", ("python3",), "path"), ("command python3", ("python3",), "no function"),
    ("exec command python3", ("python3",), "path"), ("env -u A -i B=c python3 \"$@\"", ("python3",), "path"), ("env -C /x python3", ("python3",), "path"), ("env --chdir /x python3", ("python3",), "path"), ("env --unset A python3", ("python3",), "path"), ("A=b python3", ("python3",), "any"), ("time ~/bin/python3", (f"{HOME}/bin/python3",), "any"),
    ("$(which python3)", None, "any"), ("python3 'a", None, "any"), ("env", None, "any"),
])  # fmt: skip
def test_what_a_plain_command_of_a_start_file_starts(command, words, reach):
    from kalyx.core.seats.shell_words import _StartFiles
    from kalyx.core.text.shells import shell_called

    reader = MemoryReader("linux", {}, home=HOME, folder=HOME, variables={"HOME": HOME})
    assert _StartFiles(reader, shell_called("bash"))._command(command) == (words, reach)


@pytest.mark.parametrize("name, counts", [("PYTHON_ROOT", True), ("PYTHON_HOME", True), ("PYTHON_BASE", True), ("EBROOTPYTHON", True), ("EBROOTPYTHON3", True), ("PYTHONHOME", False)])
def test_the_variables_of_module_systems_name_installations(name, counts):
    from kalyx.core.interpreters.sitemodules import module_prefixes

    files = {"/apps/python/3.11/bin/python3": BINARY}
    for value, expected in (("/apps/python/3.11/", ["/apps/python/3.11"]), ("apps/python/3.11", []), ("/apps/python/gone", [])):
        reader = MemoryReader("linux", files, home=HOME, folder="/", variables={"HOME": HOME, name: value})
        assert list(module_prefixes(reader)) == (expected if counts else [])
