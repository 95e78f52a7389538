"""The same rules on three systems, on machines that exist in memory only."""

import json
import os

import pytest

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.reading import read_environment
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.kernels.folders import Server, kernel_folders
from kalyx.core.kernels.specs import parse_spec, read_kernel
from kalyx.core.machine import Machine
from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell import read_shell
from kalyx.core.system import Unreadable
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.system.memory_reader import Link, MemoryReader, Pipe
from kalyx.core.text.quoting import line_for
from kalyx.core.text.visible import visible
from tests.made import HOME, Files

BINARY = b"MZ" + b"\0" * 8 + b"\x003.12.1\x00"
WINDOWS = {
    "C:\\Python312\\python.exe": BINARY,
    "C:\\Python312\\python312.dll": BINARY,
    "C:\\Python312\\Lib\\os.py": b"",
    "C:\\Python312\\Scripts\\pip.exe": b"MZ....#!C:\\Python312\\python.exe\r\nPK\x03\x04",
    "D:\\moor\\orchard\\pyvenv.cfg": "home = C:\\Python312\nversion = 3.12.1\ninclude-system-site-packages = false\n",
    "D:\\moor\\orchard\\Scripts\\python.exe": b"MZ a launcher",
    "D:\\moor\\orchard\\Scripts\\pip.exe": b'MZ#!"D:\\moor\\orchard\\Scripts\\python.exe"\nPK',
    "D:\\moor\\orchard\\Lib\\site-packages\\hivescale\\__init__.py": b"",
}
MACOS = {
    "/Library/Frameworks/Python.framework/Versions/3.11/bin/python3.11": b"\xcf\xfa\xed\xfe" + b"\x003.11.4\x00",
    "/Library/Frameworks/Python.framework/Versions/3.11/lib/python3.11/os.py": b"",
    "/usr/local/bin/python3": Link("/Library/Frameworks/Python.framework/Versions/3.11/bin/python3.11"),
    "/Users/keeper/orchard/pyvenv.cfg": "home = /usr/local/bin\nversion = 3.11.4\n",
    "/Users/keeper/orchard/bin/python": Link("/usr/local/bin/python3"),
    "/Users/keeper/orchard/lib/python3.11/site-packages/x.py": b"",
}


def windows(folder="D:\\moor", **variables):
    base = {"Path": "D:\\moor\\orchard\\Scripts;C:\\Python312", "PATHEXT": ".COM;.EXE;.BAT", "APPDATA": "C:\\Data"}
    return MemoryReader("windows", WINDOWS, variables={**base, **variables}, folder=folder)


def test_windows_environment_is_read_by_its_own_rules():
    environment = read_environment(windows(), "D:\\moor\\orchard").environment
    assert (environment.version, environment.kind, environment.condition) == ("3.12.1", "virtual", "sound")
    assert environment.base_prefix == "C:\\Python312"
    assert environment.site_packages == ["D:\\moor\\orchard\\Lib\\site-packages"]


@pytest.mark.parametrize(
    "shell, folder, expected",
    [
        ("powershell", "C:\\Python312", "D:\\moor\\orchard\\Scripts\\python.exe"),
        ("cmd", "C:\\Python312", "C:\\Python312\\python.exe"),  # the current folder comes first there
        ("bash", "C:\\Python312", "D:\\moor\\orchard\\Scripts\\python.exe"),
    ],
)
def test_windows_shell_finds_python(shell, folder, expected):
    seat = read_shell(windows(folder), ShellFound(shell, None, "test"))
    assert seat.parts[0].path.lower() == expected.lower()


def test_windows_launcher_and_case():
    reader = windows()
    line = interpreter_of_script(reader, "D:\\moor\\orchard\\Scripts\\pip.exe")
    assert line.path == "D:\\moor\\orchard\\Scripts\\python.exe"
    assert reader.is_file("d:\\MOOR\\Orchard\\scripts\\PYTHON.EXE")
    assert reader.variable("PATH") == reader.variable("Path")
    assert reader.inside("d:\\Moor\\orchard\\x", "D:\\moor\\orchard") and not reader.inside("D:\\moors", "D:\\moor")


