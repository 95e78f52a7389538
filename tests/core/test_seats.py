"""Who started Kalyx, and what a word of the user means: on machines in memory."""

import json

import pytest

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.machine import Machine
from kalyx.core.packages.contents import contents
from kalyx.core.queries.contrast import Side, contrast
from kalyx.core.queries.here import look_here
from kalyx.core.seats.callers import connection_file_of, find_caller, find_shell
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.system.reader import Process
from kalyx.core.targets import resolve
from tests.made import HOME, Files

KALYX = ("/usr/bin/python3.11", "-m", "kalyx")


def processes(*chain, **more):
    """A chain of processes, Kalyx's own (number 1) first, each the child of the next: (program, words...)."""
    found = {}
    for number, words in enumerate(chain, 1):
        leads = words[0].startswith("*")
        words = (words[0].lstrip("*"), *words[1:])
        found[number] = Process(number, number + 1, words[0], words, HOME, more.get("variables", {}), 1.0, "", leads)
    return found


CHAINS = [
    # what stands above Kalyx, the shell's name, the caller's number
    ([("/bin/bash",)], "bash", None),
    ([("-zsh",)], "zsh", None),
    ([("/usr/bin/fish", "-i"), ("/usr/bin/python3.11", "terminal.py")], "fish", None),
    ([("/bin/sh", "-c", "kalyx here"), ("/usr/bin/python3.11", "-m", "ipykernel_launcher", "-f", "/k.json")], "sh", 3),
    ([("*/bin/sh", "-c", "kalyx here"), ("/usr/bin/python3.11", "-m", "k", "-f", "/k.json"), ("/bin/bash",)], "sh", 3),
    ([("/usr/bin/python3.11", "run.py"), ("/bin/bash",)], "bash", 2),
    ([("/bin/bash", "build.sh"), ("/usr/bin/python3.11", "ci.py")], "bash", 3),
    ([("*/bin/bash", "--norc", "typed.sh"), ("/usr/bin/python3.11", "window.py")], "bash", None),
    ([("/usr/bin/make",), ("/usr/bin/tcsh",)], "tcsh", None),
    ([("/usr/bin/make",)], "ksh", None),
]


@pytest.mark.parametrize("above, shell, caller", CHAINS)
def test_shell_and_caller(above, shell, caller):
    reader = MemoryReader("linux", {}, variables={"SHELL": "/bin/ksh"}, processes=processes(KALYX, *above))
    found = find_shell(reader)
    assert found.name == shell
    assert (found.pid is None) == (shell == "ksh")
    process = find_caller(reader)
    assert (process.pid if process else None) == caller


_LAUNCHED = (r"C:\env\python.exe", "-m", "kalyx", "here")
ON_WINDOWS = [
    # Kalyx's own words, what stands above, the shell's name, the caller's number
    (_LAUNCHED, [_LAUNCHED, (r"C:\Windows\cmd.exe",)], "cmd", None),  # the program of its environment only starts it
    (_LAUNCHED, [_LAUNCHED, (r"C:\env\python.exe", "run.py")], "powershell", 3),
    (_LAUNCHED, [("cmd.exe", "/d", "/s", "/c", "kalyx here"), ("python.exe", "run.py")], "cmd", 3),
    (_LAUNCHED, [("cmd.exe", "/k", r"C:\env\activate.bat"), ("python.exe", "run.py")], "cmd", None),
    (_LAUNCHED, [("CMD.EXE", "/s/c", "kalyx here"), ("python.exe", "run.py")], "cmd", 3),
    (_LAUNCHED, [("powershell.exe", "-NoExit", "-File", "p.ps1"), ("python.exe", "run.py")], "powershell", None),
    (_LAUNCHED, [("pwsh.exe", "-ExecutionPolicy", "Bypass"), ("python.exe", "run.py")], "pwsh", None),
    (_LAUNCHED, [("pwsh.exe", "-Command", "kalyx here"), ("python.exe", "run.py")], "pwsh", 3),
    (_LAUNCHED, [("cmd.exe", "/c", "kalyx here"), ("python.exe", "demo.py", "typed")], "cmd", None),
]


@pytest.mark.parametrize("own, above, shell, caller", ON_WINDOWS)
def test_shell_and_caller_on_windows(own, above, shell, caller):
    variables = {"PSModulePath": "C:\\x"} | ({"KALYX_TYPED_BY": "3"} if above[-1][-1] == "typed" else {})
    reader = MemoryReader("windows", {}, variables=variables, processes=processes(own, *above))
    process = find_caller(reader)
    assert find_shell(reader).name == shell and (process.pid if process else None) == caller


