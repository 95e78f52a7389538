"""What the questions answer on machines in memory, word for word (answers/*.txt): files, texts, commands, conditions, surveys."""

from __future__ import annotations

import json
from collections.abc import Iterable

import pytest

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.reading import read_environment
from kalyx.core.environments.settings import named_prefixes
from kalyx.core.imports.names import parse_wanted
from kalyx.core.invocation import NAMED, UNNAMED, with_search_path
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding
from kalyx.core.model.results import WhyAnswer
from kalyx.core.queries import explain, overview, survey, why_everywhere, why_files, why_program, why_traceback
from kalyx.core.queries.why import why_import
from kalyx.core.system.memory_reader import Link
from kalyx.core.system.reader import Process
from kalyx.core.targets import resolve, resolve_to_change
from kalyx.core.text.quoting import Unquotable, line_for
from tests.core.test_diagnoses import COMB, SITE, SPRING, machine_of
from tests.core.test_findings import lines_of
from tests.made import BINARY, HOME, Files, dist, put
from tests.support.scenes import Scenes, plus, told

SCENES = Scenes("core/answers")
scene = SCENES.add
HEATH = f"{HOME}/heath"


def tell(_: str) -> None:
    """Nobody waits for a scene."""


def findings_of(findings: Iterable[Finding]) -> Iterable[str]:
    for finding in findings:
        yield from (line.removeprefix("  ") for line in lines_of(finding))


def answer_lines(answer: WhyAnswer) -> Iterable[str]:
    yield from (f"note: {note}" for note in answer.notes)
    yield from (f"unread {item.path}: {item.reason}" for item in answer.unread)
    yield from findings_of(answer.findings)
    for item in answer.imports:
        places = ", ".join(f"{place.path} {place.cell or ''} {place.line}" for place in item.asked_at)
        yield f"{item.statement}: {item.outcome}{', guarded' if item.guarded else ''}{', from ' + item.found_at if item.found_at else ''}{' <' + places + '>' if places else ''}"
        yield from (f"  {line}" for line in findings_of(item.findings))


def notebook(*cells: str, kernel: str | None = None) -> str:
    metadata = {"kernelspec": {"name": kernel, "display_name": kernel, "language": "python"}} if kernel else {}
    return json.dumps({"nbformat": 4, "metadata": metadata, "cells": [{"cell_type": "code", "source": cell} for cell in cells]})


def spec(*argv: str, **more: object) -> str:
    return json.dumps({"argv": list(argv), "display_name": "x", "language": "python", **more})


@scene
def files() -> Iterable[str]:
    """Every import of a script, a notebook or a folder."""
    both = {**dist("hive", "1.0", {"hive/__init__.py": COMB, "hive/wax.py": ""}), **dist("peat", "1.0", {"peat.py": ""}, where="orchard")}
    rows = [
        ("a script", {**both, "spring/weigh.py": "import os\nimport hive, peat\nfrom hive import comb, wax\nfrom hive import gone\nfrom __future__ import annotations\n"}, "weigh.py"), ("its own modules", {"spring/weigh.py": "import combs\nfrom inner import x\n", "spring/combs.py": "import gone\n", "spring/inner/__init__.py": "x = 1\n"}, "weigh.py"), ("another folder's", {"~/moor/weigh.py": "import combs\n", "~/moor/combs.py": ""}, f"{HOME}/moor/weigh.py"),
        ("what a handler catches", {"spring/weigh.py": "try:\n import gone\nexcept ImportError:\n gone = None\ntry:\n import lost\nexcept ValueError:\n pass\ntry:\n import away\nexcept ImportError:\n raise\n"}, "weigh.py"), ("one or the other", {**both, "spring/weigh.py": "try:\n import gone\nexcept ImportError:\n import hive\n"}, "weigh.py"), ("neither", {"spring/weigh.py": "try:\n import gone\nexcept ImportError:\n import lost\n"}, "weigh.py"), ("under a condition", {"spring/weigh.py": "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n import gone\ndef later():\n import lost\n", "lib/typing.py": "TYPE_CHECKING = False\n"}, "weigh.py"),
        ("under a condition, by an attribute", {"spring/weigh.py": "import typing\nif typing.TYPE_CHECKING:\n import gone\nif typing.OTHER:\n import lost\n", "lib/typing.py": "TYPE_CHECKING = False\nOTHER = False\n"}, "weigh.py"), ("dots in a script", {"spring/weigh.py": "from . import combs\nfrom .combs import x\nfrom ..moor import y\n", "spring/combs.py": ""}, "weigh.py"), ("no Python", {"spring/weigh.py": "import (\n"}, "weigh.py"), ("it names the other one", {"spring/statistics.py": "import statistics\n"}, "statistics.py"), ("it names itself", {"spring/numpy.py": "import numpy\ndef later():\n numpy.array\n"}, "numpy.py"), ("it names itself, and is used at once", {"spring/numpy.py": "import numpy as np\nnp.array\n"}, "numpy.py"), ("it names itself, later", {"spring/numpy.py": "def later():\n import numpy\n"}, "numpy.py"), ("a package names itself", {"spring/hives/__init__.py": "import hives\n"}, "hives/__init__.py"),
        ("a first line of another", {"spring/weigh.py": f"#!{HOME}/orchard/bin/python\nimport os\n"}, "weigh.py"), ("a first line of nothing", {"spring/weigh.py": "#!/gone/python\nimport os\n"}, "weigh.py"), ("a notebook", {**both, "spring/weights.ipynb": notebook("import hive\n!pip install peat", "%pip install hive\nimport peat\n", "%%bash\nimport gone\n", "%%time\nimport lost\nx = !ls\n%matplotlib inline\nimport away?\n", "print(", "lazy import later\nprint 'x'\nif 1:\n  import much_later\n", "s = '''\n%x\n'''\nimport more\n")}, "weights.ipynb"), ("no notebook", {"spring/weights.ipynb": "{"}, "weights.ipynb"),
        ("a folder", {**both, "spring/a.py": "import hive\n", "spring/b/c.py": "import peat\nimport a\nimport hive\n", "spring/.git/x.py": "import gone\n", "spring/env/pyvenv.cfg": "", "spring/env/x.py": "import gone\n", "spring/build/x.py": "import gone\n"}, SPRING), ("a file that may not be read", {"spring/weigh.py": None}, "weigh.py"), ("no file", {}, "weigh.py"), ("for another Python", {"spring/weigh.py": "import hive\nprint 'x'\nlazy import peat; from a . b import (c,\n d)\nif hive:\n import lost\nx = 'import no'\nimport (\n", "/usr/bin/python3.6": BINARY.replace(b"3.11.7", b"3.6.15"), "/usr/lib/python3.6/os.py": ""}, "weigh.py", "/usr/bin/python3.6"), ("imports of stars", {**both, "spring/weigh.py": "from hive import *\nimport hive.wax as w\n"}, "weigh.py"), ("a very long name", {"spring/weigh.py": f"import {'a' * 3000}\n"}, "weigh.py"),
    ]  # fmt: skip
    for title, made, path, *target in rows:
        machine, _ = machine_of(made)
        yield from told(title, lambda: answer_lines(why_files.why_files(machine, resolve(machine, (target or [HEATH])[0]), machine.reader.absolute(path), NAMED, tell)))


