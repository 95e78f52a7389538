"""Installations laid out as their makers lay them out, in memory: what they are, their path, their compiled endings."""

import pytest

from kalyx.core.diagnosis.fixes import install
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.reading import read_environment, view_of
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.resolver import Resolver
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.kernel_path import path_changes
from kalyx.core.machine import Machine
from kalyx.core.system.memory_reader import Link, MemoryReader
from tests.made import BINARY, HOME
from tests.made import WINDOWS as PROGRAM


def program(machine: int) -> bytes:
    """A Windows program for a processor (PE format, "Machine Types")."""
    return PROGRAM.replace((0x8664).to_bytes(2, "little"), machine.to_bytes(2, "little"), 1)


def windows(files: dict, folder: str = "D:\\moor", **variables: str) -> MemoryReader:
    return MemoryReader("windows", files, variables=variables, home="C:\\Users\\keeper", folder=folder)


def with_lib64() -> MemoryReader:
    site = "import os\nif 'RPM_BUILD_ROOT' not in os.environ:\n    PREFIXES.insert(0, '/usr/local')\n"
    return MemoryReader("linux", {
        "/usr/bin/python3.11": BINARY,
        "/usr/bin/python3": Link("python3.11"),
        "/usr/lib64/python3.11/os.py": b"",
        "/usr/lib64/python3.11/site.py": site,
        "/usr/lib64/python3.11/statistics.py": b"",
        "/usr/lib64/python3.11/EXTERNALLY-MANAGED": "[externally-managed]\nError=use the system's own\n",
        "/usr/lib64/python3.11/lib-dynload/_csv.cpython-311-x86_64-linux-gnu.so": b"\x7fELF",
        "/usr/lib64/python3.11/site-packages/pip/__init__.py": b"",
        "/usr/lib/python3.11/site-packages/hivescale.py": b"",
        "/usr/local/lib/python3.11/site-packages/broad.py": b"",
        f"{HOME}/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = false\n",
        f"{HOME}/heath/bin/python": Link("/usr/bin/python3.11"),
        f"{HOME}/heath/lib64": Link("lib"),
        f"{HOME}/heath/lib/python3.11/site-packages/nectarflow.py": b"",
    }, variables={"PATH": "/usr/bin"}, home=HOME, folder=HOME)  # fmt: skip


def test_a_library_in_lib64():
    reader = with_lib64()
    python = read_interpreter(reader, "/usr/bin/python3")
    assert (python.library, python.prefix) == ("/usr/lib64/python3.11", "/usr")
    assert python.suffixes == [".cpython-311-x86_64-linux-gnu.so", ".abi3.so", ".so"]
    search = search_path(reader, python, Invocation())
    assert [entry.entry for entry in search.entries if entry.exists] == [
        "/usr/lib64/python3.11",
        "/usr/lib64/python3.11/lib-dynload",
        "/usr/local/lib/python3.11/site-packages",
        "/usr/lib64/python3.11/site-packages",
        "/usr/lib/python3.11/site-packages",
    ]
    resolver = Resolver(reader, python, search, HOME)
    for module, kind in (("statistics", "module"), ("_csv", "extension"), ("hivescale", "module"), ("broad", "module")):
        place = resolver.resolve(module).place
        assert place is not None and place.kind == kind, module
    # What the system keeps is not installed into, wherever its mark lies.
    steps = install(Machine(reader), python, "hivescale").steps
    assert all(step.command is None or "pip" not in step.command for step in steps[:1]), steps


def test_an_environment_on_a_library_in_lib64():
    reader = with_lib64()
    environment = read_environment(reader, f"{HOME}/heath").environment
    assert environment.site_packages == [f"{HOME}/heath/{name}/python3.11/site-packages" for name in ("lib64", "lib")]
    search = search_path(reader, read_interpreter(reader, f"{HOME}/heath/bin/python"), Invocation())
    assert "/usr/lib64/python3.11" in [entry.entry for entry in search.entries]
    assert not any(entry.entry.startswith("/usr/local") for entry in search.entries)


