"""Faults made for real, explained, fixed as printed, and working afterwards.

For each cause at least two builders, each on an interpreter that changes from
builder to builder; on every one of them with KALYX_LONG set. A builder makes the fault in a real environment with made-up
packages and returns what to ask, the cause, and where it has them variables for the call and what fixes it where
the fix is by hand. The first fix is carried out as printed.
"""

import csv
import difflib
import inspect
import json
import os
import re
import shlex
import socket
import subprocess
import zlib
from pathlib import Path
from typing import get_args

import pytest

import kalyx
from kalyx.core.diagnosis import catalogue
from kalyx.core.model.steps import Step
from kalyx.core.text.blinding import Blinding
from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import Moor, make_environment, put_in, tree, without_times
from tests.equipment import BY_VERSION, CAN_MAKE, LONG, WANT, running_with
from tests.faults import answered, elementary, loading, missing
from tests.faults.environments import Environments, apply
from tests.kept import answer_differs

CAPTURED = bool(os.environ.get("KALYX_CAPTURED"))
PROVE = bool(os.environ.get("KALYX_PROVE"))
FIXED = bool(os.environ.get("KALYX_FIXED"))
_by_version: dict[str, Environments] = {}

CAUSES = tuple(cause.replace("-", "_") for cause in catalogue.ABOUT)
BUILDERS = [
    builder
    for module in (elementary, missing, answered, loading)
    for name, builder in vars(module).items()
    if inspect.isfunction(builder) and builder.__module__ == module.__name__ and name.startswith(CAUSES)
]


@pytest.fixture
def envs(request, tmp_path_factory):
    version = request.param
    if version not in _by_version:
        _by_version[version] = Environments(version, tmp_path_factory.mktemp("envs" + version.replace(".", "")))
    _by_version[version].tidy()
    return _by_version[version]


def pairs():
    for number, builder in enumerate(BUILDERS):
        versions = getattr(builder, "versions", CAN_MAKE)
        if not versions:
            wanted = pytest.mark.skip(reason=f"{WANT}a second Python")
            yield pytest.param(CAN_MAKE[-1], builder, marks=wanted, id=builder.__name__)
            continue
        for version in versions if LONG else [versions[number % len(versions)]]:
            yield pytest.param(version, builder, id=f"{builder.__name__}-{version}")


def captured(moor, words, variables):
    """The answer to the same question, from a capture of the machine."""
    file = moor.root / "moor.capture"
    file.unlink(missing_ok=True)
    made = moor.kalyx("capture", file, "--why", shlex.join([*map(str, words[1:]), "--timeout", "20"]), **variables)
    assert made.status == 0, made.err
    return without_times(moor.kalyx(*in_stand_ins(moor, [str(word) for word in words]), "--on", file, "--json", **variables).json)


def searched_here(answer):
    """Without the word that what decides is not searched for on a capture."""
    for item in answer["imports"]:
        item["not_judged"] = [row for row in item["not_judged"] if row["cause"] != "decisive-difference"]
    return answer


def in_stand_ins(moor, value):
    """With the names of this user and machine as a capture has them."""
    blind = Blinding({socket.gethostname(), *(moor.variables.get(name, "") for name in ("USER", "LOGNAME"))}, [moor.variables["HOME"]])
    return json.loads(blind.stand_ins(json.dumps(value).encode()))


def word_for_word(envs: Environments, name: str, answer: dict) -> str:
    """What differs from the answer that is kept of this fault."""
    real = BY_VERSION[envs.version]
    names = {str(envs.moor.root): "moor", str(envs.wheels.parent): "made", real.prefix: "base", real.executable: "interpreter", str(Path(kalyx.__file__).parent): "kalyx"}
    made_by = f"Python {real.version}, user {'root' if os.geteuid() == 0 else 'other'}"
    return answer_differs(Path(__file__).with_name("answers") / f"{name}.json", without_times(answer), names, made_by)


def carried_out_by_kalyx(fix: dict) -> bool:
    """Whether ``--fix`` carries out each step: those that only run what was asked about another way, the user does."""
    changes = {kind.__struct_config__.tag: kind.changes for kind in get_args(Step)}
    return all(step["command"] is not None and changes[step["kind"]] for step in fix["steps"])


