"""Builders: something else answers to the name, or what answers is not what was meant."""

import zipfile

from kalyx.demo.wheels import Package, write_wheel
from tests.equipment import BY_VERSION
from tests.faults.environments import environment_over, own_base, plain
from tests.faults.missing import project


def folder_answers_empty(envs):
    envs.install("orchard", plain("sedgemat"))
    (envs.moor.folder / "sedgemat").mkdir(exist_ok=True)
    (envs.moor.folder / "sedgemat" / "notes.txt").write_text("")
    return ["why", "from sedgemat import GRAMS", "--in", envs.heath], "folder-answers"


def folder_answers_project_of_that_name(envs):
    project(envs, "rushlight", envs.moor.folder / "rushlight")
    return ["why", "from rushlight import __file__", "--in", envs.heath], "folder-answers"


def older_wins_over_the_base(envs):
    executable, site = own_base(envs, "basewins")
    files = {"peatfire/__init__.py": "", "peatfire/embers.py": ""}
    zipfile.ZipFile(write_wheel(Package("peatfire", "2.0", files), str(envs.wheels))).extractall(site)
    python = environment_over(executable, envs.moor.root / "overwins", "--system-site-packages")
    own = next((envs.moor.root / "overwins" / "lib").glob("python*")) / "site-packages"
    zipfile.ZipFile(write_wheel(plain("peatfire", "1.0"), str(envs.wheels))).extractall(own)
    return ["why", "peatfire.embers", "--in", python], "older-wins"


def older_wins_by_the_path(envs):
    envs.install("heath", plain("turfhouse", "2.0", source="def smoke(): pass\n"))
    old = envs.moor.root / "oldcopies"
    zipfile.ZipFile(write_wheel(plain("turfhouse", "1.0"), str(envs.wheels))).extractall(old)
    return ["why", "from turfhouse import smoke", "--in", envs.heath], "older-wins", {"PYTHONPATH": str(old)}


def _portion(envs, name: str, inner: str) -> None:
    """Another folder of the package, further down the path."""
    folder = envs.moor.root / f"more-{name}"
    (folder / name).mkdir(parents=True)
    (folder / name / f"{inner}.py").write_text("")
    (envs.site() / f"more-{name}.pth").write_text(f"{folder}\n")


def namespace_split_by_an_empty_file(envs):
    envs.install("heath", Package("larkmoor-core", "1.0", {"larkmoor/__init__.py": "", "larkmoor/core.py": ""}))
    envs.offer(Package("larkmoor-core", "1.1", {"larkmoor/core.py": ""}))
    _portion(envs, "larkmoor", "bees")
    return ["why", "larkmoor.bees", "--in", envs.heath], "namespace-split"


def namespace_split_by_code(envs):
    envs.install("heath", Package("fenland-core", "1.0", {"fenland/__init__.py": "REEDS = 1\n"}))
    envs.offer(Package("fenland-core", "1.1", {"fenland/core.py": ""}))
    _portion(envs, "fenland", "otters")
    return ["why", "fenland.otters", "--in", envs.heath], "namespace-split"


def no_parent_package_on_the_path(envs):
    folder = envs.moor.folder / "beehouse"
    folder.mkdir()
    (folder / "__init__.py").write_text("")
    (folder / "frames.py").write_text("COUNT = 10\n")
    (folder / "scales.py").write_text("from .frames import COUNT\n")
    return ["why", "scales", "--in", envs.heath], "no-parent-package", {"PYTHONPATH": str(folder)}


def no_parent_package_two_deep(envs):
    folder = envs.moor.folder / "beehouse" / "inner"
    folder.mkdir(parents=True)
    for each in (folder, folder.parent):
        (each / "__init__.py").write_text("")
    (folder / "tools.py").write_text("from . import __file__\n")
    return ["why", "tools", "--in", envs.heath], "no-parent-package", {"PYTHONPATH": str(folder)}


def other_distribution_lacks_a_part(envs):
    envs.install("heath", Package("dateutil", "0.1", {"dateutil/__init__.py": ""}))
    envs.offer(Package("python-dateutil", "2.8", {"dateutil/__init__.py": "", "dateutil/parser.py": ""}))
    return ["why", "dateutil.parser", "--in", envs.heath], "other-distribution"


def other_distribution_lacks_a_name(envs):
    envs.install("heath", Package("dotenv", "0.1", {"dotenv/__init__.py": ""}))
    envs.offer(Package("python-dotenv", "8.0", {"dotenv/__init__.py": "def load_dotenv(): return 1\n"}))
    return ["why", "from dotenv import load_dotenv", "--in", envs.heath], "other-distribution"


def circular_in_a_package(envs):
    files = {"knotwork/__init__.py": "from knotwork.one import A\n", "knotwork/one.py": "from knotwork.two import B\nA = 1\n",
             "knotwork/two.py": "from knotwork.one import A\nB = 2\n"}  # fmt: skip
    envs.install("heath", Package("knotwork", "1.0", files))
    envs.offer(plain("knotwork", "1.1"))
    return ["why", "knotwork", "--in", envs.heath], "circular"


def circular_own_files(envs):
    (envs.moor.folder / "sowing.py").write_text("from reaping import sickle\nseed = 1\n")
    (envs.moor.folder / "reaping.py").write_text("from sowing import seed\nsickle = 2\n")

    def fix():
        (envs.moor.folder / "reaping.py").write_text("sickle = 2\ndef reap():\n    from sowing import seed\n")

    return ["why", "sowing", "--in", envs.heath], "circular", None, fix


def name_gone_of_the_standard_library(envs):
    # Gone since 3.10 or 3.9; what every one of these has not is a name of a later library.
    if not BY_VERSION[envs.version].version.startswith(("2.", "3.6", "3.7", "3.8", "3.9")):
        return ["why", "from collections import Mapping", "--in", envs.heath], "name-gone"
    envs.install("heath", plain("newtypes", "1.1", source="from typing import TypeAlias\n"))
    envs.offer(plain("newtypes", "1.0"))
    return ["why", "newtypes", "--in", envs.heath], "name-gone"


def name_gone_written_for_an_older_major(envs):
    envs.install("heath", plain("combscale", "3.1", source="new_weigh = 1\n"))
    envs.install(
        "heath", plain("combuser", source="import combscale\nGRAMS = combscale.weigh\n", requires=["combscale>=2.1"])
    )
    envs.offer(plain("combscale", "2.4", source="weigh = 1\n"))
    return ["why", "combuser", "--in", envs.heath], "name-gone"
