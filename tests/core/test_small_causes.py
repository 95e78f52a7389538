"""What is found and how it is fixed, on machines in memory. Written from faults that no near test noticed."""

import json
from types import SimpleNamespace

import pytest

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.reading import read_environment
from kalyx.core.imports.names import parse_wanted
from kalyx.core.queries.why import why_import
from kalyx.core.system.memory_reader import Shut
from kalyx.core.system.runner import Ended
from kalyx.core.targets import resolve
from tests.made import BINARY, HOME, Files

TEMPLATE = "Traceback (most recent call last):\n  File \"/a.py\", line 1, in <module>\n    import a\nImportError: {}\n"


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


@pytest.mark.parametrize("form", ["import", "script", "notebook", "folder", "program", "traceback", "everywhere", "command"])
def test_a_failing_import_is_never_without_a_finding(form, monkeypatch):
    """Whichever way it is asked about, and though no cause says anything of it."""
    from kalyx.core.imports.names import ImportStatement
    from kalyx.core.invocation import NAMED, Question
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
        "import": lambda: [why.why_import(machine, seat, wanted, NAMED)], "program": lambda: why_program.why_program(machine, "hive", tell=tell).imports,
        **{name: lambda path=path: why_files.why_files(machine, seat, f"{HOME}/spring{path}", NAMED, tell).imports for name, path in (("script", "/a.py"), ("notebook", "/a.ipynb"), ("folder", ""))},
        "traceback": lambda: why_traceback.why_traceback(machine, told, seat, NAMED, tell).imports, "everywhere": lambda: [item.imports[0] for item in why_everywhere.why_everywhere(machine, wanted, tell=tell).seats],
        "command": lambda: [why.why_import(machine, seat, wanted, Question(True, "python a.py"))],
    }  # fmt: skip
    answers = ask[form]()
    assert answers and all(answer.outcome == "fails" and answer.findings for answer in answers), answers


def test_an_environment_that_may_not_be_read_is_still_one_that_a_repository_holds():
    files = Files()
    files[f"{HOME}/.git/HEAD"], files[f"{HOME}/heath/bin"] = b"ref: refs/heads/main\n", Shut(1001)
    machine = files.machine()
    judged = catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/heath"), machine)
    assert [finding.cause for finding in judged.findings] == ["unreadable", "in-version-control"]


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
    from kalyx.core.invocation import NAMED

    machine = files.machine()
    answer = why_import(machine, resolve(machine, target if target == "shell" else f"{HOME}/{target}"), parse_wanted(statement)[0], NAMED)
    return next((finding for finding in answer.findings if finding.cause == cause), None)


@pytest.mark.parametrize("asked, there, is_lost", [
    ("json", [], True), ("wave", [], True), ("email.parser", ["/usr/lib/python3.11/email/__init__.py"], True), ("email.parsr", ["/usr/lib/python3.11/email/__init__.py"], False),
    ("email.parser", ["/usr/lib/python3.11/email/parser.py", "/usr/lib/python3.11/email/__init__.py"], False), ("statistics", [], False),
    ("email.parser", [f"{HOME}/spring/email/__init__.py"], False), ("email.parser", ["/usr/lib/python3.11/site-packages/email/__init__.py"], False),
    ("_hidden", [], False), ("hivescale", [], False),
])  # fmt: skip
def test_what_a_standard_library_lacks(asked, there, is_lost):
    """A module that each Python of the version has; not where another package of that name answers."""
    files = Files()
    files.update(dict.fromkeys(there, b""))
    files[f"{HOME}/heath/pyvenv.cfg"] = files[f"{HOME}/heath/pyvenv.cfg"].replace("false", "true")
    finding = why_asked(files, asked, "stdlib-part-missing")
    assert (finding is not None) == is_lost
    assert not is_lost or f"{asked.split('.')[0] if not there else asked} belongs to the standard library of Python 3.11" in finding.message


