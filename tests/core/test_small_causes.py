"""What is found and how it is fixed, on machines in memory. Written from faults that no near test noticed."""

import json
from types import SimpleNamespace

import pytest

from kalyx.core.diagnosis import catalogue, fixes
from kalyx.core.environments.reading import read_environment
from kalyx.core.imports.names import parse_wanted
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.kernels.specs import read_kernel
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding, Fix, Seat
from kalyx.core.model.steps import UnregisterKernel
from kalyx.core.queries.why import why_import
from kalyx.core.system.memory_reader import Link, MemoryReader, Shut
from kalyx.core.system.runner import Ended
from kalyx.core.targets import resolve
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


@pytest.mark.parametrize("of", ["heath", "orchard"])
def test_a_program_of_its_own_environment_has_no_finding(of):
    """And one whose first line starts another environment's Python has."""
    from kalyx.core.queries.why_program import why_program

    files = Files()
    files[f"{HOME}/heath/bin/hive"] = f"#!{HOME}/{of}/bin/python\nimport os\n"
    answer = why_program(files.machine(), "hive", tell=lambda text: None)
    assert [finding.cause for finding in answer.findings] == ([] if of == "heath" else ["first-line-dead"])


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


def test_libraries_that_need_each_other_are_read_once(monkeypatch):
    from kalyx.core.diagnosis.shared import dlls

    needed = {"C:\\x\\a.pyd": ["b.dll"], "C:\\x\\b.dll": ["c.dll"], "C:\\x\\c.dll": ["b.dll", "C.DLL"]}
    read = []
    monkeypatch.setattr(dlls, "read_header", lambda reader, path: read.append(path) or SimpleNamespace(needed=needed[path]))
    monkeypatch.setattr(dlls, "_path_of", lambda case, machine, library, own: "C:\\x\\" + library)
    assert dlls.missing_dll(None, SimpleNamespace(reader=MemoryReader("windows", {})), ["C:\\x\\a.pyd"]) is None
    assert read == list(needed)


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


@pytest.mark.parametrize("marker, cause, installs", [("pyproject.toml", "project-not-installed", True), ("setup.py", "project-not-installed", True), ("setup.cfg", "project-not-installed", False), ("notes.txt", "path-cut", False), (".git/HEAD", "path-cut", False)])
def test_only_what_the_installer_takes_for_a_project_is_to_be_installed(marker, cause, installs):
    files = Files()
    files[f"{HOME}/spring/src/combs.py"], files[f"{HOME}/spring/{marker}"] = b"", b""
    finding = why_asked(files, "combs", cause)
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


@pytest.mark.parametrize("there, says", [
    ("pip-23.1.dist-info/METADATA", "while pip was being installed"), ("pip/__main__.py", "while pip was being installed"),
    ("hive.py", None), ("hivescale-2.1.dist-info/METADATA", None),
])  # fmt: skip
def test_an_environment_whose_installer_was_stopped(there, says):
    """With no activation scripts, and nothing but the installer in it; what somebody installed shows that it was finished."""
    files = Files()
    del files[f"{HOME}/heath/bin/activate"]
    files[f"{files.site('heath')}/{there}"] = "Metadata-Version: 2.1\nName: " + there.partition("-")[0] + "\nVersion: 1\n" if "METADATA" in there else b""
    machine = files.machine()
    findings = catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/heath"), machine).findings
    assert [finding.cause for finding in findings] == (["half-made"] if says else []) and all(says in finding.message for finding in findings)


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
