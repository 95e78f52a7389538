"""Build a Python for Windows that runs here under Wine, for tests/windows: python tools/windows.py [FOLDER]

The interpreter's library and its extension modules are those that a package for frozen Windows programs holds; the
standard library is that of the same version on this machine; python.exe and the launcher of environments are compiled
here. What is built already stays, until this file or the launcher changes. Needs wine, a C compiler for Windows
(Debian: wine wine64 gcc-mingw-w64-x86-64-win32), a package index, and interpreters of the versions below.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

CLONE = Path(__file__).resolve().parents[1]
LAUNCHER = CLONE / "tools" / "venvlauncher.c"
VERSIONS = ("3.11", "3.10")
COMPILER = "x86_64-w64-mingw32-gcc-win32"
FROZEN = "panda3d"  # its wheels hold the library and the modules of the version that they are for
# What Kalyx and its tests need there; markers would be read for this system, so that colorama is named.
NEEDED = ("argcomplete", "jinja2", "macholib", "msgspec", "packaging", "pathspec", "pefile", "psutil", "pyelftools",
          "pyzmq", "rich", "tomlkit", "colorama", "pytest", "pytest-xdist",
          "hypothesis", "jsonschema<4.18", "jupyter_client", "pywin32")  # fmt: skip
_LEFT_OUT = (
    "site-packages",
    "dist-packages",
    "lib-dynload",
    "__pycache__",
    "test",
    "config-*",
    "idlelib",
    "turtledemo",
)
MAIN = """#include <wchar.h>
__declspec(dllimport) int Py_Main(int, wchar_t **);
int wmain(int n, wchar_t **a) { return Py_Main(n, a); }
"""
STABLE = "int DllMain(void *h, unsigned r, void *p) { return 1; }\n"
# In place of the program of ``ensurepip``, which takes twenty seconds under Wine: the bundled installer is unpacked and
# compiled once, copied from there, and makes its launchers itself.
QUICK = r"""import csv, os, pathlib, shutil, sys, sysconfig
kept, site = pathlib.Path(__file__).parent / "kept", pathlib.Path(sysconfig.get_path("purelib"))
if not (site / "pip").exists():
    shutil.copytree(kept, site, dirs_exist_ok=True)
    from pip._vendor.distlib.scripts import ScriptMaker
    maker = ScriptMaker(None, sysconfig.get_path("scripts"))
    maker.clobber, maker.variants = True, {""}
    version = "{0}.{1}".format(*sys.version_info)
    made = maker.make_multiple([name + " = pip._internal.cli.main:main" for name in ("pip", "pip3", "pip" + version)])
    (record,) = site.glob("pip-*.dist-info/RECORD")
    with record.open("a", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([os.path.relpath(path, site), "", ""] for path in made)
"""
# Added to ``subprocess``: Wine starts no process now and then where other programs are being started too, and gives an
# internal error for that; Windows does not.
AGAIN = r"""

import _winapi
_start = _winapi.CreateProcess
def _start_again(*words):
    for pause in range(10):
        try:
            return _start(*words)
        except OSError as error:
            if error.winerror != 1359:
                raise
            time.sleep(0.05 * pause)
    return _start(*words)
_winapi.CreateProcess = _start_again
"""
# Wine lacks what this module asks for when it is loaded.
_NOT_THERE = ("_wmi.pyd",)
BATCH = {
    "activate.bat": '@if defined _OLD_VIRTUAL_PATH set "PATH=%_OLD_VIRTUAL_PATH%"\r\n'
    '@if not defined _OLD_VIRTUAL_PATH set "_OLD_VIRTUAL_PATH=%PATH%"\r\n'
    '@set "VIRTUAL_ENV=__VENV_DIR__"\r\n@set "PATH=%VIRTUAL_ENV%\\__VENV_BIN_NAME__;%PATH%"\r\n',
    "deactivate.bat": '@if defined _OLD_VIRTUAL_PATH set "PATH=%_OLD_VIRTUAL_PATH%"\r\n'
    '@set "_OLD_VIRTUAL_PATH="\r\n@set "VIRTUAL_ENV="\r\n',
}


def place() -> Path:
    """The folder that the interpreter is kept in between runs."""
    named = os.environ.get("KALYX_WINDOWS")
    return Path(named) if named else Path.home() / ".cache" / "kalyx-windows"


def variables(folder: Path) -> dict[str, str]:
    """The variables of every call of a Windows program in ``folder``; none of this system's Python reaches into it."""
    kept = {
        name: value
        for name, value in os.environ.items()
        if not name.startswith(("PYTHON", "PIP_", "VIRTUAL_ENV", "KALYX_"))
    }
    return kept | {"WINEPREFIX": str(folder / "prefix"), "WINEARCH": "win64", "WINEDEBUG": "-all",
                   "WINEDLLOVERRIDES": "mscoree,mshtml=", "DISPLAY": ""}  # fmt: skip


def home(folder: Path) -> Path:
    """The home folder of the Windows user, as this system names it."""
    return next((folder / "prefix" / "drive_c" / "users").glob("[!P]*"))


def python(folder: Path, version: str) -> Path:
    """The interpreter of a version, as this system names it: where the installer for one user puts it."""
    return (
        home(folder) / "AppData" / "Local" / "Programs" / "Python" / f"Python{version.replace('.', '')}" / "python.exe"
    )


def windows_path(folder: Path, path: Path) -> str:
    """A path of this system as Windows names it."""
    drive = folder / "prefix" / "drive_c"
    inside = path.is_relative_to(drive)
    return ("C:\\" if inside else "Z:\\") + str(path.relative_to(drive if inside else "/")).replace("/", "\\")


def run(*words: object, cwd: Path | None = None, env: dict[str, str] | None = None) -> None:
    """A program whose output is shown only where it fails."""
    argv = [str(word) for word in words]
    pipe, null = subprocess.PIPE, subprocess.DEVNULL
    done = subprocess.run(argv, cwd=cwd, env=env, stdin=null, stdout=pipe, stderr=subprocess.STDOUT, check=False)
    if done.returncode:
        text = done.stdout.decode(errors="replace")[-2000:]
        raise SystemExit(f"{' '.join(argv[:4])} ... ended with {done.returncode}: {text}")


def start(folder: Path) -> None:
    """Start what all Windows programs share, detached: a program that starts it would hand it its own output."""
    everywhere = {
        "env": variables(folder),
        "stdin": subprocess.DEVNULL,
        "stdout": subprocess.DEVNULL,
        "stderr": subprocess.DEVNULL,
    }
    subprocess.run(["wineserver", "-p"], check=False, start_new_session=True, **everywhere)
    subprocess.run(["wine", "wineboot"], check=False, start_new_session=True, **everywhere)


def end(folder: Path) -> None:
    """End every Windows program of this folder."""
    subprocess.run(["wineserver", "-k"], check=False, env=variables(folder), stderr=subprocess.DEVNULL)


def _interpreter(version: str) -> Path:
    """This system's interpreter of a version."""
    for root in (Path.home() / ".pyenv" / "versions").glob(f"{version}.*"):
        if (root / "bin" / f"python{version}").exists():
            return root / "bin" / f"python{version}"
    found = shutil.which(f"python{version}")
    if found is None:
        raise SystemExit(f"no Python {version} is on this machine: its standard library is needed")
    return Path(found)


def _standard_library(version: str) -> Path:
    code = "import sysconfig; print(sysconfig.get_path('stdlib'))"
    argv = [str(_interpreter(version)), "-c", code]
    return Path(subprocess.run(argv, capture_output=True, text=True, check=True).stdout.strip())


def _pip(*words: object) -> None:
    run(sys.executable, "-m", "pip", *words[:1], "-q", "--disable-pip-version-check", "--no-input", *words[1:])


def _build(folder: Path, version: str, work: Path) -> None:
    """One installation."""
    tag = version.replace(".", "")
    new = python(folder, version).parent
    (new / "DLLs").mkdir(parents=True)
    shutil.copytree(_standard_library(version), new / "Lib", ignore=shutil.ignore_patterns(*_LEFT_OUT), symlinks=False)
    (new / "Lib" / "site-packages").mkdir()
    with (new / "Lib" / "subprocess.py").open("a") as file:
        file.write(AGAIN)
    _pip("download", "--no-deps", "--platform", "win_amd64", "--python-version", version, "--implementation", "cp",
         "--only-binary=:all:", "-d", work, FROZEN)  # fmt: skip
    with zipfile.ZipFile(next(work.glob(f"{FROZEN}-*-cp{tag}-*.whl"))) as wheel:
        for inside in wheel.namelist():
            name = inside.rpartition("/")[2]
            if not inside.startswith("deploy_libs/") or name in _NOT_THERE:
                continue
            beside = name.lower().startswith(("python", "vcruntime"))
            if name.endswith((".pyd", ".dll")):
                (new / name if beside else new / "DLLs" / name).write_bytes(wheel.read(inside))
    library = next(path.name for path in new.glob("*.dll") if path.name.lower() == f"python{tag}.dll")
    (work / "main.c").write_text(MAIN)
    (work / "main.def").write_text(f"LIBRARY {library}\nEXPORTS\nPy_Main\n")
    tool = COMPILER.removesuffix("gcc-win32")
    run(f"{tool}dlltool", "-d", "main.def", "-l", f"libpython{tag}.a", cwd=work)
    run(COMPILER, "-municode", "-O2", "-o", new / "python.exe", "main.c", "-L.", f"-lpython{tag}", cwd=work)
    shutil.copy(new / "python.exe", new / "pythonw.exe")
    # The stable interface: a library that hands each of its functions on.
    table = subprocess.run([f"{tool}objdump", "-p", new / library], capture_output=True, text=True, check=True).stdout
    rows = table.partition("Name Pointer] Table")[2].splitlines()
    names = {row.split()[-1] for row in rows if row.split() and "Py" in row.split()[-1]}
    stem = library.removesuffix(".dll")
    (work / "stable.def").write_text(
        "LIBRARY python3.dll\nEXPORTS\n" + "".join(f"{name} = {stem}.{name}\n" for name in sorted(names))
    )
    (work / "stable.c").write_text(STABLE)
    run(COMPILER, "-shared", "-o", new / "python3.dll", "stable.c", "stable.def", cwd=work)
    scripts = new / "Lib" / "venv" / "scripts" / "nt"
    scripts.mkdir(parents=True, exist_ok=True)
    for name in ("python.exe", "pythonw.exe"):
        run(COMPILER, "-municode", "-O2", "-o", scripts / name, LAUNCHER, cwd=work)
    for name, text in BATCH.items():
        (scripts / name).write_bytes(text.encode())
    bundled = new / "Lib" / "ensurepip"
    run(_interpreter(version), "-m", "pip", "install", "-q", "--no-deps", "--no-index", "--disable-pip-version-check",
        "--target", bundled / "kept", *(bundled / "_bundled").glob("*.whl"))  # fmt: skip
    shutil.rmtree(bundled / "kept" / "bin", ignore_errors=True)
    (bundled / "__main__.py").write_text(QUICK)


ENTRIES = r"""import sys, winreg
version, place = sys.argv[1:]
key = winreg.CreateKey(winreg.HKEY_CURRENT_USER, rf"Software\Python\PythonCore\{version}")
for name, value in (("DisplayName", f"Python {version} (64-bit)"), ("SysVersion", version),
                    ("Version", sys.version.split()[0]), ("SysArchitecture", "64bit")):
    winreg.SetValueEx(key, name, 0, winreg.REG_SZ, value)
install = winreg.CreateKey(key, "InstallPath")
winreg.SetValueEx(install, None, 0, winreg.REG_SZ, place + "\\")
winreg.SetValueEx(install, "ExecutablePath", 0, winreg.REG_SZ, place + r"\python.exe")
winreg.SetValueEx(winreg.CreateKey(key, "PythonPath"), None, 0, winreg.REG_SZ, rf"{place}\Lib;{place}\DLLs")
"""


def lock_of(folder: Path) -> Path:
    """The file that is locked while the interpreter is built or used."""
    return folder.with_name(folder.name + ".lock")


@contextmanager
def held(folder: Path) -> Iterator[TextIO]:
    """The interpreter for as long as the block lasts: waits while it is built, and it is not built again meanwhile.

    Wine's server keeps its socket in TMPDIR: programs of two servers know nothing of each other, and each takes the
    other's temporary folders for left over. So runs with the same TMPDIR share the interpreter, and others wait.
    """
    folder.parent.mkdir(parents=True, exist_ok=True)
    with lock_of(folder).open("a+") as lock:
        while not _taken(lock, os.environ.get("TMPDIR", "")):
            time.sleep(0.5)
        yield lock


def _taken(lock: TextIO, own: str) -> bool:
    """Whether the lock was taken for this TMPDIR, alone or with others of it."""

    def named() -> str:
        lock.seek(0)
        return lock.read()

    if is_last(lock):
        lock.truncate(0)
        lock.write(own)
        lock.flush()
    elif named() != own:
        return False
    fcntl.flock(lock, fcntl.LOCK_SH)
    if named() == own:
        return True
    fcntl.flock(lock, fcntl.LOCK_UN)  # in the moment before it was shared another one came
    return False


def is_last(lock: TextIO) -> bool:
    """Whether no other process holds it; then nobody can until the block of ``held`` ends."""
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def main(folder: Path) -> int:
    form = Path(__file__).read_bytes() + LAUNCHER.read_bytes()
    done, own_form = folder / "built", hashlib.sha256(form).hexdigest()
    with held(folder) as lock:
        for kind in (fcntl.LOCK_SH, fcntl.LOCK_EX):  # built when nobody uses it; another may have done so meanwhile
            fcntl.flock(lock, kind)
            if done.exists() and done.read_text() == own_form:
                return 0
        status = build(folder)
        if status == 0:
            done.write_text(own_form)
        return status


def build(folder: Path) -> int:
    """Build all of it again: what is there is half built, or by another form of this file."""
    if shutil.which("wine") is None or shutil.which(COMPILER) is None:
        print("needs: apt-get install wine wine64 gcc-mingw-w64-x86-64-win32")
        return 2
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    run("wine", "wineboot", "-i", env=variables(folder))
    start(folder)
    try:
        with tempfile.TemporaryDirectory() as name:
            work = Path(name)
            for version in VERSIONS:
                _build(folder, version, work)
                entries = work / "entries.py"
                entries.write_text(ENTRIES)
                own = windows_path(folder, python(folder, version))
                run(
                    "wine",
                    own,
                    "-X",
                    "utf8",
                    windows_path(folder, entries),
                    version,
                    own.rpartition("\\")[0],
                    env=variables(folder),
                )
        tools = folder / "prefix" / "drive_c" / "kalyx"
        own = windows_path(folder, python(folder, VERSIONS[0]))
        run("wine", own, "-X", "utf8", "-m", "venv", "--without-pip", "C:\\kalyx", env=variables(folder))
        site = tools / "Lib" / "site-packages"
        _pip("install", "--upgrade", "--target", site, "--platform", "win_amd64", "--python-version", VERSIONS[0],
             "--implementation", "cp", "--only-binary=:all:", *NEEDED)  # fmt: skip
    finally:
        end(folder)
    return 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]) if len(sys.argv) > 1 else place()))
