"""Failing imports explained where they fail: in a cell of a kernel that Kalyx registered so, and behind a command."""

import json
import subprocess
import sys
import time
from pathlib import Path

import pytest
from selenium.common.exceptions import TimeoutException
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

from kalyx.core.kernels.startup_file import IN_KERNEL, STARTUP_FILE
from tests.conftest import make_environment, put_in
from tests.real.test_kernels import cells, provided  # noqa: F401
from tests.real.test_page import page  # noqa: F401


def shown(outputs):
    """The error's class, the text of the answer and its page; None for what is not shown."""
    error = next((content["ename"] for kind, content in outputs if kind == "error"), None)
    data = [content["data"] for kind, content in outputs if kind == "display_data"]
    assert len(data) <= 1, data
    assert "Error in callback" not in json.dumps(outputs), outputs
    return error, data[0]["text/plain"] if data else None, data[0].get("text/html") if data else None


@pytest.fixture
def orchard(moor, provided):  # noqa: F811
    """The kernel orchard, which explains; its file at the start."""
    ran = moor.kalyx("register", provided, "--id", "orchard", "--explain", "--yes", "--json")
    assert ran.status == 0 and ran.json["kernel"]["explains"], ran.out
    return moor.data / "kernels" / "orchard" / STARTUP_FILE


def spoil(site: Path, folder: Path) -> None:
    """Modules and packages that fail on import, each in its own way."""
    package = site / "combs"
    package.mkdir()
    (package / "__init__.py").write_text("import nectarflow\n")
    (site / "combs-1.0.dist-info").mkdir()
    (site / "combs-1.0.dist-info" / "METADATA").write_text("Metadata-Version: 2.1\nName: combs\nVersion: 1.0\nRequires-Dist: nectarflow>=2\n")
    (site / "combs-1.0.dist-info" / "RECORD").write_text("combs/__init__.py,,\ncombs-1.0.dist-info/METADATA,,\n")
    (site / "loops.py").write_text("from loops import nothing\n")
    (site / "wishes.py").write_text("raise ImportError('wishes needs the package nectarflow: pip install nectarflow')\n")
    (site / "honey.py").write_text("class HoneyError(ImportError): pass\nraise HoneyError('no library libhoney found')\n")
    (site / "nested.py").write_text("try:\n    import gone_one\nexcept ImportError as error:\n    raise ImportError('nested needs gone_one') from error\n")
    (site / "old.py").write_text("import dummy_threading\n")
    (site / "native.cpython-39-x86_64-linux-gnu.so").write_bytes(b"\x7fELF")
    (site / "combtool.py").write_text("COMB = 1\n")
    (folder / "combtool.py").write_text("x = 1\n")
    (folder / "script.py").write_text("import gone_two\n")
    (folder / "lib").mkdir()
    (folder / "lib" / "mine.py").write_text("import gone_three\n")


# A cell, the class of its error, and what the answer says.
FAILURES = [
    ("import hivescalee", "ModuleNotFoundError", "misspelt"),
    ("import combs", "ModuleNotFoundError", "unmet"),
    ("from combs import x", "ModuleNotFoundError", "unmet"),
    ("from combtool import COMB", "ImportError", "shadowed"),
    ("import loops", "ImportError", "circular"),
    ("import wishes", "ImportError", "nectarflow"),
    ("import honey", "HoneyError", "libhoney"),
    ("import nested", "ImportError", "gone_one"),
    ("import old", "ModuleNotFoundError", "stdlib-gone"),
    ("import native", "ModuleNotFoundError", "other-build"),
    ("from hivescale import NOTHING", "ImportError", "name-gone"),
    ("import hivescale.parts", "ModuleNotFoundError", "submodule-gone"),
    ("import yaml_of_the_moor, json", "ModuleNotFoundError", "absent"),
    ("def f():\n    import gone_four\nf()", "ModuleNotFoundError", "absent"),
    ("import asyncio\nawait asyncio.sleep(0)\nimport gone_five", "ModuleNotFoundError", "absent"),
    ("%run script.py", "ModuleNotFoundError", "absent"),
    ("%%capture kept\nimport gone_six", "ModuleNotFoundError", "absent"),
    ("import sys; sys.path.append('lib')\nimport mine", "ModuleNotFoundError", "gone_three"),
    ("from . import x", "ImportError", "no-parent-package"),
    ("raise ImportError('of the cell itself')", "ImportError", "of the cell itself"),
    ("import importlib; importlib.import_module('gone_seven')", "ModuleNotFoundError", "gone_seven"),
]