def test_macos_framework_and_links():
    reader = MemoryReader("macos", MACOS, variables={"PATH": "/usr/local/bin"})
    interpreter = read_interpreter(reader, "/Users/keeper/orchard/bin/python")
    assert interpreter.version == "3.11.4"
    assert interpreter.prefix == "/Users/keeper/orchard"
    assert interpreter.base_prefix.endswith("Versions/3.11")
    assert interpreter.links[0] == "/Users/keeper/orchard/bin/python" and len(interpreter.links) == 3


KERNEL_FOLDERS = [
    ("linux", {"HOME": "/home/keeper"}, "/home/keeper/.local/share/jupyter/kernels"),
    ("linux", {"HOME": "/home/keeper", "XDG_DATA_HOME": "/data"}, "/data/jupyter/kernels"),
    ("linux", {"JUPYTER_DATA_DIR": "/moor"}, "/moor/kernels"),
    ("linux", {"JUPYTER_DATA_DIR": "", "HOME": "/h"}, "/h/.local/share/jupyter/kernels"),
    ("linux", {"JUPYTER_PATH": "/a:/b/", "HOME": "/h"}, "/a/kernels"),
    ("macos", {"HOME": "/Users/keeper"}, "/Users/keeper/Library/Jupyter/kernels"),
    ("windows", {"APPDATA": "C:\\Data"}, "C:\\Data\\jupyter\\kernels"),
    ("windows", {"USERPROFILE": "C:\\Users\\keeper"}, "C:\\Users\\keeper\\.jupyter\\data\\kernels"),
]


@pytest.mark.parametrize("system, variables, first", KERNEL_FOLDERS)
def test_first_kernel_folder(system, variables, first):
    found = kernel_folders(MemoryReader(system, {}), Server(None, variables))
    assert found[0].path == first
    if "JUPYTER_PATH" in variables:
        assert [folder.path for folder in found[:3]] == ["/a/kernels", "/b/kernels", "/h/.local/share/jupyter/kernels"]


BAD_SPECS = [
    (b"", "not JSON"),
    (b"\xff\xfe", "not UTF-8"),
    (b"[]", "no object"),
    (b"{}", "lacks argv"),
    (b'{"argv": []}', "not a list of words"),
    (b'{"argv": 3}', "not a list of words"),
    (b'\xef\xbb\xbf{"argv": ["python"]}', "byte-order mark"),
    (b'{"argv": ["python"], "interrupt_mode": "never"}', "interrupt_mode"),
    (b'{"argv": ["python"], "resource_dir": "/x"}', "resource_dir"),
    (b'{"argv": ["python"], "metadata": {"kernel_provisioner": 3}}', "kernel_provisioner"),
    (b'{"argv": [1]}', "not a list of words"),
    (b'{"argv": ["a\\u0000b"]}', "not a list of words"),
    (b'{"argv": ["python"], "env": {"A": 1}}', "env"),
    (b'{"argv": ["python"], "display_name": 3}', "display_name"),
    (b"[" * 100_000, "nested too deeply"),
]


@pytest.mark.parametrize("raw, message", BAD_SPECS)
def test_bad_kernel_file_is_said(raw, message):
    problem = parse_spec(raw).problem
    assert problem is not None and (message in problem or "not JSON" in problem)


def test_kernel_words_by_the_servers_rules():
    spec = {"argv": ["python3", "-m", "x", "{resource_dir}", "{prefix}", "{other}"], "display_name": "x",
            "env": {"PATH": "/moor/bin:${PATH}"}}  # fmt: skip
    files = {**MACOS, "/k/moor/kernel.json": json.dumps(spec), "/moor/bin/hivepy": b"\xcf\xfa\xed\xfe"}
    reader = MemoryReader("macos", files, variables={"PATH": "/usr/bin"})
    interpreter = read_interpreter(reader, "/Users/keeper/orchard/bin/python")
    kernel = read_kernel(reader, "/k/moor", Server(interpreter, reader.variables))
    assert kernel.command == [interpreter.executable, "-m", "x", "/k/moor", "/Users/keeper/orchard", "{other}"]
    spec["argv"][0] = "hivepy"
    reader = MemoryReader("macos", {**files, "/k/moor/kernel.json": json.dumps(spec)}, variables={"PATH": "/usr/bin"})
    kernel = read_kernel(reader, "/k/moor", Server(interpreter, reader.variables))
    assert kernel.command[0] == "/moor/bin/hivepy", "looked up on the child's own PATH"


