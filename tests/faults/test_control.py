"""The control experiment: faults that no cause names, found by a fresh environment or another seat where it works.

Each is planted in an environment, explained, and fixed as printed; nothing outside a temporary folder changes meanwhile.
"""

import json
import os
import shutil
import subprocess
import sys

import pytest

from kalyx.demo.wheels import Package
from tests.conftest import tree
from tests.equipment import CAN_MAKE
from tests.faults.environments import Environments, apply, installation, plain, standin
from tests.faults.loading import decisive_difference_of_a_file_in_the_folder

READS = "import json, os\njson.load(open(os.path.join(os.path.dirname(__file__), 'd.json')))['grams']\n"
LOADS_ALL = "import importlib, pkgutil\nfor m in pkgutil.iter_modules(__path__):\n    importlib.import_module('combplug.' + m.name)\n"
LOADS_TOP = "import importlib, pkgutil\nfor m in pkgutil.iter_modules():\n    if m.name.startswith('waxplugin'):\n        importlib.import_module(m.name)\n"
MINDS = "import combdep\nif combdep.V == 2:\n    raise RuntimeError('swarm')\n"


def data_file(envs):
    """A data file of a package was edited: what raises is not what was changed."""
    for make in (envs.offer, lambda package: envs.install("heath", package), lambda package: envs.install("orchard", package)):
        make(Package("comb-data", "1.0", {"combdata/__init__.py": READS, "combdata/d.json": '{"grams": 1}'}, requires=["comb-core"]))
        make(plain("comb-core"))
    (envs.site() / "combdata" / "d.json").write_text('{"gram": 1}')
    return "combdata", "files of comb-data 1.0 here differ"


def left_behind_in_a_package(envs):
    package = Package("combplug", "1.0", {"combplug/__init__.py": LOADS_ALL, "combplug/good.py": ""})
    envs.offer(package), envs.install("heath", package), envs.install("orchard", package)
    (envs.site() / "combplug" / "older.py").write_text("raise RuntimeError('an old plug-in')\n")
    return "combplug", "older.py in the folder of packages, which no package installed"


def left_behind_beside_them(envs):
    package = plain("waxtop", source=LOADS_TOP)
    envs.offer(package), envs.install("heath", package), envs.install("orchard", package)
    (envs.site() / "waxplugin_old.py").write_text("raise RuntimeError('an old plug-in')\n")
    return "waxtop", "waxplugin_old.py in the folder of packages, which no package installed"


def version_that_nothing_bounds(envs):
    package = plain("combmind", source=MINDS, requires=["combdep"])
    envs.offer(package), envs.install("heath", package), envs.install("orchard", package)
    for version in (1, 2, 3):
        envs.offer(plain("combdep", f"{version}.0", source=f"V = {version}\n"))
    envs.install("heath", plain("combdep", "2.0", source="V = 2\n"))
    envs.install("orchard", plain("combdep", "3.0", source="V = 3\n"))
    return "combmind", "fails with combdep 2.0, and works with combdep==3.0"


def release_that_never_works(envs):
    envs.offer(plain("combbad", "1.0", source="raise RuntimeError('never')\n"))
    envs.offer(plain("combbad", "0.9"))
    envs.install("heath", plain("combbad", "1.0", source="raise RuntimeError('never')\n"))
    envs.install("orchard", plain("combbad", "0.9"))
    return "combbad", "fails with combbad 1.0, and works with combbad==0.9"


PLANTED = [data_file, left_behind_in_a_package, left_behind_beside_them, version_that_nothing_bounds, release_that_never_works]


@pytest.fixture(scope="module")
def envs(tmp_path_factory):
    made = Environments(CAN_MAKE[-2:][0], tmp_path_factory.mktemp("envs"))
    made.moor.variables["XDG_CACHE_HOME"] = str(tmp_path_factory.mktemp("cache"))
    return made