TRACE = "Traceback (most recent call last):\n"


@scene
def texts() -> Iterable[str]:
    """Errors that were pasted."""
    hive = dist("hive", "1.0", {"hive/__init__.py": "import peat\n", "hive/wax.py": ""}, "Requires-Dist: peat>=2")
    here, there = f'  File "{SPRING}/weigh.py", line 1, in <module>\n', f'  File "{SITE}/hive/__init__.py", line 1, in <module>\n'
    orchard = f'  File "{HOME}/orchard/lib/python3.11/site-packages/hive/__init__.py", line 1, in <module>\n'
    rows = [
        ("a module", {}, f"{TRACE}{here}    import gone\nModuleNotFoundError: No module named 'gone'\n"), ("of a package", hive, f"{TRACE}{here}    import hive\n{there}    import peat\nModuleNotFoundError: No module named 'peat'\n"), ("of another environment", {**dist("hive", "1.0", {"hive/__init__.py": "import peat\n"}, where="orchard")}, f"{TRACE}{here}    import hive\n{orchard}    import peat\nModuleNotFoundError: No module named 'peat'\n"), ("of another machine", {}, f"{TRACE}  File \"/far/lib/python3.9/site-packages/hive/__init__.py\", line 1, in <module>\n    import peat\nModuleNotFoundError: No module named 'peat'\n"),
        ("a name", hive, f"{TRACE}{here}    from hive import comb\nImportError: cannot import name 'comb' from 'hive' ({SITE}/hive/__init__.py)\n"), ("a name, half loaded", {"spring/a.py": "from b import y\n", "spring/b.py": "from a import x\n"}, f"{TRACE}  File \"{SPRING}/a.py\", line 1, in <module>\n    from b import y\n  File \"{SPRING}/b.py\", line 1, in <module>\n    from a import x\nImportError: cannot import name 'x' from partially initialized module 'a' (most likely due to a circular import) ({SPRING}/a.py)\n"), ("an attribute, half loaded, of 3.13", {"spring/a.py": "import b\n", "spring/b.py": "import a\na.x\n"}, f"{TRACE}  File \"{SPRING}/b.py\", line 2, in <module>\n    a.x\nAttributeError: partially initialized module 'a' from '{SPRING}/a.py' has no attribute 'x' (most likely due to a circular import)\n"),
        *((f"words of an error that is no import's, {words}", {}, f"{TRACE}{here}    x\nRuntimeError: {words}\n") for words in ("Missing optional dependency 'wax'.", "Import wax failed", "run pip install wax", "Please install wax.", "wax is required", "You need the wax package", "Install wax")),
        *((f"what an error that is no import's asks for is elsewhere, {words}", dist("wax", "1.0", {"wax.py": ""}, where="orchard"), f"{TRACE}{here}    x\nValueError: {words}\n") for words in ("Please install the wax.", "Install wax to see it", "To see it, wax must be installed", "wax is not installed", "wax is required", "the path is not installed")),
        ("what an error that is no import's asks for is here", dist("wax", "1.0", {"wax.py": ""}), f"{TRACE}{here}    x\nValueError: Please install wax\n"),
        *((f"words without an error, {words}", {}, f"it says\n{words}\n") for words in ("Missing optional dependency 'wax'.", "Please install wax.", "wax is required", "Install wax")),
        *((f"words of an import's error, {words}", {}, f"{TRACE}{here}    x\nImportError: {words}\n") for words in ("Import wax failed", "Please install wax.", "wax is required", "Requires the wax package", "Install wax")),
        ("it works here", {**dist("peat", "2.0", {"peat.py": ""})}, f"{TRACE}{here}    import peat\nModuleNotFoundError: No module named 'peat'\n"), ("a command", {}, "bash: hive: command not found\n"), ("a command of an environment", {"~/heath/bin/hive": f"#!{HEATH}/bin/python\n"}, "zsh: command not found: hive\n"), ("an installer", {}, "ERROR: No matching distribution found for hive==9\n"), ("a library", {"/etc/os-release": "ID=debian\n"}, "ImportError: libGL.so.1: cannot open shared object file: No such file or directory\n"), ("a wish", {}, f"{TRACE}{here}    x()\nImportError: Missing optional dependency 'openwax'. Use pip or conda to install openwax.\n"),
        ("dots", {"spring/weigh.py": "from . import x\n"}, f"{TRACE}{here}    from . import x\nImportError: attempted relative import with no known parent package\n"), ("dots of a cell", {}, f"{TRACE}  File \"<stdin>\", line 1, in <module>\nImportError: attempted relative import with no known parent package\n"), ("a framework", {}, f"{TRACE}{here}    x\nImproperlyConfigured: Could not import 'spring.settings'. Is it right?\n"), ("no import", {}, f"{TRACE}{here}    x\nValueError: no\n"), ("nothing", {}, "all is well\n"), ("a compiled file", {"site/hive/_wax.so": b"\x7fELF", "site/hive/__init__.py": ""}, f"ImportError: {SITE}/hive/_wax.so: undefined symbol: gone\n"), ("a compiled file of nowhere", {}, "ImportError: /x/site-packages/hive/_wax.so: undefined symbol: gone\n"),
        ("a script of another folder", {"~/moor/combs.py": "", "~/moor/weigh.py": ""}, f"{TRACE}  File \"{HOME}/moor/weigh.py\", line 1, in <module>\n    import combs\nModuleNotFoundError: No module named 'combs'\n"), ("two errors", hive, f"{TRACE}{here}    import gone\nModuleNotFoundError: No module named 'gone'\n\nDuring handling of the above exception, another exception occurred:\n\n{TRACE}{here}    x\nRuntimeError: no\n"), ("of -m", {}, "/usr/bin/python3: No module named hive\n"), ("of -m, a package", dist("hive", "1.0", {"hive/__init__.py": ""}), "/usr/bin/python3: No module named hive.__main__; 'hive' is a package and cannot be directly executed\n"), ("of -m, a package that has commands", {**dist("hive", "1.0", {"hive/__init__.py": ""}), "site/hive-1.0.dist-info/entry_points.txt": "[x]\nno = a:b\n[console_scripts]\nhive = hive:main\n# off = hive:x\nhive-gone = hive:y\n[gui_scripts]\nHiveView= hive:z\n", "~/heath/bin/hive": "#!/x\n", "~/heath/bin/HiveView": "#!/x\n"}, "/usr/bin/python3: No module named hive.__main__; 'hive' is a package and cannot be directly executed\n"), ("of -m, not found in a package", dist("hive", "1.0", {"hive/__init__.py": ""}), f"{TRACE}ImportError: cannot import name '__main__' from 'hive' ({SITE}/hive/__init__.py)\n"), ("of Python 2", {}, f"{TRACE}{here}    import x\nImportError: No module named x\n"),
    ]  # fmt: skip
    for title, made, text in rows:
        for named in (True, False):
            machine, _ = machine_of(made)
            yield from told(f"{title}{'' if named else ', of the shell'}", lambda: answer_lines(why_traceback.why_traceback(machine, text, resolve(machine, HEATH) if named else machine.shell_seat, NAMED if named else UNNAMED, tell)))


