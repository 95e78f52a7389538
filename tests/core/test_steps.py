"""Every type of step: its words on each system, what it moves and starts, whether it changes and destroys, what takes it back."""

from copy import copy
from types import SimpleNamespace

import pytest

from kalyx.core.actions import trying
from kalyx.core.diagnosis import fixes
from kalyx.core.model.records import Finding, Fix, ImportAnswer
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
    Uninstall,
    UnregisterKernel,
    WriteImport,
)
from kalyx.core.text.quoting import Unquotable, line_with

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


@pytest.mark.parametrize("step", [row[0] for row in ROWS if row[1] is not None])
@pytest.mark.parametrize("system, shell", [("linux", "bash"), ("windows", "powershell"), ("windows", "cmd")])
def test_every_step_that_a_command_does_has_a_line(step, system, shell):
    machine = SimpleNamespace(shell=SimpleNamespace(name=shell), reader=SimpleNamespace(system=system))
    made = fixes.step(machine, copy(step))
    assert made.line or (system == "windows" and isinstance(step, MakeReadable)), "unreadable offers that to nobody on Windows"
    if system == "linux":
        assert made.command == step.argv("linux")


def test_steps_by_hand_take_the_place_of_what_a_folder_of_wheels_cannot_be_written_for():
    """A folder of wheels whose name the shell cannot carry: nothing is installed from elsewhere instead."""
    machine = SimpleNamespace(shell=SimpleNamespace(name="tcsh"), reader=SimpleNamespace(system="linux"))
    fix = Fix(message="x", steps=[fixes.step(machine, Install(python=P, requirements=["a"])), fixes.step(machine, Uninstall(python=P, names=["b"]))])
    finding = Finding(cause="absent", certainty="proven", message="x", fixes=[fix])
    answer = ImportAnswer(statement="import a", module="a", outcome="fails", findings=[finding])
    trying.take_from(machine, [answer], "/w\nx")
    assert [step.command is None for step in fix.steps] == [True, False]
    trying.take_from(machine, [answer], "/w")
    assert fix.steps[1].command == [P, "-m", "pip", "uninstall", "-y", "b"]


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
