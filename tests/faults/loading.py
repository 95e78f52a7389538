"""Builders: it is found and does not load; or the interpreter does not start as it should."""

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import make_environment
from tests.equipment import BY_VERSION, CAN_MAKE, WANT
from tests.faults.place import compiled, library, minor, only, plain, standin
from tests.made import WINDOWS


def _with_part(place, name: str, part: str, content: bytes, version: str = "1.0", **more) -> Package:
    package = Package(
        name, version, {f"{name}/__init__.py": f"from {name} import _core\n", f"{name}/{part}": content}, **more
    )
    place.install("heath", package)
    # What an index offers under the same name and version fits this Python.
    place.offer(Package(name, version, {f"{name}/__init__.py": "", f"{name}/_core.py": ""}, **more))
    return package


def other_build_by_its_name(place):
    _with_part(place, "oldstraw", "_core.cpython-35m-x86_64-linux-gnu.so", compiled(place, "_core"))
    return ["why", "oldstraw", "--in", place.heath], "other-build"


def other_build_by_a_symbol(place):
    content = compiled(place, "_core", "extern void _PyMoor_Gone(void);", "_PyMoor_Gone();")
    _with_part(place, "symbolic", "_core.so", content)
    return ["why", "symbolic", "--in", place.heath], "other-build"


def other_platform_by_its_processor(place):
    content = bytearray(compiled(place, "_core"))
    content[18:20] = b"\xb7\x00"  # ELF's e_machine: arm64
    _with_part(place, "armchair", "_core.so", bytes(content))
    return ["why", "armchair", "--in", place.heath], "other-platform"


# A real header: a Mach-O bundle without commands.
MACOS = b"\xcf\xfa\xed\xfe" + (16777228).to_bytes(4, "little") + b"\0\0\0\0" + (8).to_bytes(4, "little") + b"\0" * 16


def other_platform_for_windows(place):
    _with_part(place, "pitchpine", "_core.cp311-win_amd64.pyd", WINDOWS)
    return ["why", "pitchpine", "--in", place.heath], "other-platform"


def other_platform_for_macos(place):
    _with_part(place, "applewood", "_core.cpython-311-darwin.so", MACOS)
    return ["why", "applewood", "--in", place.heath], "other-platform"


def other_platform_another_c_library(place):
    stub = library(place, "libc.musl-x86_64.so.1", "int moor_musl(void) { return 1; }")
    content = compiled(place, "_core", "extern int moor_musl(void);", "moor_musl();", str(stub))
    _with_part(place, "musselbed", "_core.so", content)
    return ["why", "musselbed", "--in", place.heath], "other-platform"


def library_missing_but_in_a_folder(place):
    made = library(place, "libhoney.so.1", "int honey(void) { return 1; }")
    content = compiled(place, "_core", "extern int honey(void);", "honey();", str(made))
    place.install(
        "heath",
        Package(
            "honeypot", "1.0", {"honeypot/__init__.py": "from honeypot import _core\n", "honeypot/_core.so": content}
        ),
    )
    (place.moor.root / "heath" / "lib" / "libhoney.so.1").write_bytes(made.read_bytes())
    return ["why", "honeypot", "--in", place.heath], "library-missing"


def library_missing_that_came_with_it(place):
    made = library(place, "libwax.so.1", "int wax(void) { return 1; }")
    content = compiled(
        place, "_core", "extern int wax(void);", "wax();", str(made), "-Wl,-rpath,$ORIGIN/../candle.libs"
    )
    package = Package("candle", "1.0", {"candle/__init__.py": "from candle import _core\n", "candle/_core.so": content,
                                        "candle.libs/libwax.so.1": made.read_bytes()})  # fmt: skip
    place.install("heath", package)
    (place.site() / "candle.libs" / "libwax.so.1").unlink()
    return ["why", "candle", "--in", place.heath], "library-missing"