@pytest.mark.parametrize("planted", PLANTED)
@pytest.mark.parametrize("by", ["--prove", "--against"])
def test_what_no_cause_names_is_found(envs, planted, by):
    module, words = planted(envs)
    question = ["why", module, "--in", envs.heath]
    how = ["--prove", "--wheels", str(envs.wheels)] if by == "--prove" else ["--against", envs.orchard]
    before = tree(envs.moor.root)
    ran = envs.moor.kalyx(*question, *how, "--json")
    assert tree(envs.moor.root) == before
    first = ran.json["imports"][0]["findings"][0]
    assert (first["cause"], first["certainty"]) == ("decisive-difference", "proven") and words in first["message"], first
    fix = first["fixes"][0]
    if by == "--against" and planted is data_file:
        assert (fix["state"], fix["tried"]) == ("certain", None)  # what an installer would bring was not tried
        return
    assert fix["state"] == "tested", fix
    apply(envs, fix, question, {})
    assert envs.moor.kalyx(*question).status == 0


def test_without_an_index_the_other_environments_are_compared(envs):
    module, words = version_that_nothing_bounds(envs)
    empty = envs.moor.root / "no wheels"
    empty.mkdir(exist_ok=True)
    ran = envs.moor.kalyx("why", module, "--in", envs.heath, "--prove", "--wheels", str(empty), "--json", PIP_FIND_LINKS="")
    first = ran.json["imports"][0]["findings"][0]
    assert first["cause"] == "decisive-difference" and words in first["message"], ran.json["notes"]
    assert ran.json["notes"][0].startswith("not compared with a fresh environment")


MODES = "import os\nif os.environ.get('SWARM_TOKEN') != 'swordfish':\n    raise RuntimeError('no token')\n"


