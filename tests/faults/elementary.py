"""Builders of the commonest faults: nothing answers to the name, another thing does, or its own code fails.

Each builder: (envs) -> (words of the call, the cause), with what fixes it where the fix is by hand.
"""

import shutil
import zipfile

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import make_environment, put_in
from tests.faults.environments import CAN_MAKE, environment_over, own_base, plain, standin


def absent_wholly(envs):
    return ["why", "lonely_meadow", "--in", envs.heath], "absent"


# One for each version: what another test at the same time has installed would be elsewhere, not absent.
TABLED = [("nacl", "PyNaCl"), ("slugify", "python-slugify"), ("usb", "pyusb"), ("telegram", "python-telegram-bot"),
          ("serial", "pyserial"), ("ldap", "python-ldap"), ("jose", "python-jose"), ("osgeo", "GDAL")]  # fmt: skip


def absent_but_in_the_table(envs):
    module, name = TABLED[CAN_MAKE.index(envs.version) % len(TABLED)]
    envs.offer(Package(name, "6.0", {f"{module}.py": ""}))
    return ["why", module, "--in", envs.heath], "absent"


def elsewhere_plain(envs):
    envs.install("orchard", plain("hivescale"))
    return ["why", "hivescale", "--in", envs.heath], "elsewhere"


def elsewhere_submodule(envs):
    files = {"meadowmap/__init__.py": "", "meadowmap/tiles.py": ""}
    envs.install("orchard", Package("meadow-map", "1.0", files))
    return ["why", "from meadowmap.tiles import __name__", "--in", envs.heath], "elsewhere"


def misnamed_here(envs):
    envs.install("heath", Package("pollen-kit", "1.0", {"pollengrains/__init__.py": ""}))
    return ["why", "pollen_kit", "--in", envs.heath], "misnamed"


def misnamed_elsewhere(envs):
    envs.install("orchard", Package("waxworks", "1.0", {"candlemaking/__init__.py": ""}))
    return ["why", "waxworks", "--in", envs.heath], "misnamed"


def base_gone_with_its_version(envs):
    """No Python of its version is left: what was asked for is put into another in its place."""
    prefix = envs.moor.root / "skep"
    for left in (prefix, envs.moor.root / "skep-3.5"):
        shutil.rmtree(left, ignore_errors=True)
    info = prefix / "lib" / "python3.5" / "site-packages" / "sunhive-1.0.dist-info"
    info.mkdir(parents=True)
    for name, content in {"METADATA": "Metadata-Version: 2.1\nName: sunhive\nVersion: 1.0\n", "REQUESTED": "", "RECORD": "sunhive/__init__.py,,\n"}.items():
        (info / name).write_text(content)
    (prefix / "bin").mkdir()
    (prefix / "bin" / "python").symlink_to("/opt/python3.5/bin/python3.5")
    (prefix / "pyvenv.cfg").write_text("home = /opt/python3.5/bin\nversion = 3.5.10\n")
    envs.offer(plain("sunhive"))
    return ["why", "sunhive", "--in", f"{prefix}/bin/python"], "base-gone"


def base_gone_and_another_is_here(envs):
    prefix = envs.moor.root / "meadow"
    shutil.rmtree(prefix, ignore_errors=True)
    make_environment(envs.version, prefix, "--without-pip")
    (prefix / "lib" / f"python{envs.version}" / "site-packages" / "clover.py").touch()
    for link in (prefix / "bin").glob("python*"):
        link.unlink()
        link.symlink_to(f"/opt/gone/bin/{link.name}")
    settings = (prefix / "pyvenv.cfg").read_text().splitlines()
    (prefix / "pyvenv.cfg").write_text("\n".join("home = /opt/gone/bin" if line.startswith("home") else line for line in settings))
    return ["why", "clover", "--in", f"{prefix}/bin/python"], "base-gone"


def misspelt_letter(envs):
    envs.install("heath", plain("nectarflow"))
    return ["why", "nectarfow", "--in", envs.heath], "misspelt"


