"""Builders of the commonest faults: nothing answers to the name, another thing does, or its own code fails.

Each builder: (place) -> (words of the call, the cause), with what mends it where the fix is by hand.
"""

import shutil
import zipfile

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import make_environment, put_in
from tests.faults.place import CAN_MAKE, environment_over, own_base, plain, standin


def absent_wholly(place):
    return ["why", "lonely_meadow", "--in", place.heath], "absent"


# One for each version: what another test at the same time has installed would be elsewhere, not absent.
TABLED = [("nacl", "PyNaCl"), ("slugify", "python-slugify"), ("usb", "pyusb"), ("telegram", "python-telegram-bot"),
          ("serial", "pyserial"), ("ldap", "python-ldap"), ("jose", "python-jose"), ("osgeo", "GDAL")]  # fmt: skip


def absent_but_in_the_table(place):
    module, name = TABLED[CAN_MAKE.index(place.version) % len(TABLED)]
    place.offer(Package(name, "6.0", {f"{module}.py": ""}))
    return ["why", module, "--in", place.heath], "absent"


def elsewhere_plain(place):
    place.install("orchard", plain("hivescale"))
    return ["why", "hivescale", "--in", place.heath], "elsewhere"


def elsewhere_submodule(place):
    files = {"meadowmap/__init__.py": "", "meadowmap/tiles.py": ""}
    place.install("orchard", Package("meadow-map", "1.0", files))
    return ["why", "from meadowmap.tiles import __name__", "--in", place.heath], "elsewhere"


def misnamed_here(place):
    place.install("heath", Package("pollen-kit", "1.0", {"pollengrains/__init__.py": ""}))
    return ["why", "pollen_kit", "--in", place.heath], "misnamed"


def misnamed_elsewhere(place):
    place.install("orchard", Package("waxworks", "1.0", {"candlemaking/__init__.py": ""}))
    return ["why", "waxworks", "--in", place.heath], "misnamed"


def base_gone_with_its_version(place):
    """No Python of its version is left: what was asked for is put into another in its place."""
    prefix = place.moor.root / "skep"
    for left in (prefix, place.moor.root / "skep-3.5"):
        shutil.rmtree(left, ignore_errors=True)
    info = prefix / "lib" / "python3.5" / "site-packages" / "sunhive-1.0.dist-info"
    info.mkdir(parents=True)
    for name, content in {"METADATA": "Metadata-Version: 2.1\nName: sunhive\nVersion: 1.0\n", "REQUESTED": "", "RECORD": "sunhive/__init__.py,,\n"}.items():
        (info / name).write_text(content)
    (prefix / "bin").mkdir()
    (prefix / "bin" / "python").symlink_to("/opt/python3.5/bin/python3.5")
    (prefix / "pyvenv.cfg").write_text("home = /opt/python3.5/bin\nversion = 3.5.10\n")
    place.offer(plain("sunhive"))
    return ["why", "sunhive", "--in", f"{prefix}/bin/python"], "base-gone"


def base_gone_and_another_is_here(place):
    prefix = place.moor.root / "meadow"
    shutil.rmtree(prefix, ignore_errors=True)
    make_environment(place.version, prefix, "--without-pip")
    (prefix / "lib" / f"python{place.version}" / "site-packages" / "clover.py").touch()
    for link in (prefix / "bin").glob("python*"):
        link.unlink()
        link.symlink_to(f"/opt/gone/bin/{link.name}")
    settings = (prefix / "pyvenv.cfg").read_text().splitlines()
    (prefix / "pyvenv.cfg").write_text("\n".join("home = /opt/gone/bin" if line.startswith("home") else line for line in settings))
    return ["why", "clover", "--in", f"{prefix}/bin/python"], "base-gone"


def misspelt_letter(place):
    place.install("heath", plain("nectarflow"))
    return ["why", "nectarfow", "--in", place.heath], "misspelt"


def misspelt_case(place):
    place.install("heath", Package("frame-tally", "1.0", {"FrameCount/__init__.py": ""}))
    return ["why", "framecount", "--in", place.heath], "misspelt"


def shadowed_standard(place):
    (place.moor.folder / "statistics.py").write_text("print('my own statistics')\n")
    return ["why", "from statistics import mean", "--in", place.heath], "shadowed"


def shadowed_package_needs_it(place):
    place.install("heath", plain("combcount", source="from fractions import Fraction\nHALF = Fraction(1, 2)\n"))
    (place.moor.folder / "fractions.py").write_text("SHARES = 3\n")
    return ["why", "combcount", "--in", place.heath], "shadowed"


def shadowed_by_a_file_for_a_package(place):
    place.install("heath", Package("smokery", "1.0", {"smokery/__init__.py": "", "smokery/puffs.py": ""}))
    (place.moor.folder / "smokery.py").write_text("import smokery.puffs\n")
    return ["why", "smokery.puffs", "--in", place.heath], "shadowed"


def unmet_direct(place):
    place.install("heath", plain("broodmap", source="import cellcount\n", requires=["cellcount>=1.2,<3"]))
    place.offer(plain("cellcount", "1.4"))
    return ["why", "broodmap", "--in", place.heath], "unmet"


