"""Readers of settings files: what the format's own reader reads, at the very place where it stands; nothing from comments."""

import configparser
import random

import pytest
import tomllib

from kalyx.core.formats import ini, lisp, notebook, toml, xml
from kalyx.core.formats.editing import Edit, apply
from kalyx.core.formats.positions import spans_of, written
from kalyx.core.formats.span import Malformed
from tests.equipment import LONG

PATH = "/home/keeper/heath/bin/python"

# Form, text with one value at <>, key, what an element above is called: only that one is seen, on its own line.
ONE = [
    ("jsonc", '// "python": "no"\n/* "python": "no" */\n{"a": "\\"python\\": 1", "python": <>, }\n', ["python"]),
    ("xml", '<p>\n<!-- <c><o n="H" v="no"/></c> -->\n<c><o n="H" x="no"\n v=<> /></c>\n</p>\n', ["o[n=H]", "v"]),
    ("xml", '<p><![CDATA[<o n="H" v="no"/>]]><o v=<> n="H"/>é</p>\n', ["o[n=H]", "v"]),
    ("toml", '# python = "no"\n[a]\npython = "no"\n[t]\nx = """\npython = "no"\n"""\npython = <> # mine\n', ["t", "python"]),
    ("toml", 't . "python" = <>\n[a.t]\npython = "no"\n', ["t", "python"]),
    ("toml", 'a = {t = {python = "no"}}\nt = { z = 1, python = <>, y = [1, 2] }\n', ["t", "python"]),
    ("ini", "# [t]\n; python = no\n[a]\npython = no\n[t]\n# python = no\nPython : <>\n", ["t", "python"]),
    ("lisp", ';; (python . "no")\n((c . ?;) (d . ?\\") (python . <>) (x . "python") ("python" . "no"))\n', ["python"]),
    ("lisp", '(setq other "no" python <>)\n(setq python nil y "no")\n', ["python"]),
    ("text", "# no\n\n<>\n", []),
]


@pytest.mark.parametrize("form, text, key", ONE, ids=[f"{item[0]} {number}" for number, item in enumerate(ONE)])
@pytest.mark.parametrize("quote", ['"', "'"])
def test_one_value_is_seen_and_changed_alone(form, text, key, quote):
    quoted = "" if form in ("ini", "text") else '"' if form in ("jsonc", "lisp") else quote
    whole = text.replace("<>", quoted + PATH + quoted)
    (span,) = spans_of(form, whole, key, None)
    assert span.value == PATH and whole[span.start : span.end].strip(quoted or " ") == PATH
    assert whole.count("\n", 0, span.start) == text.count("\n", 0, text.index("<>")), "the line is that of the value"
    for value in ("/new", "/n e\"w'\\", "/é<&>"):
        if form in ("ini", "text") or "\\" not in value or quoted != "'" or form != "toml":
            after = apply(whole, [Edit(*written(form, whole, span, key, value))])[0]
            (again,) = spans_of(form, after, key, None)
            assert again.value == value, after
            begin, end = text.index("<>"), len(text) - text.index("<>") - 2
            assert after[:begin] == whole[:begin] and after[-end:] == whole[-end:], after


@pytest.mark.parametrize("seed", range(400 if LONG else 60))
def test_ini_is_read_as_its_own_reader_reads_it(seed):
    """By chance: sections, keys, blanks, comments, lines that go on; what the reader refuses, Kalyx may pass over."""
    chance = random.Random(seed)
    parts = ["[a]", "[b]", " [c]", "key = 1", "key: x # y", "Key=2", "  more", "\tmore = 3", "# note", "; note", "", "  ",
             "other =", "key", "=5", "a b = c:d", "key == x", "é = ü"]  # fmt: skip
    text = "[a]\n" + "\n".join(chance.choice(parts) for _ in range(chance.randint(1, 12))) + "\n"
    parser = configparser.RawConfigParser(strict=False, allow_no_value=False)
    try:
        parser.read_string(text)
    except configparser.Error:
        return
    expected = {(name, key): value for name in parser.sections() for key, value in parser[name].items()}
    found = {key: span.value for key, span in ini.read(text).items()}
    assert {key: value for key, value in found.items() if key[0] != "DEFAULT"} == expected, text


