"""The larger questions: a file's imports, a folder's, a program, a traceback as an interpreter prints it, everywhere."""

import json
import os
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from kalyx.core.actions.rollback import put_back, state_before
from kalyx.core.diagnosis import fixes
from kalyx.core.machine import Machine
from kalyx.core.model.records import Fix
from kalyx.core.model.steps import CreateEnvironment, Install, Move, Uninstall
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.system.live_runner import LiveRunner
from tests.conftest import make_environment
from tests.equipment import BY_VERSION, NEW, OTHER

TEXT = "print('honey')\n"


@pytest.fixture(scope="module")
def moors(tmp_path_factory):
    """orchard has hivescale; heath has not, and a package that needs what nobody has."""
    root = tmp_path_factory.mktemp("moors")
    found = {}
    for name, version in (("orchard", NEW), ("heath", OTHER)):
        python = make_environment(version, root / name, "--without-pip")
        found[name] = (python, next((root / name / "lib").glob("python*")) / "site-packages")
    orchard, heath = found["orchard"][1], found["heath"][1]
    for module in ("hivescale", "nectarflow"):
        (orchard / f"{module}.py").write_text("")
        info = orchard / f"{module}-2.1.dist-info"
        info.mkdir()
        (info / "METADATA").write_text(f"Name: {module}\nVersion: 2.1\n")
        (info / "RECORD").write_text(f"{module}.py,,\n{info.name}/METADATA,,\n")
    (heath / "broodmap.py").write_text("import gone_for_good\n")
    (heath / "stingers.py").write_text("def read():\n    return int('honey')\n")
    return found


def test_what_is_run_by_its_name(moor, moors):
    """A script without an ending, in the interpreter of its first line; of one with an ending that is a note; an archive."""
    moor.variables["PATH"] = f"{Path(moors['orchard'][0]).parent}:/usr/bin:/bin"
    for name in ("weigh", "weigh.py"):
        (moor.folder / name).write_text(f"#!{moors['heath'][0]}\nimport hivescale, json\n")
        (moor.folder / name).chmod(0o755)
    for word in ("./weigh", "program:./weigh"):
        answer = moor.kalyx("why", word, "--json").json
        assert answer["target"]["interpreter"]["executable"] == moors["heath"][0] and not answer["notes"][word != "./weigh" :]
        assert [item["outcome"] for item in answer["imports"]] == ["fails", "imports"], answer
    (moor.folder / "weigh.py").chmod(0o755)
    answer = moor.kalyx("why", "weigh.py", "--in", "shell", "--json").json
    assert [item["outcome"] for item in answer["imports"]] == ["imports", "imports"], answer
    note = f"run by its name, it starts {moors['heath'][0]} ({BY_VERSION[OTHER].version}): kalyx why {moor.folder}/weigh.py --in {moors['heath'][0]}"
    assert answer["notes"] == [note]
    assert not moor.kalyx("why", "weigh.py", "--in", moors["orchard"][0], "--json").json["notes"]
    (moor.folder / "weigh.py").chmod(0o644)
    assert not moor.kalyx("why", "weigh.py", "--in", "shell", "--json").json["notes"]
    with zipfile.ZipFile(moor.folder / "app.pyz", "w") as archive:
        archive.writestr("__main__.py", "import helper, hivescale, nothing_here\n")
        archive.writestr("helper.py", "")
    answer = moor.kalyx("why", "app.pyz", "--in", "shell", "--json").json
    assert [item["outcome"] for item in answer["imports"]] == ["imports", "imports", "fails"], answer
    assert answer["imports"][0]["found_at"] == f"{moor.folder}/app.pyz/helper.py"
    for content in (b"PK\x05\x06", b"PK\x05\x06" + b"\0" * 18, (moor.folder / "app.pyz").read_bytes()[9:]):
        (moor.folder / "broken.pyz").write_bytes(content)
        ran = moor.kalyx("why", "broken.pyz")
        assert (ran.status, ran.err) == (2, f"kalyx: {moor.folder}/broken.pyz: an archive that is damaged, or that has no __main__.py\n"), ran.err
    (moor.folder / "empty.py").write_text("import sys\n")
    assert moor.kalyx("why", "empty.py").out == "note  empty.py imports nothing, or only modules that are part of the interpreter\n"
    assert "starts no Python" in moor.kalyx("why", "/bin/ls").out
    (moor.folder / "weigh").write_text(f"#!{moors['heath'][0]}\nprint(1)\n")
    assert "weigh imports nothing" in moor.kalyx("why", "./weigh").out