@pytest.mark.parametrize("here, there, fact", [
    ({}, {"SWARM_TOKEN": "swordfish"}, "SWARM_TOKEN is not set here"),
    ({"SWARM_TOKEN": "marlin", "PYTHONUTF8": "1"}, {"SWARM_TOKEN": "swordfish"}, "SWARM_TOKEN is set here"),
])  # fmt: skip
def test_a_variable_of_the_other_seat_decides_and_no_value_of_it_is_told(envs, here, there, fact):
    envs.install("heath", plain("tokened", source=MODES))
    envs.install("heath", standin())
    argv = [envs.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"]
    envs.moor.kernel("fails", argv, env=here), envs.moor.kernel("works", argv, env=there)
    ran = envs.moor.kalyx("why", "tokened", "--in", "kernel:fails", "--against", "kernel:works", "--json")
    first = ran.json["imports"][0]["findings"][0]
    assert first["cause"] == "decisive-difference" and first["evidence"][0]["fact"].startswith(fact), first
    assert "swordfish" not in ran.out and "marlin" not in ran.out


FULL = "files = [open('/dev/null') for _ in range(90)]\n"


@pytest.mark.parametrize("limit, state, cause", [("-Sn 60", "tested", "decisive-difference"), ("-n 60", "may-help", "raises")])
def test_a_limit_is_found(envs, limit, state, cause):
    """The soft limit by raising it; one that nobody may raise by the words of the system, with its number."""
    envs.install("heath", plain("manyfiles", source=FULL))
    shell = ["setpriv", "--bounding-set=-sys_resource", "bash", "-c", f'ulimit {limit}; exec "$@"', "x"]
    shell = shell if os.geteuid() == 0 else shell[2:]
    ran = envs.moor.kalyx("why", "manyfiles", "--in", envs.heath, "--json", before=tuple(shell))
    first = ran.json["imports"][0]["findings"][0]
    assert (first["cause"], first["fixes"][0]["state"]) == (cause, state), first
    assert any("open files" in evidence["fact"] for evidence in first["evidence"])


@pytest.mark.parametrize("name", ["--index-url=http://moor.invalid", "x @ file:///moor/x", "-e .", "comb; import os"])
def test_a_name_that_no_distribution_may_have_reaches_no_installer(envs, name):
    envs.install("heath", plain("combname", source="raise RuntimeError('never')\n"))
    metadata = envs.site() / "combname-1.0.dist-info" / "METADATA"
    metadata.write_text(metadata.read_text().replace("Name: combname", f"Name: {name}"))
    ran = envs.moor.kalyx("why", "combname", "--in", envs.heath, "--prove", "--wheels", str(envs.wheels), "--json")
    assert "may be called" in ran.json["notes"][0], ran.json["notes"]


def test_the_path_files_of_another_environment_do_not_run(envs):
    """Its packages are compared, and its start-up code is not the user's to have run."""
    module, words = version_that_nothing_bounds(envs)
    told = envs.moor.root / "told"
    (envs.site("orchard") / "tells.pth").write_text(f"import os; open({str(told)!r}, 'w').close()\n")
    empty = envs.moor.root / "no wheels"
    empty.mkdir(exist_ok=True)
    ran = envs.moor.kalyx("why", module, "--in", envs.heath, "--prove", "--wheels", str(empty), "--json", PIP_FIND_LINKS="")
    assert words in ran.json["imports"][0]["findings"][0]["message"] and not told.exists()
    (envs.site("orchard") / "tells.pth").unlink()


def test_where_a_fresh_environment_fails_too_nothing_here_is_blamed(envs):
    package = plain("combnever", source="raise RuntimeError('never')\n")
    envs.offer(package), envs.install("heath", package)
    ran = envs.moor.kalyx("why", "combnever", "--in", envs.heath, "--prove", "--wheels", str(envs.wheels), "--json")
    (finding,) = ran.json["imports"][0]["findings"]
    assert finding["cause"] == "raises" and {fix["state"] for fix in finding["fixes"]} == {"may-help"}
    assert ran.json["notes"] == ["in a fresh environment the import fails too; tried with combnever 1.0"]
    against = envs.moor.kalyx("why", "combnever", "--in", envs.heath, "--against", envs.orchard)
    assert against.status == 2 and "does not work in" in against.err


def test_an_upgrade_that_would_change_nothing_is_no_fix(envs):
    """The installer leaves a version that is the newest where it is: that fixes nothing, whatever a fresh copy does."""
    data_file(envs)
    installed = subprocess.run([envs.heath, "-m", "pip", "install", "--upgrade", "comb-data"], env=envs.moor.variables, capture_output=True, check=True)
    assert b"already satisfied" in installed.stdout
    ran = envs.moor.kalyx("why", "combdata", "--in", envs.heath, "--prove", "--wheels", str(envs.wheels), "--json")
    fixes = [fix for finding in ran.json["imports"][0]["findings"] for fix in finding["fixes"]]
    assert [fix["state"] for fix in fixes if "--upgrade" in fix["steps"][0].get("options", [])] in ([], ["may-help"])


def test_the_undo_of_a_fix_takes_everything_back(envs):
    """Also the packages that came along with what was named, and the version that was there of another."""
    envs.offer(plain("comb-tool", "2.0", requires=["comb-base>=2", "comb-extra"]))
    envs.offer(plain("comb-base", "2.0")), envs.offer(plain("comb-base", "1.0")), envs.offer(plain("comb-extra", "1.0"))
    envs.install("heath", plain("comb-base", "1.0"))
    envs.install("heath", plain("asker", source="import comb_tool\n", requires=["comb-tool>=2"]))
    before = versions(envs)
    ran = envs.moor.kalyx("why", "asker", "--in", envs.heath, "--fix", "--yes", "--json")
    assert ran.json["done"] and versions(envs) != before
    said = envs.moor.kalyx("why", "asker", "--in", envs.heath, "--json").json["imports"][0]
    assert said["outcome"] == "imports"
    for line in ran.json["undo"]:
        subprocess.run(line, shell=True, check=True, env=envs.moor.variables, capture_output=True)
    assert versions(envs) == before


def versions(envs) -> set[str]:
    return {entry.name for entry in envs.site().glob("*.dist-info")}


NO_LINKS = """import os, sys
links, real, left = [], os.symlink, int(sys.argv.pop(1))
def symlink(*words, **more):
    links.append(words)
    if len(links) > left:
        raise OSError(28, "No space left on device")
    return real(*words, **more)
os.symlink = symlink
from kalyx.cli.entry import main
sys.exit(main())
"""


@pytest.mark.parametrize("links", [0, 2, 5])
def test_where_no_link_can_be_made_there_is_an_answer_all_the_same(envs, links, tmp_path):
    """Room that is used up, or a system that gives the right to nobody: less is searched, and no fix counts as failing."""
    source = "import json, os\npath = os.path.expanduser('~/.config/linkless/rc.json')\nif os.path.exists(path):\n    json.load(open(path))\n"
    envs.install("heath", plain("linkless", source=source))
    folder = envs.moor.root / ".config" / "linkless"
    folder.mkdir(parents=True, exist_ok=True)
    for name in ("a.json", "b.json", "rc.json"):
        (folder / name).write_text("{" if name == "rc.json" else "{}")
    (tmp_path / "full.py").write_text(NO_LINKS)
    for more in ([], ["--prove", "--wheels", str(envs.wheels)]):
        words = [sys.executable, tmp_path / "full.py", str(links), "why", "linkless", "--in", envs.heath, "--json", *more]
        done = subprocess.run(words, capture_output=True, text=True, env=envs.moor.variables, cwd=envs.moor.folder, check=False)
        assert done.returncode == 1 and "Traceback" not in done.stderr and "refused" not in done.stderr, done.stderr
        first = json.loads(done.stdout)["imports"][0]["findings"][0]
        assert first["cause"] in ("raises", "decisive-difference")
        named = [path for path in first["evidence"] if path["path"] and "linkless" in path["path"]]
        assert first["certainty"] == ("likely" if first["cause"] == "decisive-difference" and len(named) > 1 else "proven"), first
    (folder / "rc.json").unlink()


def test_a_fix_is_tried_also_where_the_installer_cannot_tell_beforehand(tmp_path):
    """The oldest pip here; a reinstallation of the same version. What no import finds is not tried, and does not fail."""
    envs = Environments(CAN_MAKE[0], tmp_path)
    envs.install("heath", plain("queenbank")), envs.offer(plain("queenbank"))
    shutil.rmtree(envs.site() / "queenbank")
    (finding,) = envs.moor.kalyx("why", "queenbank", "--in", envs.heath, "--prove", "--json").json["imports"][0]["findings"]
    assert finding["cause"] == "gutted" and finding["fixes"][0]["tried"] == "works", finding
    words, cause = decisive_difference_of_a_file_in_the_folder(envs)
    (finding,) = envs.moor.kalyx(*words, "--prove", "--json").json["imports"][0]["findings"]
    assert finding["cause"] == cause and finding["fixes"][0]["tried"] != "fails", finding


def test_where_the_system_forbids_to_install_the_environment_that_has_it_comes_first(tmp_path):
    """In a shell; without the mark of the system's package manager (PEP 668) the installation comes first."""
    envs = Environments(CAN_MAKE[-1], tmp_path)
    envs.install("orchard", plain("queenbank"))
    python = installation(envs.version, envs.moor.root / "base")
    (python.parent / "python3").symlink_to(python.name)
    envs.moor.variables |= {"PATH": f"{python.parent}:/usr/bin:/bin", "KALYX_ONLY_BELOW": str(envs.moor.root)}

    def first_fixes():
        (answer,) = envs.moor.kalyx("why", "queenbank", "--in", "shell", "--static", "--json").json["imports"]
        return [[step["kind"] for step in fix["steps"]][-1] for fix in answer["findings"][0]["fixes"]]

    mark = envs.moor.root / "base" / "lib" / f"python{envs.version}" / "EXTERNALLY-MANAGED"
    mark.unlink(missing_ok=True)  # a system's own Python brought it
    assert first_fixes() == ["install", "activate"]
    mark.write_text("[externally-managed]\n")
    assert first_fixes() == ["activate", "create-environment"]