@pytest.mark.parametrize("kind, portions, files, has", [("module", [], [], True), ("namespace", ["/a", "/b"], ["/b/x.py"], True), ("namespace", ["/a"], ["/a/x.txt"], False), ("package", ["/a"], [], True)])
def test_a_folder_without_code_is_no_package(kind, portions, files, has):
    from kalyx.core.imports.resolver import Location, Resolver
    from kalyx.core.system.memory_reader import MemoryReader

    resolver = SimpleNamespace(reader=MemoryReader("linux", {"/a/y": b"", **dict.fromkeys(files, b"")}))
    assert Resolver.has_code(resolver, Location("hive", kind, "/a", "/", portions)) is has


def test_who_has_a_module_itself_comes_before_who_sees_it_in_its_base():
    from kalyx.core.diagnosis.shared.holders import holders

    files = Files()
    files.environment(f"{HOME}/barn")
    files[f"{HOME}/barn/pyvenv.cfg"] = files[f"{HOME}/barn/pyvenv.cfg"].replace("packages = false", "packages = true")
    for where in ("base", "orchard"):
        files.package(where, "wax", "1.0", "wax")
    machine = files.machine()
    heath = machine.environments.at(f"{HOME}/heath")
    having = holders(SimpleNamespace(environment=heath, missing="wax", memory={}), machine)
    assert {environment.name for environment, _ in having} >= {"barn", "orchard"} and having[-1][0].name == "barn"


def test_the_files_of_the_home_folder_are_left_out_but_for_the_users_packages():
    from kalyx.core.diagnosis import difference

    files = Files()
    for name in (".hiverc", ".local/share/x", ".local/lib/x", ".local/bin/x", "notes", "spring/wax.py", "spring/hive.py", "spring/hive/x"):
        files[f"{HOME}/{name}"] = b""
    machine = files.machine()
    case = SimpleNamespace(invocation=SimpleNamespace(variables={"HOME": HOME}), resolver=SimpleNamespace(folder=f"{HOME}/spring"), module="hive.x")
    of_home, of_folder = difference._files(case, machine, SimpleNamespace())
    assert of_home.items == [f"{HOME}/.hiverc", f"{HOME}/.local/share"]
    assert of_folder.items == [f"{HOME}/spring/notes.txt", f"{HOME}/spring/wax.py"]


@pytest.mark.parametrize("system, path, own", [("linux", "/env/hive.py", True), ("windows", "C:\\env\\hive.py", False)])
def test_the_right_to_read_a_file_of_ones_own_is_given_where_modes_say_who_has_it(system, path, own, monkeypatch):
    from kalyx.core.diagnosis.causes import unreadable
    from kalyx.core.machine import Machine
    from kalyx.core.system.memory_reader import MemoryReader

    reader = MemoryReader(system, {path: b""})
    monkeypatch.setattr(reader, "may_read", lambda path: False)
    monkeypatch.setattr(unreadable, "_places", lambda case: [path])
    finding = unreadable.look(SimpleNamespace(raised=None, missing="hive", module="hive"), Machine(reader))
    assert (finding.fixes[0].message == "give yourself the right to read it") is own, finding


@pytest.mark.parametrize("system, line", [("linux", "python 'a b.py'"), ("windows", 'python "a b.py"')])
def test_a_command_is_told_in_the_form_of_its_system(system, line, monkeypatch):
    from kalyx.cli.commands import explain

    told = []
    monkeypatch.setattr(explain, "explain_command", lambda machine, words, line, *more: told.append(line))
    explain._explain(SimpleNamespace(machine=SimpleNamespace(reader=SimpleNamespace(system=system))), ["python", "a b.py"], "")
    assert told == [line]


def test_the_answer_below_a_cell_may_hold_every_sign(monkeypatch):
    from kalyx.cli.commands import explain
    from kalyx.cli.render import stories

    plain = []
    monkeypatch.setattr(stories, "draw_why", lambda screen, answer, wide: plain.append(screen.plain))
    assert explain._as_text(SimpleNamespace(machine=Files().machine()), None, "run a.py") == "   then     run a.py" and plain == [False]