def misspelt_case(envs):
    envs.install("heath", Package("frame-tally", "1.0", {"FrameCount/__init__.py": ""}))
    return ["why", "framecount", "--in", envs.heath], "misspelt"


def shadowed_standard(envs):
    (envs.moor.folder / "statistics.py").write_text("print('my own statistics')\n")
    return ["why", "from statistics import mean", "--in", envs.heath], "shadowed"


def shadowed_package_needs_it(envs):
    envs.install("heath", plain("combcount", source="from fractions import Fraction\nHALF = Fraction(1, 2)\n"))
    (envs.moor.folder / "fractions.py").write_text("SHARES = 3\n")
    return ["why", "combcount", "--in", envs.heath], "shadowed"


def shadowed_by_a_file_for_a_package(envs):
    envs.install("heath", Package("smokery", "1.0", {"smokery/__init__.py": "", "smokery/puffs.py": ""}))
    (envs.moor.folder / "smokery.py").write_text("import smokery.puffs\n")
    return ["why", "smokery.puffs", "--in", envs.heath], "shadowed"


def unmet_direct(envs):
    envs.install("heath", plain("broodmap", source="import cellcount\n", requires=["cellcount>=1.2,<3"]))
    envs.offer(plain("cellcount", "1.4"))
    return ["why", "broodmap", "--in", envs.heath], "unmet"


def unmet_two_steps_down(envs):
    envs.install("heath", plain("swarmcast", source="import windfield\n", requires=["windfield"]))
    envs.install("heath", plain("windfield", source="from gusts import blow\n", requires=["gusty-air>=2"]))
    envs.offer(Package("gusty-air", "2.1", {"gusts.py": "blow = 1\n"}))
    # What brings the module gusts is read from metadata elsewhere.
    envs.install("orchard", Package("gusty-air", "2.1", {"gusts.py": "blow = 1\n"}))
    return ["why", "swarmcast", "--in", envs.heath], "unmet"


def unmet_within_what_another_asks(envs):
    """The newest would break a neighbour that is imported too: the line keeps to what both take."""
    envs.install("heath", plain("loftkit", requires=["rooftile<2"], source="import rooftile\nassert rooftile.GRAMS < 2000\n"))
    envs.install("heath", plain("barnkit", requires=["rooftile>=1.2"], source="import rooftile, loftkit\n"))
    for version, grams in (("1.1", 1100), ("1.5", 1500), ("2.0", 2000)):
        envs.offer(plain("rooftile", version, source=f"GRAMS = {grams}\n"))
    return ["why", "barnkit", "--in", envs.heath], "unmet"


def unmet_where_no_release_suits_all(envs):
    """A neighbour as it is here takes none that is new enough: it is moved along."""
    envs.install("heath", plain("eaveskit", requires=["slatetile<2"], source="import slatetile\nassert slatetile.GRAMS < 2000\n"))
    envs.offer(plain("eaveskit", "1.1", requires=["slatetile"], source="import slatetile\n"))
    envs.install("heath", plain("ridgekit", requires=["slatetile>=2"], source="import slatetile, eaveskit\n"))
    for version in ("1.1", "2.0"):
        envs.offer(plain("slatetile", version, source=f"GRAMS = {version[0]}000\n"))
    return ["why", "ridgekit", "--in", envs.heath], "unmet"


def unmet_told_in_other_words(envs):
    """A package that collects what it lacks and tells it in a sentence of its own."""
    source = "lacks = []\ntry:\n    import rainfall\nexcept ImportError as e:\n    lacks.append('rainfall: %s' % e)\n" \
             "if lacks:\n    raise ImportError('Unable to import required things:\\n' + lacks[0])\n"  # fmt: skip
    envs.install("heath", plain("wetmoor", source=source, requires=["rainfall>=1"]))
    envs.offer(plain("rainfall", "1.1"))
    return ["why", "wetmoor", "--in", envs.heath], "unmet"


