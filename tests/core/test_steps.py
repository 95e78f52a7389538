"""Every type of step: its words on each system, what it moves and starts, whether it changes and destroys, what takes it back."""

import typing
from copy import copy
from types import SimpleNamespace

import pytest
from msgspec.structs import replace

from kalyx.core.actions import fixing, trying
from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding, Fix, ImportAnswer, KalyxError, Seat
from kalyx.core.model.steps import (
    Activate,
    BringInstaller,
    CreateEnvironment,
    FillEnvironment,
    Install,
    MakeReadable,
    ManualStep,
    Move,
    Point,
    RegisterKernel,
    RemakeEnvironment,
    RemoveEnvironment,
    RemoveFiles,
    RunSystemProgram,
    RunWith,
    RunWithout,
    Step,
    Uninstall,
    UnregisterKernel,
    WriteImport,
)
from kalyx.core.system.memory_reader import MemoryReader
from kalyx.core.text.quoting import Unquotable, line_with
from tests.made import HOME, Files

P = "/h/bin/python"
# A step; its words on Linux; the words of the step that takes it back; what it moves; what it starts; changes, destroys.
ROWS = [
    (Install(python=P, requirements=["a", "b<2"], options=["--upgrade"]), [P, "-m", "pip", "install", "--upgrade", "a", "b<2"], None, [], [P], "changes"),
    (Install(python=P, requirements=["a"], wheels="/w"), [P, "-m", "pip", "install", "--no-index", "--find-links", "/w", "a"], None, [], [P], "changes"),
    (Uninstall(python=P, names=["a"]), [P, "-m", "pip", "uninstall", "-y", "a"], None, [], [P], "changes"),
    (BringInstaller(python=P), [P, "-m", "ensurepip"], None, [], [P], "changes"),
    (Move(path="/a", to="/b"), ["mv", "/a", "/b"], ["mv", "/b", "/a"], ["/a", "/b"], [], "changes"),
    (RemoveFiles(paths=["/a", "/b"]), ["rm", "-f", "/a", "/b"], None, ["/a", "/b"], [], "changes destroys"),
    (MakeReadable(path="/a"), ["chmod", "-R", "u+rX", "/a"], None, [], [], "changes"),
    (RemakeEnvironment(python=P, prefix="/h", options=["--upgrade"]), [P, "-m", "venv", "--upgrade", "/h"], None, [], [P, "/h"], "changes"),
    (CreateEnvironment(prefix="/n"), ["kalyx", "prepare", "/n"], ["kalyx", "discard", "/n"], [], ["/n"], "changes"),
    (CreateEnvironment(prefix="/n", python=P, requirements=["a", "b"], wheels="/w"), ["kalyx", "prepare", "/n", "--python", P, "--want", "a", "--want", "b", "--wheels", "/w"],
     ["kalyx", "discard", "/n"], [], [P, "/n"], "changes"),
    (CreateEnvironment(prefix="/n", asks=True), ["kalyx", "prepare", "/n", "--want"], ["kalyx", "discard", "/n"], [], ["/n"], "changes"),
    (FillEnvironment(prefix="/h", requirements=["a"], wheels="/w"), ["kalyx", "fill", "/h", "a", "--wheels", "/w"], None, [], ["/h"], "changes"),
    (FillEnvironment(prefix="/h", source="/p"), ["kalyx", "fill", "/h", "--from", "/p"], None, [], ["/h"], "changes"),
    (FillEnvironment(prefix="/h", restore=True), ["kalyx", "fill", "/h", "--repair"], None, [], ["/h"], "changes"),
    (RemoveEnvironment(prefix="/h"), ["kalyx", "discard", "/h"], None, [], [], "changes destroys"),
    (RegisterKernel(prefix="/h", identifier="k"), ["kalyx", "register", "/h", "--id", "k"], ["kalyx", "unregister", "k"], [], ["/h"], "changes"),
    (RegisterKernel(prefix="/h", identifier="k", take_over=True, own_path=True, variables={"A": "1"}), ["kalyx", "register", "/h", "--id", "k", "--own-path", "--take-over", "--variable", "A=1"],
     ["kalyx", "unregister", "k", "--undo"], [], ["/h"], "changes"),
    (RegisterKernel(prefix="/h", identifier="k", bring_package=True, wheels="/w"), ["kalyx", "register", "/h", "--id", "k", "--bring-package", "--wheels", "/w"], None, [], ["/h"], "changes"),
    (RegisterKernel(prefix="/h", identifier="k", wheels="/w"), ["kalyx", "register", "/h", "--id", "k"], ["kalyx", "unregister", "k"], [], ["/h"], "changes"),
    (UnregisterKernel(kernel="k"), ["kalyx", "unregister", "k"], ["kalyx", "unregister", "k", "--undo"], [], [], "changes destroys"),
    (Point(seat="editor", target="/h"), ["kalyx", "point", "editor", "/h"], ["kalyx", "point", "editor", "--undo"], [], [], "changes"),
    (RunSystemProgram(words=["apt-get", "install", "x"]), ["apt-get", "install", "x"], None, [], [], "changes"),
    (RunWith(words=[P, "a.py"]), [P, "a.py"], None, [], [P], ""),
    (RunWith(words=[P], variables={"A": "1", "B": None}), ["env", "-u", "B", "A=1", P], None, [], [P], ""),
    (RegisterKernel(prefix="/h", identifier="k", bring_package=True, wheels="/w", notebook="/a.ipynb"),
     ["kalyx", "register", "/h", "--id", "k", "--bring-package", "--wheels", "/w", "--notebook", "/a.ipynb"], None, [], ["/h"], "changes"),
    (RegisterKernel(prefix="/h", identifier="k", notebook="/a.ipynb"), ["kalyx", "register", "/h", "--id", "k", "--notebook", "/a.ipynb"], None, [], ["/h"], "changes"),
    (Activate(prefix="/h"), None, None, [], ["/h"], ""),
    (RunWithout(flag="-I"), None, None, [], [], ""),
    (WriteImport(statement="import a"), None, None, [], [], ""),
    (ManualStep(line="x"), None, None, [], [], ""),
]  # fmt: skip