def test_a_kernel_is_known_by_its_connection_file():
    chain = processes(
        ("/usr/bin/python3.11", "-m", "x", "-f", "/run/k.json"), ("/usr/bin/python3.11", "-f", "data.csv")
    )
    assert connection_file_of(chain[1]) == "/run/k.json" and connection_file_of(chain[2]) is None


def moor():
    files = Files()
    files.kernel("heath", f"{HOME}/heath/bin/python")
    files.kernel("gone", f"{HOME}/orchrad/bin/python")
    notebook = {"metadata": {"kernelspec": {"name": "heath"}}, "cells": []}
    files[f"{HOME}/spring/weights.ipynb"] = json.dumps(notebook)
    files[f"{HOME}/heath/bin/hivetool"] = f"#!{HOME}/heath/bin/python\n"
    files[f"{HOME}/other/orchard/pyvenv.cfg"] = "home = /usr/bin\n"
    return files


def machine_of(files):
    reader = MemoryReader("linux", files, variables=files.variables, home=HOME, folder=f"{HOME}/spring",
                        processes=processes(KALYX, ("/bin/bash",)))  # fmt: skip
    return Machine(reader)


def test_here_puts_the_seats_side_by_side():
    files = moor()
    files.kernel("orchard-spring", f"{HOME}/heath/bin/python")
    files.variables |= {"PATH": f"{HOME}/orchard/bin:/usr/bin", "VIRTUAL_ENV": f"{HOME}/heath"}
    used = look_here(machine_of(files))
    assert {seat.name: seat.relation for seat in used.seats} == {"bash": "same", "heath": "differs", "weights.ipynb": "differs"}
    assert sorted(used.other_kernels) == ["gone", "orchard-spring"], "nothing in the folder refers to them"
    answer = look_here(machine_of(files), whole=True)
    assert answer.other_kernels == []
    relations = {seat.name: seat.relation for seat in answer.seats}
    assert relations == {
        "bash": "same",
        "gone": "dead",
        "heath": "differs",
        "orchard-spring": "differs",
        "weights.ipynb": "differs",
    }
    causes = {finding.cause for finding in answer.findings}
    assert {"activation-differs", "interpreter-gone", "name-misleads", "kernel-package-absent"} <= causes
    against = look_here(machine_of(files), resolve(machine_of(files), "kernel:heath"))
    assert {seat.name: seat.relation for seat in against.seats}["bash"] == "differs"


def test_contents_and_contrast():
    files = moor()
    files.package("heath", "hivescale", "2.1", "hivescale", "nectarflow>=2")
    files.package("heath", "nectarflow", "1.0", "nectarflow")
    files.package("heath", "-", "", "x")
    files[f"{files.site('heath')}/~ivescale-1.0.dist-info/METADATA"] = "Name: hivescale\nVersion: 1.0\n"
    files[f"{files.site('heath')}/loose.py"] = b""
    files["/more/hivescale-9.dist-info/METADATA"] = "Name: Hive.Scale\nVersion: 9\n"
    files[f"{files.site('heath')}/more.pth"] = "/more\n"
    files[f"{files.site('heath')}/again"] = Link("hivescale")
    machine = machine_of(files)

    def look(name):
        seat = resolve(machine, f"{HOME}/{name}/bin/python")
        return seat, contents(machine.reader, seat.interpreter, search_path(machine.reader, seat.interpreter, Invocation()))[0]

    seat, packages = look("heath")
    found = {(package.name, package.version): package for package in packages}
    assert found["hivescale", "2.1"].unmet[0].found == "1.0"
    assert found["loose", None].origin == "own"
    assert ("hivescale", "1.0") not in found, "an installer's leftover is no package"
    assert found["Hive.Scale", "9"].origin == "linked"
    other, fewer = look("orchard")
    same = contrast(Side(seat, packages), Side(seat, packages))
    assert same.same and not same.differences
    differences = contrast(Side(seat, packages), Side(other, fewer)).differences
    assert {"hivescale", "nectarflow", "loose"} <= {difference.name for difference in differences if difference.what == "package"}


def test_a_link_renames_no_environment():
    """However it is reached, an environment has one name; so a kernel that is named after another is still told."""
    for link in (f"{HOME}/current", f"{HOME}/spring/orchard", f"{HOME}/.virtualenvs/orchard"):
        files = Files()
        files[link] = Link(f"{HOME}/heath")
        files.kernel("orchard", f"{link}/bin/python")
        machine = files.machine()
        assert {environment.name for environment in machine.environments.known if environment.kind == "virtual"} == {"heath", "orchard"}, link
        assert resolve(machine, link).environment.name == "heath"
        (kernel,) = [catalogue.judge_kernel(kernel, machine) for kernel in machine.kernels]
        assert kernel.environment.name == "heath" and "name-misleads" in kernel.conditions, (link, kernel.conditions)