def name_gone_misspelt(envs):
    envs.install("heath", plain("gramscale", source="def weights(): return 1\n"))
    # What letters alone say is asked, never told as code to write.
    return ["why", "from gramscale import wieghts", "--in", envs.heath], "name-gone", None, lambda: ["why", "from gramscale import weights"]


def name_gone_older_version(envs):
    envs.install("heath", plain("bloomdates", "1.0"))
    envs.install(
        "heath", plain("bloomcast", source="from bloomdates import first_bloom\n", requires=["bloomdates>=2"])
    )
    envs.offer(plain("bloomdates", "2.0", source="first_bloom = 1\n"))
    return ["why", "bloomcast", "--in", envs.heath], "name-gone"


def gutted_whole(envs):
    envs.install("heath", plain("queenbank"))
    for path in (envs.site() / "queenbank").rglob("*"):
        if path.is_file():
            path.unlink()
    for path in sorted((envs.site() / "queenbank").rglob("*"), reverse=True):
        path.rmdir()
    (envs.site() / "queenbank").rmdir()
    return ["why", "queenbank", "--in", envs.heath], "gutted"


def gutted_in_part(envs):
    package = Package("droneyard", "1.0", {"droneyard/__init__.py": "from droneyard.inner import A\n",
                                           "droneyard/inner.py": "A = 1\n"})  # fmt: skip
    envs.install("heath", package)
    (envs.site() / "droneyard" / "inner.py").unlink()
    for stale in envs.site().glob("droneyard/__pycache__/inner*"):
        stale.unlink()
    return ["why", "droneyard", "--in", envs.heath], "gutted"


def raises_in_a_package(envs):
    envs.install("heath", plain("sugarmix", source="SHARE = 1 / 0\n"))
    envs.offer(plain("sugarmix", "1.1", source="SHARE = 1\n"))
    return ["why", "sugarmix", "--in", envs.heath], "raises"


def raises_deep_in_a_package(envs):
    files = {"feeder/__init__.py": "from feeder.drops import flow\n",
             "feeder/drops.py": "flow = {}['spring']\n"}  # fmt: skip
    envs.install("heath", Package("feeder", "1.0", files))
    envs.offer(Package("feeder", "1.1", {"feeder/__init__.py": ""}))
    return ["why", "feeder", "--in", envs.heath], "raises"


def interpreter_gone_kernel(envs):
    envs.install("orchard", plain("hivescale"))
    envs.install("orchard", standin())
    envs.moor.kernel("moor-gone", [f"{envs.moor.root}/orchrad/bin/python", "-m", "kalyx_standin_kernel", "-f",
                                    "{connection_file}"])  # fmt: skip
    return ["why", "hivescale", "--in", "kernel:moor-gone"], "interpreter-gone"


def interpreter_gone_notebook(envs):
    words, cause = interpreter_gone_kernel(envs)
    notebook = envs.moor.notebook("gone.ipynb", "moor-gone")
    return ["why", "hivescale", "--in", str(notebook)], cause


