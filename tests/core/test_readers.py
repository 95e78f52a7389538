"""Readers of files that anyone may have written: never an exception, never unbounded."""

import json

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.reading import read_environment
from kalyx.core.environments.searchpath import search_path
from kalyx.core.environments.tracked import is_ignored, tracked_below
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.kernels.specs import parse_spec
from kalyx.core.model.records import Interpreter
from kalyx.core.packages import requirements
from kalyx.core.packages.editable import finder_mapping
from kalyx.core.packages.metadata import installed_in
from kalyx.core.seats.notebook import read_notebook
from kalyx.core.system.memory_reader import MemoryReader
from tests.made import HOME, Files

TEXT = st.one_of(st.binary(max_size=300), st.text(max_size=200).map(lambda text: text.encode("utf-8", "surrogatepass")))
LINES = st.lists(
    st.sampled_from(["home = /usr/bin", "home=", "include-system-site-packages = TRUE", "version = 3.x", "version_info = 3",
                     "=", "prompt = '(''", "prompt = \"\\ud800\"", "import os", "import __editable___x_finder; x()", "#", "",
                     "/usr/lib", "..", "\x00", "~", "Name: x", "Version:", " folded", "Requires-Dist: ((", "a" * 500]),
    max_size=12,
).map(lambda lines: "\n".join(lines).encode())  # fmt: skip
ANY = st.one_of(TEXT, LINES)
QUICK = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])


@QUICK
@given(ANY, ANY)
def test_environment_and_path(settings_file, path_file):
    files = Files()
    files[f"{HOME}/heath/pyvenv.cfg"] = settings_file
    files[f"{files.site('heath')}/x.pth"] = path_file
    machine = files.machine()
    view = read_environment(machine.reader, f"{HOME}/heath")
    catalogue.judge_environment(view, machine)
    if view.interpreter is not None:
        assert len(search_path(machine.reader, view.interpreter, Invocation(first="")).entries) < 50


@QUICK
@given(
    ANY,
    ANY,
    ANY,
    st.sampled_from(["x-1.0.dist-info", "-.dist-info", "~x-1.dist-info", "x.egg-info", "x-1-2-3.dist-info"]),
)
def test_distributions(metadata, record, extra, name):
    site = "/site"
    files = {f"{site}/{name}/{part}": content for part, content in
             [("METADATA", metadata), ("PKG-INFO", metadata), ("RECORD", record), ("INSTALLER", extra),
              ("top_level.txt", extra), ("requires.txt", extra), ("installed-files.txt", record)]}  # fmt: skip
    for installed in installed_in(MemoryReader("linux", files), site):
        assert isinstance(installed.name, str) and isinstance(installed.version, str)
        assert isinstance(installed.requires, list) and len(installed.modules) < 400
        assert installed.installer is None or installed.installer


@QUICK
@given(st.one_of(ANY, st.recursive(st.none() | st.booleans() | st.text(max_size=5), lambda inner: st.lists(inner, max_size=3)
       | st.dictionaries(st.sampled_from(["argv", "env", "metadata", "kernelspec", "name", "language_info", "x"]), inner, max_size=4),
       max_leaves=12).map(lambda value: json.dumps(value).encode())))  # fmt: skip
def test_json_files_and_scripts(content):
    parse_spec(content)
    reader = MemoryReader("linux", {"/a.ipynb": content, "/s": b"#!" + content, "/f.py": b"MAPPING = " + content})
    read_notebook(reader, "/a.ipynb")
    interpreter_of_script(reader, "/s")
    finder_mapping(reader, "/f.py")


@QUICK
@given(st.binary(max_size=200), ANY, st.sampled_from([2, 3, 4]))
def test_version_control_files(index, ignore, version):
    head = b"DIRC" + version.to_bytes(4, "big") + (1000).to_bytes(4, "big")
    files = {"/r/.git/index": head + index, "/r/.gitignore": ignore, "/r/env/x": b""}
    reader = MemoryReader("linux", files)
    assert tracked_below(reader, "/r", "/r/env") >= 0
    assert is_ignored(reader, "/r", "/r/env") in (True, False)


