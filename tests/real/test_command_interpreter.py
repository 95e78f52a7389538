"""The lines for the command interpreter of Windows, carried out by a free one of the same rules (Wine's).

It starts this system's own programs too (and does not wait for them), so that one of them writes which words reached
it into a file.
"""

import os
import random
import subprocess
import time

import pytest

from kalyx.core.actions.entering import enter
from kalyx.core.machine import Machine
from kalyx.core.system.memory_reader import MemoryReader
from kalyx.core.targets import resolve
from kalyx.core.text.quoting import Unquotable, line_for, line_that_runs_output
from tests.equipment import SEED, need
from tests.made import WINDOWS as EXECUTABLE

PROGRAM = """
#include <stdio.h>
int main(int count, char **words) {
  FILE *file = fopen("words", "a");
  char all[4096]; int used = 0, at;
  for (at = 1; at < count; at++) used += snprintf(all + used, sizeof all - used, "%s%c", words[at], at + 1 < count ? 1 : 2);
  setvbuf(file, NULL, _IOFBF, sizeof all); fwrite(all, 1, used, file); return fclose(file);
}
"""
SIGNS = list(" ab\\^&|<>()'`~$,;=+-/@#[]{}:.*?%!\"0")


@pytest.fixture(scope="module")
def interpreter(tmp_path_factory):
    """Carries out a batch file by its lines; what they print."""
    wine = need("wine")
    root = tmp_path_factory.mktemp("command-interpreter")
    (root / "shown.c").write_text(PROGRAM)
    subprocess.run([need("gcc"), "-o", "shown.exe", "shown.c"], cwd=root, check=True)
    variables = {**os.environ, "HOME": str(root), "WINEPREFIX": str(root / "drive"), "WINEDEBUG": "-all", "DISPLAY": "", "LANG": "C.UTF-8"}
    drive = "Z:" + str(root).replace("/", "\\")

    def carry_out(lines: list[str]) -> list[str]:
        (root / "lines.bat").write_text("@echo off\n" + "\n".join(lines) + "\n", newline="\r\n")
        done = subprocess.run([wine, "cmd", "/c", f"{drive}\\lines.bat"], env=variables, cwd=root, capture_output=True, timeout=240, check=False)
        return done.stdout.decode("utf-8", "replace").replace("\r\n", "\n").split("\n")

    yield drive, carry_out, root
    subprocess.run(["wineserver", "-k"], env=variables, check=False)


def test_words_reach_the_program(interpreter, record_property):
    """Any words that a line is given for arrive as they are; what this interpreter would read more into is refused."""
    drive, carry_out, root = interpreter
    chance = random.Random(SEED)
    given, lines, refused = [], [], 0
    while len(given) < 200:
        words = ["".join(chance.choices(SIGNS, k=chance.randint(0, 8))) for _ in range(chance.randint(1, 3))]
        try:
            line = line_for([f"{drive}\\shown.exe", str(len(given)), *words], "cmd")
        except Unquotable as refusal:
            assert set(refusal.word) & set('%!"'), refusal.word
            refused += 1
            continue
        lines.append(line)
        given.append([str(len(given)), *words])
    carry_out(lines)
    until = time.monotonic() + 60
    while (root / "words").read_bytes().count(b"\2") < len(given) and time.monotonic() < until:
        time.sleep(0.1)
    got = [text.split("\1") for text in (root / "words").read_text().split("\2")[:-1]]
    assert sorted(got) == sorted(given)
    record_property("lines carried out", len(given))
    record_property("refused", refused)


def moor(drive: str, place: str, script: bool) -> Machine:
    """A machine of that system with an environment at the place."""
    files = {
        "C:\\Python312\\python.exe": EXECUTABLE + b"\x003.12.1\x00", "C:\\Python312\\python312.dll": b"", "C:\\Python312\\Lib\\os.py": b"",
        f"{place}\\pyvenv.cfg": "home = C:\\Python312\nversion = 3.12.1\n", f"{place}\\Scripts\\python.exe": EXECUTABLE,
    }  # fmt: skip
    if script:
        files[f"{place}\\Scripts\\activate.bat"] = ""
    return Machine(MemoryReader("windows", files, variables={"Path": "C:\\Python312"}, folder=drive + "\\"))


@pytest.mark.parametrize("script", [True, False])
def test_the_line_enters(interpreter, script):
    """As printed, and as pasted from where Kalyx says how to enter; with the maker's own script, and without one."""
    drive, carry_out, root = interpreter
    folder = "the moor" if script else "the moor & (heath) ^"  # in a script of its maker the signs would be read
    place = f"{drive}\\{folder}\\orchard"
    machine = moor(drive, place, script)
    answer = enter(machine, resolve(machine, place), "cmd")
    programs = f"{root}/{folder}/orchard/Scripts"
    os.makedirs(programs, exist_ok=True)
    with open(f"{programs}/activate.bat", "w", newline="\r\n") as file:
        file.write(f'@set "PATH={place}\\Scripts;%PATH%"\n@set "VIRTUAL_ENV={place}"\n')
    with open(f"{root}/printed", "w", newline="\r\n") as file:
        file.write(answer.line + "\n")
    if script:
        assert answer.line == f'"{place}\\Scripts\\activate.bat"'
    pasted = line_that_runs_output(["kalyx", "enter", place], "cmd").replace(line_for(["kalyx", "enter", place], "cmd"), f"type {drive}\\printed", 1)
    for line in ("call " * script + answer.line, pasted):
        printed = carry_out([line, "set VIRTUAL_ENV", "path"])
        assert f"VIRTUAL_ENV={place}" in printed, (line, printed)
        assert any(item.startswith(f"PATH={place}\\Scripts;") for item in printed), (line, printed)