def _versioned(place, file: str, version: str):
    script = place.wheels.parent / "made" / "versions"
    script.parent.mkdir(exist_ok=True)
    script.write_text(f"{version} {{ global: nectar; local: *; }};\n")
    return library(place, file, "int nectar(void) { return 1; }", f"-Wl,--version-script={script}")


def library_too_old_of_another_package(place):
    old = _versioned(place, "libnectar.so.1", "NECTAR_1.0").read_bytes()
    new = _versioned(place, "libnectar.so.1", "NECTAR_1.2")
    content = compiled(
        place, "_core", "extern int nectar(void);", "nectar();", str(new), "-Wl,-rpath,$ORIGIN/../nectarlib"
    )
    place.install("heath", Package("nectarlib", "1.0", {"nectarlib/__init__.py": "", "nectarlib/libnectar.so.1": old}))
    place.offer(
        Package("nectarlib", "1.2", {"nectarlib/__init__.py": "", "nectarlib/libnectar.so.1": new.read_bytes()})
    )
    place.install(
        "heath",
        Package("sipper", "1.0", {"sipper/__init__.py": "from sipper import _core\n", "sipper/_core.so": content}),
    )
    return ["why", "sipper", "--in", place.heath], "library-too-old"


def library_too_old_of_the_system(place):
    stub = _versioned(place, "libm.so.6", "GLIBC_2.99")
    content = compiled(place, "_core", "extern int nectar(void);", "nectar();", "-Wl,--no-as-needed", str(stub))
    _with_part(place, "tomorrow", "_core.so", content)
    (info,) = place.site().glob("tomorrow-1.0.dist-info")
    (info / "WHEEL").write_text("Wheel-Version: 1.0\nTag: cp311-cp311-manylinux_2_99_x86_64\n")
    return ["why", "tomorrow", "--in", place.heath], "library-too-old"


def binary_mismatch_said_plainly(place):
    said = "_core was compiled against scales 2.1, and this is 1.0"
    content = compiled(place, "_core", "", f'PyErr_SetString(PyExc_RuntimeError, "{said}"); return 0;')
    place.install("heath", plain("scales", "1.0"))
    place.offer(plain("scales", "2.1.4", source="NEW = 1\n"))
    package = Package("weighing", "1.0", {"weighing/__init__.py": "import scales\nif not hasattr(scales, 'NEW'):\n    from weighing import _core\n",
                                          "weighing/_core.so": content})  # fmt: skip
    place.install("heath", package)
    return ["why", "weighing", "--in", place.heath], "binary-mismatch"


def binary_mismatch_by_size(place):
    said = "heather.bell size changed, may indicate binary incompatibility. Expected 96 from C header, got 80 from PyObject"
    content = compiled(place, "_core", "", f'PyErr_SetString(PyExc_ImportError, "{said}"); return 0;')
    place.install("heath", plain("heather", "1.0"))
    place.offer(plain("heather", "1.4", source="NEW = 1\n"))
    package = Package("bellflower", "1.0", {"bellflower/__init__.py": "import heather\nif not hasattr(heather, 'NEW'):\n    from bellflower import _core\n",
                                            "bellflower/_core.so": content}, requires=["heather>=1.4"])  # fmt: skip
    place.install("heath", package)
    return ["why", "bellflower", "--in", place.heath], "binary-mismatch"


# What each version's compiler does not take, and the next one's does.
NEWER = {"3.6": "breakpoint = (n := 1)\n", "3.7": "(n := 1)\n", "3.8": "x = (lambda f: f)\n@x.__call__\ndef f(): pass\n@(lambda f: f)\ndef g(): pass\n",
         "3.9": "match 1:\n    case 1: pass\n", "3.10": "try:\n    pass\nexcept* OSError:\n    pass\n", "3.11": "type X = int\n",
         "3.12": "def f[T = int](): pass\n"}  # fmt: skip