@scene
def commands() -> Iterable[str]:
    """Why a command is not found, or starts something else; what a command that ended says; what a kernel hands over."""
    script = f"#!{HEATH}/bin/python\nimport hive\n"
    for title, made, word in [
        ("nowhere", {}, "hives"), ("in an environment", {"~/orchard/bin/hives": "#!/x\n"}, "hives"), ("a script", {"~/heath/bin/hives": script, **dist("hive", "1.0", {"hive.py": ""})}, "hives"), ("a script whose import fails", {"~/heath/bin/hives": script}, "hives"), ("of nothing", {"~/heath/bin/hives": "#!/gone/python\n"}, "hives"), ("of another environment", {"~/heath/bin/hives": f"#!{HOME}/orchard/bin/python\nimport os\n"}, "hives"), ("another after it", {"~/heath/bin/hives": script, "/usr/bin/hives": script}, "hives"), ("no Python", {"~/heath/bin/hives": "#!/bin/sh\n", "/bin/sh": BINARY}, "hives"), ("a program", {"~/heath/bin/hives": b"\x7fELF"}, "hives"), ("by its path", {"~/heath/bin/hives": script}, f"{HEATH}/bin/hives"), ("a shell's launcher", {"~/heath/bin/hives": "#!/bin/sh\n'''exec' \"/home/keeper/heath/bin/python\" \"$0\" \"$@\"\n' '''\nimport gone\n", "/bin/sh": BINARY}, "hives"),
    ]:  # fmt: skip
        machine, _ = machine_of(made)
        yield from told(f"command {title}", lambda: answer_lines(why_program.why_program(machine, word, tell=tell)))
    missing = f"{TRACE}  File \"{SPRING}/weigh.py\", line 1, in <module>\n    import hive\nModuleNotFoundError: No module named 'hive'\n"
    for title, words, text in [("its import fails", [f"{HEATH}/bin/python", "weigh.py"], missing), ("by a name on PATH", ["python3", "weigh.py"], missing), ("a script", [f"{HEATH}/bin/hives"], missing), ("no interpreter", ["make", "all"], missing), ("nothing of the kind", ["/gone"], missing), ("another error", [f"{HEATH}/bin/python", "weigh.py"], "Traceback\nValueError: no\n"), ("no error", ["python3"], "bye\n")]:
        machine, _ = machine_of({"spring/weigh.py": "import hive\n", "~/heath/bin/hives": script, **dist("hive", "1.0", {"hive.py": ""}, where="orchard")})

        def ended() -> Iterable[str]:
            answer = explain.explain_command(machine, words, " ".join(words), text, tell)
            return answer_lines(answer) if answer is not None else ["not an import"]

        yield from told(f"ended: {title}", ended)
    kernel = Process(40, 1, f"{HEATH}/bin/python", (f"{HEATH}/bin/python", "-m", "ipykernel_launcher", "-f", f"{HOME}/.local/share/jupyter/runtime/kernel-1.json"), SPRING, {"HOME": HOME}, 1.0, "python")
    failed = {"pid": 40, "kernel": "heath", "traceback": f"{TRACE}ModuleNotFoundError: No module named 'hive'\n", "line": "import hive", "error": "ModuleNotFoundError", "message": "No module named 'hive'", "path": ["", SITE], "folder": SPRING}
    for title, made, more in [("a kernel", {}, {}), ("it is in the environment now", dist("hive", "1.0", {"hive.py": ""}), {"loaded_from": "/old/hive.py"}), ("in another", dist("hive", "1.0", {"hive.py": ""}, where="orchard"), {}), ("several", {}, {"line": "import os, hive, peat"}), ("no line", {}, {"line": "x = 1"}), ("no statement", {}, {"line": "import ("}), ("a class of its own", {}, {"line": "hive()", "error": "WaxError", "traceback": f"{TRACE}wax.WaxError: hive is needed\n", "message": "No module named 'hive'"}),
                              ("another process", {}, {"pid": 41}), ("no kernel", {}, {"pid": 41, "kernel": "gone"})]:  # fmt: skip
        files = plus(Files(), put({"~/.local/share/jupyter/kernels/heath/kernel.json": spec(f"{HEATH}/bin/python", "-m", "ipykernel_launcher", "-f", "{connection_file}"), **made}))
        machine, _ = machine_of(dict(files), processes={40: kernel})

        def handed() -> Iterable[str]:
            failure = explain.failure_from(json.dumps({**failed, **more}).encode())
            answer = explain.explain_failure(machine, failure, tell)
            return [f"{answer.target.seat} {answer.target.name}", *answer_lines(answer), f"then: {explain.after_the_fix(answer, failure)}"]

        yield from told(f"handed over: {title}", handed)
    for title, raw in [("no JSON", b"{"), ("another shape", b"{}"), ("a wrong type", b'{"pid": "x"}')]:
        yield from told(f"handed over: {title}", lambda: [str(explain.failure_from(raw))])


