"""The job on Windows, run by a Python for Windows itself (tests/windows/test_windows.py starts it): each line typed into cmd."""

import json
import os
import random
import re
import subprocess
import sys
import winreg
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from tests.cli.calls import BAD, answers, spoilt

os.environ["KALYX_TYPED_BY"] = str(os.getpid())  # a person types the lines, not this program
SEED = int(os.environ.get("KALYX_SEED", "1"))
BASE = Path(sys.base_prefix)
ROOT = Path(__file__).resolve().parents[2]


def kalyx(*words, cwd=None, status=None, **variables):
    """Kalyx itself, without a shell; its output and errors as text."""
    done = subprocess.run([sys.executable, "-m", "kalyx", *map(str, words)], cwd=cwd, stdin=subprocess.DEVNULL, capture_output=True,
                          env={**os.environ, **variables}, check=False)  # fmt: skip
    out, err = (part.decode("utf-8", "replace").replace("\r\n", "\n") for part in (done.stdout, done.stderr))
    assert "Traceback" not in err and "failure of Kalyx" not in err, err
    assert status is None or done.returncode == status, (done.returncode, out, err)
    return out + err


class Demo:
    """The made-up machine, and lines that are typed into cmd on it."""

    def __init__(self, root):
        self.root = root
        self.moor = root / "home" / "larkmoor"
        self.spring = self.moor / "spring"

    def type(self, *lines, cwd=None):
        """The lines in one window, after the file that enters the machine: the status of the last, and all output."""
        typed = " & ".join([f'call "{self.root}\\enter.cmd"', f'cd /d "{cwd or self.spring}"', *lines])
        done = subprocess.run(f'cmd /d /s /c "{typed}"', stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, check=False)
        return done.returncode, done.stdout.decode("oem", "replace").replace("\r\n", "\n")

    def run(self, *words, cwd):
        """Kalyx on this machine without a shell: status, output and errors as bytes."""
        variables = {**os.environ, "USERPROFILE": str(self.root / "home")}
        argv = [sys.executable, "-X", "utf8", "-m", "kalyx", *map(str, words)]
        return subprocess.run(argv, cwd=cwd, env=variables, stdin=subprocess.DEVNULL, capture_output=True, check=False)

    def json(self, *words):
        """The answer to a question, as JSON."""
        _, out = self.type("kalyx " + subprocess.list2cmdline([*map(str, words), "--json"]) + " 2>nul")
        return json.loads(out.encode("oem").decode("utf-8", "replace"))


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    root = tmp_path_factory.mktemp("machine") / "demo"
    kept = {key: value for key, value in os.environ.items() if not key.startswith(("VIRTUAL_ENV", "KALYX_"))}
    done = subprocess.run([sys.executable, "-m", "kalyx", "demo", str(root), "--yes", "--json"], stdin=subprocess.DEVNULL, capture_output=True,
                          env=kept, check=False)  # fmt: skip
    answer = json.loads(done.stdout)
    assert done.returncode == 0 and answer["done"], (answer["steps"][-1:], done.stderr)
    assert [step["status"] for step in answer["steps"]] == [0, 1, 1, 0, 0, 0, 0]
    assert "Microsoft" not in "".join(step["output"] for step in answer["steps"]), "a banner of the command interpreter"
    return Demo(root)


def test_the_story_is_that_of_the_other_systems(demo):
    """After it the kernel and the notebook run orchard; the file that enters the machine is undone by ``leave``."""
    here = demo.json("here")
    assert {seat["environment"]["name"] for seat in here["seats"]} == {"orchard"} and {seat["relation"] for seat in here["seats"]} == {"same"}
    assert here["reference"] == "shell" or here["seats"][0]["seat"] == "shell", here
    status, out = demo.type("echo [%^CD%]", "call leave", "set kalyx", "set VIRTUAL_ENV", "set USERPROFILE")
    assert "kalyx_old" not in out and str(demo.root) not in out.replace(str(demo.spring), ""), out
    assert (demo.root / "enter.ps1").read_text(encoding="utf-8-sig").count("$env:PATH") == 3