def unmet_two_steps_down(place):
    place.install("heath", plain("swarmcast", source="import windfield\n", requires=["windfield"]))
    place.install("heath", plain("windfield", source="from gusts import blow\n", requires=["gusty-air>=2"]))
    place.offer(Package("gusty-air", "2.1", {"gusts.py": "blow = 1\n"}))
    # What brings the module gusts is read from metadata elsewhere.
    place.install("orchard", Package("gusty-air", "2.1", {"gusts.py": "blow = 1\n"}))
    return ["why", "swarmcast", "--in", place.heath], "unmet"


def unmet_within_what_another_asks(place):
    """The newest would break a neighbour that is imported too: the line keeps to what both take."""
    place.install("heath", plain("loftkit", requires=["rooftile<2"], source="import rooftile\nassert rooftile.GRAMS < 2000\n"))
    place.install("heath", plain("barnkit", requires=["rooftile>=1.2"], source="import rooftile, loftkit\n"))
    for version, grams in (("1.1", 1100), ("1.5", 1500), ("2.0", 2000)):
        place.offer(plain("rooftile", version, source=f"GRAMS = {grams}\n"))
    return ["why", "barnkit", "--in", place.heath], "unmet"


def unmet_where_no_release_suits_all(place):
    """A neighbour as it is here takes none that is new enough: it is moved along."""
    place.install("heath", plain("eaveskit", requires=["slatetile<2"], source="import slatetile\nassert slatetile.GRAMS < 2000\n"))
    place.offer(plain("eaveskit", "1.1", requires=["slatetile"], source="import slatetile\n"))
    place.install("heath", plain("ridgekit", requires=["slatetile>=2"], source="import slatetile, eaveskit\n"))
    for version in ("1.1", "2.0"):
        place.offer(plain("slatetile", version, source=f"GRAMS = {version[0]}000\n"))
    return ["why", "ridgekit", "--in", place.heath], "unmet"


def unmet_told_in_other_words(place):
    """A package that collects what it lacks and tells it in a sentence of its own."""
    source = "lacks = []\ntry:\n    import rainfall\nexcept ImportError as e:\n    lacks.append('rainfall: %s' % e)\n" \
             "if lacks:\n    raise ImportError('Unable to import required things:\\n' + lacks[0])\n"  # fmt: skip
    place.install("heath", plain("wetmoor", source=source, requires=["rainfall>=1"]))
    place.offer(plain("rainfall", "1.1"))
    return ["why", "wetmoor", "--in", place.heath], "unmet"


def name_gone_misspelt(place):
    place.install("heath", plain("gramscale", source="def weights(): return 1\n"))
    # What letters alone say is asked, never told as code to write.
    return ["why", "from gramscale import wieghts", "--in", place.heath], "name-gone", None, lambda: ["why", "from gramscale import weights"]


def name_gone_older_version(place):
    place.install("heath", plain("bloomdates", "1.0"))
    place.install(
        "heath", plain("bloomcast", source="from bloomdates import first_bloom\n", requires=["bloomdates>=2"])
    )
    place.offer(plain("bloomdates", "2.0", source="first_bloom = 1\n"))
    return ["why", "bloomcast", "--in", place.heath], "name-gone"


def gutted_whole(place):
    place.install("heath", plain("queenbank"))
    for path in (place.site() / "queenbank").rglob("*"):
        if path.is_file():
            path.unlink()
    for path in sorted((place.site() / "queenbank").rglob("*"), reverse=True):
        path.rmdir()
    (place.site() / "queenbank").rmdir()
    return ["why", "queenbank", "--in", place.heath], "gutted"


def gutted_in_part(place):
    package = Package("droneyard", "1.0", {"droneyard/__init__.py": "from droneyard.inner import A\n",
                                           "droneyard/inner.py": "A = 1\n"})  # fmt: skip
    place.install("heath", package)
    (place.site() / "droneyard" / "inner.py").unlink()
    for stale in place.site().glob("droneyard/__pycache__/inner*"):
        stale.unlink()
    return ["why", "droneyard", "--in", place.heath], "gutted"


def raises_in_a_package(place):
    place.install("heath", plain("sugarmix", source="SHARE = 1 / 0\n"))
    place.offer(plain("sugarmix", "1.1", source="SHARE = 1\n"))
    return ["why", "sugarmix", "--in", place.heath], "raises"


def raises_deep_in_a_package(place):
    files = {"feeder/__init__.py": "from feeder.drops import flow\n",
             "feeder/drops.py": "flow = {}['spring']\n"}  # fmt: skip
    place.install("heath", Package("feeder", "1.0", files))
    place.offer(Package("feeder", "1.1", {"feeder/__init__.py": ""}))
    return ["why", "feeder", "--in", place.heath], "raises"


def interpreter_gone_kernel(place):
    place.install("orchard", plain("hivescale"))
    place.install("orchard", standin())
    place.moor.kernel("moor-gone", [f"{place.moor.root}/orchrad/bin/python", "-m", "kalyx_standin_kernel", "-f",
                                    "{connection_file}"])  # fmt: skip
    return ["why", "hivescale", "--in", "kernel:moor-gone"], "interpreter-gone"