@only(until=CAN_MAKE[-2] if len(CAN_MAKE) > 1 else "3.0")
def syntax_newer_in_a_package(place):
    place.install("heath", plain("futurecomb", "1.1", source=NEWER[place.version]))
    place.offer(plain("futurecomb", "1.0"))
    # Which Python takes it, the next one tells where it can be found; else Kalyx's own.
    following = BY_VERSION[CAN_MAKE[CAN_MAKE.index(place.version) + 1]]
    variables = {"PATH": f"{place.moor.variables['PATH']}:{os.path.dirname(following.real_executable)}", "KALYX_ONLY_BELOW": ""}
    return ["why", "futurecomb", "--in", place.heath], "syntax-newer", variables


def syntax_newer_forced_in(place):
    package = plain("toonew", "2.0", source="from typing import NotYetThere\n", python=">=3.99")
    wheel = write_wheel(package, str(place.wheels))
    import zipfile

    zipfile.ZipFile(wheel).extractall(place.site())
    place.offer(plain("toonew", "1.0"))
    return ["why", "toonew", "--in", place.heath], "syntax-newer"


def syntax_older_print(place):
    place.install("heath", plain("oldhive", source="print 6 * 7\n"))
    place.offer(plain("oldhive", "1.1"))
    return ["why", "oldhive", "--in", place.heath], "syntax-older"


def syntax_older_keyword(place):
    source = (
        "def weigh(async=True): pass\n" if minor(place.version) >= (3, 7) else "try: pass\nexcept OSError, e: pass\n"
    )
    place.install("heath", plain("asyncomb", source=source))
    place.offer(plain("asyncomb", "1.1"))
    return ["why", "asyncomb", "--in", place.heath], "syntax-older"


def damaged_source_cut_short(place):
    place.install("heath", plain("halfcomb", source="WEIGHTS = [1, 2, 3,\n 4]\n" * 3))
    path = place.site() / "halfcomb" / "__init__.py"
    path.write_bytes(path.read_bytes()[:15])
    return ["why", "halfcomb", "--in", place.heath], "damaged"


