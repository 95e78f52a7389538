"""Faults made for real, explained, mended as printed, and working afterwards.

For each cause at least two builders, on the oldest and the newest interpreter
that can make environments and one between that changes from builder to builder;
on every one of them with KALYX_EVERY_VERSION set. A builder makes the fault in a real environment with made-up
packages and returns what to ask; the first remedy is carried out as printed.
"""

import json
import os
import shlex
import subprocess
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import VERSIONS, Moor, make_environment

CAN_MAKE = [version for version in VERSIONS if version != "2.7"]


class Place:
    """One interpreter's environments orchard and heath, and a folder of wheels, shared by the faults of that version."""

    def __init__(self, version: str, root: Path) -> None:
        self.moor = Moor(root / "moor")
        self.wheels = root / "wheels"
        self.wheels.mkdir()
        self.version = version
        self.heath = make_environment(version, self.moor.root / "heath")
        self.orchard = make_environment(version, self.moor.root / "orchard")
        self.moor.variables |= {
            "PATH": f"{self.moor.root}/heath/bin:/usr/bin:/bin",
            "PIP_NO_INDEX": "1",
            "PIP_FIND_LINKS": str(self.wheels),
        }

    def site(self, name: str = "heath") -> Path:
        return next((self.moor.root / name / "lib").glob("python*")) / "site-packages"

    def install(self, name: str, package: Package) -> None:
        wheel = write_wheel(package, str(self.wheels))
        python = self.heath if name == "heath" else self.orchard
        argv = [python, "-m", "pip", "install", "-q", "--no-deps", wheel]
        subprocess.run(argv, check=True, env={**self.moor.variables}, capture_output=True)

    def offer(self, package: Package) -> None:
        """A wheel that can be installed and is not."""
        write_wheel(package, str(self.wheels))


_places: dict[str, Place] = {}


@pytest.fixture
def place(request, tmp_path_factory):
    version = request.param
    if version not in _places:
        _places[version] = Place(version, tmp_path_factory.mktemp("place" + version.replace(".", "")))
    return _places[version]


def plain(name: str, version: str = "1.0", source: str = "GRAMS = 1000\n", **more) -> Package:
    return Package(name, version, {f"{name.replace('-', '_')}/__init__.py": source}, **more)


# Each builder: (place) -> (words of the call, the cause).
def absent_wholly(place):
    return ["why", "lonely_meadow", "--in", place.heath], "absent"


# One for each version: what another test at the same time has installed would be elsewhere, not absent.
TABLED = [("socks", "PySocks"), ("slugify", "python-slugify"), ("usb", "pyusb"), ("telegram", "python-telegram-bot"),
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


def unmet_told_in_other_words(place):
    """A package that collects what it lacks and tells it in a sentence of its own."""
    source = "lacks = []\ntry:\n    import rainfall\nexcept ImportError as e:\n    lacks.append('rainfall: %s' % e)\n" \
             "if lacks:\n    raise ImportError('Unable to import required things:\\n' + lacks[0])\n"  # fmt: skip
    place.install("heath", plain("wetmoor", source=source, requires=["rainfall>=1"]))
    place.offer(plain("rainfall", "1.1"))
    return ["why", "wetmoor", "--in", place.heath], "unmet"


def name_gone_misspelt(place):
    place.install("heath", plain("gramscale", source="def weights(): return 1\n"))
    return ["why", "from gramscale import wieghts", "--in", place.heath], "name-gone"


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
             "feeder/drops.py": "import os\nflow = os.environ['NO_SUCH_VARIABLE_HERE']\n"}  # fmt: skip
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


