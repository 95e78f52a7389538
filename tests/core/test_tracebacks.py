"""What the texts of tracebacks, test runs, shells, installers and programs tell: which error counts, and what was lacking."""

import pytest

from kalyx.core.imports.traceback import prefix_of, read_traceback
from kalyx.core.invocation import NAMED
from kalyx.core.queries.why_traceback import why_traceback
from kalyx.core.system.memory_reader import MemoryReader
from tests.made import Files

SITE = "/home/keeper/heath/lib/python3.11/site-packages"
TRACE = 'Traceback (most recent call last):\n  File "/home/keeper/spring/weigh.py", line 3, in <module>\n'
DURING = "\nDuring handling of the above exception, another exception occurred:\n\n"
DIRECT = "\nThe above exception was the direct cause of the following exception:\n\n"

# The text; its type, module, name, wish, program, release.
TEXTS = {
    "plain": (TRACE + "ModuleNotFoundError: No module named 'hivescale'\n", ("ModuleNotFoundError", "hivescale")),
    "by -m, above it": ("/moor/heath/bin/python: Error while finding module specification for 'wax.main' (ModuleNotFoundError: No module named 'wax')\n", ("ModuleNotFoundError", "wax")),
    "by -m, itself": ("/moor/heath/bin/python3: No module named wax\n", ("ModuleNotFoundError", "wax")),
    "a part": (TRACE + "ModuleNotFoundError: No module named 'hivescale.frames'; 'hivescale' is not a package\n", ("ModuleNotFoundError", "hivescale.frames")),
    "a name": (TRACE + f"ImportError: cannot import name 'read' from 'hivescale' ({SITE}/hivescale/__init__.py)\n", ("ImportError", "hivescale", "read")),
    "wrapped": (TRACE + "ModuleNotFoundError: No module named 'wax'\n" + DURING + TRACE + "RuntimeError: the plugin failed\n", ("ModuleNotFoundError", "wax")),
    "wrapped twice": (TRACE + "ImportError: No module named 'wax'\n" + DIRECT + TRACE + "ValueError: no\n" + DURING + TRACE + "SystemError: x\n", ("ImportError", "wax")),
    "an earlier one is another matter": (TRACE + "ModuleNotFoundError: No module named 'wax'\nretrying\n" + TRACE + "NameError: name 'bees' is not defined\n", ("NameError",)),
    "no import in the chain": (TRACE + "KeyError: 'a'\n" + DURING + TRACE + "ValueError: b\n", ("KeyError",)),
    "optional": (TRACE + "ImportError: Missing optional dependency 'openwax'.  Use pip or conda to install openwax.\n", ("ImportError", None, None, "openwax")),
    "optional in back quotes": (TRACE + "ImportError: `Import openwax` failed.  Use pip or conda to install the openwax package.\n", ("ImportError", None, None, "openwax")),
    "wrapped optional": (TRACE + "ModuleNotFoundError: No module named 'openwax'\n" + DURING + TRACE + "ImportError: Missing optional dependency 'openwax'. Use pip.\n", ("ModuleNotFoundError", "openwax")),
    "please install": (TRACE + "ImportError: please install the wax-reader package\n", ("ImportError", None, None, "wax-reader")),
    "is required": (TRACE + "ImportError: wax-reader is required to read combs\n", ("ImportError", None, None, "wax-reader")),
    "an extra": (TRACE + "ImportError: to plot, run: pip install 'hivescale[plots]'\n", ("ImportError", None, None, "hivescale")),
    "a word that is no name": (TRACE + "TypeError: argument is required\n", ("TypeError",)),
    "test run": ("tests/test_a.py:3: in <module>\n    import hivescale\nE   ModuleNotFoundError: No module named 'hivescale'\n", ("ModuleNotFoundError", "hivescale")),
    "coloured": ("\x1b[31mModuleNotFoundError\x1b[0m: No module named 'hivescale'\n", ("ModuleNotFoundError", "hivescale")),
    "framework": (TRACE + "larkmoor.exceptions.ImproperlyConfigured: Could not import 'spring.settings'. Is it right?\n", ("ImproperlyConfigured", "spring.settings")),
    "server": ('ERROR:    Error loading the application. Could not import module "spring.app".\n', ("ImportError", "spring.app")),
    "no main": ("/usr/bin/python3: No module named hivescale.__main__; 'hivescale' is a package and cannot be directly executed\n", ("ModuleNotFoundError", "hivescale", "__main__")),
    "of -m": ("/usr/bin/python3: No module named hivescale\n", ("ModuleNotFoundError", "hivescale")),
    "bash": ("bash: hivescale: command not found\n", ("command not found", None, None, None, "hivescale")),
    "zsh": ("zsh: command not found: hivescale\n", ("command not found", None, None, None, "hivescale")),
    "sh": ("sh: 1: hivescale: not found\n", ("command not found", None, None, None, "hivescale")),
    "cmd": ("'hivescale' is not recognized as an internal or external command,\noperable program or batch file.\n", ("command not found", None, None, None, "hivescale")),
    "installer": ("ERROR: Could not find a version that satisfies the requirement hivescale==9 (from versions: 2.1)\nERROR: No matching distribution found for hivescale==9\n",
                  ("no matching distribution", None, None, None, None, "hivescale")),
    "an attribute": (TRACE + "    hivescale.read(1)\nAttributeError: module 'hivescale' has no attribute 'read'\n", ("AttributeError", "hivescale", "read")),
    "half imported": (TRACE + "AttributeError: partially initialized module 'wax.comb' has no attribute 'read' (most likely due to a circular import)\n", ("AttributeError", "wax.comb", "read")),
    "an object's attribute": (TRACE + "AttributeError: 'Hive' object has no attribute 'read'\n", ("AttributeError",)),
    "failed to import": (TRACE + "ImportError: wax.core.comb failed to import\n", ("ImportError", "wax.core.comb")),
    "nothing": ("all is well\n", (None,)),
}  # fmt: skip