REFUSED = [
    ({"/bin/python": b"hello\n"}, "not a program of any system"),
    ({"/bin/python": b""}, "an empty file"),
    ({"/bin/python": b"#!/usr/bin/perl\n"}, "a script"),
    ({"/bin/python": Link("/gone/python3.11")}, "a link to a path that does not exist"),
    ({"/bin/python": Link("/bin/python")}, "a link that leads back to itself"),
    ({"/bin/python/x": b""}, "a folder"),
    ({"/bin/python": None}, "permission denied"),
    ({"/bin/python": Pipe()}, "not a regular file"),
    ({"/bin/other": b""}, "there is nothing at this path"),
    ({"/bin/python": b"\x7fELF"}, "belongs to no Python installation"),
]


@pytest.mark.parametrize("files, message", REFUSED)
def test_what_is_no_interpreter_is_said(files, message):
    with pytest.raises(NotAnInterpreter) as refusal:
        read_interpreter(MemoryReader("linux", files), "/bin/python")
    assert message in refusal.value.reason


def test_manager_launchers_are_followed_by_reading():
    files = {
        "/m/shims/python": b"#!/usr/bin/env bash\nexec manager exec python\n",
        "/m/version": "3.9.18\n",
        "/m/versions/3.9.18/bin/python": Link("python3.9"),
        "/m/versions/3.9.18/bin/python3.9": b"\x7fELF\x003.9.18\x00",
        "/m/versions/3.9.18/lib/python3.9/os.py": b"",
        "/m/versions/3.12.1/bin/python": b"\x7fELF\x003.12.1\x00",
        "/m/versions/3.12.1/lib/python3.12/os.py": b"",
        "/moor/spring/.python-version": "3.12\n",
        "/moor/spring/deep/x": b"",
    }
    asked = {"/moor": "3.9.18", "/moor/spring": "3.12.1", "/moor/spring/deep": "3.12.1"}
    for folder, version in asked.items():
        reader = MemoryReader("linux", files, folder=folder)
        assert read_interpreter(reader, "/m/shims/python").version == version
    reader = MemoryReader("linux", files, folder="/moor", variables={"PYENV_VERSION": "3.1"})
    with pytest.raises(NotAnInterpreter) as refusal:
        read_interpreter(reader, "/m/shims/python")
    assert "PYENV_VERSION" in refusal.value.reason


def test_lines_are_quoted_for_each_shell():
    argv = ["/home/the keeper/bin/python", "-c", "print('a')"]
    assert line_for(argv, "bash").startswith("'/home/the keeper/bin/python' -c ")
    assert line_for(argv, "powershell") == "& '/home/the keeper/bin/python' -c 'print(''a'')'"
    assert line_for(["C:\\a b\\python.exe", "x"], "cmd") == '"C:\\a b\\python.exe" x'


def test_outside_text_cannot_reach_the_terminal():
    assert visible("a\x1b[31mb\n\udcffc\u202e") == "a\\x1b[31mb\\n\\xffc\\u202e"


def test_unreadable_places_are_named():
    reader = MemoryReader("linux", {"/a/secret": None, "/a/pipe": Pipe(), "/a/b": b""})
    for path, reason in [("/a/secret", "permission denied"), ("/a/pipe", "not a regular file"), ("/a", "not a regular file")]:
        with pytest.raises(Unreadable, match=reason):
            reader.read(path)
    assert Machine(reader).environments.known == []


REGISTRY = {
    "HKEY_CURRENT_USER\\Software\\Python\\PythonCore\\3.12\\InstallPath": {"": "C:\\Python312\\"},
    "HKEY_LOCAL_MACHINE\\Software\\Python\\Larkmoor\\9\\InstallPath": {"ExecutablePath": "D:\\Gone\\python.exe"},
    "HKEY_LOCAL_MACHINE\\Software\\Python\\PyLauncher": {"": "x"},
}