def seat_differs_kernel_has_it(place):
    place.install("orchard", plain("stingless"))
    place.moor.kernel("fruit", [place.orchard, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "stingless", "--in", "shell"], "seat-differs"


def seat_differs_shell_has_it(place):
    place.install("heath", plain("skepcount"))
    place.moor.kernel("fruit", [place.orchard, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    return ["why", "skepcount", "--in", "kernel:fruit"], "seat-differs"


def base_hidden_python(place):
    base = place.moor.root / "base"
    return _base_hidden(place, base, "honeybase")


def base_hidden_single_file(place):
    return _base_hidden(place, place.moor.root / "base2", "beebread", single=True)


def _base_hidden(place, base, name, single=False):
    """An installation of its own, made by copying this version's: a real base may not be written to."""
    import shutil

    from tests.conftest import BY_VERSION

    real = BY_VERSION[place.version]
    if not base.exists():
        (base / "bin").mkdir(parents=True)
        (base / "lib").mkdir()
        short = f"python{place.version}"
        shutil.copy2(real.real_executable, base / "bin" / short)
        for library in Path(real.prefix, "lib").glob("libpython*"):
            os.symlink(library, base / "lib" / library.name)
        shutil.copytree(Path(real.prefix, "lib", short), base / "lib" / short, symlinks=True,
                        ignore=shutil.ignore_patterns("site-packages", "test", "__pycache__", "idlelib", "config-*"))  # fmt: skip
        (base / "lib" / short / "site-packages").mkdir()
        headers = Path(real.prefix, "include")
        if headers.is_dir():
            os.symlink(headers, base / "include")
    own = str(base / "bin" / f"python{place.version}")
    said = subprocess.run(
        [own, "-c", "import site; print(site.getsitepackages()[0])"], capture_output=True, text=True, check=True
    )
    site = Path(said.stdout.strip())  # some systems' interpreters use a folder of another name
    site.mkdir(parents=True, exist_ok=True)
    package = Package(name, "1.0", {f"{name}.py" if single else f"{name}/__init__.py": ""})
    wheel = write_wheel(package, str(place.wheels))
    import zipfile

    zipfile.ZipFile(wheel).extractall(site)
    prefix = place.moor.root / f"over-{name}"
    executable = str(base / "bin" / f"python{place.version}")
    done = subprocess.run([executable, "-m", "venv", str(prefix)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return ["why", name, "--in", str(prefix / "bin" / "python")], "base-hidden"


def standin() -> Package:
    from kalyx.demo.wheels import standin_package

    return standin_package()


BUILDERS = [
    absent_wholly, absent_but_in_the_table, elsewhere_plain, elsewhere_submodule, misnamed_here, misnamed_elsewhere,
    misspelt_letter, misspelt_case, shadowed_standard, shadowed_package_needs_it, shadowed_by_a_file_for_a_package,
    unmet_direct, unmet_two_steps_down, unmet_told_in_other_words, name_gone_misspelt, name_gone_older_version, gutted_whole, gutted_in_part, raises_in_a_package, raises_deep_in_a_package,
    interpreter_gone_kernel, interpreter_gone_notebook, name_misleads_kernel, name_misleads_notebook,
    seat_differs_kernel_has_it, seat_differs_shell_has_it, base_hidden_python, base_hidden_single_file,
]  # fmt: skip


def apply(place, remedy, words) -> list[str]:
    """Carry out a remedy as printed; returns the call to repeat, changed where the remedy says to write it otherwise."""
    for step in remedy["steps"]:
        if step["command"] is None:
            assert step["line"].startswith(("write: import ", "write: from ")), step
            words = ["why", step["line"].removeprefix("write: "), *words[2:]]
        elif step["command"][0] == "kalyx":
            ran = place.moor.kalyx(*shlex.split(step["line"])[1:], "--yes")
            assert ran.status == 0, ran.out + ran.err
        else:
            done = subprocess.run(step["line"], shell=True, env=place.moor.variables, cwd=place.moor.folder,
                                  capture_output=True, text=True, check=False)  # fmt: skip
            assert done.returncode == 0, step["line"] + "\n" + done.stdout + done.stderr
    return words


def pairs():
    for number, builder in enumerate(BUILDERS):
        chosen = {CAN_MAKE[0], CAN_MAKE[-1], CAN_MAKE[number % len(CAN_MAKE)]}
        for version in CAN_MAKE if os.environ.get("KALYX_EVERY_VERSION") else sorted(chosen):
            marks = pytest.mark.xdist_group(version)
            yield pytest.param(version, builder, marks=marks, id=f"{builder.__name__}-{version}")


@pytest.mark.parametrize("place, builder", pairs(), indirect=["place"])
def test_fault(place, builder):
    for path in place.moor.folder.iterdir():
        path.unlink() if path.is_file() else None
    words, cause = builder(place)
    ran = place.moor.kalyx(*words, "--json")
    assert ran.status == 1, ran.out + ran.err
    (answer,) = ran.json["imports"]
    findings = answer["findings"]
    assert [f["cause"] for f in findings][:1] == [cause], json.dumps(answer, indent=1)
    first = findings[0]
    assert first["evidence"] and first["remedies"]
    for evidence in first["evidence"]:
        if evidence["path"] and cause != "interpreter-gone":
            assert os.path.lexists(evidence["path"]), evidence
    if builder is absent_wholly:
        assert all(step["command"] is None for remedy in first["remedies"] for step in remedy["steps"])
        return
    again = apply(place, first["remedies"][0], words)
    ran = place.moor.kalyx(*again, "--json")
    assert ran.status == 0 and ran.json["imports"][0]["outcome"] == "imports", ran.out
    for identifier in ("moor-gone", "orchard-spring", "fruit"):
        place.moor.kalyx("unregister", identifier, "--yes")