@pytest.mark.parametrize("seed", range(200 if LONG else 40))
def test_toml_values_stand_where_they_are_said_to(seed):
    chance = random.Random(seed)
    values = ['"x"', "'x'", '"""x"""', '"x\\ty"', '["x", "y"]', '"⸺⸺"', '""']
    names = [chance.choice(["a", "b", "'c d'", '"e.f"']) for _ in range(3)]
    text = chance.choice(["", "\ufeff", "# top\n"]) + f"{names[0]} = {chance.choice(values)}{chance.choice(['', ' # note'])}\n"
    text += f"[t]\n{names[1]}={chance.choice(values)}\r\n" + f"[t.u]\n{names[2]}  =  {chance.choice(values)}"
    whole = tomllib.loads(text.lstrip("\ufeff").replace("\r\n", "\n"))
    for key in ([names[0]], ["t", names[1]], ["t", "u", names[2]]):
        key = [word.strip("'\"") for word in key]
        value = whole
        for word in key:
            value = value[word]
        found = toml.spans_of(text, key)
        first = value[0] if isinstance(value, list) else value
        assert [span.value for span in found] == ([first] if first else [])
        for span in found:
            assert tomllib.loads(f"x = {text[span.start : span.end]}")["x"] == first, (text, key)
            assert toml.spans_of(toml.with_value(text, key, "new"), key)[0].value == "new"


@pytest.mark.parametrize(
    "reader, text",
    [
        (xml.tags, '<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>'),
        (xml.tags, "<a>" * 100_000),
        (xml.tags, "<a"),
        (xml.tags, ""),
        (toml.read, "a = " + "[" * 100_000),
        (toml.read, "a = 1\na = 2"),
        (ini.read, "key = 1\n"),
        (lambda text: list(lisp.tokens(text)), '(a . "never ends'),
        (lambda text: spans_of("jsonc", text, ["a"], None), "[" * 100_000),
    ],
)
def test_what_is_no_such_file_is_said_in_words(reader, text):
    with pytest.raises(Malformed) as refused:
        reader(text)
    assert str(refused.value) and "\n" not in str(refused.value)


CODE = '{"cell_type": "code", "source": ["import ", "hivescale"], "outputs": [%s]}'


@pytest.mark.parametrize("output", ["", "NaN", "-Infinity", '"\\ud83d"', '{"data": [1e999]}', "[" * 200 + "]" * 200])
@pytest.mark.parametrize("mark", ["", "\ufeff"])
def test_what_writers_of_notebooks_let_through_is_read(output, mark):
    """NaN and half characters stand in outputs of real notebooks: no reason not to know the kernel and the code."""
    cells = f'[{{"cell_type": "markdown", "source": "x"}}, {CODE % output}]'
    raw = (mark + f'{{"cells": {cells}, "metadata": {{"kernelspec": {{"name": "heath"}}}}}}').encode()
    assert notebook.metadata_of(raw)["kernelspec"]["name"] == "heath"
    assert notebook.code_cells(raw) == [(2, "import hivescale")]


@pytest.mark.parametrize(
    "text, cells",
    [
        ('{"cells": [1, null, {"cell_type": [], "source": 3}, ' + CODE % "" + '], "metadata": {}}', [(4, "import hivescale")]),
        ('{"worksheets": [3, {"cells": [{"cell_type": "code", "input": "import broad"}]}]}', [(1, "import broad")]),
        ('{"cells": {"a": 1}, "worksheets": 3}', []),
        ("[]", []),
    ],
)
def test_a_cell_of_another_type_spoils_only_itself(text, cells):
    assert notebook.code_cells(text.encode()) == cells