@pytest.mark.parametrize("name", TEXTS)
def test_what_a_text_tells(name):
    text, wanted = TEXTS[name]
    told = read_traceback(text)
    found = (told.type, told.module, told.name, told.wish, told.program, told.release)
    assert found == (*wanted, *[None] * (6 - len(wanted)))
    assert read_traceback("noise\n" * 1000 + text).type == told.type


def test_an_interpreter_that_says_it_in_one_line_is_the_one_meant():
    reader = MemoryReader("linux", {"/moor/heath/pyvenv.cfg": "home = /usr/bin\n", "/moor/heath/bin/python": b""})
    for said in ("No module named wax", "Error while finding module specification for 'wax.a' (ModuleNotFoundError: No module named 'wax')"):
        told = read_traceback(f"/moor/heath/bin/python: {said}\n")
        assert told.module == "wax" and prefix_of(reader, told) == "/moor/heath"


# Errors of the loader without a frame: the cause, and what its message or its fix says.
LOADER = [
    ("ImportError: libGL.so.1: cannot open shared object file: No such file or directory\n", "library-missing", "libGL.so.1"),
    ("ImportError: libnowhere.so.7: cannot open shared object file: No such file or directory\n", "library-missing", "find out which package"),
    ("ImportError: /lib/libc.so.6: version `GLIBC_2.99' not found (required by /x/site-packages/wax/a.so)\n", "library-too-old", "asked for GLIBC_2.99"),
    ("ImportError: the moor is closed\n", "not-the-environment", "does not say which module"),
    ("ValueError: the moor is closed\n", "not-the-environment", "not an import error"),
]  # fmt: skip


@pytest.mark.parametrize("text, cause, words", LOADER)
def test_an_error_of_the_loader_without_a_frame(text, cause, words):
    files = Files()
    files["/etc/os-release"] = b"ID=debian\n"
    machine = files.machine()
    (found,) = why_traceback(machine, text, machine.shell_seat, NAMED, lambda _: None).findings
    assert found.cause == cause
    assert words in " ".join([found.message, *(step.line for fix in found.fixes for step in fix.steps)])
