"""What settings files choose, form by form, on made-up machines; hostile files; what changed between two looks."""

import json

from hypothesis import given, settings
from hypothesis import strategies as st

from kalyx.core.formats.comments import without_comments
from kalyx.core.formats.span import Malformed
from kalyx.core.formats.values import values
from kalyx.core.machine import Machine
from kalyx.core.queries.changes import changes
from kalyx.core.queries.here import look_here
from kalyx.core.seats.editor import editor_seats
from kalyx.core.seats.pasted import lines_to_paste, pasted_seats
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.targets import resolve
from tests.made import HOME, Files

MOOR = f"{HOME}/spring"
HEATH = f"{HOME}/heath/bin/python"

def facts_of(**more):
    files = Files()
    files[f"{HOME}/.config/Hive/ide1/options/jdk.table.xml"] = (
        f'<x><jdk version="2"><name value="Python 3.11 (heath)" /><homePath value="{HEATH}" /></jdk></x>'
    )
    for name, text in more.pop("files", {}).items():
        files[name if name.startswith("/") else f"{MOOR}/{name}"] = text
    return MemoryReader(
        "linux", files, variables={"PATH": "/usr/bin", "HOME": HOME, "LARK": HOME, **more}, home=HOME, folder=MOOR
    )


def test_a_workspace_of_several_folders():
    """Each folder's own settings beat the workspace's for that folder; one that is not there is said."""
    ours = '{"python.defaultInterpreterPath": "%s/orchard/bin/python"}' % HOME
    files = {
        "moor.code-workspace": '{"folders": [{"path": "."}, {"path": "../autumn", "name": "fall"}, {"path": "../winter"}, '
        '{"path": "../gone"}, 3, {"uri": "x"}], "settings": {"python.defaultInterpreterPath": "${workspaceFolder}/../heath/bin/python"}}',
        f"{HOME}/autumn/.vscode/settings.json": ours, f"{HOME}/winter/a.py": "",
    }  # fmt: skip
    said = {seat.name: seat.interpreter.prefix if seat.interpreter else seat.reason for seat in editor_seats(facts_of(files=files), MOOR)}
    assert said == {
        "moor.code-workspace: editor's Python (spring)": f"{HOME}/heath",
        "settings.json: editor's Python (fall)": f"{HOME}/orchard",
        "moor.code-workspace: editor's Python (winter)": f"{HOME}/heath",
        "workspace folder: gone": f"{HOME}/gone is not there",
    }
    files[f"{HOME}/autumn/.vscode/settings.json"] = '{"python.defaultInterpreterPath": "${workspaceFolder:spring}/../heath/bin/python"}'
    files[f"{HOME}/moor.code-workspace"] = '{"folders": [{"path": "spring"}, {"path": "autumn"}]}'
    (seat,) = editor_seats(facts_of(files=files), f"{HOME}/autumn")
    assert seat.interpreter.prefix == f"{HOME}/heath"
    files[f"{HOME}/autumn/.vscode/settings.json"] = ours
    machine = Machine(facts_of(files=files))
    for word in ("editor:../autumn", "editor:../autumn/.vscode/settings.json"):
        assert resolve(machine, word).interpreter.prefix == f"{HOME}/orchard"


def test_a_dead_choice_is_a_finding_and_a_change_is_told():
    files = {".vscode/settings.json": '{\n "python.defaultInterpreterPath": "../haeth/bin/python"\n}'}
    before = look_here(Machine(facts_of(files=files)))
    (finding,) = [item for item in before.findings if item.cause == "interpreter-gone"]
    assert finding.evidence[0].line == 2 and f"write {HEATH}" in finding.fixes[0].steps[0].line
    files[".vscode/settings.json"] = files[".vscode/settings.json"].replace("haeth", "heath")
    after = look_here(Machine(facts_of(files=files)))
    told = changes(before, after)
    assert any("runs /home/keeper/heath (3.11.7) now" in item for item in told), told
    assert any(item.startswith("fixed: ") for item in told) and not changes(after, after)