def test_a_file_a_notebook_and_a_folder(moor, moors):
    script = moor.folder / "weigh.py"
    script.write_text("from __future__ import annotations\nimport json, hivescale\nimport helper\ntry:\n    import gone_a\n"
                      "except ImportError:\n    pass\ndef late():\n    import gone_b\n")  # fmt: skip
    (moor.folder / "helper.py").write_text("")
    ran = moor.kalyx("why", script, "--in", moors["orchard"][0], "--json")
    found = {item["module"]: item for item in ran.json["imports"]}
    assert ran.status == 0 and list(found) == ["json", "hivescale", "helper", "gone_a", "gone_b"], ran.out
    assert found["hivescale"]["outcome"] == "imports" and found["hivescale"]["distribution"]["version"] == "2.1"
    assert found["gone_a"]["outcome"] == "fails" and found["gone_a"]["guarded"] and found["gone_b"]["guarded"]
    assert found["gone_b"]["asked_at"] == [{"path": str(script), "line": 9, "cell": None}]
    assert moor.kalyx("why", script, "--in", moors["heath"][0]).status == 1
    cells = [{"cell_type": "code", "source": ["%matplotlib inline\n", "import hivescale\n", "!pip3 install hivescale\n"]},
             {"cell_type": "markdown", "source": "import no"}, {"cell_type": "code", "source": "%%bash\nimport no"}]  # fmt: skip
    notebook = moor.folder / "spring.ipynb"
    moor.kernel("heath", [moors["heath"][0], "-m", "x", "-f", "{connection_file}"])
    notebook.write_text(json.dumps({"cells": cells, "nbformat": 4, "metadata": {"kernelspec": {"name": "heath"}}}))
    orchard = Path(moors["orchard"][0]).parent
    pip = orchard / "pip3"
    pip.write_text(f"#!{moors['orchard'][0]}\n")
    pip.chmod(0o755)
    ran = moor.kalyx("why", notebook, "--json", PATH=f"{orchard}:/usr/bin:/bin")
    (one,) = ran.json["imports"]
    assert (one["module"], one["outcome"], one["asked_at"][0]["cell"]) == ("hivescale", "fails", 1)
    assert ran.json["target"]["interpreter"]["executable"] == moors["heath"][0]
    assert any("installs into" in note and str(orchard.parent) in note for note in ran.json["notes"]), ran.json["notes"]
    (moor.folder / "bad.py").write_text("import (\n")
    whole = moor.kalyx("why", f"{moor.folder}/", "--in", moors["orchard"][0], "--json").json
    assert [Path(item["path"]).name for item in whole["unread"]] == ["bad.py"]
    assert {item["module"] for item in whole["imports"]} >= {"json", "hivescale", "gone_a"}


TRACEBACKS = [
    ("heath", "import broodmap", "gone_for_good", "absent"),
    ("heath", "import stingers; stingers.read()", None, "not-the-environment"),
    ("heath", "nectar", None, "not-the-environment"),
    ("heath", "from json import lods", "json", "name-gone"),
]


@pytest.mark.parametrize(("name", "code", "module", "cause"), TRACEBACKS, ids=[row[1] for row in TRACEBACKS])
def test_a_traceback_as_it_is_printed(name, code, module, cause, moor, moors):
    """What the interpreter prints is given as it is; the environment is read from its frames."""
    script = moor.folder / "weigh.py"
    script.write_text(code + "\n")
    done = subprocess.run([moors[name][0], script], capture_output=True, text=True, check=False, env=moor.variables)
    words = [sys.executable, "-m", "kalyx", "why", "-", "--json"]
    ran = subprocess.run(
        words, input=done.stderr, env=moor.variables, cwd=moor.folder, capture_output=True, text=True, check=False
    )
    answer = json.loads(ran.stdout)
    assert ran.returncode == 1 and done.stderr
    found = answer["imports"][0]["findings"] if answer["imports"] else answer["findings"]
    if answer["imports"] and module != "json":
        assert answer["target"]["interpreter"]["executable"] == moors[name][0]
        assert answer["imports"][0]["module"] == module
    assert found[0]["cause"] == cause, found
    if cause == "not-the-environment":
        path = found[0]["evidence"][1]["path"]
        assert Path(path).exists() and str(found[0]["evidence"][1]["line"]) in done.stderr