@scene
def conditions_of_environments() -> Iterable[str]:
    """What is wrong with an environment, and what fixes that."""
    other = {"/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": ""}
    cfg = "home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.11.7\n"
    away = {"~/old/pyvenv.cfg": cfg, "~/old/bin/python": Link("/usr/bin/python3.11"), "~/old/bin/activate": f"VIRTUAL_ENV='{HOME}/before'\n", "~/old/lib/python3.11/site-packages/x.py": ""}
    commands = {"~/old/lib/python3.11/site-packages/wax-1.0.dist-info/METADATA": "Name: wax\nVersion: 1.0\n", "~/old/lib/python3.11/site-packages/wax-1.0.dist-info/entry_points.txt": "[console_scripts]\nwax = wax:main\n"}
    new = {"~/old/pyvenv.cfg": cfg, "~/old/bin/python": Link("/usr/bin/python3.11")}
    for title, made in [
        ("moved", away), ("copied", {**away, "~/before/pyvenv.cfg": cfg}), ("moved, with commands", {**away, **commands}), ("moved, it sees the base", {**away, "~/old/pyvenv.cfg": cfg.replace("false", "true")}), ("moved, another shell's script alone", {**away, "~/old/bin/activate": "", "~/old/bin/activate.fish": f"set -gx VIRTUAL_ENV \"{HOME}/before\"\n"}), ("a link leads there", {**away, "~/before": Link(f"{HOME}/old")}), ("two versions", {**new, **other, "~/old/bin/python": Link("/usr/bin/python3.9"), "~/old/bin/python3": Link("/usr/bin/python3.11"), "~/old/lib/python3.11/site-packages/x.py": ""}),
        ("packages of another version", {**new, "~/old/lib/python3.9/site-packages/wax-1.0.dist-info/METADATA": "Name: wax\n", "~/old/lib/python3.11/site-packages/x.py": "", "~/old/bin/activate": ""}), ("only of another version", {**new, "~/old/lib/python3.9/site-packages/wax-1.0.dist-info/METADATA": "Name: wax\n"}), ("no interpreter", {"~/old/pyvenv.cfg": cfg}), ("no folder for packages", new), ("no scripts", {**new, "~/old/lib/python3.11/site-packages/pip/x": ""}), ("no scripts, it says how it was made", {**new, "~/old/pyvenv.cfg": cfg + "command = /usr/bin/python3 -m venv /x\n", "~/old/lib/python3.11/site-packages/README": ""}), ("no scripts, but packages", {**new, "~/old/lib/python3.11/site-packages/wax.py": ""}),
        ("no python, but another name", {"~/old/pyvenv.cfg": cfg, "~/old/bin/python3": Link("/usr/bin/python3.11"), "~/old/lib/python3.11/site-packages/wax.py": "", "~/old/bin/activate": ""}), ("its python is gone, another name is not", {"~/old/pyvenv.cfg": cfg, "~/old/bin/python": Link("/gone"), "~/old/bin/python3": Link("/usr/bin/python3.11"), "~/old/lib/python3.11/site-packages/wax.py": "", "~/old/bin/activate": ""}), ("made on Windows", {"~/old/pyvenv.cfg": cfg, "~/old/Scripts/python.exe": b"MZ", "~/old/Lib/site-packages/wax-1.0.dist-info/METADATA": "Name: wax\nVersion: 1.0\n", "~/old/Lib/site-packages/pip-1.dist-info/METADATA": "Name: pip\nVersion: 1\n"}), ("made on Windows, empty", {"~/old/pyvenv.cfg": cfg, "~/old/Scripts/python.exe": b"MZ"}),
        ("the base is gone", {"~/old/pyvenv.cfg": cfg.replace("/usr/bin", "/gone/bin"), "~/old/bin/python": Link("/gone/bin/python3.11"), "~/old/lib/python3.11/site-packages/x.py": ""}), ("the base is gone, another version is here", {**other, "~/old/pyvenv.cfg": cfg.replace("/usr/bin", "/gone/bin").replace("3.11.7", "3.8.1"), "~/old/bin/python": Link("/gone/bin/python3.8"), "~/old/lib/python3.8/site-packages/wax-1.0.dist-info/METADATA": "Name: wax\nVersion: 1.0\n"}), ("the base is gone, of which a copy is here", {"~/old/pyvenv.cfg": cfg.replace("/usr/bin", "/gone/bin"), "~/old/bin/python": BINARY, "~/old/lib/python3.11/site-packages/x.py": ""}), ("a link to itself", {"~/old/pyvenv.cfg": cfg, "~/old/bin/python": Link("python")}), ("a text in its place", {"~/old/pyvenv.cfg": cfg, "~/old/bin/python": "hello\n"}), ("nothing in its place", {"~/old/pyvenv.cfg": cfg, "~/old/bin/python": b""}),
        ("its settings may not be read", {"~/old/pyvenv.cfg": None, "~/old/bin/python": Link("/usr/bin/python3.11")}), ("its settings are nonsense", {"~/old/pyvenv.cfg": b"\xff\xfe\0", "~/old/bin/python": Link("/usr/bin/python3.11"), "~/old/lib/python3.11/site-packages/x.py": ""}), ("its settings name no base", {"~/old/pyvenv.cfg": "version = 3.11.7\n", "~/old/bin/python": Link("/usr/bin/python3.11"), "~/old/lib/python3.11/site-packages/x.py": "", "~/old/bin/activate": ""}), ("its settings are gone", {"~/old/bin/python": Link("/usr/bin/python3.11"), "~/old/bin/activate": f"VIRTUAL_ENV={HOME}/old\n", "~/old/lib/python3.11/site-packages/wax-1.0.dist-info/METADATA": "Name: wax\n"}), ("of an environment manager", {"~/old/conda-meta/history": "", "~/old/bin/python": BINARY, "~/old/lib/python3.11/os.py": "", "~/old/lib/python3.11/site-packages/x.py": ""}), ("in a repository", {**new, "~/old/lib/python3.11/site-packages/x.py": "", "~/old/bin/activate": "", "~/.git/HEAD": "", "~/.git/index": "DIRC", "~/.gitignore": "*.log\n"}), ("in a repository that leaves it out inside", {**new, "~/old/lib/python3.11/site-packages/x.py": "", "~/old/bin/activate": "", "~/.git/HEAD": "", "~/old/.gitignore": "*\n"}), ("no folder", {}),
    ]:  # fmt: skip
        machine, _ = machine_of(made)
        environment = catalogue.judge_environment(read_environment(machine.reader, f"{HOME}/old"), machine)
        yield from told(f"{title}: {environment.kind} {environment.version} {environment.condition}", lambda: findings_of(environment.findings))