def interpreter_gone_notebook(place):
    words, cause = interpreter_gone_kernel(place)
    notebook = place.moor.notebook("gone.ipynb", "moor-gone")
    return ["why", "hivescale", "--in", str(notebook)], cause


def name_misleads_kernel(place):
    place.install("orchard", plain("hivename"))
    for name in ("orchard", "heath"):
        place.install(name, standin())
    place.moor.kernel("orchard-spring", [place.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "hivename", "--in", "kernel:orchard-spring"], "name-misleads"


def name_misleads_notebook(place):
    words, cause = name_misleads_kernel(place)
    return ["why", "hivename", "--in", str(place.moor.notebook("weights.ipynb", "orchard-spring"))], cause


def _project(place, *packages):
    """The folder becomes a project with an environment of its own that holds these packages."""
    make_environment(place.version, place.moor.folder / ".venv")
    (place.moor.folder / "pyproject.toml").write_text('[project]\nname = "spring"\n')
    for package in packages:
        put_in(write_wheel(package, str(place.wheels)), place.moor.folder / ".venv" / "lib" / f"python{place.version}" / "site-packages")


def not_activated_script(place):
    _project(place, plain("clearcomb"))
    script = place.moor.folder / "weigh.py"
    script.write_text("import clearcomb\n")
    return ["why", str(script), "--in", "shell"], "not-activated"


def not_activated_notebook(place):
    """The notebook runs on a kernel of another environment, and the project's own has a kernel package."""
    _project(place, plain("darkcomb"), standin())
    place.install("heath", standin())
    place.moor.kernel("fruit", [place.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "darkcomb", "--in", str(place.moor.notebook("weights.ipynb", "fruit"))], "not-activated"


def seat_differs_kernel_has_it(place):
    place.install("orchard", plain("stingless"))
    place.moor.kernel("fruit", [place.orchard, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "stingless", "--in", "shell"], "seat-differs"


def seat_differs_shell_has_it(place):
    place.install("heath", plain("skepcount"))
    place.install("orchard", standin())
    place.moor.kernel("fruit", [place.orchard, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "skepcount", "--in", "kernel:fruit"], "seat-differs"


def base_hidden_python(place):
    return _base_hidden(place, "base", "honeybase")


def base_hidden_single_file(place):
    return _base_hidden(place, "base2", "beebread", single=True)


def _base_hidden(place, base, name, single=False):
    executable, site = own_base(place, base)
    package = Package(name, "1.0", {f"{name}.py" if single else f"{name}/__init__.py": ""})
    zipfile.ZipFile(write_wheel(package, str(place.wheels))).extractall(site)
    return ["why", name, "--in", environment_over(executable, place.moor.root / f"over-{name}")], "base-hidden"


def activation_differs_renamed(place):
    """The environment that the shell entered has another name by now, and holds what is missing."""
    old, new = place.moor.root / "thyme", place.moor.root / "rosemary"
    if not new.exists():
        make_environment(place.version, old)
        site = next((old / "lib").glob("python*")) / "site-packages"
        (site / "thymol.py").write_text("")
        old.rename(new)
    path = f"{old}/bin:{place.moor.root}/orchard/bin:/usr/bin:/bin"
    return ["why", "thymol", "--in", "shell"], "activation-differs", {"VIRTUAL_ENV": str(old), "PATH": path}, lambda: new.rename(old) and None


def activation_differs_lost_from_path(place):
    """The variable of the environment is set, and something took its folder from PATH."""
    (place.site() / "savory.py").write_text("")
    first = place.moor.root / "firstonpath"
    first.mkdir(exist_ok=True)
    variables = {"VIRTUAL_ENV": str(place.moor.root / "heath"), "PATH": f"{first}:{place.moor.root}/orchard/bin:/usr/bin:/bin"}

    def mend():
        (first / "python").write_text(f'#!/bin/sh\nexec {place.heath} "$@"\n')
        (first / "python").chmod(0o755)

    return ["why", "savory", "--in", "shell"], "activation-differs", variables, mend


def _installer_first(place, name: str) -> dict[str, str]:
    folder = place.moor.root / name
    folder.mkdir(exist_ok=True)
    (folder / "pip").write_text(f"#!{place.orchard}\nimport pip._internal.cli.main\n")
    (folder / "pip").chmod(0o755)
    return {"PATH": f"{folder}:{place.moor.root}/heath/bin:/usr/bin:/bin"}


def installer_elsewhere_a_package(place):
    place.install("orchard", plain("lovage"))
    return ["why", "lovage", "--in", "shell"], "installer-elsewhere", _installer_first(place, "pipfirst")


def installer_elsewhere_under_another_name(place):
    place.install("orchard", Package("sweet-cicely", "1.0", {"cicely.py": ""}))
    return ["why", "cicely", "--in", "shell"], "installer-elsewhere", _installer_first(place, "pipfirst2")
