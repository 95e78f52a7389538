"""Settings files pointed elsewhere: every byte around the value stays, in every form that can be written."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kalyx.core.actions import editor_settings
from kalyx.core.formats.positions import spans_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.targets import resolve
from tests.made import HOME, Files

MOOR, HEATH, ORCHARD = f"{HOME}/spring", f"{HOME}/heath/bin/python", f"{HOME}/orchard/bin/python"


def planned(name: str, text: str | bytes | None, target: str = f"{HOME}/orchard", named: str | None = None):
    files = Files()
    files.environment(f"{MOOR}/.venv")
    if text is not None:
        files[f"{MOOR}/{name}"] = text
    reader = MemoryReader("linux", files, variables={"PATH": "/usr/bin", "HOME": HOME}, home=HOME, folder=MOOR)
    machine = Machine(reader)
    return editor_settings.plan(machine, f"{MOOR}/{name}", named, resolve(machine, target))


SETTINGS = ".vscode/settings.json"
# The file, what it holds with <old> in the place of the value, the old and the new value, and the target where it is another.
WRITTEN = [
    (SETTINGS, '{\n  // mine\n  "a": 1,\n  "python.defaultInterpreterPath": "<>", // here\n}\n', HEATH, ORCHARD),
    (SETTINGS, '\ufeff{\r\n\t"python.defaultInterpreterPath":"<>"\r\n}', HEATH, ORCHARD),
    (SETTINGS, '{"python.defaultInterpreterPath": "x", "python.defaultInterpreterPath" : "<>"}', HEATH, ORCHARD),
    (SETTINGS, '{"python.defaultInterpreterPath": "<>"}', "${workspaceFolder}/old/bin/python", "${workspaceFolder}/.venv/bin/python", f"{MOOR}/.venv"),
    (SETTINGS, '{"python.defaultInterpreterPath": "<>"}', "${workspaceFolder}/old", "${workspaceFolder}/.venv", f"{MOOR}/.venv"),
    (SETTINGS, '{"python.defaultInterpreterPath": "<>"}', "./old/bin/python", "./.venv/bin/python", f"{MOOR}/.venv"),
    (SETTINGS, '{"python.defaultInterpreterPath": "<>"}', "old/bin/python", ORCHARD),
    (SETTINGS, '{"note": "<\\u00fc>", "python.pythonPath": "<>"}', HEATH, ORCHARD),
    (".vscode/launch.json", '{"configurations": [{"name": "sow", "python": "<>"}, {"name": "reap", "x": [1, {"python": "no"}]}]}', HEATH, ORCHARD),
    (".vscode/tasks.json", '{"tasks": [{"label": "a", "command": "<> -m sow --all"}]}', HEATH, ORCHARD),
    ("moor.sublime-project", '{"build_systems": [{"name": "b", "cmd": ["<>", "-u", "$file"]}]}', HEATH, ORCHARD),
    (".idea/workspace.xml", '<?xml version="1.0"?>\n<p><configuration name="W">\n <option value=\'<>\' name="SDK_HOME" />\n</configuration></p>', HEATH, ORCHARD),
    ("mypy.ini", "# top\n[other]\npython_executable = no\n[mypy]\nstrict = true\npython_executable=<>\n# here\n", HEATH, ORCHARD),
    ("pyproject.toml", "[project]\nname = 'x'\n\n[tool.mypy]\npython_executable = '<>' # here\n", HEATH, ORCHARD),
    (".dir-locals.el", ';; (python-shell-interpreter . "/no")\n((python-mode . ((python-shell-interpreter . "<>"))))\n', HEATH, ORCHARD),
    (".python-version", "# mine\n<>\nmore\n", "3.9", "3.11"),
    (".python-version", "<>\r\n", "3.9.1", "3.11.7"),
]  # fmt: skip


@pytest.mark.parametrize("case", WRITTEN, ids=[f"{case[0]} {number}" for number, case in enumerate(WRITTEN)])
def test_only_the_value_changes(case):
    name, text, old, new, target = (*case, f"{HOME}/orchard")[:5]
    before, after = text.replace("<>", old), text.replace("<>", new)
    change = planned(name, before, target)
    assert change.before.decode() == before and change.after.decode() == after
    assert change.was is not None and len(change.plan) == 1
    from kalyx.core.formats.editing import apply

    assert apply(after, change.back)[0] == before


def test_an_environment_named_in_two_places():
    text = '{"venvPath": "..", "venv": "heath", // x\n "pythonVersion": "3.9"}'
    change = planned("pyrightconfig.json", text)
    assert change.after.decode() == text.replace('"heath"', '"orchard"')


@pytest.mark.parametrize("text, after", [
    (None, '{\n    "venvPath": "%s",\n    "venv": "orchard"\n}\n' % HOME), ("{}", '{"venvPath": "%s", "venv": "orchard"}' % HOME), ('{"a": 1}', '{"a": 1, "venvPath": "%s", "venv": "orchard"}' % HOME),
    ('{\n  "venv": "heath" // x\n}', '{\n  "venv": "orchard",\n  "venvPath": "%s" // x\n}' % HOME), ('{"venvPath": "/moor"}', '{"venvPath": "%s", "venv": "orchard"}' % HOME),
    ('{"venvPath": "../moor"}', '{"venvPath": "..", "venv": "orchard"}'),
])  # fmt: skip
def test_both_places_are_written_where_one_is_not_there(text, after):
    assert planned("pyrightconfig.json", text).after.decode() == after


@pytest.mark.parametrize("text, after", [
    (None, '{\n    "python.defaultInterpreterPath": "%s"\n}\n' % ORCHARD),
    ('{\n  "a": 1 // one\n}\n', '{\n  "a": 1,\n  "python.defaultInterpreterPath": "%s" // one\n}\n' % ORCHARD),
    ("{}", '{"python.defaultInterpreterPath": "%s"}' % ORCHARD),
    ('{\n\t"a": [1,\n2],\n}', '{\n\t"a": [1,\n2],\n\t"python.defaultInterpreterPath": "%s",\n}' % ORCHARD),
])  # fmt: skip
def test_a_value_that_was_not_there(text, after):
    change = planned(SETTINGS, text)
    assert change.after.decode() == after and change.was is None and change.is_new == (text is None)


def test_of_several_configurations_one_is_named():
    text = '{"configurations": [{"name": "sow", "python": "%s"}, {"name": "reap", "python": "%s"}]}' % (HEATH, HEATH)
    with pytest.raises(KalyxError, match="it has several: sow, reap; name one, as editor:"):
        planned(".vscode/launch.json", text)
    after = planned(".vscode/launch.json", text, named="reap").after.decode()
    assert [configuration["python"] for configuration in json.loads(after)["configurations"]] == [HEATH, ORCHARD]


@pytest.mark.parametrize("name, text, message", [
    (SETTINGS, '{"python.defaultInterpreterPath": }', "it was not changed"),
    (SETTINGS, "[1]", "it was not changed"),
    (SETTINGS, "{ // nothing\n}", "add the value by hand"),
    (SETTINGS, '{"a": "é"}'.encode("latin-1"), "not UTF-8"),
    (SETTINGS, '{"a": 1}'.encode("utf-16"), "not UTF-8"),
    (SETTINGS, Link("/somewhere"), "is a link"),
    (".idea/misc.xml", '<component name="ProjectRootManager" project-jdk-name="P"/>', "only the editor can write"),
    (".idea/workspace.xml", "<p/>", "cannot add a value"),
    ("notes.txt", "x", "not a settings file that Kalyx knows"),
    ("mypy.ini", None, "cannot create a file"),
])  # fmt: skip
def test_what_cannot_be_written_is_refused(name, text, message):
    with pytest.raises(KalyxError, match=message):
        planned(name, text)


@settings(max_examples=200, deadline=None)
@given(
    st.text(alphabet="{}[]\":,/*\\ \n\tab<>=#;().'python", max_size=60),
    st.sampled_from(["jsonc", "xml", "toml", "ini", "lisp", "text"]),
)
def test_no_text_breaks_the_finding_of_places(text, form):
    key = ["option[name=a]", "value"] if form == "xml" else ["a", "b"]
    try:
        for span in spans_of(form, text, key, None):
            assert 0 <= span.start <= span.end <= len(text)
    except (ValueError, IndexError, editor_settings.Malformed):
        pass