def name_misleads_kernel(envs):
    envs.install("orchard", plain("hivename"))
    for name in ("orchard", "heath"):
        envs.install(name, standin())
    envs.moor.kernel("orchard-spring", [envs.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "hivename", "--in", "kernel:orchard-spring"], "name-misleads"


def name_misleads_notebook(envs):
    words, cause = name_misleads_kernel(envs)
    return ["why", "hivename", "--in", str(envs.moor.notebook("weights.ipynb", "orchard-spring"))], cause


def _project(envs, *packages):
    """The folder becomes a project with an environment of its own that holds these packages."""
    make_environment(envs.version, envs.moor.folder / ".venv")
    (envs.moor.folder / "pyproject.toml").write_text('[project]\nname = "spring"\n')
    for package in packages:
        put_in(write_wheel(package, str(envs.wheels)), envs.moor.folder / ".venv" / "lib" / f"python{envs.version}" / "site-packages")


def not_activated_script(envs):
    _project(envs, plain("clearcomb"))
    script = envs.moor.folder / "weigh.py"
    script.write_text("import clearcomb\n")
    return ["why", str(script), "--in", "shell"], "not-activated"


def not_activated_notebook(envs):
    """The notebook runs on a kernel of another environment, and the project's own has a kernel package."""
    _project(envs, plain("darkcomb"), standin())
    envs.install("heath", standin())
    envs.moor.kernel("fruit", [envs.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "darkcomb", "--in", str(envs.moor.notebook("weights.ipynb", "fruit"))], "not-activated"


def seat_differs_kernel_has_it(envs):
    envs.install("orchard", plain("stingless"))
    envs.moor.kernel("fruit", [envs.orchard, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "stingless", "--in", "shell"], "seat-differs"


def seat_differs_shell_has_it(envs):
    envs.install("heath", plain("skepcount"))
    envs.install("orchard", standin())
    envs.moor.kernel("fruit", [envs.orchard, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "skepcount", "--in", "kernel:fruit"], "seat-differs"


def base_hidden_python(envs):
    return _base_hidden(envs, "base", "honeybase")


def base_hidden_single_file(envs):
    return _base_hidden(envs, "base2", "beebread", single=True)


def _base_hidden(envs, base, name, single=False):
    executable, site = own_base(envs, base)
    package = Package(name, "1.0", {f"{name}.py" if single else f"{name}/__init__.py": ""})
    zipfile.ZipFile(write_wheel(package, str(envs.wheels))).extractall(site)
    return ["why", name, "--in", environment_over(executable, envs.moor.root / f"over-{name}")], "base-hidden"


def activation_differs_renamed(envs):
    """The environment that the shell entered has another name by now, and holds what is missing."""
    old, new = envs.moor.root / "thyme", envs.moor.root / "rosemary"
    if not new.exists():
        make_environment(envs.version, old)
        site = next((old / "lib").glob("python*")) / "site-packages"
        (site / "thymol.py").write_text("")
        old.rename(new)
    path = f"{old}/bin:{envs.moor.root}/orchard/bin:/usr/bin:/bin"
    return ["why", "thymol", "--in", "shell"], "activation-differs", {"VIRTUAL_ENV": str(old), "PATH": path}, lambda: new.rename(old) and None


def activation_differs_lost_from_path(envs):
    """The variable of the environment is set, and something took its folder from PATH."""
    (envs.site() / "savory.py").write_text("")
    first = envs.moor.root / "firstonpath"
    first.mkdir(exist_ok=True)
    variables = {"VIRTUAL_ENV": str(envs.moor.root / "heath"), "PATH": f"{first}:{envs.moor.root}/orchard/bin:/usr/bin:/bin"}

    def fix():
        (first / "python").write_text(f'#!/bin/sh\nexec {envs.heath} "$@"\n')
        (first / "python").chmod(0o755)

    return ["why", "savory", "--in", "shell"], "activation-differs", variables, fix


def _installer_first(envs, name: str) -> dict[str, str]:
    folder = envs.moor.root / name
    folder.mkdir(exist_ok=True)
    (folder / "pip").write_text(f"#!{envs.orchard}\nimport pip._internal.cli.main\n")
    (folder / "pip").chmod(0o755)
    return {"PATH": f"{folder}:{envs.moor.root}/heath/bin:/usr/bin:/bin"}


def installer_elsewhere_a_package(envs):
    envs.install("orchard", plain("lovage"))
    return ["why", "lovage", "--in", "shell"], "installer-elsewhere", _installer_first(envs, "pipfirst")


def installer_elsewhere_under_another_name(envs):
    envs.install("orchard", Package("sweet-cicely", "1.0", {"cicely.py": ""}))
    return ["why", "cicely", "--in", "shell"], "installer-elsewhere", _installer_first(envs, "pipfirst2")