@pytest.mark.parametrize("envs, builder", list(pairs()), indirect=["envs"])
def test_fault(envs, builder, record_property):
    words, cause, variables, fix = (*builder(envs), None, None)[:4]
    record_property("cause", cause)
    record_property("version", envs.version)
    variables = dict(variables or {})
    # Of some the fixes are tried beforehand, on something that is thrown away: they work there too.
    proved = ["--prove"] if LONG or zlib.crc32(builder.__name__.encode()) % 20 == 0 or PROVE else []
    ran = envs.moor.kalyx(*words, "--json", *proved, **variables)
    assert ran.status == 1, ran.out + ran.err
    (answer,) = ran.json["imports"]
    compares = not proved and "-" not in words and "--timeout" not in words and (CAPTURED or zlib.crc32(builder.__name__.encode()) % 24 == 1)
    if compares and cause == "decisive-difference":
        (there,) = captured(envs.moor, words, variables)["imports"]
        assert there["outcome"] == "fails" and [row["cause"] for row in there["not_judged"]] == [cause], there
        assert all(finding["cause"] != cause for finding in there["findings"]), there
    elif compares:
        told = [re.sub(r"0x[0-9a-f]+", "0x", json.dumps(item, indent=1)).splitlines() for item in (without_times(in_stand_ins(envs.moor, ran.json)), searched_here(captured(envs.moor, words, variables)))]
        assert told[0] == told[1], "\n".join(difflib.unified_diff(*told, n=0))
    findings = answer["findings"]
    assert [f["cause"] for f in findings][:1] == [cause], json.dumps(answer, indent=1)
    if not proved:
        difference = word_for_word(envs, builder.__name__, answer)
        assert not difference, difference
    first = findings[0]
    assert first["fixes"][0]["tried"] != "fails", first["fixes"]
    record_property("tried", first["fixes"][0]["tried"])
    assert first["evidence"] and first["fixes"]
    for evidence in first["evidence"]:
        if evidence["path"] and cause != "interpreter-gone":
            assert os.path.lexists(evidence["path"]), evidence
    if builder is elementary.absent_wholly:
        assert all(step["command"] is None for fix in first["fixes"] for step in fix["steps"])
        return
    if fix is not None:
        # The step is told, and done here by hand; some are another way to write the import.
        assert first["fixes"][0]["steps"], first
        again = [*(fix() or words[:2]), *words[2:]]
    elif "-" not in words and (FIXED or zlib.crc32(builder.__name__.encode()) % 6 == 3) and carried_out_by_kalyx(first["fixes"][0]):
        again = words
        ran = envs.moor.kalyx(*words, "--fix", "--yes", "--json", **{k: v for k, v in variables.items() if v is not None})
        if ran.status == 2 and "you did not name it" in ran.json["message"]:  # as printed, its line names it
            again = apply(envs, first["fixes"][0], words, variables)
        else:
            assert ran.status == 0 and ran.json["done"], ran.out + ran.err
    else:
        again = apply(envs, first["fixes"][0], words, variables)
    ran = envs.moor.kalyx(*again, "--json", **{k: v for k, v in variables.items() if v is not None})
    assert ran.status == 0 and ran.json["imports"][0]["outcome"] == "imports", ran.out
    back = first["fixes"][0]["undo"]
    if back and (back.startswith("kalyx ") or zlib.crc32(builder.__name__.encode()) % 4 == 2):
        # The way back works, too: what was wrong is wrong again.
        undone = apply(envs, {"steps": [{"command": shlex.split(back), "line": back}]}, words, variables)
        ran = envs.moor.kalyx(*undone, "--json", **{k: v for k, v in variables.items() if v is not None})
        assert ran.json["imports"][0]["findings"][0]["cause"] == cause, ran.out