def test_programs_and_everywhere(moor, moors):
    python, site = moors["heath"]
    tool = Path(python).parent / "hivescale-read"
    tool.write_text(f"#!{python}\n{TEXT}")
    tool.chmod(0o755)
    ran = moor.kalyx("why", "program:hivescale-read", "--json", PYTHONUSERBASE=str(moor.root))
    assert ran.json["findings"][0]["cause"] == "program-absent" and ran.status == 1
    on_path = {"PATH": f"{tool.parent}:/usr/bin:/bin"}
    ran = moor.kalyx("why", "program:hivescale-read", "--json", **on_path)
    assert ran.status == 0 and ran.json["target"]["interpreter"]["executable"] == python
    tool.write_text(f"#!{python}\nimport json\nfrom hivegone.cli import main\n")
    ran = moor.kalyx("why", "program:hivescale-read", "--json", **on_path)
    assert ran.status == 1 and {item["module"]: item["outcome"] for item in ran.json["imports"]} == {"json": "imports", "hivegone.cli": "fails"}
    tool.write_text(f"#!/no/such/python\n{TEXT}")
    ran = moor.kalyx("why", "program:hivescale-read", "--json", **on_path)
    assert ran.json["findings"][0]["cause"] == "first-line-dead"
    tool.write_text(f"#!{moors['orchard'][0]}\n{TEXT}")
    ran = moor.kalyx("why", "program:hivescale-read", "--json", **on_path)
    assert ran.json["findings"][0]["cause"] == "first-line-dead" and "starts" in ran.json["findings"][0]["message"]
    command = ran.json["findings"][0]["fixes"][0]["steps"][0]["command"]
    assert command[0] == python
    for name in moors:
        moor.kernel(name, [moors[name][0], "-m", "x", "-f", "{connection_file}"])
    (site / "sitecustomize.py").write_text(f"open({str(moor.root / 'ran')!r}, 'a')\n")
    rows = moor.kalyx("why", "hivescale", "--everywhere", "--json").json
    outcome = {
        row["target"]["name"]: row["imports"][0]["outcome"]
        for row in rows["seats"]
        if row["target"]["seat"] == "kernel"
    }
    assert rows["module"] == "hivescale" and outcome == {"orchard": "imports", "heath": "fails"}
    (site / "sitecustomize.py").unlink()
    assert moor.kalyx("why", "hivescale", "json", "--everywhere").status == 2


def test_fix_carries_out_the_first_that_works_and_tries_again(moor, tmp_path):
    from kalyx.demo.wheels import Package, write_wheel

    wheels = tmp_path / "wheels"
    wheels.mkdir()
    write_wheel(
        Package("hivescale", "2.1", {"hivescale.py": "import nectarflow\n"}, requires=["nectarflow>=1"]), str(wheels)
    )
    write_wheel(Package("nectarflow", "1.2", {"nectarflow.py": ""}), str(wheels))
    prefix = moor.root / "heath"
    python = make_environment(NEW, prefix)
    offline = {"PIP_FIND_LINKS": str(wheels), "PIP_NO_INDEX": "1"}
    argv = [python, "-m", "pip", "install", "-q", "--no-deps", "hivescale"]
    subprocess.run(argv, check=True, env={**moor.variables, **offline})
    words = ["why", "hivescale", "--in", prefix, "--fix", "--json"]
    dry = moor.kalyx(*words, "--dry-run", **offline)
    assert dry.status == 1 and not dry.json["done"] and "nectarflow" in dry.json["plan"][0]["action"]
    assert moor.kalyx(*words, **offline).status == 2, "nothing is changed without consent"
    ran = moor.kalyx(*words, "--yes", **offline)
    assert ran.status == 0 and ran.json["done"], ran.out
    assert [item["outcome"] for item in ran.json["before"] + ran.json["imports"]] == ["fails", "imports"]
    assert moor.kalyx(*words, "--yes").status == 0
    by_hand = moor.kalyx("why", "gone_for_good", "--in", prefix, "--fix", "--yes")
    assert by_hand.status == 2 and "by hand" in by_hand.err


def test_a_folder_that_lies_right_here_is_a_target(moor):
    """Without a sign that it is a path: ``.venv`` in two projects is nobody's name alone."""
    for folder in (moor.folder, moor.root / "autumn"):
        make_environment(NEW, folder / ".venv", "--without-pip")
    for words in (["packages", ".venv"], ["enter", ".venv"], ["why", "json", "--in", ".venv"], ["discard", ".venv", "--dry-run"]):
        ran = moor.kalyx(*words)
        assert ran.status == 0 and "spring/.venv" in ran.out and "autumn" not in ran.out, (words, ran.out + ran.err)
    assert "nothing here is called" in moor.kalyx("packages", ".venw").err


