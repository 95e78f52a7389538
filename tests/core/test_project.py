"""What a project asks for, read from its own files, and whether a seat meets it."""

import pytest

from kalyx.core.actions.requested import wants
from kalyx.core.invocation import search_of
from kalyx.core.model.records import KalyxError
from kalyx.core.packages.project import block_of_script, project_of
from kalyx.core.queries.fitness import fitness
from kalyx.core.queries.here import look_here
from kalyx.core.targets import resolve
from tests.made import HOME, Files

TABLE = """[project]
name = "spring-scales"
requires-python = "{python}"
dependencies = [
  "hivescale>=2",
  "nectarflow; python_version < '3'",
  "Brood_Map[x]==1.*",
]
[project.optional-dependencies]
plots = ["pollenkit"]
[dependency-groups]
test = ["frames", {{include-group = "lint"}}]
lint = ["smoker<1"]
"""


def place(python=">=3.9", hivescale="2.1", broodmap="1.4", more=None):
    files = Files()
    files[f"{HOME}/spring/pyproject.toml"] = TABLE.format(python=python)
    if hivescale:
        files.package("heath", "hivescale", hivescale, "hivescale")
    if broodmap:
        files.package("heath", "brood-map", broodmap, "broodmap")
    files.update(more or {})
    return files.machine()


def judged(machine):
    seat = resolve(machine, f"{HOME}/heath")
    return fitness(machine, seat.interpreter, search_of(seat, machine, named=False), project_of(machine.reader, f"{HOME}/spring"))


@pytest.mark.parametrize(
    ("more", "runs", "missing", "other"),
    [
        ({}, True, [], []),
        ({"python": ">=3.12"}, False, [], []),
        ({"hivescale": "1.9"}, False, [], ["hivescale"]),
        ({"broodmap": None}, False, ["Brood_Map"], []),
        ({"broodmap": "2.0"}, False, [], ["Brood_Map"]),
        ({"more": {f"{HOME}/spring/requirements.txt": "smoker>=1  # new\n-r more.txt\n--index-url x\n-e .\n", f"{HOME}/spring/more.txt": "veil\n-r requirements.txt"}},
         False, ["smoker", "veil", "smoker", "veil", "smoker"], []),
    ],
)  # fmt: skip
def test_whether_it_can_run(more, runs, missing, other):
    found = judged(place(**more))
    assert (found.runs, found.missing[:2], found.other) == (runs, missing[:2], other)
    assert found.python_allowed == ("python" not in more)
    groups = {requirement.name: requirement.group for requirement in found.requirements if requirement.group}
    assert groups == {"pollenkit": "plots", "frames": "test", "smoker": "lint"}
    assert next(requirement.line for requirement in found.requirements if requirement.name == "hivescale") == 5


def test_here_tells_each_seat():
    answer = look_here(place(hivescale="1.0"))
    assert answer.project.name == "spring-scales" and answer.project.requirements == 3
    assert {seat.project.runs for seat in answer.seats if seat.interpreter} == {False}
    assert answer.fill.line == f"kalyx fill {HOME}/heath --from {HOME}/spring"
    assert look_here(place(python=">=3.12")).fill is None, "no package fixes that"
    assert look_here(Files().machine()).project is None


@pytest.mark.parametrize("text", ["[project", "[tool.x]\na=1", "[project]\ndependencies = 3\n", "[dependency-groups]\na=[{include-group='a'}]\n"])
def test_odd_files_are_no_trap(text):
    files = Files()
    files[f"{HOME}/spring/pyproject.toml"] = text
    answer = look_here(files.machine())
    assert (answer.project is None) == text.startswith("[tool")
    assert bool(answer.unread) == (text == "[project" or "= 3" in text)


def test_above_the_folder_and_in_a_script():
    files = Files()
    files[f"{HOME}/pyproject.toml"] = "[project]\nname='home'\n"
    files[f"{HOME}/spring/.git/HEAD"] = ""
    files[f"{HOME}/spring/a.py"] = "#!/usr/bin/env python\n# /// script\n# requires-python = '>=3.11'\n# dependencies = [\n#   'hivescale',\n# ]\n# ///\n"
    reader = files.machine().reader
    assert project_of(reader, f"{HOME}/spring") is None, "another repository's business"
    assert project_of(reader, HOME).name == "home"
    script = block_of_script(reader, f"{HOME}/spring/a.py")
    assert (script.requires_python, [wish.line for wish in script.wishes]) == (">=3.11", ["hivescale"])
    assert block_of_script(reader, f"{HOME}/spring/notes.txt") is None


@pytest.mark.parametrize(
    ("text", "words", "keys"),
    [
        ("./hive", [f"{HOME}/spring/hive"], {"hive-scale"}),
        ("-e ./hive", ["-e", f"{HOME}/spring/hive"], {"hive-scale"}),
        ("./x/Hive_Scale-1-py3-none-any.whl", [f"{HOME}/spring/x/Hive_Scale-1-py3-none-any.whl"], {"hive-scale"}),
        ("hivescale @ https://moor.example/x.zip", ["hivescale @ https://moor.example/x.zip"], {"hivescale"}),
        ("hivescale[x]>=1", ["hivescale[x]>=1"], {"hivescale"}),
    ],
)
def test_what_may_be_asked_for(text, words, keys):
    files = Files()
    files[f"{HOME}/spring/hive/pyproject.toml"] = "[project]\nname = 'Hive_Scale'\n"
    files[f"{HOME}/spring/x/Hive_Scale-1-py3-none-any.whl"] = b"PK"
    found = wants(files.machine().reader, [text], None)
    assert (found.words, found.keys) == (words, keys)
    for gone in ("./gone", "-e ./gone", "no requirement"):
        with pytest.raises(KalyxError):
            wants(files.machine().reader, [gone], None)