@pytest.mark.parametrize("step, words, back, moved, started, does", ROWS)
def test_what_a_step_is(step, words, back, moved, started, does):
    inverse = step.inverse()
    assert step.argv("linux") == words and (inverse.argv("linux") if inverse is not None else None) == back
    assert (step.moved(), step.started()) == (moved, started)
    assert " ".join(name for name in ("changes", "destroys") if getattr(step, name)) == does


@pytest.mark.parametrize("step", [row[0] for row in ROWS if row[1] is not None])
@pytest.mark.parametrize("system, shell", [("linux", "bash"), ("windows", "powershell"), ("windows", "cmd")])
def test_every_step_that_a_command_does_has_a_line(step, system, shell):
    machine = SimpleNamespace(shell=SimpleNamespace(name=shell), reader=SimpleNamespace(system=system))
    made = fixes.step(machine, copy(step))
    assert made.line or (system == "windows" and isinstance(step, MakeReadable)), "unreadable offers that to nobody on Windows"
    if system == "linux":
        assert made.command == step.argv("linux")


BROUGHT = "/moor/spring/brought"
ON_BROUGHT = [
    Install(python=f"{BROUGHT}/bin/python", requirements=["a"]), Uninstall(python=f"{BROUGHT}/bin/python", names=["a"]), BringInstaller(python=f"{BROUGHT}/bin/python"),
    Move(path=BROUGHT, to=f"{BROUGHT}-3.11"), RemoveFiles(paths=[f"{BROUGHT}/bin/python"]), RemakeEnvironment(python="/usr/bin/python3.11", prefix=BROUGHT),
    CreateEnvironment(prefix=BROUGHT), FillEnvironment(prefix=BROUGHT), RemoveEnvironment(prefix=BROUGHT), RegisterKernel(prefix=BROUGHT, identifier="a"),
]  # fmt: skip


