"""Builders: it is found and does not load; or the interpreter does not start as it should."""

import os
import shutil
import subprocess
from pathlib import Path

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import answer_of, make_environment
from tests.equipment import BY_VERSION, CAN_MAKE
from tests.faults.environments import (
    compiled,
    environment_over,
    library,
    minor,
    only,
    own_base,
    plain,
    standin,
    start_hook,
)
from tests.made import WINDOWS


def _with_part(envs, name: str, part: str, content: bytes, version: str = "1.0", **more) -> Package:
    package = Package(
        name, version, {f"{name}/__init__.py": f"from {name} import _core\n", f"{name}/{part}": content}, **more
    )
    envs.install("heath", package)
    # What an index offers under the same name and version fits this Python.
    envs.offer(Package(name, version, {f"{name}/__init__.py": "", f"{name}/_core.py": ""}, **more))
    return package


def other_build_by_its_name(envs):
    _with_part(envs, "oldstraw", "_core.cpython-35m-x86_64-linux-gnu.so", compiled(envs, "_core"))
    return ["why", "oldstraw", "--in", envs.heath], "other-build"


def other_build_by_a_symbol(envs):
    content = compiled(envs, "_core", "extern void _PyMoor_Gone(void);", "_PyMoor_Gone();")
    _with_part(envs, "symbolic", "_core.so", content)
    return ["why", "symbolic", "--in", envs.heath], "other-build"


def other_platform_by_its_processor(envs):
    content = bytearray(compiled(envs, "_core"))
    content[18:20] = b"\xb7\x00"  # ELF's e_machine: arm64
    _with_part(envs, "armchair", "_core.so", bytes(content))
    return ["why", "armchair", "--in", envs.heath], "other-platform"


# A real header: a Mach-O bundle without commands.
MACOS = b"\xcf\xfa\xed\xfe" + (16777228).to_bytes(4, "little") + b"\0\0\0\0" + (8).to_bytes(4, "little") + b"\0" * 16


def other_platform_for_windows(envs):
    _with_part(envs, "pitchpine", "_core.cp311-win_amd64.pyd", WINDOWS)
    return ["why", "pitchpine", "--in", envs.heath], "other-platform"


def other_platform_for_macos(envs):
    _with_part(envs, "applewood", "_core.cpython-311-darwin.so", MACOS)
    return ["why", "applewood", "--in", envs.heath], "other-platform"


def other_platform_another_c_library(envs):
    stub = library(envs, "libc.musl-x86_64.so.1", "int moor_musl(void) { return 1; }")
    content = compiled(envs, "_core", "extern int moor_musl(void);", "moor_musl();", str(stub))
    _with_part(envs, "musselbed", "_core.so", content)
    return ["why", "musselbed", "--in", envs.heath], "other-platform"


def library_missing_but_in_a_folder(envs):
    made = library(envs, "libhoney.so.1", "int honey(void) { return 1; }")
    content = compiled(envs, "_core", "extern int honey(void);", "honey();", str(made))
    envs.install(
        "heath",
        Package(
            "honeypot", "1.0", {"honeypot/__init__.py": "from honeypot import _core\n", "honeypot/_core.so": content}
        ),
    )
    (envs.moor.root / "heath" / "lib" / "libhoney.so.1").write_bytes(made.read_bytes())
    return ["why", "honeypot", "--in", envs.heath], "library-missing"


def library_missing_that_came_with_it(envs):
    made = library(envs, "libwax.so.1", "int wax(void) { return 1; }")
    content = compiled(
        envs, "_core", "extern int wax(void);", "wax();", str(made), "-Wl,-rpath,$ORIGIN/../candle.libs"
    )
    package = Package("candle", "1.0", {"candle/__init__.py": "from candle import _core\n", "candle/_core.so": content,
                                        "candle.libs/libwax.so.1": made.read_bytes()})  # fmt: skip
    envs.install("heath", package)
    (envs.site() / "candle.libs" / "libwax.so.1").unlink()
    return ["why", "candle", "--in", envs.heath], "library-missing"


