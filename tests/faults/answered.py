"""Builders: something else answers to the name, or what answers is not what was meant."""

import zipfile

from kalyx.demo.wheels import Package, write_wheel
from tests.equipment import BY_VERSION
from tests.faults.missing import project
from tests.faults.place import environment_over, own_base, plain


def folder_answers_empty(place):
    place.install("orchard", plain("sedgemat"))
    (place.moor.folder / "sedgemat").mkdir(exist_ok=True)
    (place.moor.folder / "sedgemat" / "notes.txt").write_text("")
    return ["why", "from sedgemat import GRAMS", "--in", place.heath], "folder-answers"


def folder_answers_project_of_that_name(place):
    project(place, "rushlight", place.moor.folder / "rushlight")
    return ["why", "from rushlight import __file__", "--in", place.heath], "folder-answers"


def older_wins_over_the_base(place):
    executable, site = own_base(place, "basewins")
    files = {"peatfire/__init__.py": "", "peatfire/embers.py": ""}
    zipfile.ZipFile(write_wheel(Package("peatfire", "2.0", files), str(place.wheels))).extractall(site)
    python = environment_over(executable, place.moor.root / "overwins", "--system-site-packages")
    own = next((place.moor.root / "overwins" / "lib").glob("python*")) / "site-packages"
    zipfile.ZipFile(write_wheel(plain("peatfire", "1.0"), str(place.wheels))).extractall(own)
    return ["why", "peatfire.embers", "--in", python], "older-wins"


def older_wins_by_the_path(place):
    place.install("heath", plain("turfhouse", "2.0", source="def smoke(): pass\n"))
    old = place.moor.root / "oldcopies"
    zipfile.ZipFile(write_wheel(plain("turfhouse", "1.0"), str(place.wheels))).extractall(old)
    return ["why", "from turfhouse import smoke", "--in", place.heath], "older-wins", {"PYTHONPATH": str(old)}


def _portion(place, name: str, inner: str) -> None:
    """Another folder of the package, further down the path."""
    folder = place.moor.root / f"more-{name}"
    (folder / name).mkdir(parents=True)
    (folder / name / f"{inner}.py").write_text("")
    (place.site() / f"more-{name}.pth").write_text(f"{folder}\n")


def namespace_split_by_an_empty_file(place):
    place.install("heath", Package("larkmoor-core", "1.0", {"larkmoor/__init__.py": "", "larkmoor/core.py": ""}))
    place.offer(Package("larkmoor-core", "1.1", {"larkmoor/core.py": ""}))
    _portion(place, "larkmoor", "bees")
    return ["why", "larkmoor.bees", "--in", place.heath], "namespace-split"


def namespace_split_by_code(place):
    place.install("heath", Package("fenland-core", "1.0", {"fenland/__init__.py": "REEDS = 1\n"}))
    place.offer(Package("fenland-core", "1.1", {"fenland/core.py": ""}))
    _portion(place, "fenland", "otters")
    return ["why", "fenland.otters", "--in", place.heath], "namespace-split"


def no_parent_package_on_the_path(place):
    folder = place.moor.folder / "beehouse"
    folder.mkdir()
    (folder / "__init__.py").write_text("")
    (folder / "frames.py").write_text("COUNT = 10\n")
    (folder / "scales.py").write_text("from .frames import COUNT\n")
    return ["why", "scales", "--in", place.heath], "no-parent-package", {"PYTHONPATH": str(folder)}


def no_parent_package_two_deep(place):
    folder = place.moor.folder / "beehouse" / "inner"
    folder.mkdir(parents=True)
    for each in (folder, folder.parent):
        (each / "__init__.py").write_text("")
    (folder / "tools.py").write_text("from . import __file__\n")
    return ["why", "tools", "--in", place.heath], "no-parent-package", {"PYTHONPATH": str(folder)}


def other_distribution_lacks_a_part(place):
    place.install("heath", Package("dateutil", "0.1", {"dateutil/__init__.py": ""}))
    place.offer(Package("python-dateutil", "2.8", {"dateutil/__init__.py": "", "dateutil/parser.py": ""}))
    return ["why", "dateutil.parser", "--in", place.heath], "other-distribution"


def other_distribution_lacks_a_name(place):
    place.install("heath", Package("dotenv", "0.1", {"dotenv/__init__.py": ""}))
    place.offer(Package("python-dotenv", "8.0", {"dotenv/__init__.py": "def load_dotenv(): return 1\n"}))
    return ["why", "from dotenv import load_dotenv", "--in", place.heath], "other-distribution"


def circular_in_a_package(place):
    files = {"knotwork/__init__.py": "from knotwork.one import A\n", "knotwork/one.py": "from knotwork.two import B\nA = 1\n",
             "knotwork/two.py": "from knotwork.one import A\nB = 2\n"}  # fmt: skip
    place.install("heath", Package("knotwork", "1.0", files))
    place.offer(plain("knotwork", "1.1"))
    return ["why", "knotwork", "--in", place.heath], "circular"


def circular_own_files(place):
    (place.moor.folder / "sowing.py").write_text("from reaping import sickle\nseed = 1\n")
    (place.moor.folder / "reaping.py").write_text("from sowing import seed\nsickle = 2\n")

    def mend():
        (place.moor.folder / "reaping.py").write_text("sickle = 2\ndef reap():\n    from sowing import seed\n")

    return ["why", "sowing", "--in", place.heath], "circular", None, mend


def name_gone_of_the_standard_library(place):
    # Gone since 3.10 or 3.9; what every one of these has not is a name of a later library.
    if BY_VERSION[place.version].version.startswith(("3.10", "3.11", "3.12", "3.13")):
        return ["why", "from collections import Mapping", "--in", place.heath], "name-gone"
    place.install("heath", plain("newtypes", "1.1", source="from typing import TypeAlias\n"))
    place.offer(plain("newtypes", "1.0"))
    return ["why", "newtypes", "--in", place.heath], "name-gone"


def name_gone_written_for_an_older_major(place):
    place.install("heath", plain("combscale", "3.1", source="new_weigh = 1\n"))
    place.install(
        "heath", plain("combuser", source="import combscale\nGRAMS = combscale.weigh\n", requires=["combscale>=2.1"])
    )
    place.offer(plain("combscale", "2.4", source="weigh = 1\n"))
    return ["why", "combuser", "--in", place.heath], "name-gone"