def test_the_job(demo):
    """Record, rebuild, install, register, point, compare, remove; every line that is printed is typed again."""
    steps = [
        (r"kalyx record ..\heath -o heath.txt", 0, "packages"),
        (r"kalyx prepare ..\meadow --from heath.txt --kernel Meadow --yes", 0, "kernel meadow answers"),
        (r"kalyx fill ..\meadow hivescale --yes", 0, "done, as planned"),
        (r"kalyx packages ..\meadow", 0, "by pip"),
        (r"kalyx register ..\meadow --id m2 --own-path --yes", 0, "the same environment"),
        ("kalyx rehearse m2 --import hivescale", 0, "hivescale 2.1"),
        ("kalyx point notebook:spring_weights.ipynb kernel:m2 --yes", 0, "notebook spring_weights.ipynb  (meadow"),
        ("kalyx why hivescale --in spring_weights.ipynb", 0, "imports"),
        ("kalyx point notebook:spring_weights.ipynb --undo --yes", 0, "orchard"),
        (r"kalyx point editor:.vscode\settings.json ..\meadow --yes", 0, "(meadow"),
        (r"kalyx record ..\meadow -o meadow.txt", 0, "4 packages"),
        (r"kalyx contrast ..\meadow meadow.txt", 0, "the same"),
        ("kalyx kernels", None, "meadow"),
        ("kalyx report -o moor.html --why hivescale", 0, "moor.html"),
        ("kalyx capture moor.capture --why hivescale", 0, "moor.capture"),
        ("kalyx why hivescale --on moor.capture", 0, "imports"),
        (r"kalyx unregister m2 --yes", 0, "to undo"),
        (r"kalyx unregister m2 --undo --yes", 0, "restored"),
        (r"kalyx discard ..\meadow --yes", 0, "the kernel in"),
        ("kalyx survey", 0, "orchard"),
    ]
    for line, expected, words in steps:
        status, out = demo.type(line)
        assert (expected is None or status == expected) and words in out, f"{line}: {status}\n{out}"
    assert not (demo.moor / "meadow").exists()


def test_entering_by_the_printed_line(demo):
    """The line that ``prepare`` prints, typed as it stands: python is that environment's, also with letters outside ASCII."""
    for name in ("low meadow", "h\u00e9rbe", "a&b", "a=b"):
        prefix = demo.moor / name
        subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(prefix)], check=True)
        (prefix / "Scripts" / "activate.bat").unlink()  # the line sets PATH then
        line = f'kalyx enter "{prefix}" > "%TEMP%\\kalyx-enter.bat" && call "%TEMP%\\kalyx-enter.bat" & python -c "import sys, os; print(ascii(sys.prefix))"'
        _, out = demo.type(line)
        assert ascii(str(prefix))[1:-1].lower() in out.lower(), out
    beyond = demo.moor / "\u0142\u0105ka"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(beyond)], check=True)
    assert "chcp 65001" in kalyx("enter", beyond, status=None), "the page has no such letter"
    assert str(beyond) in kalyx("enter", beyond, PYTHONIOENCODING="utf-8")


def _gone(prefix):
    settings = prefix / "pyvenv.cfg"
    settings.write_text(re.sub(r"(?m)^home = .*$", lambda _: r"home = C:\gone\Python", settings.read_text()))


def _replaced(prefix):
    settings = prefix / "pyvenv.cfg"
    settings.write_text(re.sub(r"(?m)^version = .*$", "version = 3.8.1", settings.read_text()))


def _from_linux(prefix):
    (prefix / "Scripts" / "python.exe").unlink()
    (prefix / "Scripts").rename(prefix / "bin")
    (prefix / "bin" / "python").write_bytes(b"\x7fELF")


@pytest.mark.parametrize("spoil, condition", [(_gone, "base-gone"), (_replaced, "base-gone"), (_from_linux, "half-made")])
def test_conditions_and_their_fixes(demo, spoil, condition):
    """An environment whose base is gone, or is of another version than the settings say, or that came from Linux."""
    prefix = demo.moor / spoil.__name__.strip("_")
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(prefix)], check=True)
    spoil(prefix)
    found = next(environment for environment in demo.json("survey")["environments"] if environment["name"] == prefix.name)
    assert found["condition"] == condition, found
    line = found["findings"][0]["fixes"][0]["steps"][0]["line"]
    if spoil is _from_linux:  # test_the_job carries such a line out
        status, out = demo.type(line + " --dry-run")
        assert status == 0 and line.startswith("kalyx prepare"), (line, out)
    if spoil is _gone:  # of the third no Python 3.8 is there to go back to
        status, out = demo.type(line + (" --yes" if line.startswith("kalyx") else ""))
        assert status == 0, (line, out)
        after = [environment["condition"] for environment in demo.json("survey")["environments"] if environment["name"].startswith(prefix.name)]
        assert "sound" in after, after