def _versioned(envs, file: str, version: str):
    script = envs.wheels.parent / "made" / "versions"
    script.parent.mkdir(exist_ok=True)
    script.write_text(f"{version} {{ global: nectar; local: *; }};\n")
    return library(envs, file, "int nectar(void) { return 1; }", f"-Wl,--version-script={script}")


def library_too_old_of_another_package(envs):
    old = _versioned(envs, "libnectar.so.1", "NECTAR_1.0").read_bytes()
    new = _versioned(envs, "libnectar.so.1", "NECTAR_1.2")
    content = compiled(
        envs, "_core", "extern int nectar(void);", "nectar();", str(new), "-Wl,-rpath,$ORIGIN/../nectarlib"
    )
    envs.install("heath", Package("nectarlib", "1.0", {"nectarlib/__init__.py": "", "nectarlib/libnectar.so.1": old}))
    envs.offer(
        Package("nectarlib", "1.2", {"nectarlib/__init__.py": "", "nectarlib/libnectar.so.1": new.read_bytes()})
    )
    envs.install(
        "heath",
        Package("sipper", "1.0", {"sipper/__init__.py": "from sipper import _core\n", "sipper/_core.so": content}),
    )
    return ["why", "sipper", "--in", envs.heath], "library-too-old"


def library_too_old_of_the_system(envs):
    stub = _versioned(envs, "libm.so.6", "GLIBC_2.99")
    content = compiled(envs, "_core", "extern int nectar(void);", "nectar();", "-Wl,--no-as-needed", str(stub))
    _with_part(envs, "tomorrow", "_core.so", content)
    (info,) = envs.site().glob("tomorrow-1.0.dist-info")
    (info / "WHEEL").write_text("Wheel-Version: 1.0\nTag: cp311-cp311-manylinux_2_99_x86_64\n")
    return ["why", "tomorrow", "--in", envs.heath], "library-too-old"


def binary_mismatch_said_plainly(envs):
    said = "_core was compiled against scales 2.1, and this is 1.0"
    content = compiled(envs, "_core", "", f'PyErr_SetString(PyExc_RuntimeError, "{said}"); return 0;')
    envs.install("heath", plain("scales", "1.0"))
    envs.offer(plain("scales", "2.1.4", source="NEW = 1\n"))
    package = Package("weighing", "1.0", {"weighing/__init__.py": "import scales\nif not hasattr(scales, 'NEW'):\n    from weighing import _core\n",
                                          "weighing/_core.so": content})  # fmt: skip
    envs.install("heath", package)
    return ["why", "weighing", "--in", envs.heath], "binary-mismatch"


def binary_mismatch_by_size(envs):
    said = "heather.bell size changed, may indicate binary incompatibility. Expected 96 from C header, got 80 from PyObject"
    content = compiled(envs, "_core", "", f'PyErr_SetString(PyExc_ImportError, "{said}"); return 0;')
    envs.install("heath", plain("heather", "1.0"))
    envs.offer(plain("heather", "1.4", source="NEW = 1\n"))
    package = Package("bellflower", "1.0", {"bellflower/__init__.py": "import heather\nif not hasattr(heather, 'NEW'):\n    from bellflower import _core\n",
                                            "bellflower/_core.so": content}, requires=["heather>=1.4"])  # fmt: skip
    envs.install("heath", package)
    return ["why", "bellflower", "--in", envs.heath], "binary-mismatch"


# What each version's compiler does not take, and the next one's does.
NEWER = {"3.6": "breakpoint = (n := 1)\n", "3.7": "(n := 1)\n", "3.8": "x = (lambda f: f)\n@x.__call__\ndef f(): pass\n@(lambda f: f)\ndef g(): pass\n",
         "3.9": "match 1:\n    case 1: pass\n", "3.10": "try:\n    pass\nexcept* OSError:\n    pass\n", "3.11": "type X = int\n",
         "3.12": "def f[T = int](): pass\n", "3.13": "try:\n    pass\nexcept OSError, ValueError:\n    pass\n", "3.14": "x = [*y for y in [[1]]]\n"}  # fmt: skip