@pytest.mark.parametrize("settings", [True, False])
def test_an_environment_on_a_base_whose_own_folders_are_named_otherwise(settings):
    """It has the usual folder, also where its settings file is lost and Python takes it for the base."""
    files = {
        "/usr/bin/python3.11": BINARY, "/usr/lib/python3.11/os.py": b"", "/usr/lib/python3.11/site.py": "# /usr/lib/python3/dist-packages\n",
        "/usr/lib/python3/dist-packages/hive.py": b"", f"{HOME}/heath/bin/python": Link("/usr/bin/python3.11"),
        f"{HOME}/heath/bin/activate": "VIRTUAL_ENV=", f"{HOME}/heath/lib/python3.11/site-packages/clover.py": b"",
    }  # fmt: skip
    if settings:
        files[f"{HOME}/heath/pyvenv.cfg"] = "home = /usr/bin\n"
    reader = MemoryReader("linux", files, home=HOME, folder=HOME)
    assert read_environment(reader, f"{HOME}/heath").environment.site_packages == [f"{HOME}/heath/lib/python3.11/site-packages"]
    base = read_interpreter(reader, "/usr/bin/python3.11")
    assert view_of(reader, base).environment.site_packages == ["/usr/lib/python3/dist-packages"]


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


@pytest.mark.parametrize(
    "system, tag, parts, expected",
    [
        ("linux", "3.13t", True, [".cpython-313t-x86_64-linux-gnu.so", ".so"]),
        ("linux", "3.13", True, [".cpython-313-x86_64-linux-gnu.so", ".abi3.so", ".so"]),
        ("macos", "3.13t", False, [".cpython-313t-darwin.so", ".so"]),
        ("macos", "3.13", False, [".cpython-313-darwin.so", ".abi3.so", ".so"]),
        ("linux", "3.14", True, [".cpython-314-x86_64-linux-gnu.so", ".abi3.so", ".abi3-x86_64-linux-gnu.so", ".so"]),
        ("linux", "3.15", True, [".cpython-315-x86_64-linux-gnu.so", ".abi3-x86_64-linux-gnu.so", ".abi3.so", ".abi3t-x86_64-linux-gnu.so", ".abi3t.so", ".so"]),
        ("linux", "3.15t", True, [".cpython-315t-x86_64-linux-gnu.so", ".abi3t-x86_64-linux-gnu.so", ".abi3t.so", ".so"]),
    ],
)
def test_endings_of_builds_with_and_without_the_lock(system, tag, parts, expected):
    start = b"\x7fELF" if system == "linux" else b"\xcf\xfa\xed\xfe"
    version = f"{tag.rstrip('t')}.0".encode()
    files = {f"/opt/p/bin/python{tag}": start + b"\0" + version + b"\0", f"/opt/p/lib/python{tag}/os.py": b""}
    if parts:
        files[f"/opt/p/lib/python{tag}/lib-dynload/_csv{expected[0]}"] = b""
    reader = MemoryReader(system, files, variables={}, home="/h", folder="/h")
    python = read_interpreter(reader, f"/opt/p/bin/python{tag}")
    assert python.suffixes == expected and python.tag == tag
    sites = [entry.entry for entry in search_path(reader, python, Invocation()).entries]
    assert f"/opt/p/lib/python{tag}" in sites


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
    way = Invocation.of_command([*module.split()[:-1], "-m", module.split()[-1], "-f", "x"], reader, python, reader.variables)
    way.first, way.changes = path_changes(reader, python, way, "/moor")
    short = {site: "SITE", f"/opt/p/lib/python{minor}": "LIB", f"{site}/IPython/extensions": "EXTENSIONS"}
    entries = [short.get(entry.entry, entry.entry) for entry in search_path(reader, python, way).entries]
    assert [entry for entry in entries if not entry.endswith((".zip", "lib-dynload"))] == expected
