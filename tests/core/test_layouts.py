"""Installations laid out as their makers lay them out, in memory: what they are, their path, their compiled endings."""

import pytest

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.kernel_path import path_changes
from kalyx.core.system.memory_reader import MemoryReader
from tests.made import BINARY
from tests.made import WINDOWS as PROGRAM


def program(machine: int) -> bytes:
    """A Windows program for a processor (PE format, "Machine Types")."""
    return PROGRAM.replace((0x8664).to_bytes(2, "little"), machine.to_bytes(2, "little"), 1)


def windows(files: dict, folder: str = "D:\\moor", **variables: str) -> MemoryReader:
    return MemoryReader("windows", files, variables=variables, home="C:\\Users\\keeper", folder=folder)


# The library of the build, the processor of its program, and the endings that the build's own import system names.
WINDOWS_BUILDS = [
    ("python311.dll", 0x8664, [".cp311-win_amd64.pyd", ".pyd"]),
    ("python311.dll", 0x14C, [".cp311-win32.pyd", ".pyd"]),
    ("python312.dll", 0xAA64, [".cp312-win_arm64.pyd", ".pyd"]),
    ("python313t.dll", 0x8664, [".cp313t-win_amd64.pyd", ".pyd"]),
    ("python313t.dll", 0xAA64, [".cp313t-win_arm64.pyd", ".pyd"]),
    ("python27.dll", 0x8664, [".pyd"]),
]


@pytest.mark.parametrize("library, machine, expected", WINDOWS_BUILDS)
def test_endings_of_windows_builds(library, machine, expected):
    files = {"C:\\P\\python.exe": program(machine), f"C:\\P\\{library}": b"", "C:\\P\\Lib\\os.py": b""}
    assert read_interpreter(windows(files), "C:\\P\\python.exe").suffixes == expected


def test_a_distribution_whose_path_is_a_file():
    """Its library lies in an archive; the file is its whole path, and variables and user packages count for nothing."""
    files = {
        "C:\\tool\\python.exe": program(0x8664),
        "C:\\tool\\python311.dll": b"",
        "C:\\tool\\python311.zip": b"PK",
        "C:\\tool\\python311._pth": "python311.zip\r\n.\r\n# a note\r\n..\\shared\r\n#import site\r\n",
        "C:\\tool\\_ssl.pyd": b"",
        "C:\\shared\\hivescale.py": b"",
        "C:\\tool\\Lib\\site-packages\\broad.py": b"",
    }
    reader = windows(files, PYTHONPATH="C:\\other", APPDATA="C:\\Data")
    python = read_interpreter(reader, "C:\\tool\\python.exe")
    assert (python.version, python.library) == ("3.11", "C:\\tool\\python311.zip")
    search = search_path(reader, python, Invocation(first="C:\\moor", variables={"PYTHONPATH": "C:\\other"}))
    assert [(entry.entry, entry.origin.rpartition(", ")[2]) for entry in search.entries] == [
        ("C:\\tool\\python311.zip", "line 1"),
        ("C:\\tool", "line 2"),
        ("C:\\shared", "line 4"),
    ]
    files["C:\\tool\\python311._pth"] = "python311.zip\n.\nimport site\n"
    reader = windows(files)
    search = search_path(reader, read_interpreter(reader, "C:\\tool\\python.exe"), Invocation())
    assert [entry.entry for entry in search.entries] == ["C:\\tool\\python311.zip", "C:\\tool", "C:\\tool\\Lib\\site-packages"]
    # One named after the library comes before one named after the executable.
    files["C:\\tool\\python._pth"] = "python311.zip\n"
    reader = windows(files)
    search = search_path(reader, read_interpreter(reader, "C:\\tool\\python.exe"), Invocation())
    assert len(search.entries) == 3
    # The library may lie elsewhere, where only such a file says so.
    del files["C:\\tool\\python311.zip"]
    files |= {"C:\\lib\\os.py": b"", "C:\\tool\\python311._pth": "# a note\n..\\lib # the library\n"}
    assert read_interpreter(windows(files), "C:\\tool\\python.exe").library == "C:\\lib"
    files["C:\\tool\\python311.zip"] = b"PK"
    del files["C:\\tool\\python311._pth"]
    reader = windows(files)
    search = search_path(reader, read_interpreter(reader, "C:\\tool\\python.exe"), Invocation())
    assert [entry.entry for entry in search.entries] == ["C:\\tool\\python311.zip"]


@pytest.mark.parametrize("minor, launcher, shell, package, module, expected", [
    ("3.11", "if sys.path[0] == '' or sys.path[0] == cwd()", "'site-packages'", "", "ipykernel_launcher", ["LIB", "", "SITE"]),
    ("3.11", "if sys.path[0] == ''", "'site-packages'", "", "ipykernel_launcher", ["/moor", "LIB", "", "SITE"]),
    ("3.11", "if sys.path[0] == '' or sys.path[0] == cwd()", "'site-packages'", "", "ipykernel", ["/moor", "LIB", "", "SITE"]),
    ("3.6", "if sys.path[0] == ''", "'site-packages'", "", "ipykernel_launcher", ["LIB", "", "SITE"]),
    ("3.6", "if sys.path[0] == ''", "'site-packages'", "", "ipykernel", ["", "LIB", "SITE"]),
    ("3.11", "if sys.path[0] == ''", "insert(0, '')", '"extensions"', "ipykernel_launcher", ["", "LIB", "SITE", "EXTENSIONS", "/home/k/.ipython"]),
    ("3.11", "if sys.path[0] == ''", None, "", "ipykernel_launcher", ["", "LIB", "SITE"]),
    ("3.11", "", "'site-packages'", "", "another_kernel", ["", "LIB", "SITE"]),
    ("3.11", "cwd()", "'site-packages' safe_path", "", "-P ipykernel_launcher", ["LIB", "SITE"]),
    ("3.11", "cwd()", "'site-packages'", "", "-P ipykernel_launcher", ["LIB", "", "SITE"]),
])  # fmt: skip
def test_where_a_kernel_package_puts_the_folder(minor, launcher, shell, package, module, expected):
    """By the package's own source: older launchers leave the folder first, newer shells put it behind the library."""
    site = f"/opt/p/lib/python{minor}/site-packages"
    files = {f"/opt/p/bin/python{minor}": BINARY, f"/opt/p/lib/python{minor}/os.py": b"", f"{site}/ipykernel_launcher.py": launcher.encode(),
             f"{site}/IPython/__init__.py": package.encode(), f"{site}/IPython/core/__init__.py": b""}  # fmt: skip
    if shell is not None:
        files[f"{site}/IPython/core/shellapp.py"] = shell.encode()
    reader = MemoryReader("linux", files, variables={"HOME": "/home/k"}, folder="/moor", home="/home/k")
    python = read_interpreter(reader, f"/opt/p/bin/python{minor}")
    invocation = Invocation.of_command([*module.split()[:-1], "-m", module.split()[-1], "-f", "x"], reader, python, reader.variables)
    invocation.first, invocation.changes = path_changes(reader, python, invocation, "/moor")
    short = {site: "SITE", f"/opt/p/lib/python{minor}": "LIB", f"{site}/IPython/extensions": "EXTENSIONS"}
    entries = [short.get(entry.entry, entry.entry) for entry in search_path(reader, python, invocation).entries]
    assert [entry for entry in entries if not entry.endswith((".zip", "lib-dynload"))] == expected
