"""Rules that a row of arguments cannot hold: start files, scripts, names, drawings. Written from faults that no near test noticed."""

import json

import pytest

from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.interpreters.shell_syntax import parsed
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.reader import Process
from tests.made import BINARY, HOME, Files


@pytest.mark.parametrize("text, same", [
    ("cat <<END\npython x\nEND\npython y\n", "cat <END\npython y\n"),
    ("cat <<-END\n\tpython x\n\tEND\npython y\n", "cat <END\npython y\n"),
    ("cat <<-END\n~END\n\tEND\npython y\n", "cat <END\npython y\n"),
    ("python \\\n  x\n", "python   x\n"),
    ("python a\\ b\n", "python 'a b'\n"), ("python '' x'' ''y\n", 'python "" x y\n'),
    ("~/bin/python x\n", "'~/bin/python' x\n"),
])  # fmt: skip
def test_a_script_means_the_same_written_otherwise(text, same):
    def shape(nodes):
        return [["".join(part.text for part in word) for word in node.words] for node in nodes]

    def shown(text):
        return shape(item for item in parsed(text) if hasattr(item, "words"))

    assert shown(text)[-1] == shown(same)[-1] and len(shown(text)) == len(shown(same))


def test_an_interpreter_whose_base_may_not_be_looked_at_is_refused_not_dead():
    from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter

    files = {f"{HOME}/heath/bin/python": BINARY, f"{HOME}/heath/pyvenv.cfg": "home = /locked/bin\n", "/locked": Shut(), "/locked/bin/python3": BINARY}
    reader = MemoryReader("linux", files, home=HOME, folder=HOME)
    with pytest.raises(NotAnInterpreter) as said:
        read_interpreter(reader, f"{HOME}/heath/bin/python")
    assert said.value.refused and "may not look at" in str(said.value)


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


@pytest.mark.parametrize("given, address", [
    ({"base_url": "/moor/"}, "http://127.0.0.1:8888/moor/"), ({"base_url": 7}, "http://127.0.0.1:8888/"), ({"secure": True}, "https://127.0.0.1:8888/"),
])  # fmt: skip
def test_the_address_of_a_server(given, address):
    from kalyx.core.seats.server import _read

    path, running = f"{HOME}/jpserver-5.json", Process(5, 1, "/usr/bin/python3", ("python3",), HOME, {}, None)
    document = {"pid": 5, "port": 8888, "token": "x", "root_dir": HOME, **given}
    assert _read(MemoryReader("linux", {path: json.dumps(document)}, processes={5: running}), path).address == address


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


@pytest.mark.parametrize("library, folders", [("/usr/lib64/python3.11", ["lib64", "lib"]), ("/usr/lib/python3.11", ["lib"])])
def test_the_site_folders_of_a_system_whose_library_is_in_lib64(library, folders):
    from kalyx.core.environments.searchpath import site_folders
    from kalyx.core.model.records import Interpreter

    python = "/usr/bin/python3.11"
    own = Interpreter(executable=python, real_executable=python, version="3.11.7", implementation="cpython", prefix="/usr", base_prefix="/usr", known_by="reading", library=library)
    assert site_folders(MemoryReader("linux", {}), "/usr", own, library, False) == [f"/usr/{name}/python3.11/site-packages" for name in folders]