def damaged_compiled_part(place):
    content = compiled(place, "_core")
    place.install(
        "heath",
        Package(
            "torncore", "1.0", {"torncore/__init__.py": "from torncore import _core\n", "torncore/_core.so": content}
        ),
    )
    (place.site() / "torncore" / "_core.so").write_bytes(content[: len(content) // 3])
    return ["why", "torncore", "--in", place.heath], "damaged"


def damaged_null_bytes(place):
    place.install("heath", plain("nullcomb"))
    (place.site() / "nullcomb" / "__init__.py").write_bytes(b"\0" * 40)
    return ["why", "nullcomb", "--in", place.heath], "damaged"


def crashes_on_import(place):
    content = compiled(place, "_core", "#include <signal.h>", "raise(SIGSEGV);")
    place.install(
        "heath",
        Package(
            "deadcomb", "1.0", {"deadcomb/__init__.py": "from deadcomb import _core\n", "deadcomb/_core.so": content}
        ),
    )
    place.offer(
        Package("deadcomb", "1.0", {"deadcomb/__init__.py": "from deadcomb import _core\n", "deadcomb/_core.py": ""})
    )
    return ["why", "deadcomb", "--in", place.heath], "crashes"


def crashes_by_ending(place):
    place.install("heath", plain("endcomb", source="import os\nos._exit(3)\n"))
    place.offer(plain("endcomb", "1.0"))
    return ["why", "endcomb", "--in", place.heath], "crashes"


def startup_broken_by_a_home(place):
    place.install("heath", standin())
    argv = [place.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"]
    place.moor.kernel("fruit", argv, env={"PYTHONHOME": "/nowhere/at/all"})

    def mend():
        place.moor.kernel("fruit", argv)

    return ["why", "json", "--in", "kernel:fruit"], "startup-broken", None, mend


def startup_broken_by_a_hook(place):
    if (Path(BY_VERSION[place.version].base_prefix) / "lib" / f"python{place.version}" / "sitecustomize.py").exists():
        pytest.skip(f"{WANT}a Python without a sitecustomize of its own")  # that one stands before any environment's
    hook = place.site("orchard") / "sitecustomize.py"
    hook.write_text("raise SystemExit('the moor is closed')\n")
    hook.with_name("sitecustomize-before.pth").write_text("import sys\n")  # a start-up file that is not to blame
    return ["why", "json", "--in", place.orchard], "startup-broken"


def startup_broken_by_another_pythons_packages(place):
    folder = place.moor.root / "elsewhere" / "python3.5" / "site-packages"
    (folder / "moorstone").mkdir(parents=True, exist_ok=True)
    (folder / "moorstone" / "__init__.py").write_text("raise ImportError('not for this Python')\n")
    place.install("heath", plain("moorstone"))
    return ["why", "moorstone", "--in", place.heath], "startup-broken", {"PYTHONPATH": str(folder)}


def startup_broken_takes_lines_along(place):
    """The first line of a path file fails: the folder that a later one adds is what is missing."""
    folder = place.moor.root / "hedgerow"
    folder.mkdir(exist_ok=True)
    (folder / "sloe.py").write_text("")
    lines = place.site() / "hedge.pth"
    lines.write_text(f"import nothing_of_the_kind\n{folder}\n")

    def mend():
        lines.write_text(f"{folder}\n")

    return ["why", "sloe", "--in", place.heath], "startup-broken", None, mend


def damaged_by_nulls_in_a_part(place):
    files = {"spindle/__init__.py": "from spindle import whorl\n", "spindle/whorl.py": "x = 1\n"}
    place.install("heath", Package("spindle", "1.0", files))
    (place.site() / "spindle" / "whorl.py").write_bytes(b"x = 1\n\0\0\0")
    return ["why", "spindle", "--in", place.heath], "damaged"


def unmet_says_it_is_too_old(place):
    place.install("heath", plain("beeswax-x", "1.0", source="V = 1\n"))
    source = "import beeswax_x\nif beeswax_x.V < 2:\n    raise RuntimeError('beeswax-x 2 is needed')\n"
    place.install("heath", plain("candle", source=source, requires=["beeswax-x>=2"]))
    place.offer(plain("beeswax-x", "2.0", source="V = 2\n"))
    return ["why", "candle", "--in", place.heath], "unmet"


def shadowed_by_an_empty_package(place):
    place.install("heath", plain("marram"))
    own = place.moor.root / "own"
    (own / "marram").mkdir(parents=True, exist_ok=True)
    (own / "marram" / "__init__.py").write_text("")
    return ["why", "from marram import GRAMS", "--in", place.heath], "shadowed", {"PYTHONPATH": str(own)}


def user_site_off_by_a_kernels_flag(place):
    folder = place.moor.root / ".local" / "lib" / f"python{place.version}" / "site-packages"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "whinberry.py").write_text("")
    python = BY_VERSION[place.version].executable
    place.moor.kernel("fruit", [python, "-s", "-m", "ipykernel_launcher", "-f", "{connection_file}"])

    def mend():
        place.moor.kernel("fruit", [python, "-m", "ipykernel_launcher", "-f", "{connection_file}"])

    return ["why", "whinberry", "--in", "kernel:fruit"], "user-site-off", None, mend


def not_built_a_part(place):
    place.install("heath", Package("warpscale", "1.0", {"warpscale/__init__.py": "", "warpscale/fast.c": "int x;"}))
    place.offer(Package("warpscale", "1.0", {"warpscale/__init__.py": "", "warpscale/fast.py": ""}))
    return ["why", "warpscale.fast", "--in", place.heath], "not-built"


def not_built_asked_by_the_package(place):
    files = {"weftscale/__init__.py": "from weftscale import _core\n", "weftscale/_core.pyx": ""}
    place.install("heath", Package("weftscale", "1.0", files))
    place.offer(Package("weftscale", "1.0", {"weftscale/__init__.py": "from weftscale import _core\n", "weftscale/_core.py": ""}))
    return ["why", "weftscale", "--in", place.heath], "not-built"


def raises_for_want_of_a_system_library(place):
    """In the package's own words, as it looks the library up itself: the system's package is known by that word."""
    place.install("heath", Package("wax-scan", "1.0", {"waxscan/__init__.py": "raise ImportError('Unable to find zbar shared library')\n"}))
    file = place.site() / "waxscan" / "__init__.py"
    return ["why", "waxscan", "--in", place.heath], "raises", None, lambda: file.write_text("") and None


# What no cause names: found by leaving out what may differ, all of it and then halves.


def decisive_difference_of_a_variable(place):
    place.install("heath", plain("swarmer", source="import os\nif os.environ.get('SWARM') == 'strict':\n    raise RuntimeError('no frames')\n"))
    return ["why", "swarmer", "--in", place.heath], "decisive-difference", {"SWARM": "strict", "SWARM_B": "1", "SWARM_C": "1"}


def decisive_difference_that_ends_it(place):
    """Two variables that harm only together: without the first it works."""
    source = "import os\nif 'SWARM_A' in os.environ and 'SWARM_B' in os.environ:\n    os._exit(3)\n"
    place.install("heath", plain("ender", source=source))
    return ["why", "ender", "--in", place.heath], "decisive-difference", {"SWARM_A": "1", "SWARM_B": "1"}


def decisive_difference_of_a_flag(place):
    place.install("heath", plain("docsman", source="def f():\n    'words'\nf.__doc__.split()\n"))
    line = "python -W default -OO -c 'import docsman'"
    return ["why", "docsman", "--in", place.heath, "--as", line], "decisive-difference"


def decisive_difference_of_a_settings_file(place):
    source = "import json, os\npath = os.path.expanduser('~/.config/apiary/rc.json')\nif os.path.exists(path):\n    json.load(open(path))\n"
    place.install("heath", plain("apiary", source=source))
    folder = place.moor.root / ".config" / "apiary"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "rc.json").write_text("{")
    (folder / "other.json").write_text("{}")
    return ["why", "apiary", "--in", place.heath], "decisive-difference"


def decisive_difference_of_a_file_in_the_folder(place):
    place.install("heath", plain("combcfg", source="import configparser\nconfigparser.ConfigParser().read('comb.cfg')\n"))
    for number in range(9):
        (place.moor.folder / f"notes{number}.txt").write_text("")
    (place.moor.folder / "comb.cfg").write_text("no section\n")
    return ["why", "combcfg", "--in", place.heath], "decisive-difference"


def decisive_difference_of_a_start_up_file(place):
    place.install("heath", plain("builder", source="import builtins\nif hasattr(builtins, '_moor'):\n    raise RuntimeError('builtins were changed')\n"))
    (place.site() / "moor.pth").write_text("import builtins; builtins._moor = 1\n")
    (place.site() / "noor.pth").write_text("import builtins; builtins._noor = 1\n")
    return ["why", "builder", "--in", place.heath], "decisive-difference"


def decisive_difference_of_a_compiled_file(place):
    """It was compiled from another source of the same time and size: Python takes that."""
    place.install("heath", Package("oldcomb", "1.0", {"oldcomb/__init__.py": "from oldcomb.part import grams\n", "oldcomb/part.py": "grams = 1\n"}))
    part = place.site() / "oldcomb" / "part.py"
    times = (part.stat().st_atime_ns, part.stat().st_mtime_ns)
    part.write_text("grbms = 1\n")
    os.utime(part, ns=times)
    subprocess.run([place.heath, "-m", "py_compile", part], check=True)
    part.write_text("grams = 1\n")
    os.utime(part, ns=times)
    return ["why", "oldcomb", "--in", place.heath], "decisive-difference"


def _kernel(place) -> list[str]:
    """The command line of a kernel that heath can start."""
    place.install("heath", standin())
    return [place.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"]


def decisive_difference_of_a_library_path(place):
    made = library(place, "libz.so.1", "int nothing_of_zlib(void) { return 1; }")
    place.install("heath", plain("zipcomb", source="import zlib\nzlib.crc32(b'')\n"))
    kernel = _kernel(place)
    place.moor.kernel("comb", kernel, env={"LD_LIBRARY_PATH": str(made.parent), "COMB": "1"})

    def mend():
        place.moor.kernel("comb", kernel)

    return ["why", "zipcomb", "--in", "kernel:comb"], "decisive-difference", None, mend


def _by_a_variable_of_a_kernel(place, **variables):
    kernel = _kernel(place)
    place.moor.kernel("comb", kernel, env={**variables, "COMB": "1"})
    return ["why", "json", "--in", "kernel:comb"], "startup-broken", None, lambda: place.moor.kernel("comb", kernel) and None


@only(since="3.9")
def startup_broken_by_the_name_of_the_library_folder(place):
    return _by_a_variable_of_a_kernel(place, PYTHONPLATLIBDIR="lib64")


def startup_broken_by_an_encoding(place):
    return _by_a_variable_of_a_kernel(place, PYTHONIOENCODING="moor")


def link_broken_of_a_file(place):
    target = place.moor.root / "store.py"
    (place.moor.folder / "chaincomb.py").symlink_to(target)
    return ["why", "chaincomb", "--in", place.heath], "link-broken", None, lambda: target.write_text("") and None


def damaged_by_an_encoding(place):
    """The bytes of another encoding, none declared: no Python takes the file, though the compiler of 2.7 takes its text."""
    file = place.moor.folder / "umlaut.py"
    file.write_bytes(b'name = "H\xfcter"\n' + b"x = 1\n" * 9)

    def mend():
        file.write_bytes(b"# -*- coding: latin-1 -*-\n" + file.read_bytes())

    return ["why", "umlaut", "--in", place.heath], "damaged", None, mend


def gutted_by_an_installer_that_was_stopped(place):
    place.install("heath", plain("tildecomb"))
    place.offer(plain("tildecomb"))
    for name in ("tildecomb", "tildecomb-1.0.dist-info"):
        (place.site() / name).rename(place.site() / f"~{name[1:]}")
    return ["why", "tildecomb", "--in", place.heath], "gutted"


def gutted_of_a_data_file(place):
    source = "import os\nopen(os.path.join(os.path.dirname(__file__), 'cells', 'a.txt')).read()\n"
    package = Package("celldata", "1.0", {"celldata/__init__.py": source, "celldata/cells/a.txt": "1"})
    place.install("heath", package), place.offer(package)
    (place.site() / "celldata" / "cells" / "a.txt").unlink()
    return ["why", "celldata", "--in", place.heath], "gutted"


def optional_by_the_smallest_extra(place):
    source = "try:\n    import combframe\nexcept ImportError as error:\n    raise ImportError('requirements are not installed') from error\n"
    package = Package("comboard", "1.0", {"comboard/__init__.py": "", "comboard/frame.py": source},
                      extras={"all": ["combframe", "nowhere"], "frame": ["combframe"]})  # fmt: skip
    place.install("heath", package), place.offer(package), place.offer(plain("combframe"))
    return ["why", "comboard.frame", "--in", place.heath], "optional"


def unmet_here_and_too_old(place):
    """The version that is here lacks the module; what needs it says so, and comes before who else has it."""
    place.install("heath", Package("attic", "1.0", {"atticold/__init__.py": ""}))
    place.install("orchard", Package("attic", "2.0", {"attic/__init__.py": ""}))
    place.offer(Package("attic", "2.0", {"attic/__init__.py": ""}))
    place.install("heath", plain("roofer", source="import attic\n", requires=["attic>=2"]))
    return ["why", "roofer", "--in", place.heath], "unmet"


@only(since="3.8")
def circular_by_an_attribute(place):
    files = {"ringcomb/__init__.py": "import ringcomb.a\n", "ringcomb/a.py": "import ringcomb.b\nX = 1\n", "ringcomb/b.py": "import ringcomb.a\nringcomb.a.X\n"}
    place.install("heath", Package("ringcomb", "1.0", files))
    place.offer(Package("ringcomb", "1.1", {**files, "ringcomb/b.py": ""}))
    return ["why", "ringcomb", "--in", place.heath], "circular"


def raises_for_want_of_a_program(place):
    place.install("heath", Package("combrun", "1.0", {"combrun/__init__.py": "import subprocess\nsubprocess.check_call(['combtool', '--version'])\n"}))
    tool = place.moor.root / "heath" / "bin" / "combtool"

    def mend():
        tool.write_text("#!/bin/sh\n")
        tool.chmod(0o755)

    return ["why", "combrun", "--in", place.heath], "raises", None, mend


def no_parent_package_above_the_top(place):
    """The dots lead above the package that the search begins with: from a folder higher up they lead to something."""
    inner = place.moor.folder / "tally" / "parts"
    inner.mkdir(parents=True)
    for folder in (inner, inner.parent):
        (folder / "__init__.py").write_text("")
    (inner / "sum.py").write_text("from ... import weights\n")
    (place.moor.folder / "weights.py").write_text("")

    def mend():
        (inner / "sum.py").write_text("import weights\n")

    return ["why", "tally.parts.sum", "--in", place.heath], "no-parent-package", None, mend


def raises_for_want_of_a_variable(place):
    place.install("heath", plain("combkey", source="import os\nos.environ['COMB_KEY']\n"))
    kernel = _kernel(place)
    place.moor.kernel("comb", kernel)

    def mend():
        place.moor.kernel("comb", kernel, env={"COMB_KEY": "1"})

    return ["why", "combkey", "--in", "kernel:comb"], "raises", None, mend


def decisive_difference_of_the_path(place):
    """A program that every system has, and PATH leads to the environment alone."""
    place.install("heath", Package("runner", "1.0", {"runner/__init__.py": "import subprocess\nsubprocess.check_output(['uname'])\n"}))
    return ["why", "runner", "--in", place.heath], "decisive-difference", {"PATH": f"{place.moor.root}/heath/bin"}


def decisive_difference_of_a_folder_on_the_path(place):
    place.install("heath", plain("looker", source="import sys\nif any(one.endswith('weird') for one in sys.path):\n    raise RuntimeError('no')\n"))
    for name in ("weird", "fine"):
        (place.moor.root / name).mkdir(exist_ok=True)
    folders = [str(place.moor.root / name) for name in ("fine", "weird")]
    return ["why", "looker", "--in", place.heath], "decisive-difference", {"PYTHONPATH": ":".join(folders)}


# What follows is last, so that no other fault is built on another version than its kept answer is of.
def _half_made(place, name: str) -> Path:
    prefix = place.moor.root / name
    shutil.rmtree(prefix, ignore_errors=True)
    make_environment(place.version, prefix, "--without-pip")
    next(prefix.glob("lib/python*/site-packages")).joinpath("clover.py").touch()
    (prefix / "pyvenv.cfg").unlink()
    return prefix


def half_made_without_settings(place):
    return ["why", "clover", "--in", _half_made(place, "mead")], "half-made"


def half_made_with_a_folder_for_settings(place):
    prefix = _half_made(place, "wicker")
    (prefix / "pyvenv.cfg").mkdir()
    return ["why", "clover", "--in", f"{prefix}/bin/python3"], "half-made"


def raises_for_want_of_a_variable_read_by_frozen_code(place):
    """From 3.11 on ``os`` is part of the interpreter, and its frames name no file."""
    return raises_for_want_of_a_variable(place)


raises_for_want_of_a_variable_read_by_frozen_code.versions = CAN_MAKE[-1:]


@only("3.6")
def startup_broken_by_a_hook_that_waits(place):
    hook = place.site("orchard") / "sitecustomize.py"
    hook.write_text("import time\ntime.sleep(600)\n")
    hook.with_name("sitecustomize-before.pth").write_text("import sys\n")
    return ["why", "json", "--in", place.orchard, "--timeout", "2"], "startup-broken"