def test_what_a_console_said_becomes_a_seat():
    said = {
        "executable": HEATH,
        "prefix": f"{HOME}/heath",
        "base_prefix": "/usr",
        "version": "3.11.7",
        "folder": "/",
        "pid": 3,
    }
    text = f">>> noise\nkalyx-seat {json.dumps(said)}\nkalyx-says python is aliased to `python3'\nkalyx-seat {{broken\n"
    files = {
        "away.kalyx-seat": "kalyx-seat " + json.dumps({**said, "executable": "/opt/box/python"}),
        HEATH: Link("/usr/bin/python3.11"),
    }
    one, shell, away = pasted_seats(facts_of(files=files), MOOR, text)
    assert one.interpreter.executable == HEATH and shell.parts[0].reason == "python is aliased to `python3'"
    assert away.interpreter is None and "not on this machine" in away.reason and away.source
    assert all(line for _, line in lines_to_paste("bash"))


@settings(max_examples=200, deadline=None)
@given(
    st.text(alphabet='{}[]",:/*\n\\ab1\t', max_size=60),
    st.sampled_from(["jsonc", "toml", "ini", "xml", "lisp", "text"]),
)
def test_no_text_breaks_a_reader(text, form):
    assert len(without_comments(text)) == len(text)
    key = ["option[name=a]", "value"] if form == "xml" else ["a", "*"]
    try:
        list(values(form, text, key, None, None))
    except Malformed:
        pass


@settings(max_examples=100, deadline=None)
@given(
    st.dictionaries(
        st.text(max_size=5), st.one_of(st.text(max_size=9), st.lists(st.integers(), max_size=3)), max_size=4
    )
)
def test_comments_and_commas_take_nothing_away(whole):
    text = json.dumps(whole, indent=2).replace("\n}", ",// last, }\n}" if whole else "\n}").replace("{", "/* { */ {", 1)
    assert json.loads(without_comments(text)) == whole


def test_the_folder_beats_the_user_and_a_descriptor_can_be_added():
    user = f"{HOME}/.config/Hive/User/settings.json"
    settings_text = '{"python.defaultInterpreterPath": "%s"}'
    files = {user: settings_text % HEATH, "a.py": ""}
    (seat,) = editor_seats(facts_of(files=files), MOOR)
    assert seat.name.startswith("user's") and seat.interpreter.executable == HEATH
    files[".vscode/settings.json"] = settings_text % f"{HOME}/orchard/bin/python"
    (seat,) = editor_seats(facts_of(files=files), MOOR)
    assert seat.interpreter.prefix == f"{HOME}/orchard"
    own = {"family": "mine", "form": "hive settings", "format": "json", "files": ["hive.json"],
           "choices": [{"key": ["python"], "part": "terminal", "kind": "interpreter"}]}  # fmt: skip
    added = {
        f"{HOME}/.config/kalyx/kalyx-editors.json": json.dumps({"note": "mine", "descriptors": [1, {**own, "choices": [{}]}, {**own, "format": "yaml"}, {**own, "format": "xml"}, {**own, "choices": [{**own["choices"][0], "kind": "interpretor"}]}, {**own, "filse": []}, own]}),
        "hive.json": f'{{"python": "{HEATH}"}}',
    }
    *problems, seat = editor_seats(facts_of(files=added), MOOR)
    assert (seat.name, seat.parts[0].role, seat.interpreter.executable) == ("hive.json: terminal's Python", "terminal", HEATH)
    words = ("got `int`", "`key`", "'yaml'", "xml has 2 keys", "'interpretor'", "`filse`")
    for number, (problem, word) in enumerate(zip(problems, words, strict=True), 1):
        assert problem.undecided and f"row {number} is left out: " in problem.reason and word in problem.reason