def test_a_notebook_whose_kernel_is_not_registered(moor):
    """It prints the lines that here prints; twins both name the same one to remove."""
    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    (next((moor.root / "heath" / "lib").glob("python*")) / "site-packages" / "ipykernel_launcher.py").write_text("")
    for name in ("heath", "twin"):
        moor.kernel(name, [python, "-m", "ipykernel_launcher", "-f", "{connection_file}"])
    moor.notebook("spring.ipynb", "orchard")
    (finding,) = moor.kalyx("why", "hivescale", "--in", "spring.ipynb", "--json").json["imports"][0]["findings"]
    (told,) = [item for item in moor.kalyx("here", "--json").json["findings"] if item["cause"] == "kernel-absent"]
    asked, shown = (sorted(step["line"] for fix in item["fixes"] for step in fix["steps"]) for item in (finding, told))
    assert finding["cause"] == "kernel-absent" and asked == shown != []
    assert "; hivescale is missing there" in " ".join(fix["message"] for fix in finding["fixes"] if fix["state"] == "may-help")
    twins = [item for kernel in moor.kalyx("kernels", "--json").json["kernels"] for item in kernel["findings"] if item["cause"] == "twin"]
    assert [twin["fixes"][0]["steps"][0]["line"] for twin in twins] == ["kalyx unregister twin"] * 2


def test_what_a_remedy_did_in_vain_is_put_back(moor, wheels):
    """Packages added, replaced, removed; a file moved; an environment made: as they were, by plain steps, last first."""
    prefix = moor.root / "heath"
    python = make_environment(NEW, prefix)
    variables = {**moor.variables, "PIP_FIND_LINKS": str(wheels), "PIP_NO_INDEX": "1"}
    install = [python, "-m", "pip", "install", "-q", "--no-deps"]
    subprocess.run([*install, "nectarflow==1.0", "combtool"], check=True, env=variables)
    (moor.folder / "hivescale.py").write_text("")
    made = str(moor.root / "made")
    old = moor.root / "old"
    old.mkdir()
    (old / "pyvenv.cfg").write_text("home = /opt/python3.5/bin\n")
    site = next(prefix.glob("lib/python*/site-packages"))
    aside, record = (str(site / f"{start}ectarflow-1.0.dist-info") for start in "~n")
    os.rename(record, aside)  # as an installer leaves it that is stopped
    steps = [Move(path=aside, to=record), Move(path=str(old), to=f"{old}-3.5"), CreateEnvironment(prefix=str(old), python=python), Install(python=python, requirements=["nectarflow==1.2", "hivescale"], options=["--no-deps"]),
             Uninstall(python=python, names=["combtool"]), Move(path=f"{moor.folder}/hivescale.py", to=f"{moor.folder}/own.py"), CreateEnvironment(prefix=made, python=python)]  # fmt: skip

    def machine() -> Machine:
        return Machine(LiveReader(variables, str(moor.folder)), LiveRunner)

    def state() -> tuple[object, ...]:
        here = machine().environments.at(str(prefix)).site_packages
        return sorted((item.name, item.version) for item in machine().installed(here)), sorted(os.listdir(moor.folder)), os.path.exists(made), os.listdir(old)

    fix = Fix(message="in vain", steps=[fixes.step(machine(), step) for step in steps])
    before, found = state(), []
    for argv in [step.command for step in fix.steps]:
        found.append(state_before(machine(), fix.steps[len(found)]))
        fixed = moor.kalyx(*argv[1:], "--yes", **variables).status if argv[0] == "kalyx" else subprocess.run(argv, check=True, env=variables).returncode
        assert fixed == 0
    assert state() != before
    said = put_back(machine(), found, lambda line: None)
    assert state() == before and len(said) == 7 and all(line.startswith("undone: ") for line in said), said


def test_eggs_that_a_path_file_names_are_distributions(moor):
    """A folder and an archive of the days before wheels: name, version, modules, and whose an import is."""
    prefix = moor.root / "heath"
    python = make_environment(NEW, prefix, "--without-pip")
    site = next(prefix.glob("lib/python*/site-packages"))
    parts = {"EGG-INFO/PKG-INFO": "Metadata-Version: 1.0\nName: {0}\nVersion: 1.5\n", "EGG-INFO/top_level.txt": "{0}\n", "{0}/__init__.py": ""}
    with zipfile.ZipFile(site / "frames-1.5-py3.egg", "w") as archive:
        for name, text in parts.items():
            archive.writestr(name.format("frames"), text.format("frames"))
            path = site / "combs-1.5-py3.egg" / name.format("combs")
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text.format("combs"))
    (site / "easy-install.pth").write_text("./combs-1.5-py3.egg\n./frames-1.5-py3.egg\n")
    found = moor.kalyx("packages", prefix, "--json").json["packages"]
    assert [(item["name"], item["version"], item["modules"], item["origin"]) for item in found] == [
        ("combs", "1.5", ["combs"], "linked"), ("frames", "1.5", ["frames"], "linked")]  # fmt: skip
    for name in ("combs", "frames"):
        (answer,) = moor.kalyx("why", name, "--in", python, "--json").json["imports"]
        assert answer["outcome"] == "imports" and answer["distribution"] == {"name": name, "version": "1.5"}