def test_failures_of_many_kinds_are_explained(moor, orchard, provided):  # noqa: F811
    site = next((Path(provided).parents[1] / "lib").glob("python*")) / "site-packages"
    before = set(site.iterdir())
    spoil(site, moor.folder)
    try:
        outputs = cells(moor, "orchard", *(cell for cell, _, _ in FAILURES))
    finally:
        for path in set(site.iterdir()) - before:
            subprocess.run(["rm", "-rf", str(path)], check=True)
    wrong = []
    for (cell, error, words), output in zip(FAILURES, outputs, strict=True):
        got = shown(output)
        if got[0] != error or words not in (got[1] or "") or "kalyx-answer" not in (got[2] or "") or "gave no answer" in got[1]:
            wrong.append((cell, got))
    assert not wrong, "\n".join(map(str, wrong))


def test_what_a_package_says_is_only_text(moor, orchard, provided):  # noqa: F811
    site = next((Path(provided).parents[1] / "lib").glob("python*")) / "site-packages"
    (site / "evil.py").write_text("raise ImportError('<script>alert(1)</script> \\x1b[31m & <img src=x onerror=alert(2)>')\n")
    try:
        (output,) = cells(moor, "orchard", "import evil")
    finally:
        (site / "evil.py").unlink()
    _, text, html = shown(output)
    assert "<script" not in html and "<img" not in html and "&lt;script&gt;" in html and "\x1b" not in html + text
    assert "onclick" not in html and "href" not in html


def test_errors_that_are_not_as_errors_are(moor, orchard):
    """Names, files and words of other types, too long ones, a folder that was removed: an answer or one line, no error of its own."""
    spoilt = [
        "error = ImportError('x'); error.name = 5; raise error",
        "import sys, types; m = types.ModuleType('odd'); m.__file__ = 7; sys.modules['odd'] = m\nfrom odd import nothing",
        "raise ImportError('x' * 10_000_000)",
        "import sys; sys.path[:0] = [7, None, '\\udcff', '/moor/gone']\nimport gone_one",
        "raise ImportError('\\udcff \\x00 gone')",
        "class Odd(ImportError):\n    def __getattribute__(self, name):\n        raise ValueError\nraise Odd('x')",
        "sys.modules['gone_two'] = None\nimport gone_two",
        "type = str = isinstance = getattr = len = json = os = Exception = explain = show = start = None\nimport gone_four",
        "import os; os.mkdir('away'); os.chdir('away'); os.rmdir('../away')\nimport gone_three",
    ]
    *outputs, last = cells(moor, "orchard", *spoilt, "print('on')")
    assert last == [["stream", {"name": "stdout", "text": "on\n"}]]
    answers = [shown(output)[1] for output in outputs]
    assert [bool(answer) for answer in answers] == [True, True, True, True, True, False, True, True, True], answers
    assert "because" in answers[3] and "gave no answer" in answers[-1]


def test_paths_of_all_letters(moor):
    """The environment, the kernel's folder and the notebook's with blanks, quotation marks, letters beyond the first plane."""
    odd = moor.root / "h\u00e9rbe \U0001f33c 'a' {b}"
    python = make_environment(".".join(map(str, sys.version_info[:2])), odd / "heath", "--without-pip")
    site = next((odd / "heath" / "lib").glob("python*")) / "site-packages"
    (site / "shared.pth").write_text(str(next(Path(sys.prefix, "lib").glob("python*")) / "site-packages") + "\n")
    moor.variables["JUPYTER_DATA_DIR"] = str(odd / "data")
    moor.folder = odd / "spring \u0142"
    moor.folder.mkdir()
    assert moor.kalyx("register", python, "--id", "heath", "--explain", "--yes").status == 0
    (output,) = cells(moor, "heath", "import gone_one")
    assert "because" in shown(output)[1] and "heath, 3." in shown(output)[1]