@pytest.mark.parametrize("step", ON_BROUGHT)
def test_no_step_touches_an_environment_that_came_with_the_folder(step, monkeypatch):
    """Whatever a step would do to it: carrying it out is refused where the user named another."""
    files = Files()
    files["/moor/spring/.git/HEAD"] = files[f"{BROUGHT}/bin/python"] = b""
    files[f"{BROUGHT}/pyvenv.cfg"] = b"home = /usr/bin\n"
    machine = Machine(MemoryReader("linux", files, home=HOME, folder="/moor/spring"))
    done = []
    monkeypatch.setattr(fixing, "run_step", lambda machine, step, tell: done.append(step))
    fix, seat = Fix(message="x", steps=[fixes.step(machine, step)]), Seat(seat="shell", name="shell")
    with pytest.raises(KalyxError, match="you did not name it"):
        fixing.carry_out(machine, fix, seat, lambda text: None)
    assert not done
    seat = replace(seat, interpreter=replace(Files().machine().interpreters[0], executable=f"{BROUGHT}/bin/python", prefix=BROUGHT))
    monkeypatch.setattr(fixes, "not_the_users_own", lambda machine, path: None)
    if not isinstance(step, Move):  # where it is moved to is another folder
        fixing.carry_out(machine, fix, seat, lambda text: None)
        assert done == fix.steps


def test_steps_by_hand_take_the_place_of_what_a_folder_of_wheels_cannot_be_written_for():
    """A folder of wheels whose name the shell cannot carry: nothing is installed from elsewhere instead."""
    machine = SimpleNamespace(shell=SimpleNamespace(name="tcsh"), reader=SimpleNamespace(system="linux"))
    fix = Fix(message="x", steps=[fixes.step(machine, Install(python=P, requirements=["a"])), fixes.step(machine, Uninstall(python=P, names=["b"]))])
    finding = Finding(cause="absent", certainty="proven", message="x", fixes=[fix])
    answer = ImportAnswer(statement="import a", module="a", outcome="fails", findings=[finding])
    trying.take_from(machine, [answer], "/w\nx")
    assert [step.command is None for step in answer.findings[0].fixes[0].steps] == [True, False]
    trying.take_from(machine, [answer], "/w")
    assert answer.findings[0].fixes[0].steps[1].command == [P, "-m", "pip", "uninstall", "-y", "b"]


def test_every_type_of_step_has_a_row():
    assert {type(row[0]) for row in ROWS} == set(typing.get_args(Step))
    assert len({get_arg.__struct_config__.tag for get_arg in typing.get_args(Step)}) == len(typing.get_args(Step))


WINDOWS = [
    (Move(path=r"C:\a\b.py", to=r"C:\a\b_own.py"), ["cmd", "/c", "ren", r"C:\a\b.py", "b_own.py"]),
    (Move(path=r"C:\a\b.py", to=r"C:\c\b.py"), ["cmd", "/c", "move", r"C:\a\b.py", r"C:\c\b.py"]),
    (RemoveFiles(paths=[r"C:\a"]), ["cmd", "/c", "del", r"C:\a"]),
    (MakeReadable(path=r"C:\a"), None),
    (RunWith(words=["py"], variables={"A": "1"}), None),
    (RunWith(words=["py"]), ["py"]),
]


@pytest.mark.parametrize("step, words", WINDOWS)
def test_what_a_step_is_on_windows(step, words):
    assert step.argv("windows") == words
    if isinstance(step, Move):
        assert step.inverse().argv("windows")[-2:] in (["C:\\a\\b_own.py", "b.py"], ["C:\\c\\b.py", "C:\\a\\b.py"])


@pytest.mark.parametrize("shell, line", [("cmd", r'set "PYTHONPATH=C:\a;D:\b c" & set "OLD=" & py x.py'), ("powershell", r"$env:PYTHONPATH = 'C:\a;D:\b c'; $env:OLD = $null; py x.py")])
def test_a_variable_is_set_by_the_windows_shell_itself(shell, line):
    assert line_with({"PYTHONPATH": r"C:\a;D:\b c", "OLD": None}, ["py", "x.py"], shell) == line


def test_what_cmd_cannot_set_is_refused():
    for value in ("%TEMP%", 'a"b', "a&b"):
        with pytest.raises(Unquotable):
            line_with({"A": value}, ["py"], "cmd")


def test_a_word_that_the_shell_cannot_carry_makes_a_step_by_hand():
    machine = SimpleNamespace(shell=SimpleNamespace(name="tcsh"), reader=SimpleNamespace(system="linux"))
    step = fixes.step(machine, Move(path="/a\nb", to="/c"))
    assert isinstance(step, ManualStep) and step.command is None and "start by other means: 'mv'" in step.line
    assert fixes.step(machine, Move(path="/a", to="/c")).line == "mv /a /c"
