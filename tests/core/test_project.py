"""What a project asks for, read from its own files, and whether a seat meets it."""

import pytest

from kalyx.core.queries.here import look_here
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