def test_nothing_else_changes(moor, orchard, provided):  # noqa: F811
    """No answer for what is no import, once for the same line; no name, no entry of the path, no module is added."""
    asked = ["import sys; print(sorted(set(dir()) - {'sys'}), sys.path, 'kalyx' in sys.modules, len(sys.meta_path))", "1/0", "import gone_one", "import gone_one",
             "import threading\ndef f():\n    import gone_two\nt = threading.Thread(target=f); t.start(); t.join()", "try:\n    import gone_three\nexcept ImportError:\n    pass",
             "raise SystemExit", "def g(:"]  # fmt: skip
    assert moor.kalyx("register", provided, "--id", "plain", "--yes").status == 0
    with_it, without = cells(moor, "orchard", *asked), cells(moor, "plain", *asked)
    assert with_it[0] == without[0]
    assert [bool(shown(output)[1]) for output in with_it] == [False, False, True, True, False, False, False, False]
    assert "this line failed in the same way in cell 3" in shown(with_it[3])[1] and shown(with_it[3])[2] is None
    assert [shown(output)[0] for output in with_it] == [shown(output)[0] for output in without]


@pytest.mark.parametrize("kalyx, words", [
    ("removed", None),
    ("removed as a whole", None),
    ("import time; time.sleep(60)", "gave no answer"),
    ("import os, signal; os.kill(os.getpid(), signal.SIGKILL)", "gave no answer"),
    ("print('no JSON')", "gave no answer"),
    ("import sys; sys.exit(2)", "gave no answer"),
])  # fmt: skip
def test_without_kalyx_or_with_one_that_fails(moor, orchard, kalyx, words, tmp_path):
    """The cell ends as it does without Kalyx, and soon; at most one line is added."""
    text, program = orchard.read_text(), tmp_path / "entry.py"
    if not kalyx.startswith("removed"):
        program.write_text(kalyx)
    from kalyx.core.system.own_command import ENTRY

    orchard.write_text(text.replace(repr(ENTRY if kalyx != "removed as a whole" else IN_KERNEL), repr(str(program))))
    began = time.monotonic()
    (first, second) = cells(moor, "orchard", "import gone_one", "print('on')")
    error, said, html = shown(first)
    assert error == "ModuleNotFoundError" and html is None and ["stream", {"name": "stdout", "text": "on\n"}] in second
    assert (said is None) if words is None else (words in said and said.count("\n") == 0), said
    assert time.monotonic() - began < 25


def test_a_kernel_whose_file_is_gone_starts_as_before(moor, orchard):
    orchard.unlink()
    outputs = cells(moor, "orchard", "print('on')", "import gone_one")
    assert outputs[0] == [["stream", {"name": "stdout", "text": "on\n"}]] and shown(outputs[1])[1] is None
    assert not moor.kalyx("kernels", "--json").json["kernels"][0]["explains"]


def test_registered_so_and_taken_back(moor, provided):  # noqa: F811
    folder = moor.data / "kernels" / "orchard"

    def state():
        return {path.name: path.read_bytes() for path in folder.iterdir() if not path.name.startswith("logo")} if folder.exists() else {}

    def register(*words):
        ran = moor.kalyx("register", provided, "--id", "orchard", "--yes", "--json", *words)
        assert ran.status == 0, ran.out
        return ran.json

    planned = moor.kalyx("register", provided, "--id", "orchard", "--explain", "--dry-run", "--json").json
    assert [change["path"].rpartition("/")[2] for change in planned["plan"]][-1] == STARTUP_FILE and not folder.exists()
    plain = register()
    without = state()
    assert set(without) == {"kernel.json"}
    explaining = register("--explain", "--take-over")
    with_it = state()
    assert set(with_it) == {"kernel.json", STARTUP_FILE}
    assert " explains" in moor.kalyx("kernels").out
    assert "--own-path --explain --take-over" in moor.kalyx("rehearse", "orchard").out, "a fix of the kernel keeps that"
    assert moor.kalyx(*explaining["undo"][1:], "--yes").status == 0 and state() == without
    register("--explain", "--take-over", "--variable", "HIVE=1", "--own-path")
    with_it = state()
    taken = register("--take-over", "--own-path")
    assert any("sets HIVE; the new one does not" in note for note in taken["notes"]), taken["notes"]
    assert moor.kalyx(*taken["undo"][1:], "--yes").status == 0 and state() == with_it
    taken = register("--take-over")
    assert any("sets HIVE, PATH; the new one" in note for note in taken["notes"]), taken["notes"]
    assert state() == without
    assert moor.kalyx(*taken["undo"][1:], "--yes").status == 0 and state() == with_it
    removed = moor.kalyx("unregister", "orchard", "--yes", "--json").json
    assert not folder.exists()
    assert moor.kalyx(*removed["undo"][1:], "--yes").status == 0 and state() == with_it
    assert plain["undo"][:2] == ["kalyx", "unregister"]