def test_a_package_that_was_put_in_is_as_the_installer_leaves_it(tmp_path):
    python = make_environment(CAN_MAKE[-1], tmp_path / "heath")
    site = next((tmp_path / "heath").glob("lib/python*/site-packages"))
    files = {"hive/__init__.py": "", "hive/a part.py": "", "hive/data/x.txt": "x"}
    wheel = write_wheel(Package("hive-scale", "1.0", files, requires=["comb"]), str(tmp_path))
    put_in(write_wheel(Package("hive-scale", "0.9", {"hive/older.py": ""}), str(tmp_path)), site)
    put_in(wheel, site)
    mine = tree(site)
    put_in(write_wheel(Package("hive-scale", "0.9", {"hive/older.py": ""}), str(tmp_path)), site)
    subprocess.run([python, "-m", "pip", "install", "-q", "--no-deps", "--no-index", "--no-compile", "--find-links", tmp_path, "hive-scale==1.0"], check=True)
    others = tree(site)
    rows = [sorted(csv.reader((site / "hive_scale-1.0.dist-info" / "RECORD").read_text().splitlines()))]
    put_in(wheel, site)
    rows.append(sorted(csv.reader((site / "hive_scale-1.0.dist-info" / "RECORD").read_text().splitlines())))
    record = "hive_scale-1.0.dist-info/RECORD"
    assert mine.pop(record) and others.pop(record) and mine == others and rows[0] == rows[1]


def test_every_cause_of_an_import_has_two_builders():
    without = {"no-interpreter", "unreadable", "stale-in-memory", "hangs"}  # built elsewhere
    for cause, about in catalogue.ABOUT.items():
        if "import" in about.split() and cause not in without:
            made = [builder for builder in BUILDERS if builder.__name__.startswith(cause.replace("-", "_"))]
            assert len(made) >= 2, cause


def test_hangs_tells_where_it_stands(tmp_path):
    moor = Moor(tmp_path / "moor")
    (moor.folder / "sleeper.py").write_text("import time\n\ndef wait():\n    time.sleep(600)\n\nwait()\n")
    ran = moor.kalyx("why", "sleeper", "--in", BY_VERSION[CAN_MAKE[-1]].executable, "--timeout", "3", "--json")
    (finding,) = ran.json["imports"][0]["findings"]
    assert finding["cause"] == "hangs"
    assert [(e["path"], e["line"]) for e in finding["evidence"][1:3]] == [
        (str(moor.folder / "sleeper.py"), 4),
        (str(moor.folder / "sleeper.py"), 6),
    ]
    assert not running_with("sleeper")


def test_a_trial_may_not_take_the_machines_memory(tmp_path):
    moor = Moor(tmp_path / "moor")
    (moor.folder / "greedy.py").write_text("import resource\nprint(resource.getrlimit(resource.RLIMIT_DATA)[0])\n")
    ran = moor.kalyx("why", "greedy", "--in", BY_VERSION[CAN_MAKE[-1]].executable, "--json")
    most = int(ran.json["imports"][0]["output"])
    assert 2 << 30 <= most < os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") or most == 2 << 30


def test_a_moved_environment_works_again_as_printed(tmp_path):
    """Also the commands of its packages, which an installer wrote for the old place."""
    envs = Environments(CAN_MAKE[-2:][0], tmp_path)
    files = {"combcmd/__init__.py": "def main():\n    print('combs')\n", "combcmd-1.0.dist-info/entry_points.txt": "[console_scripts]\ncombcmd = combcmd:main\n"}
    envs.offer(Package("combcmd", "1.0", files))
    bundled = Path(BY_VERSION[envs.version].prefix, "lib", f"python{envs.version}", "ensurepip", "_bundled")
    variables = {**envs.moor.variables, "PIP_FIND_LINKS": f"{envs.wheels} {bundled} /usr/share/python-wheels"}
    subprocess.run([envs.heath, "-m", "pip", "install", "-q", "combcmd"], check=True, env=variables)
    moved = (envs.moor.root / "heath").rename(envs.moor.root / "heather")
    survey = envs.moor.kalyx("survey", "--unsound", "--json")
    (finding,) = next(environment for environment in survey.json["environments"] if environment["name"] == "heather")["findings"]
    assert finding["cause"] == "moved"
    for step in finding["fixes"][0]["steps"]:
        assert "NAME" not in step["line"]
        subprocess.run(step["line"], shell=True, check=True, env=variables, capture_output=True)
    assert subprocess.run([moved / "bin" / "combcmd"], capture_output=True, check=True).stdout == b"combs\n"
    assert all(environment["name"] != "heather" for environment in envs.moor.kalyx("survey", "--unsound", "--json").json["environments"])