def test_windows_survey_by_the_registry_and_without_the_store():
    alias = "C:\\Users\\keeper\\AppData\\Local\\Microsoft\\WindowsApps\\python.exe"
    reader = MemoryReader("windows", {**WINDOWS, alias: b""}, registry=REGISTRY, folder="D:\\moor",
                        variables={"Path": alias.rpartition("\\")[0]})  # fmt: skip
    machine = Machine(reader)
    assert [(interpreter.version, interpreter.prefix) for interpreter in machine.interpreters] == [("3.12.1", "C:\\Python312")]
    assert [environment.name for environment in machine.environments.known] == ["orchard"]
    with pytest.raises(NotAnInterpreter, match="alias"):
        read_interpreter(reader, alias)


def test_headers_tell_the_processor():
    elf = b"\x7fELF\x02\x01" + b"\0" * 12 + b"\xb7\0" + b"\0" * 64 + b"\x003.11.4\x00"
    files = {"/opt/p/bin/python3.11": elf, "/opt/p/lib/python3.11/os.py": b"", "/opt/p/include/python3.11d/x.h": b""}
    found = read_interpreter(MemoryReader("linux", files), "/opt/p/bin/python3.11")
    assert (found.architecture, found.abi_flags, found.version) == ("aarch64", "d", "3.11.4")


def test_the_layout_before_settings_files():
    files = {
        "/usr/bin/python2.7": b"\x7fELF\x002.7.18\x00", "/usr/lib/python2.7/os.py": b"",
        "/moor/old/bin/python2.7": b"\x7fELF\x002.7.18\x00", "/moor/old/bin/python": Link("python2.7"),
        "/moor/old/bin/activate_this.py": b"", "/moor/old/bin/activate": b"VIRTUAL_ENV=/moor/old\n",
        "/moor/old/lib/python2.7/os.py": Link("/usr/lib/python2.7/os.py"),
        "/moor/old/lib/python2.7/orig-prefix.txt": b"/usr\n", "/moor/old/lib/python2.7/site-packages/x.py": b"",
    }  # fmt: skip
    machine = Machine(MemoryReader("linux", files, folder="/moor", variables={"PATH": "/usr/bin"}))
    (environment,) = [item for item in machine.environments.known if item.kind == "virtual"]
    assert (environment.prefix, environment.version, environment.base_prefix) == ("/moor/old", "2.7.18", "/usr")


SETTINGS = [
    (".vscode/settings.json", '{ // mine\n "python.defaultInterpreterPath": "/away/hive/bin/python", }'),
    (".vscode/settings.json", '{"x": "${workspaceFolder}/../../away/hive/bin/python"}'),
    ("pyrightconfig.json", '{"venvPath": "/away", "venv": "/away/hive"}'),
    ("moor.code-workspace", '{"settings": {"x": "/away/hive/bin/python"}}'),
]


@pytest.mark.parametrize("name, text", SETTINGS)
def test_environments_that_settings_name(name, text):
    files = {
        "/moor/spring/" + name: text,
        "/away/hive/pyvenv.cfg": "home = /usr/bin\n",
        "/away/hive/bin/python": Link("/gone"),
    }
    machine = Machine(MemoryReader("linux", files, folder="/moor/spring"))
    assert [environment.prefix for environment in machine.environments.known] == ["/away/hive"]


def test_a_dead_mount_is_named_and_left(monkeypatch, tmp_path):
    from kalyx.core.system import live_reader

    table = tmp_path / "mounts"
    table.write_text("")
    monkeypatch.setattr(live_reader, "remote_mounts", lambda: [str(tmp_path)])
    monkeypatch.setattr(live_reader, "answers_in_time", lambda folder: False)
    reader = live_reader.LiveReader()
    with pytest.raises(Unreadable, match="no answer within"):
        reader.listing(str(tmp_path / "below"))
    assert "no answer within" in reader.kind(str(table)).reason == reader.status(str(table)).reason
    assert reader.kind("/proc") == "folder"