@scene
def conditions_of_kernels() -> Iterable[str]:
    """What is wrong with a kernel, or with the kernel that a notebook asks for."""
    launcher = ("-m", "ipykernel_launcher", "-f", "{connection_file}")
    package = {"site/ipykernel_launcher.py": "from ipykernel import kernelapp\n", "site/ipykernel/__init__.py": "", "site/ipykernel/kernelapp.py": "import zmq\n", "site/zmq/__init__.py": ""}
    for title, argv, made, more in [
        ("sound", (f"{HEATH}/bin/python", *launcher), package, {}), ("no package", (f"{HEATH}/bin/python", *launcher), {}, {}), ("a part of the package is missing", (f"{HEATH}/bin/python", *launcher), {key: text for key, text in package.items() if "zmq" not in key}, {}), ("a part of what its parts import is missing", (f"{HEATH}/bin/python", *launcher), {**{key: text for key, text in package.items() if "zmq" not in key}, "site/ipykernel_launcher.py": "import ipykernel.kernelapp\n"}, {}), ("a module of its own", (f"{HEATH}/bin/python", "-m", "hives", "{connection_file}"), {}, {}), ("without packages", (f"{HEATH}/bin/python", "-S", *launcher), package, {}), ("no connection file", (f"{HEATH}/bin/python", "-m", "ipykernel_launcher"), package, {}), ("a name on PATH", ("python", *launcher), package, {}), ("a name on no PATH", ("python9", *launcher), {}, {}), ("nothing there", (f"{HOME}/gone/bin/python", *launcher), {}, {}), ("nearly there", (f"{HOME}/haeth/bin/python", *launcher), package, {}), ("a dead base", (f"{HOME}/dead/bin/python", *launcher), {"~/dead/pyvenv.cfg": "home = /gone\n", "~/dead/bin/python": Link("/gone/python3.11")}, {}),
        ("through a shell", ("bash", "-c", f"exec {HEATH}/bin/python -m ipykernel_launcher -f {{connection_file}}"), {**package, "/usr/bin/bash": BINARY}, {}), ("through env", ("/usr/bin/env", "A=1", f"{HEATH}/bin/python", *launcher), {**package, "/usr/bin/env": BINARY}, {}), ("empty words", (), {}, {}), ("variables", (f"{HEATH}/bin/python", *launcher), package, {"env": {"PYTHONPATH": "/moor", "PYTHONHOME": "/x"}}), ("named after another", (f"{HEATH}/bin/python", *launcher), package, {"display_name": "orchard"}), ("a script", (f"{HEATH}/bin/python", f"{HOME}/run.py", "{connection_file}"), {"~/run.py": ""}, {}), ("another language", ("R", "--slave"), {}, {"language": "R"}), ("a package that may hold a name", (f"{HEATH}/bin/python", *launcher), {**package, "site/ipykernel_launcher.py": "from ipykernel import wax\n", "site/ipykernel/__init__.py": "from .inner import *\n", "site/ipykernel/inner.py": "wax = 1\n"}, {}), ("a package that lacks a name", (f"{HEATH}/bin/python", *launcher), {**package, "site/ipykernel_launcher.py": "from ipykernel import wax\n"}, {}),
        ("its own file may not be read", (f"{HEATH}/bin/python", *launcher), {**package, "site/ipykernel_launcher.py": None}, {}), ("start-up code", (f"{HEATH}/bin/python", *launcher), {"site/x.pth": "import sys; sys.path\n"}, {}), ("a package folder", (f"{HEATH}/bin/python", "-m", "ipykernel", "-f", "{connection_file}"), {"site/ipykernel/__init__.py": "", "site/ipykernel/__main__.py": "import gone\n"}, {}), ("of the base", ("/usr/bin/python3", *launcher), {}, {}),
    ]:  # fmt: skip
        machine, _ = machine_of({"~/.local/share/jupyter/kernels/orchard-x/kernel.json": spec(*argv, **more), **made})
        for kernel in machine.kernels:
            judged = catalogue.judge_kernel(kernel, machine)
            yield from told(f"{title}: {judged.id} {judged.conditions}", lambda: findings_of(judged.findings))
    moor = {"/opt/moor/bin/python3.11": BINARY, "/opt/moor/lib/python3.11/os.py": "", "/opt/moor/lib/python3.11/site-packages/x.py": ""}
    two = {"~/.local/share/jupyter/kernels/one/kernel.json": spec(f"{HEATH}/bin/python", *launcher), "/usr/local/share/jupyter/kernels/one/kernel.json": spec(f"{HEATH}/bin/python", *launcher)}
    for title, made in [("called after an installation", {"~/.local/share/jupyter/kernels/moor/kernel.json": spec(f"{HEATH}/bin/python", *launcher), **moor}), ("two of a name, one of them hidden", two), ("and a third", {**two, "/usr/share/jupyter/kernels/three/kernel.json": spec(f"{HEATH}/bin/python", *launcher)}), ("with other variables", {**two, "/usr/share/jupyter/kernels/three/kernel.json": spec(f"{HEATH}/bin/python", *launcher, env={"A": "1"})}), ("with another command", {**two, "/usr/share/jupyter/kernels/three/kernel.json": spec(f"{HEATH}/bin/python", "-m", "hive")}),
                        ("of what is no module", {"~/.local/share/jupyter/kernels/one/kernel.json": spec(f"{HEATH}/bin/python", f"{HOME}/spring/x.py"), "spring/x.py": ""}), ("started elsewhere", {"~/.local/share/jupyter/kernels/one/kernel.json": spec("/usr/bin/ssh", "far", "python", *launcher), "/usr/bin/ssh": BINARY.replace(b"3.11.7", b"x")}), ("in a container", {"~/.local/share/jupyter/kernels/one/kernel.json": spec("docker", "run", "x", *launcher), "/usr/bin/docker": b"\x7fELF"}), ("by a script", {"~/.local/share/jupyter/kernels/one/kernel.json": spec("/usr/bin/start", *launcher), "/usr/bin/start": "#!/bin/sh\nx\n"})]:  # fmt: skip
        machine, _ = machine_of(made)
        for kernel in machine.kernels:
            judged = catalogue.judge_kernel(kernel, machine)
            yield from told(f"{title}: {judged.id} {judged.reach} {judged.conditions} {judged.reason}", lambda: findings_of(judged.findings))
    kernels = {f"~/.local/share/jupyter/kernels/{name}/kernel.json": spec(f"{HOME}/{prefix}/bin/python", *launcher) for name, prefix in (("heath", "heath"), ("python3", "orchard"))}
    for title, name, made in [("asks for one that is here", "heath", kernels), ("for none", None, kernels), ("for one that is not here", "meadow", kernels), ("for one nearly here", "haeth", kernels), ("for a version", "python3.9", kernels), ("and there is an environment", "orchard", {}), ("there are none", "heath", {})]:
        machine, _ = machine_of({"spring/weights.ipynb": notebook("x", kernel=name), **made})

        def asks() -> Iterable[str]:
            seat = catalogue.judge_seat(resolve(machine, f"notebook:{SPRING}/weights.ipynb"), machine)
            return [f"{seat.interpreter and seat.interpreter.executable} {seat.reason}", *findings_of(seat.findings)]

        yield from told(f"a notebook {title}", asks)