def test_completion_in_powershell(demo):
    """What the code for PowerShell sets, without PowerShell: the words come through the file that it names."""
    code = kalyx("completion", "powershell")
    assert "Register-ArgumentCompleter" in code
    answer = demo.root / "completed"
    answer.write_text("")
    given = {"_ARGCOMPLETE": "1", "ARGCOMPLETE_USE_TEMPFILES": "1", "_ARGCOMPLETE_STDOUT_FILENAME": str(answer), "_ARGCOMPLETE_IFS": "\n",
             "_ARGCOMPLETE_SHELL": "powershell", "COMP_LINE": "kalyx causes name-m", "COMP_POINT": "19"}  # fmt: skip
    subprocess.run([sys.executable, "-m", "kalyx"], env={**os.environ, **given}, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    assert answer.read_text().split() == ["name-misleads"]


def test_what_is_in_use_is_left_whole(demo):
    """A file that a program has open, and a program that runs: the removal is refused, and nothing of it is gone."""
    prefix = demo.moor / "held"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(prefix)], check=True)
    (prefix / "Lib" / "note.txt").write_text("x")
    (prefix / "Lib" / "note.txt").chmod(0o444)
    before = sorted(map(str, prefix.rglob("*")))
    with open(prefix / "Lib" / "note.txt"):
        out = kalyx("discard", prefix, "--yes", status=2)
        assert "note.txt is open in a running program" in out, out
    running = subprocess.Popen([str(prefix / "Scripts" / "python.exe"), "-c", "input()"], stdin=subprocess.PIPE)
    try:
        kalyx("discard", prefix, "--yes", status=2)
    finally:
        running.communicate(b"\n")
    assert sorted(map(str, prefix.rglob("*"))) == before
    kalyx("discard", prefix, "--yes", "--with-own-files", status=0)
    assert not prefix.exists()


def test_one_place_in_many_spellings(demo):
    """Case, slashes, dots and the drive: one environment, however a kernel or a word spells it."""
    prefix = str(demo.moor / "orchard")
    own = demo.json("packages", prefix)["target"]["environment"]["key"]
    for spelled in (prefix.upper(), prefix.lower().replace("\\", "/"), prefix + "\\lib\\..\\.\\", "\\\\?\\" + prefix):
        assert demo.json("packages", spelled)["target"]["environment"]["key"] == own, spelled
    folder = demo.root / "home" / ".local" / "share" / "jupyter" / "kernels" / "spelled"
    folder.mkdir()
    argv = [(prefix + r"\scripts\PYTHON.EXE").upper(), "-m", "kalyx_standin_kernel", "-f", "{connection_file}"]
    (folder / "kernel.json").write_text(json.dumps({"argv": argv, "display_name": "Spelled", "language": "python"}))
    try:
        known = [row["name"] for row in demo.json("survey")["environments"]]
        assert known.count("orchard") == 1 and len(known) == len({name.lower() for name in known}), known
        kernel = next(item for item in demo.json("kernels")["kernels"] if item["id"] == "spelled")
        assert kernel["environment"]["name"] == "orchard" and "twin" in json.dumps(kernel), kernel
    finally:
        (folder / "kernel.json").unlink()
        folder.rmdir()


MODULES = {
    "dllgone": ((b"VCRUNTIME140.dll", b"libhoney.dll"), "library-missing", "libhoney.dll"),
    "oldpython": ((f"python{sys.version_info[0]}{sys.version_info[1]}.dll".encode(), b"python39.dll"), "other-build", "Python 3.9"),
    "cutshort": (None, "damaged", "cut short"),
}