def test_a_free_threaded_build():
    files = {
        "/opt/t/bin/python3.13t": b"\x7fELF\x003.13.0\x00", "/opt/t/lib/python3.13t/os.py": b"",
        "/opt/t/lib/python3.13t/site-packages/x.py": b"",
    }  # fmt: skip
    reader = MemoryReader("linux", files, variables={"PATH": "/opt/t/bin"})
    found = read_interpreter(reader, "/opt/t/bin/python3.13t")
    assert (found.version, found.abi_flags, found.prefix) == ("3.13.0", "t", "/opt/t")
    entries = [entry.entry for entry in search_path(reader, found, Invocation()).entries]
    assert entries == ["/opt/t/lib/python313t.zip", "/opt/t/lib/python3.13t", "/opt/t/lib/python3.13t/lib-dynload",
                       "/opt/t/lib/python3.13t/site-packages"]  # fmt: skip


def test_real_paths_are_the_systems_own(tmp_path):
    """Links below linked folders, ``..`` behind links, a ``~`` that is a name, loops: live and in memory, as the system says."""
    (tmp_path / "a" / "b").mkdir(parents=True)
    (tmp_path / "a" / "~").mkdir()
    (tmp_path / "a" / "b" / "file").write_text("x")
    links = {"to-b": "a/b", "a/up": "../to-b", "a/b/side": "../~", "a/home": "~", "away": str(tmp_path / "a" / "b"), "loop": "loop",
             "a/b/out": "../../away/../b/file", "dangling": "nowhere/at/all", "a/b/back": ".."}  # fmt: skip
    files: dict[str, object] = {str(tmp_path / "a" / "b" / "file"): "x", str(tmp_path / "a" / "~" / ".keep"): ""}
    (tmp_path / "a" / "~" / ".keep").touch()
    for name, target in links.items():
        os.symlink(target, tmp_path / name)
        files[str(tmp_path / name)] = Link(target)
    asked = ["to-b/file", "to-b/../b/file", "a/up/file", "a/up/../b", "away/side", "to-b/side/../b/file", "a/home", "a/b/out", "to-b/out",
             "dangling", "dangling/..", "a/b/back/b/back", "to-b/back/~", "./a/./b", "loop/x"]  # fmt: skip
    for reader in (LiveReader(), MemoryReader("linux", files)):
        for word in asked:
            path = f"{tmp_path}/{word}"
            if not word.startswith("loop"):
                assert reader.real(path) == os.path.realpath(path), (type(reader).__name__, word)
            if isinstance(reader, LiveReader):
                assert (reader.status(path) is not None) == os.path.exists(path)


WRAPPERS = [
    (f'. {HOME}/heath/bin/activate\nexec python -m ipykernel_launcher "$@"\n', "heath"),
    (f"source {HOME}/heath/bin/activate\nA=1 python -m x\n", "heath"),
    (f'exec env X=1 {HOME}/orchard/bin/python "$@"\n', "orchard"),
    ('module load python; exec run-it "$@"\n', None),
    ('exec python9 "$@"\n', None),
    ("exec '", None),
]


@pytest.mark.parametrize("text, name", WRAPPERS)
def test_a_kernel_behind_a_script_is_followed_or_unknown(text, name):
    """What a shell's script goes on to is read as far as it can be; never is it proven gone."""
    files = Files()
    files["/bin/bash"] = b"\x7fELF" + b"\0" * 30
    files[f"{HOME}/w/start"] = "#!/bin/bash\n" + text
    files[f"{HOME}/heath/bin/activate"] = f'VIRTUAL_ENV="{HOME}/heath"\nexport VIRTUAL_ENV\nPATH="$VIRTUAL_ENV/bin:$PATH"\nexport PATH\n'
    files.kernel("w", f"{HOME}/w/start")
    machine = files.machine()
    (kernel,) = [catalogue.judge_kernel(kernel, machine) for kernel in machine.kernels]
    if name is None:
        assert kernel.undecided and kernel.interpreter is None and "interpreter-gone" not in kernel.conditions
    else:
        assert kernel.interpreter.executable == f"{HOME}/{name}/bin/python"
