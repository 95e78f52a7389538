"""Environments made, entered, listed and compared for real; stopped half-way, and what is left then."""

import json
import os
import subprocess
from pathlib import Path

import pytest

from tests.conftest import make_environment, put_in
from tests.equipment import BY_VERSION, CAN_MAKE, NEW, OLD
from tests.faults.environments import installation

METADATA = "import json; from importlib import metadata; print(json.dumps(sorted([d.metadata['Name'], d.version] for d in metadata.distributions())))"


@pytest.mark.parametrize("version, name", [(OLD, "a b 'c' \u017elu\u0165"), (NEW, "-dash" + "x" * 120)])
def test_prepare_makes_fills_and_checks(moor, wheels, version, name):
    base = BY_VERSION[version].executable
    path = moor.root / "made" / name
    ran = moor.kalyx(
        "prepare", str(path), "--python", base, "--want", "hivescale", "--wheels", wheels, "--yes", "--json"
    )
    answer = ran.json
    assert ran.status == 0 and answer["done"], ran.out + ran.err
    assert {package["name"]: package["version"] for package in answer["packages"]} == {"hivescale": "2.1"}
    assert [item["outcome"] for item in answer["imports"]] == ["imports"]
    assert (
        answer["environment"]["version"] == BY_VERSION[version].version
        and answer["environment"]["condition"] == "sound"
    )
    assert "*" in (path / ".gitignore").read_text() and not (path / ".kalyx-unfinished").exists()
    journal = moor.root / ".local" / "state" / "kalyx" / "journal"
    assert not (journal.is_dir() and list(journal.iterdir())), "of what is whole nothing stands in the journal"
    again = moor.kalyx("prepare", str(path), "--python", base, "--yes")
    assert again.status == 2 and "already" in again.err


def test_prepare_refuses_and_clears(moor, wheels):
    base = installation(NEW, moor.root.parent / "base")
    full = moor.root / "full"
    full.mkdir()
    (full / "data.txt").write_text("mine")
    (moor.root / "file").touch()
    manager = moor.root / "spring" / "hives" / "bin" / "hives"
    for place in (manager.parent, moor.root / "spring" / "hives" / "versions"):
        place.mkdir(parents=True)
    manager.write_text("#!/bin/sh\n")
    manager.chmod(0o755)
    moor.variables["PYENV_ROOT"] = str(manager.parents[1])
    cases = [
        ([full], "not empty"),
        ([moor.root / "file"], "is not a folder"),
        ([moor.root / "file" / "below"], "is not a folder"),
        ([moor.root / "n", "--want", "no such==="], "is not a requirement"),
        ([moor.root / "n", "--want", "nowhere-to-be-had", "--wheels", wheels], "nowhere-to-be-had"),
        ([moor.root / "n", "--from", "gone.txt"], "there is nothing at this path"),
        ([moor.root / "n", "--wheels", "gone"], "there is nothing at this path"),
        ([moor.root / "n", "--python", "version:3.77"], f"{manager} install 3.77"),
    ]
    for words, message in cases:
        ran = moor.kalyx("prepare", *([] if "--python" in words else ["--python", base]), *words, "--yes")
        assert ran.status == 2 and message in ran.err and ran.err.count("\n") == 1, ran.err
    assert sorted(path.name for path in moor.root.iterdir()) == ["file", "full", "spring"]
    assert (full / "data.txt").read_text() == "mine"
    torn = moor.kalyx(
        "prepare", moor.root / "n", "--python", base, "--want", "torn-comb", "--wheels", wheels, "--yes", "--json"
    )
    assert torn.status == 1 and torn.json["imports"][0]["outcome"] == "fails"