@pytest.mark.parametrize("name", MODULES)
def test_a_compiled_part_that_does_not_load(demo, name):
    """A module of the standard library with another import table, or without its end."""
    change, cause, words = MODULES[name]
    raw = next(BASE.glob("DLLs/_queue.pyd")).read_bytes()
    package = demo.moor / "orchard" / "Lib" / "site-packages" / name
    package.mkdir()
    (package / "__init__.py").write_text("from . import _core\n")
    changed = raw[: len(raw) // 2] if change is None else raw.replace(change[0], change[1].ljust(len(change[0]), b"\0"))
    assert changed != raw
    (package / "_core.pyd").write_bytes(changed)
    (answer,) = demo.json("why", name)["imports"]
    first = answer["findings"][0]
    assert first["cause"] == cause and words in first["message"], answer["findings"]


@pytest.mark.parametrize("module", ["fcntl", "termios", "curses", "pty", "resource", "readline"])
def test_a_module_of_other_systems(demo, module):
    (answer,) = demo.json("why", module)["imports"]
    first = answer["findings"][0]
    assert first["cause"] == "stdlib-part-missing" and "Windows" in first["message"], first


@pytest.mark.parametrize("encoding", ["cp437", "cp850", "cp1252", "ascii"])
def test_any_page_of_characters(demo, encoding):
    """Each reading command, without UTF-8 mode: no error, nothing that the page lacks, and the answer in it."""
    strange = demo.moor / "h\u00e9rbe \u0142\u0105ka"
    if not strange.exists():
        subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(strange)], check=True)
    commands = [["survey"], ["here"], ["why", "absentia", "--in", strange], ["kernels"], ["packages", strange], ["causes"], ["here", "--help"]]
    for words in commands[: len(commands) if encoding == "cp437" else 2]:
        done = subprocess.run([sys.executable, "-m", "kalyx", *map(str, words)], cwd=demo.spring, stdin=subprocess.DEVNULL, capture_output=True,
                              env={**os.environ, "PYTHONIOENCODING": encoding, "USERPROFILE": str(demo.root / "home"),
                                   "KALYX_ONLY_BELOW": str(demo.root / "home")}, check=False)  # fmt: skip
        text = (done.stdout + done.stderr).decode(encoding)
        assert done.returncode in (0, 1) and "failure of Kalyx" not in text and "\\u2026" not in text, (words, text)


def test_a_registry_entry_whose_interpreter_is_gone(demo):
    key = r"Software\Python\Larkmoor\3.9"
    with winreg.CreateKey(winreg.HKEY_CURRENT_USER, key + r"\InstallPath") as place:
        winreg.SetValueEx(place, "ExecutablePath", 0, winreg.REG_SZ, r"C:\gone\python.exe")
    try:
        out = kalyx("survey")
        assert r"C:\gone\python.exe" in out, out
    finally:
        winreg.DeleteKey(winreg.HKEY_CURRENT_USER, key + r"\InstallPath")
        winreg.DeleteKey(winreg.HKEY_CURRENT_USER, key)
        winreg.DeleteKey(winreg.HKEY_CURRENT_USER, r"Software\Python\Larkmoor")



def test_a_launcher_of_an_installer_names_its_interpreter(demo):
    """``pip.exe`` of one environment, first on PATH of a shell that runs another: where it installs is read from it."""
    status, out = demo.type(f'set "PATH={demo.moor}\\heath\\Scripts;%PATH%" & kalyx here --json')
    answer = json.loads(out.encode("oem").decode("utf-8", "replace"))
    parts = {part["word"]: (part["environment"] or {}).get("name") for part in answer["seats"][0]["parts"]}
    assert parts["pip"] == "heath" and parts["python"] == "heath", parts
    assert re.search(r"pip", out)


def test_every_answer_fits_its_schema(demo):
    """The calls of the command-line contract (tests/cli/calls.py), with the status they have on every system."""
    import jsonschema

    folder = demo.root / "home" / "contract"
    folder.mkdir()
    prefix = folder / "heath"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(prefix)], check=True)
    from kalyx.demo.wheels import standin_package

    (prefix / "Lib" / "site-packages" / "kalyx_standin_kernel.py").write_text(standin_package().files["kalyx_standin_kernel.py"])
    for words, expected in answers(str(prefix)):
        done = demo.run(*words, "--json", cwd=folder)
        answer = json.loads(done.stdout)
        assert done.returncode == expected, (words, done.stdout, done.stderr)
        name = answer["schema"].removeprefix("kalyx.").partition("/")[0]
        jsonschema.validate(answer, json.loads((ROOT / "docs" / "schema" / f"{name}.json").read_text(encoding="utf-8")))


def test_bad_input_is_one_line(demo):
    folder = demo.root / "home" / "bad"
    folder.mkdir()
    spoilt(folder)
    before = sorted(map(str, folder.rglob("*")))
    wrong, rows = [], random.Random(SEED).sample(BAD, 20)  # a call takes a second there
    with ThreadPoolExecutor(2) as pool:
        for (words, message), done in zip(rows, pool.map(lambda row: demo.run(*row[0], cwd=folder), rows), strict=True):
            lines = done.stderr.decode("utf-8", "replace").splitlines()
            if done.returncode != 2 or len(lines) != 1 or message not in lines[0] or not lines[0].startswith("kalyx"):
                wrong.append((words, message, done.returncode, done.stdout, lines))
    assert not wrong, "\n".join(map(str, wrong))
    assert sorted(map(str, folder.rglob("*"))) == before