@only(until=CAN_MAKE[-2] if len(CAN_MAKE) > 1 else "3.0")
def syntax_newer_in_a_package(envs):
    envs.install("heath", plain("futurecomb", "1.1", source=NEWER[envs.version]))
    envs.offer(plain("futurecomb", "1.0"))
    # Which Python takes it, the next one tells where it can be found; else Kalyx's own.
    following = BY_VERSION[CAN_MAKE[CAN_MAKE.index(envs.version) + 1]]
    variables = {"PATH": f"{envs.moor.variables['PATH']}:{os.path.dirname(following.real_executable)}", "KALYX_ONLY_BELOW": ""}
    return ["why", "futurecomb", "--in", envs.heath], "syntax-newer", variables


def syntax_newer_forced_in(envs):
    package = plain("toonew", "2.0", source="from typing import NotYetThere\n", python=">=3.99")
    wheel = write_wheel(package, str(envs.wheels))
    import zipfile

    zipfile.ZipFile(wheel).extractall(envs.site())
    envs.offer(plain("toonew", "1.0"))
    return ["why", "toonew", "--in", envs.heath], "syntax-newer"


def syntax_older_print(envs):
    envs.install("heath", plain("oldhive", source="print 6 * 7\n"))
    envs.offer(plain("oldhive", "1.1"))
    return ["why", "oldhive", "--in", envs.heath], "syntax-older"


def syntax_older_keyword(envs):
    source = (
        "def weigh(async=True): pass\n" if minor(envs.version) >= (3, 7) else "try: pass\nexcept OSError, e: pass\n"
    )
    envs.install("heath", plain("asyncomb", source=source))
    envs.offer(plain("asyncomb", "1.1"))
    return ["why", "asyncomb", "--in", envs.heath], "syntax-older"


def damaged_source_cut_short(envs):
    envs.install("heath", plain("halfcomb", source="WEIGHTS = [1, 2, 3,\n 4]\n" * 3))
    path = envs.site() / "halfcomb" / "__init__.py"
    path.write_bytes(path.read_bytes()[:15])
    return ["why", "halfcomb", "--in", envs.heath], "damaged"