def test_a_kernel_package_without_such_an_option_is_refused(moor, wheels):
    python = make_environment(".".join(map(str, sys.version_info[:2])), moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath" / "lib").glob("python*")) / "site-packages"
    from kalyx.demo.wheels import standin_package

    (site / "kalyx_standin_kernel.py").write_text(standin_package().files["kalyx_standin_kernel.py"])
    ran = moor.kalyx("register", python, "--explain", "--yes")
    assert ran.status == 2 and "runs no file as it starts" in ran.err and not moor.data.exists()
    for words, message in ((["--kernel", "Meadow"], "runs no file as it starts"), ([], "with --kernel LABEL")):
        ran = moor.kalyx("prepare", "meadow", "--explain", "--wheels", str(wheels), "--yes", *words)
        assert ran.status == 2 and message in ran.err and not (moor.folder / "meadow").exists()


@pytest.fixture
def offline(moor, wheels):
    """The installer that the notebook's server starts takes what it installs from the folder of wheels."""
    moor.variables |= {"PIP_FIND_LINKS": str(wheels), "PIP_NO_INDEX": "1"}
    return wheels


def test_the_answer_on_the_page_and_its_fix(moor, provided, offline, page):  # noqa: F811
    """A cell fails, the answer is there; a click selects the line of its fix, which is run; the cell imports then."""
    site = next((Path(provided).parents[1] / "lib").glob("python*")) / "site-packages"
    (site / "hivescale.py").rename(site / "kept.py")
    put_in(offline / "hivescale-2.1-py2.py3-none-any.whl", site)
    assert moor.kalyx("register", provided, "--id", "orchard", "--label", "Orchard", "--explain", "--yes").status == 0
    notebook = moor.notebook("spring.ipynb", "orchard")
    content = json.loads(notebook.read_text())
    content["cells"] = [{"cell_type": "code", "id": name, "execution_count": None, "metadata": {}, "outputs": [], "source": source}
                        for name, source in (("a", "import hivescale, os"), ("b", ""))]  # fmt: skip
    notebook.write_text(json.dumps(content))
    browser, url = page
    browser.get(f"{url}notebooks/spring.ipynb?token=honey-token")
    wait = WebDriverWait(browser, 60)

    def in_cell(number, script):
        """What a script gives for a cell, which the page may draw anew at any moment; None where the cell is not there yet."""
        return browser.execute_script(f"const cell = document.querySelectorAll('.jp-CodeCell')[{number}]; return cell ? {script} : null")

    def run(number, text=""):
        """The cell, once the page is connected to the kernel: keys that arrive before run nothing."""
        count = "(cell.querySelector('.jp-InputPrompt') || {}).textContent || null"
        before = wait.until(lambda b: in_cell(number, count))
        for attempt in range(20):
            wait.until(lambda b: in_cell(number, "cell.querySelector('.cm-content') ? (cell.querySelector('.cm-content').focus(), 1) : null"))
            ActionChains(browser).send_keys("" if attempt else text).key_down(Keys.SHIFT).send_keys(Keys.ENTER).key_up(Keys.SHIFT).perform()
            try:
                WebDriverWait(browser, 3).until(lambda b: in_cell(number, count) not in (None, before))
            except TimeoutException:
                continue
            wait.until(lambda b: in_cell(number, count) not in (None, "[*]:"))
            return
        raise AssertionError(f"the cell did not run: {in_cell(number, count)}")

    run(0)
    answer = wait.until(lambda b: b.find_element(By.CSS_SELECTOR, ".kalyx-answer"))
    assert "import hivescale" in answer.text and "unmet" in answer.text and "notebook spring.ipynb (orchard" in answer.text, answer.text
    assert "then\nrun the cell again" in answer.text
    line = answer.find_element(By.CSS_SELECTOR, ".step code")
    line.click()
    selected = browser.execute_script("return window.getSelection().toString()").strip()
    assert selected == line.text.strip() == f"{provided} -m pip install 'nectarflow>=1.1'"
    run(1, "!" + selected)
    run(0)
    cell = browser.find_elements(By.CSS_SELECTOR, ".jp-CodeCell")[0]
    assert not cell.find_elements(By.CSS_SELECTOR, ".jp-OutputArea-output"), cell.text
    assert not [entry for entry in browser.get_log("browser") if "kalyx" in entry["message"]]
    for path in [*site.glob("hivescale*"), *site.glob("nectarflow*")]:
        subprocess.run(["rm", "-rf", str(path)], check=True)
    (site / "kept.py").rename(site / "hivescale.py")