@pytest.mark.parametrize(
    "files, out",
    [({".gitignore": "a/b/env/\n"}, True), ({"a/.gitignore": "env\n"}, True), ({"a/b/.gitignore": "/env\n"}, True), ({"a/.gitignore": "/env\n"}, False), ({"a/b/env/.gitignore": "# mine\n*\n"}, True),
     ({".gitignore": "env\n", "a/b/.gitignore": "!env\n"}, False), ({".git/info/exclude": "b/\n"}, True), ({"../.gitignore": "*\n"}, False), ({}, False)],
)  # fmt: skip
def test_which_ignore_file_leaves_a_folder_out(files, out):
    reader = MemoryReader("linux", {"/home/r/.git/HEAD": "", "/home/r/a/b/env/x": b"", **{f"/home/r/{name}": text for name, text in files.items()}})
    assert is_ignored(reader, "/home/r", "/home/r/a/b/env") == out


def test_fields_go_on_over_lines_of_blanks():
    text = (
        "Name: hivescale\nLicense: a\n        \n        b\nVersion: 2.1\nRequires-Dist: nectarflow>=1\n\nVersion: 9\n"
    )
    (installed,) = installed_in(MemoryReader("linux", {"/site/hivescale-2.1.dist-info/METADATA": text}), "/site")
    assert (installed.version, installed.requires) == ("2.1", ["nectarflow>=1"])


NUMBER = st.sampled_from(["1", "1.0", "1.0.0", "2.10", "2.9", "0", "1.0rc1", "1.0.post1", "1!2", "1.*", "2024.1", "x"])
CLAUSE = st.builds(
    lambda sign, number: sign + number, st.sampled_from(["==", "!=", ">=", "<=", ">", "<", "~=", "===", " >= "]), NUMBER
)
MARKER = st.sampled_from(["", "; python_version >= '3.8'", "; python_version<'3'", ";sys_platform == 'win32'", "; extra == 'x'",
                          "; python_version > '3' and extra == \"y\"", "; extra == 'a' or os_name == 'posix'", "; os_name != 'nt'",
                          "; python_full_version >= '3.11.4'", "; platform_system=='Linux'", "; '3' < python_version"])  # fmt: skip
REQUIREMENT = st.builds(
    lambda name, extras, clauses, marker: name + extras + ",".join(clauses) + marker,
    st.sampled_from(["comb", "Comb.Box-2", "comb_", "a"]), st.sampled_from(["", "[x]", "[y, x]", "[]", " "]),
    st.lists(CLAUSE, max_size=3), MARKER,
)  # fmt: skip


@settings(max_examples=600, deadline=None)
@given(REQUIREMENT)
def test_the_quick_reading_of_requirements_is_the_standard_packages(line):
    """Whatever is read by hand says what the standard package says, of the line and of each version."""
    from packaging.requirements import InvalidRequirement, Requirement

    interpreter = Interpreter(
        executable="", real_executable="", version="3.11.7", implementation="cpython", prefix="", base_prefix=""
    )
    environment = requirements.marker_environment(interpreter, "linux")
    mine = requirements.plain_requirement(line, environment)
    assume(mine is not None)
    try:
        theirs = Requirement(line)
    except InvalidRequirement:
        assert mine == [], f"{line!r} was read though it is not a requirement"
        return
    applies = theirs.marker is None or theirs.marker.evaluate({**environment, "extra": ""})
    assert bool(mine) == applies
    for asked in mine:
        assert (asked.name, asked.specifier) == (theirs.name, str(theirs.specifier))
        assert (
            asked.line
            == theirs.name + (f"[{','.join(sorted(theirs.extras))}]" if theirs.extras else "") + asked.specifier
        )
        for version in ("1", "1.0.1", "2.9", "2.10.0", "0.9", "1.0rc1", "2024.1"):
            assert requirements.satisfies(version, asked.specifier) == theirs.specifier.contains(
                version, prereleases=True
            )