def damaged_compiled_part(envs):
    content = compiled(envs, "_core")
    envs.install(
        "heath",
        Package(
            "torncore", "1.0", {"torncore/__init__.py": "from torncore import _core\n", "torncore/_core.so": content}
        ),
    )
    (envs.site() / "torncore" / "_core.so").write_bytes(content[: len(content) // 3])
    return ["why", "torncore", "--in", envs.heath], "damaged"


def damaged_null_bytes(envs):
    envs.install("heath", plain("nullcomb"))
    (envs.site() / "nullcomb" / "__init__.py").write_bytes(b"\0" * 40)
    return ["why", "nullcomb", "--in", envs.heath], "damaged"


def crashes_on_import(envs):
    content = compiled(envs, "_core", "#include <signal.h>", "raise(SIGSEGV);")
    envs.install(
        "heath",
        Package(
            "deadcomb", "1.0", {"deadcomb/__init__.py": "from deadcomb import _core\n", "deadcomb/_core.so": content}
        ),
    )
    envs.offer(
        Package("deadcomb", "1.0", {"deadcomb/__init__.py": "from deadcomb import _core\n", "deadcomb/_core.py": ""})
    )
    return ["why", "deadcomb", "--in", envs.heath], "crashes"


def crashes_by_ending(envs):
    envs.install("heath", plain("endcomb", source="import os\nos._exit(3)\n"))
    envs.offer(plain("endcomb", "1.0"))
    return ["why", "endcomb", "--in", envs.heath], "crashes"


def startup_broken_by_a_home(envs):
    envs.install("heath", standin())
    argv = [envs.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"]
    envs.moor.kernel("fruit", argv, env={"PYTHONHOME": "/nowhere/at/all"})

    def fix():
        envs.moor.kernel("fruit", argv)

    return ["why", "json", "--in", "kernel:fruit"], "startup-broken", None, fix


def startup_broken_by_a_hook(envs):
    hook = start_hook(envs)
    hook.write_text("raise SystemExit('the moor is closed')\n")
    hook.with_name("sitecustomize-before.pth").write_text("import sys\n")  # a start-up file that is not to blame
    return ["why", "json", "--in", envs.orchard], "startup-broken"


def startup_broken_by_another_pythons_packages(envs):
    folder = envs.moor.root / "elsewhere" / "python3.5" / "site-packages"
    (folder / "moorstone").mkdir(parents=True, exist_ok=True)
    (folder / "moorstone" / "__init__.py").write_text("raise ImportError('not for this Python')\n")
    envs.install("heath", plain("moorstone"))
    return ["why", "moorstone", "--in", envs.heath], "startup-broken", {"PYTHONPATH": str(folder)}


def startup_broken_takes_lines_along(envs):
    """The first line of a path file fails: the folder that a later one adds is what is missing."""
    folder = envs.moor.root / "hedgerow"
    folder.mkdir(exist_ok=True)
    (folder / "sloe.py").write_text("")
    lines = envs.site() / "hedge.pth"
    lines.write_text(f"import nothing_of_the_kind\n{folder}\n")

    def fix():
        lines.write_text(f"{folder}\n")

    return ["why", "sloe", "--in", envs.heath], "startup-broken", None, fix


def damaged_by_nulls_in_a_part(envs):
    files = {"spindle/__init__.py": "from spindle import whorl\n", "spindle/whorl.py": "x = 1\n"}
    envs.install("heath", Package("spindle", "1.0", files))
    (envs.site() / "spindle" / "whorl.py").write_bytes(b"x = 1\n\0\0\0")
    return ["why", "spindle", "--in", envs.heath], "damaged"


def unmet_says_it_is_too_old(envs):
    envs.install("heath", plain("beeswax-x", "1.0", source="V = 1\n"))
    source = "import beeswax_x\nif beeswax_x.V < 2:\n    raise RuntimeError('beeswax-x 2 is needed')\n"
    envs.install("heath", plain("candle", source=source, requires=["beeswax-x>=2"]))
    envs.offer(plain("beeswax-x", "2.0", source="V = 2\n"))
    return ["why", "candle", "--in", envs.heath], "unmet"


def shadowed_by_an_empty_package(envs):
    envs.install("heath", plain("marram"))
    own = envs.moor.root / "own"
    (own / "marram").mkdir(parents=True, exist_ok=True)
    (own / "marram" / "__init__.py").write_text("")
    return ["why", "from marram import GRAMS", "--in", envs.heath], "shadowed", {"PYTHONPATH": str(own)}


def user_site_off_by_a_kernels_flag(envs):
    folder = envs.moor.root / ".local" / "lib" / f"python{envs.version}" / "site-packages"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "whinberry.py").write_text("")
    python = BY_VERSION[envs.version].executable
    envs.moor.kernel("fruit", [python, "-s", "-m", "json.tool", "{connection_file}"])

    def fix():
        envs.moor.kernel("fruit", [python, "-m", "json.tool", "{connection_file}"])

    return ["why", "whinberry", "--in", "kernel:fruit"], "user-site-off", None, fix


def not_built_a_part(envs):
    envs.install("heath", Package("warpscale", "1.0", {"warpscale/__init__.py": "", "warpscale/fast.c": "int x;"}))
    envs.offer(Package("warpscale", "1.0", {"warpscale/__init__.py": "", "warpscale/fast.py": ""}))
    return ["why", "warpscale.fast", "--in", envs.heath], "not-built"


def not_built_asked_by_the_package(envs):
    files = {"weftscale/__init__.py": "from weftscale import _core\n", "weftscale/_core.pyx": ""}
    envs.install("heath", Package("weftscale", "1.0", files))
    envs.offer(Package("weftscale", "1.0", {"weftscale/__init__.py": "from weftscale import _core\n", "weftscale/_core.py": ""}))
    return ["why", "weftscale", "--in", envs.heath], "not-built"


def raises_for_want_of_a_system_library(envs):
    """In the package's own words, as it looks the library up itself: the system's package is known by that word."""
    envs.install("heath", Package("wax-scan", "1.0", {"waxscan/__init__.py": "raise ImportError('Unable to find zbar shared library')\n"}))
    file = envs.site() / "waxscan" / "__init__.py"
    return ["why", "waxscan", "--in", envs.heath], "raises", None, lambda: file.write_text("") and None


# What no cause names: found by leaving out what may differ, all of it and then halves.


def decisive_difference_of_a_variable(envs):
    envs.install("heath", plain("swarmer", source="import os\nif os.environ.get('SWARM') == 'strict':\n    raise RuntimeError('no frames')\n"))
    return ["why", "swarmer", "--in", envs.heath], "decisive-difference", {"SWARM": "strict", "SWARM_B": "1", "SWARM_C": "1"}


def decisive_difference_that_ends_it(envs):
    """Two variables that harm only together: without the first it works."""
    source = "import os\nif 'SWARM_A' in os.environ and 'SWARM_B' in os.environ:\n    os._exit(3)\n"
    envs.install("heath", plain("ender", source=source))
    return ["why", "ender", "--in", envs.heath], "decisive-difference", {"SWARM_A": "1", "SWARM_B": "1"}


def decisive_difference_of_a_flag(envs):
    envs.install("heath", plain("docsman", source="def f():\n    'words'\nf.__doc__.split()\n"))
    line = "python -W default -OO -c 'import docsman'"
    return ["why", "docsman", "--in", envs.heath, "--as", line], "decisive-difference"


def decisive_difference_of_a_settings_file(envs):
    source = "import json, os\npath = os.path.expanduser('~/.config/apiary/rc.json')\nif os.path.exists(path):\n    json.load(open(path))\n"
    envs.install("heath", plain("apiary", source=source))
    folder = envs.moor.root / ".config" / "apiary"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "rc.json").write_text("{")
    (folder / "other.json").write_text("{}")
    return ["why", "apiary", "--in", envs.heath], "decisive-difference"


def decisive_difference_of_a_file_in_the_folder(envs):
    envs.install("heath", plain("combcfg", source="import configparser\nconfigparser.ConfigParser().read('comb.cfg')\n"))
    for number in range(9):
        (envs.moor.folder / f"notes{number}.txt").write_text("")
    (envs.moor.folder / "comb.cfg").write_text("no section\n")
    return ["why", "combcfg", "--in", envs.heath], "decisive-difference"


def decisive_difference_of_a_start_up_file(envs):
    envs.install("heath", plain("builder", source="import builtins\nif hasattr(builtins, '_moor'):\n    raise RuntimeError('builtins were changed')\n"))
    (envs.site() / "moor.pth").write_text("import builtins; builtins._moor = 1\n")
    (envs.site() / "noor.pth").write_text("import builtins; builtins._noor = 1\n")
    return ["why", "builder", "--in", envs.heath], "decisive-difference"


def decisive_difference_of_a_compiled_file(envs):
    """It was compiled from another source of the same time and size: Python takes that."""
    envs.install("heath", Package("oldcomb", "1.0", {"oldcomb/__init__.py": "from oldcomb.part import grams\n", "oldcomb/part.py": "grams = 1\n"}))
    part = envs.site() / "oldcomb" / "part.py"
    times = (part.stat().st_atime_ns, part.stat().st_mtime_ns)
    part.write_text("grbms = 1\n")
    os.utime(part, ns=times)
    subprocess.run([envs.heath, "-m", "py_compile", part], check=True)
    part.write_text("grams = 1\n")
    os.utime(part, ns=times)
    return ["why", "oldcomb", "--in", envs.heath], "decisive-difference"


def _kernel(envs) -> list[str]:
    """The command line of a kernel that heath can start."""
    envs.install("heath", standin())
    return [envs.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"]


def decisive_difference_of_a_library_path(envs):
    made = library(envs, "libz.so.1", "int nothing_of_zlib(void) { return 1; }")
    envs.install("heath", plain("zipcomb", source="import zlib\nzlib.crc32(b'')\n"))
    kernel = _kernel(envs)
    envs.moor.kernel("comb", kernel, env={"LD_LIBRARY_PATH": str(made.parent), "COMB": "1"})

    def fix():
        envs.moor.kernel("comb", kernel)

    return ["why", "zipcomb", "--in", "kernel:comb"], "decisive-difference", None, fix


def _by_a_variable_of_a_kernel(envs, **variables):
    kernel = _kernel(envs)
    envs.moor.kernel("comb", kernel, env={**variables, "COMB": "1"})
    return ["why", "json", "--in", "kernel:comb"], "startup-broken", None, lambda: envs.moor.kernel("comb", kernel) and None


@only(since="3.9")
def startup_broken_by_the_name_of_the_library_folder(envs):
    return _by_a_variable_of_a_kernel(envs, PYTHONPLATLIBDIR="lib64")


def startup_broken_by_an_encoding(envs):
    return _by_a_variable_of_a_kernel(envs, PYTHONIOENCODING="moor")


def link_broken_of_a_file(envs):
    target = envs.moor.root / "store.py"
    (envs.moor.folder / "chaincomb.py").symlink_to(target)
    return ["why", "chaincomb", "--in", envs.heath], "link-broken", None, lambda: target.write_text("") and None


def damaged_by_an_encoding(envs):
    """The bytes of another encoding, none declared: no Python takes the file, though the compiler of 2.7 takes its text."""
    file = envs.moor.folder / "umlaut.py"
    file.write_bytes(b'name = "H\xfcter"\n' + b"x = 1\n" * 9)

    def fix():
        file.write_bytes(b"# -*- coding: latin-1 -*-\n" + file.read_bytes())

    return ["why", "umlaut", "--in", envs.heath], "damaged", None, fix


def gutted_by_an_installer_that_was_stopped(envs):
    envs.install("heath", plain("tildecomb"))
    envs.offer(plain("tildecomb"))
    for name in ("tildecomb", "tildecomb-1.0.dist-info"):
        (envs.site() / name).rename(envs.site() / f"~{name[1:]}")
    return ["why", "tildecomb", "--in", envs.heath], "gutted"


def gutted_of_a_data_file(envs):
    source = "import os\nopen(os.path.join(os.path.dirname(__file__), 'cells', 'a.txt')).read()\n"
    package = Package("celldata", "1.0", {"celldata/__init__.py": source, "celldata/cells/a.txt": "1"})
    envs.install("heath", package), envs.offer(package)
    (envs.site() / "celldata" / "cells" / "a.txt").unlink()
    return ["why", "celldata", "--in", envs.heath], "gutted"


def optional_by_the_smallest_extra(envs):
    source = "try:\n    import combframe\nexcept ImportError as error:\n    raise ImportError('requirements are not installed') from error\n"
    package = Package("comboard", "1.0", {"comboard/__init__.py": "", "comboard/frame.py": source},
                      extras={"all": ["combframe", "nowhere"], "frame": ["combframe"]})  # fmt: skip
    envs.install("heath", package), envs.offer(package), envs.offer(plain("combframe"))
    return ["why", "comboard.frame", "--in", envs.heath], "optional"


def unmet_here_and_too_old(envs):
    """The version that is here lacks the module; what needs it says so, and comes before who else has it."""
    envs.install("heath", Package("attic", "1.0", {"atticold/__init__.py": ""}))
    envs.install("orchard", Package("attic", "2.0", {"attic/__init__.py": ""}))
    envs.offer(Package("attic", "2.0", {"attic/__init__.py": ""}))
    envs.install("heath", plain("roofer", source="import attic\n", requires=["attic>=2"]))
    return ["why", "roofer", "--in", envs.heath], "unmet"


@only(since="3.8")
def circular_by_an_attribute(envs):
    files = {"ringcomb/__init__.py": "import ringcomb.a\n", "ringcomb/a.py": "import ringcomb.b\nX = 1\n", "ringcomb/b.py": "import ringcomb.a\nringcomb.a.X\n"}
    envs.install("heath", Package("ringcomb", "1.0", files))
    envs.offer(Package("ringcomb", "1.1", {**files, "ringcomb/b.py": ""}))
    return ["why", "ringcomb", "--in", envs.heath], "circular"


def raises_for_want_of_a_program(envs):
    envs.install("heath", Package("combrun", "1.0", {"combrun/__init__.py": "import subprocess\nsubprocess.check_call(['combtool', '--version'])\n"}))
    tool = envs.moor.root / "heath" / "bin" / "combtool"

    def fix():
        tool.write_text("#!/bin/sh\n")
        tool.chmod(0o755)

    return ["why", "combrun", "--in", envs.heath], "raises", None, fix


def no_parent_package_above_the_top(envs):
    """The dots lead above the package that the search begins with: from a folder higher up they lead to something."""
    inner = envs.moor.folder / "tally" / "parts"
    inner.mkdir(parents=True)
    for folder in (inner, inner.parent):
        (folder / "__init__.py").write_text("")
    (inner / "sum.py").write_text("from ... import weights\n")
    (envs.moor.folder / "weights.py").write_text("")

    def fix():
        (inner / "sum.py").write_text("import weights\n")

    return ["why", "tally.parts.sum", "--in", envs.heath], "no-parent-package", None, fix


def raises_for_want_of_a_variable(envs):
    envs.install("heath", plain("combkey", source="import os\nos.environ['COMB_KEY']\n"))
    kernel = _kernel(envs)
    envs.moor.kernel("comb", kernel)

    def fix():
        envs.moor.kernel("comb", kernel, env={"COMB_KEY": "1"})

    return ["why", "combkey", "--in", "kernel:comb"], "raises", None, fix


def decisive_difference_of_the_path(envs):
    """A program that every system has, and PATH leads to the environment alone."""
    envs.install("heath", Package("runner", "1.0", {"runner/__init__.py": "import subprocess\nsubprocess.check_output(['uname'])\n"}))
    return ["why", "runner", "--in", envs.heath], "decisive-difference", {"PATH": f"{envs.moor.root}/heath/bin"}


def decisive_difference_of_a_folder_on_the_path(envs):
    envs.install("heath", plain("looker", source="import sys\nif any(one.endswith('weird') for one in sys.path):\n    raise RuntimeError('no')\n"))
    for name in ("weird", "fine"):
        (envs.moor.root / name).mkdir(exist_ok=True)
    folders = [str(envs.moor.root / name) for name in ("fine", "weird")]
    return ["why", "looker", "--in", envs.heath], "decisive-difference", {"PYTHONPATH": ":".join(folders)}


# What follows is last, so that no other fault is built on another version than its kept answer is of.
def _half_made(envs, name: str) -> Path:
    prefix = envs.moor.root / name
    shutil.rmtree(prefix, ignore_errors=True)
    make_environment(envs.version, prefix, "--without-pip")
    next(prefix.glob("lib/python*/site-packages")).joinpath("clover.py").touch()
    (prefix / "pyvenv.cfg").unlink()
    return prefix


def half_made_without_settings(envs):
    return ["why", "clover", "--in", _half_made(envs, "mead")], "half-made"


def _without_links(envs) -> Path:
    """As what copies a folder without its links leaves an environment."""
    prefix = envs.moor.root / "mead"
    shutil.rmtree(prefix, ignore_errors=True)
    make_environment(envs.version, prefix, "--without-pip")
    site = next(prefix.glob("lib/python*/site-packages"))
    for path, text in (("clover.py", ""), ("clover-1.0.dist-info/METADATA", "Name: clover\nVersion: 1.0\n"), ("clover-1.0.dist-info/RECORD", "clover.py,,\n")):
        (site / path).parent.mkdir(exist_ok=True)
        (site / path).write_text(text)
    for path in prefix.glob("bin/python*"):
        path.unlink()
    return prefix


def half_made_without_its_links(envs):
    return ["why", "clover", "--in", _without_links(envs)], "half-made"


def activation_differs_of_an_environment_without_its_links(envs):
    """The shell has entered the environment, and goes on to the next python on PATH: to enter again would not help."""
    prefix = _without_links(envs)
    return ["why", "clover", "--in", "shell"], "activation-differs", {"VIRTUAL_ENV": str(prefix), "PATH": f"{prefix}/bin:{envs.moor.root}/orchard/bin:/usr/bin:/bin"}


def base_gone_of_what_the_shell_is_to_run(envs):
    """No python of this PATH starts: the shell's own is a link to nothing."""
    prefix = _without_links(envs)
    for name in ("python", "python3"):
        (prefix / "bin" / name).symlink_to("/gone/python")
    programs = envs.moor.root / "programs"
    programs.mkdir(exist_ok=True)
    if not (programs / "rm").exists():
        (programs / "rm").symlink_to("/bin/rm")
    return ["why", "clover", "--in", "shell"], "base-gone", {"PATH": f"{prefix}/bin:{programs}"}


def elsewhere_in_an_environment_without_its_links(envs):
    _without_links(envs)
    envs.offer(plain("clover"))
    return ["why", "clover", "--in", envs.heath], "elsewhere"


@only(until="3.13")
def half_made_with_a_folder_for_settings(envs):
    prefix = _half_made(envs, "wicker")
    (prefix / "pyvenv.cfg").mkdir()
    return ["why", "clover", "--in", f"{prefix}/bin/python3"], "half-made"


def raises_for_want_of_a_variable_read_by_frozen_code(envs):
    """From 3.11 on ``os`` is part of the interpreter, and its frames name no file."""
    return raises_for_want_of_a_variable(envs)


raises_for_want_of_a_variable_read_by_frozen_code.versions = CAN_MAKE[-1:]


@only("3.6")
def startup_broken_by_a_hook_that_waits(envs):
    hook = start_hook(envs)
    hook.write_text("import time\ntime.sleep(600)\n")
    hook.with_name("sitecustomize-before.pth").write_text("import sys\n")
    return ["why", "json", "--in", envs.orchard, "--timeout", "2"], "startup-broken"


def stdlib_part_missing_a_module(envs):
    """As a system's smallest Python has it: the library is there in part, and is put back as a whole."""
    executable, _ = own_base(envs, "withoutcolours")
    library = Path(answer_of(executable, "import os; print(repr(os.path.dirname(os.__file__)))"))
    lost, aside = library / "colorsys.py", envs.wheels.parent / "colorsys.py"
    assert library.is_relative_to(envs.moor.root)
    shutil.move(lost, aside)
    python = environment_over(executable, envs.moor.root / "overcolours", "--without-pip")
    return ["why", "colorsys", "--in", python], "stdlib-part-missing", None, lambda: shutil.move(aside, lost) and None


def submodule_gone_of_a_module_in_the_interpreter(envs):
    """No module of the interpreter is a package, and 2.7 says "No module named combs" of ``sys.combs``."""
    return ["why", "sys.combs", "--in", envs.heath], "submodule-gone"


def submodule_gone_of_the_library(envs):
    site = envs.site("heath")
    (site / "weaver.py").write_text("import json.combs\n")
    return ["why", "weaver", "--in", envs.heath], "submodule-gone"