def test_prepare_with_a_project_and_a_kernel(moor, wheels):
    project = moor.folder / "pyproject.toml"
    minor = NEW
    project.write_text(
        f'[project]\nname = "spring"\nrequires-python = "=={minor}.*"\ndependencies = ["nectarflow<1.1"]\n'
    )
    variables = {"PYENV_ROOT": os.environ.get("PYENV_ROOT", str(Path.home() / ".pyenv")), "PATH": os.environ["PATH"]}
    ran = moor.kalyx(
        "prepare",
        "env",
        "--from",
        "pyproject.toml",
        "--wheels",
        wheels,
        "--kernel",
        "Spring",
        "--yes",
        "--json",
        **variables,
    )
    answer = ran.json
    assert ran.status == 0, ran.out + ran.err
    assert answer["interpreter"]["version"].startswith(minor + ".")
    assert {package["name"]: package["version"] for package in answer["packages"]} == {
        "nectarflow": "1.0",
    }
    assert answer["rehearsal"]["answered"] and answer["rehearsal"]["kernel"]["label"] == "Spring"
    project.write_text('[project]\nrequires-python = ">=9"\n')
    ran = moor.kalyx("prepare", "other", "--yes", **variables)
    assert ran.status == 2 and "asks for Python >=9" in ran.err and minor in ran.err


@pytest.mark.parametrize("version", [version for version in CAN_MAKE if version not in ("3.6", "3.7")])
def test_packages_are_the_interpreters_own_list(moor, wheels, version):
    prefix = moor.root / "env"
    python = make_environment(version, prefix, "--without-pip", "--system-site-packages")
    (site,) = prefix.glob("lib/python*/site-packages")
    put_in(next(wheels.glob("hivescale-*.whl")), site)
    own = json.loads(
        subprocess.run([python, "-c", METADATA], env=moor.variables, capture_output=True, text=True, check=True).stdout
    )
    answer = moor.kalyx("packages", str(prefix), "--json").json
    mine = sorted([package["name"], package["version"]] for package in answer["packages"] if package["version"])
    assert sorted(map(tuple, mine)) == sorted(map(tuple, own))
    origins = {package["name"]: package["origin"] for package in answer["packages"] if package["hidden_by"] is None}
    assert origins["hivescale"] == "own"


def test_unmet_hidden_and_contrast(moor, wheels):
    one, other = moor.root / "one", moor.root / "other"
    for prefix, names in ((one, ("nectarflow-1.0", "hivescale-2.1")), (other, ("nectarflow-1.2",))):
        make_environment(NEW, prefix)
        for name in names:
            put_in(next(wheels.glob(f"{name}-*.whl")), next(prefix.glob("lib/python*/site-packages")))
    ran = moor.kalyx("packages", one, "--unmet", "--json")
    assert ran.status == 1
    assert [package["unmet"] for package in ran.json["packages"]] == [[{"requirement": "nectarflow>=1.1", "found": "1.0"}]]
    kept = moor.root / "before.json"
    kept.write_text(moor.kalyx("packages", one, "--json").out)
    assert moor.kalyx("contrast", one, one).status == 0
    assert moor.kalyx("contrast", kept, one, "--json").json["same"] is True
    differs = moor.kalyx("contrast", one, other, "--json").json
    found = {each["name"]: (each["left"], each["right"]) for each in differs["differences"]}
    assert found == {"hivescale": ("2.1 (own)", None), "nectarflow": ("1.0 (own)", "1.2 (own)")}


def test_what_kalyx_made_is_found_wherever_it_lies(moor, tmp_path):
    """Also far from the home folder and this one; moved or removed, it is forgotten. A damaged list is an empty one."""
    away = tmp_path / "far" / "away" / "heath"
    away.parent.mkdir(parents=True)
    words = ["prepare", away, "--python", installation(NEW, tmp_path / "base"), "--yes"]
    assert moor.kalyx(*words).status == 0

    def listed() -> bool:
        return str(away) in [environment["prefix"] for environment in moor.kalyx("survey", "--json").json["environments"]]

    (held,) = moor.root.rglob("kalyx/environments.json")
    assert listed()
    for damage in ("{", "[1, \"x\", \"/no/where\"]", "[" * 5000, json.dumps([str(away)] * 3)):
        held.write_text(damage)
        assert listed() == (str(away) in damage)
    assert moor.kalyx("discard", away, "--yes").status == 0 and json.loads(held.read_text()) == []
    away.mkdir()
    refused = moor.kalyx("discard", away, "--yes")
    assert refused.status == 2 and f"rmdir {away}" in refused.err and away.is_dir()