@scene
def surveys() -> Iterable[str]:
    """All interpreters and environments, and one import everywhere."""
    other = {"/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "/usr/lib/python3.9/site-packages/x.py": ""}
    own = {"~/.local/lib/python3.11/site-packages/wax-1.0.dist-info/METADATA": "Name: wax\nVersion: 1.0\n", "~/.local/lib/python3.11/site-packages/wax.py": "x = 1\n"}
    for title, made, under, sizes in [
        ("as it is", {}, (), False), ("two Pythons in one prefix", other, (), False), ("the user's packages", own, (), True), ("sizes", dist("hive", "1.0", {"hive.py": COMB * 9}), (), True), ("a kernel", {"~/.local/share/jupyter/kernels/heath/kernel.json": spec(f"{HEATH}/bin/python", "-m", "x")}, (), False), ("below a folder", {"/moor/a/pyvenv.cfg": "home = /usr/bin\n", "/moor/a/bin/python": Link("/usr/bin/python3.11"), "/moor/py/bin/python3.8": BINARY.replace(b"3.11.7", b"3.8.1"), "/moor/py/lib/python3.8/os.py": ""}, ("/moor",), False), ("two of one name", {"~/moor/heath/pyvenv.cfg": "home = /usr/bin\n", "~/moor/heath/bin/python": Link("/usr/bin/python3.11")}, (f"{HOME}/moor",), False), ("a dead interpreter", {"/usr/local/bin/python3.10": Link("/gone")}, (), False),
    ]:  # fmt: skip
        machine, _ = machine_of(made)

        def lines() -> Iterable[str]:
            answer = survey.survey(machine, under, sizes)
            yield from (f"interpreter {item.executable} {item.version} {item.prefix}" for item in answer.interpreters)
            for item in answer.environments:
                yield f"environment {item.name} {item.prefix} {item.kind} {item.version} {item.condition} {item.kernels} {item.size_bytes} {[(size.name, size.size_bytes) for size in item.package_sizes]}"
            yield from (f"unread {item.path}: {item.reason}" for item in answer.unread)
            yield from (f"user {item.version} {item.folder} {item.distributions} {item.size_bytes}" for item in answer.user_packages)

        yield from told(title, lines)
    machine, model = machine_of({**dist("hive", "1.0", {"hive.py": ""}, where="orchard"), **other, "~/.local/share/jupyter/kernels/orchard/kernel.json": spec(f"{HOME}/orchard/bin/python", "-m", "x", "-f", "{connection_file}"), "spring/weights.ipynb": notebook("x", kernel="orchard")})
    answer = why_everywhere.why_everywhere(machine, parse_wanted("import hive")[0], tell=tell)
    for item in answer.seats:
        yield f"everywhere: {item.target.seat} {item.target.name}: {[(one.outcome, one.found_at, [finding.message for finding in one.findings]) for one in item.imports]}"
    yield from (f"started {asked}" for asked in model.asked)
    page = overview.overview(machine, None, [why_everywhere_of(machine, "hive"), why_everywhere_of(machine, "gone")], False)
    for story in page.stories:
        yield f"story of {story.answer.module}: {[(item.entry, item.names, item.taken) for item in story.candidates if item.names]}"
    yield f"causes {[cause.name for cause in page.causes]}"


@scene
def targets() -> Iterable[str]:
    """What a word means as a target that is to be changed; which environments settings name; what is asked about is known."""
    elsewhere = {"/srv/moor/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "/srv/moor/bin/python": Link("/usr/bin/python3.11"), "/srv/moor/lib/python3.11/site-packages/x.py": ""}
    for word in ("shell", "heath", "python3.11.7", "moor", "/srv/moor", "/usr/bin/python3", "version:3.11", "gone"):
        machine, _ = machine_of({**elsewhere, ".vscode/settings.json": "", "spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "/srv/moor/bin/python"}'}, variables={"PATH": "/usr/bin"})
        yield from told(f"to change {word}", lambda: [str((seat := resolve_to_change(machine, word)).environment and seat.environment.prefix)])
    words = ["/srv/moor/bin/python", "/srv/copy/bin/python", "/srv/moor", "${workspaceFolder}/env/bin/python3", "/gone/bin/python", "/srv/moor/lib", "/srv/moor/bin/activate", "/srv/*/bin/python", "/srv/folder/bin/python", "./env", ".venv", "envs", "a/b"]
    made = {**elsewhere, "/srv/copy/bin/python": BINARY, "/srv/folder/bin/python/x": "", "spring/env/bin/python3": Link("/usr/bin/python3"), "spring/env/pyvenv.cfg": "", "spring/.venv/pyvenv.cfg": "", "spring/.vscode/settings.json": "\n".join(f'"x": "{word}",' for word in words)}
    machine, _ = machine_of(made)
    yield f"named by settings: {named_prefixes(machine.reader, SPRING)}"
    machine, _ = machine_of(elsewhere)
    before = [environment.name for environment in machine.environments.everywhere]
    machine.environments.add(read_environment(machine.reader, "/srv/moor").environment)
    machine.environments.add(None)
    yield f"known before {before}, then {[environment.name for environment in machine.environments.everywhere]}, {machine.environments.at('/srv/moor').name}"
    for shell in ("tcsh", "sh", "fish", "pwsh", "cmd", "xonsh"):
        yield from told(f"a control character in {shell}", lambda: [refused(shell)])


def refused(shell: str) -> str:
    try:
        return line_for(["kalyx", "a\x01b"], shell)
    except Unquotable as problem:
        return f"{problem.word!r}: {problem.reason}"


def why_everywhere_of(machine: Machine, module: str) -> WhyAnswer:
    seat = with_search_path(resolve(machine, f"{HOME}/orchard"), machine)
    return WhyAnswer(target=seat, imports=[why_import(machine, seat, parse_wanted(f"import {module}")[0], NAMED)])


@pytest.mark.parametrize("name", SCENES.names)
def test_answers(name):
    assert not (difference := SCENES.difference(name)), difference
