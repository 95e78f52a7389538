"""Commands typed on machines in memory, word for word (typed/*.txt): what they print, and what they change there.

A model of Python and of the installer runs what Kalyx starts. A line that begins with ``$ kalyx`` in a text is what is
typed; what comes after ``<<<`` in it is standard input, with ``|`` for a new line, and after ``<<<!`` what a user types who is asked. ``KALYX_DRAW=1`` writes the rest of
the texts again; read the difference then.
"""

from __future__ import annotations

import gzip
import json
import re
import shlex
import tempfile
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from unittest.mock import patch

import pytest

from kalyx import __version__
from kalyx.core import signals
from kalyx.core.system.loopback import CHANNELS
from kalyx.core.system.memory_reader import Link, MemoryReader, Pipe
from kalyx.core.system.own_command import ENTRY
from kalyx.core.system.reader import Process
from kalyx.core.system.runner import Ended
from tests.made import BINARY, HOME, WINDOWS, Files, dist, index_of, put, raw, with_library
from tests.support.model_installer import Killed, ModelInstaller, Release
from tests.support.model_kernel import ODD
from tests.support.scenes import Scenes, changed, tree

SCENES = Scenes("cli/typed")


def model(files: Mapping[str, object] = {}, index: Iterable[Release] = (), variables: Mapping[str, str | None] = {}, ends: Mapping[str, Ended | BaseException] | None = None, odd: Mapping[str, str] | None = None, running: Mapping[int, tuple[str, str, str]] | None = None, **more: object) -> ModelInstaller:
    """The made-up machine with these files, whose environments have an installer; ``index``: what that can install."""
    made = Files()
    made |= {"/usr/lib/python3.11/venv/__init__.py": "", "/usr/lib/python3.11/ensurepip/__init__.py": "", "/usr/lib/python3.11/statistics.py": "def mean(values): pass\n"}
    for name in ("heath", "orchard"):
        made |= dist("pip", "24.0", {"pip/__init__.py": ""}, where=made.site(name))
    made.update(put(dict(files)))
    for path in [path for path, content in made.items() if content == "gone"]:
        del made[path]
    given = {name: value for name, value in {**made.variables, **variables}.items() if value is not None}
    return ModelInstaller(MemoryReader("linux", made, variables=given, home=HOME, folder=f"{HOME}/spring", **more), index, ends, odd, running)


def session(machine: ModelInstaller, lines: str) -> Iterable[str]:
    """What each line prints, its status where that is not 0, and what changed."""
    top = "C:\\" if machine.reader.system == "windows" else "/"
    for line in lines.strip().splitlines():
        before = tree(machine.reader, top)
        typed, _, given = re.sub(r"\b(\w)\{(\d+)\}", lambda many: many[1] * int(many[2]), line).partition(" <<<")
        home = machine.reader.home
        status, out, err = machine.typed(*(word.replace("~", home) for word in shlex.split(typed)), given=given.lstrip("! ").replace("|", "\n"), at_terminal=given[:1] == "!")
        assert "a failure of Kalyx itself" not in err, f"{line}\n{err}"
        yield from [f"$ kalyx {line}", *(f"  {text}".rstrip() for text in (_read(out) + err).splitlines())]
        after = [text for text in changed(before, tree(machine.reader, top)) if text != "as it was" and "/.local/state/" not in text and ENTRY not in text and "\\kalyx\\journal\\" not in text]
        yield from [*(f"  * {text}" for text in after), *([f"  = {status}"] if status else []), ""]


def _read(out: str) -> str:
    """What is printed; of JSON what is said in it, and of the answer to a kernel what the user sees, without the page's style."""
    if not out.startswith("{"):
        return out
    answer = json.loads(out)
    if "html" not in answer:
        return "\n".join(_told(answer, "", {})) + "\n"
    html = re.sub(r"(?s)<style>.*?</style>", "", answer["html"]).replace("><", ">\n<").replace(__version__, "{version}")
    return f"then {answer['then']}\n{answer['text']}\n{html}\n"


def _told(value: object, name: str, known: dict[str, str]) -> Iterable[str]:
    """The lines of a value, without what is empty: an object's short members stand in one line, and each object once."""
    whole = json.dumps(value, ensure_ascii=False)
    members = {str(key): item for key, item in (enumerate(value) if isinstance(value, list) else value.items() if isinstance(value, dict) else ()) if item not in (None, [], {}, "", False)}
    if len(whole) < 100 or not members:
        yield f"{name}: {whole}"
    elif whole in known:
        yield f"{name}: as {known[whole]}"
    else:
        known[whole] = name
        short = {key: item for key, item in members.items() if len(json.dumps(item)) < 70}
        if short:
            yield f"{name}: {json.dumps(short, ensure_ascii=False)}"
        for key in members:
            if key not in short:
                yield from _told(members[key], f"{name}.{key}", known)


def scene(name: str, *machine: object, made: Callable[[], ModelInstaller] | None = None, **more: object) -> None:
    """A session whose lines are those of its kept text, on a machine that ``model`` makes or ``made`` gives."""

    def lines() -> str:
        kept = (Path(__file__).with_name("typed") / f"{name}.txt").read_text(encoding="utf-8").splitlines()
        assert (typed := [line.removeprefix("$ kalyx ") for line in kept if line.startswith("$ kalyx ")]), f"nothing is typed in {name}.txt"
        return "\n".join(typed)

    SCENES.add(lambda: session(made() if made is not None else model(*machine, **more), lines()), name)


COMB = "def comb(): pass\n"
INDEX = [Release("hive", "1.0", {"hive.py": ""}), Release("hive", "2.0", {"hive.py": COMB}), Release("moor", "1.0", {"moor.py": "import hive\n"}, ("Requires-Dist: hive>=2",)), Release("moor", "1.1", {"moor.py": "import peat\n"}, ("Requires-Dist: peat",)),
         Release("fen", "1.0", {"fen.py": "raise ValueError('no fen')\n"}), Release("bog", "1.0", {"bog.py": ""}, ("Requires-Python: >=3.12",)), Release("bee", "1.0", {"bee.py": ""}, ("Requires-Dist: hive",)), Release("wax", "1.0", {"wax.py": ""}, fails="command 'gcc' failed: No such file or directory")]  # fmt: skip
KERNEL = '{"argv": ["/home/keeper/heath/bin/python", "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": "Heath", "language": "python"}'
MOOR = dist("moor", "1.0", {"moor.py": "import hive\n"}, "Requires-Dist: hive>=2")

# -- why --prove and --fix: every kind of step, tried in a temporary copy ----------

scene("proved_installs", {**MOOR, **dist("asks", "1.0", {"asks.py": "import bog\n"}, "Requires-Dist: bog")}, INDEX)  # fmt: skip


scene("proved_changes", {"spring/statistics.py": "x = 1\n", "lib/json/__init__.py": "loads = 1\n", "spring/hive.py": "", "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL,
      **dist("hive", "2.0", {"hive.py": COMB}), **dist("peat", "1.0", {"peat.py": ""}, where="orchard")}, INDEX)  # fmt: skip

scene("proved_variables", {"/moor/statistics.py": "x = 1\n", "lib/json/__init__.py": "loads = 1\n", "spring/hive.py": "", **dist("peat", "1.0", {"peat.py": ""}), **dist("mine", "1.0", {"mine.py": ""}, where="user")}, INDEX, {"PYTHONPATH": "/moor"})  # fmt: skip

scene("proved_removals", {**dist("hive", "1.0", {"hive/__init__.py": ""}, where="user"), **dist("hive", "2.0", {"hive/__init__.py": COMB}), "~/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.7\n",
      **dist("tangle", "1.0", {"tangle/__init__.py": "from tangle.a import x\n", "tangle/a.py": "x = 1\n"}), "site/tangle/a.py": "y = 2\n", **dist("knot", "1.0", {"knot/__init__.py": "import knot.loop\n", "knot/loop.py": ""}), "site/knot/loop.py": "gone",
      "site/mine.pth": "/elsewhere\n"}, [*INDEX, Release("tangle", "1.0", {"tangle/__init__.py": "from tangle.a import x\n", "tangle/a.py": "x = 1\n"}), Release("knot", "1.0", {"knot/__init__.py": "import knot.loop\n"})])  # fmt: skip

# -- why --prove: compared with a fresh environment, and with others ----------------

UNRECORDED = {"site/skep-1.0.dist-info/RECORD": "skep/__init__.py,,\nskep/wax.py,,\nskep-1.0.dist-info/METADATA,,\nskep-1.0.dist-info/RECORD,,\n"}
SKEP = {"skep/__init__.py": "from skep import wax\nwax.check()\n", "skep/wax.py": "def check(): pass\n"}
BROKEN = {"skep/__init__.py": "from skep import wax\nwax.check()\n", "skep/wax.py": "def check(): {}['x']\n"}


def control(name: str, here: dict[str, str], index: Iterable[Release], more: Mapping[str, object] = {}, needs: Iterable[str] = (), **words: object) -> None:
    scene(f"control_{name}", {**dist("skep", "1.0", here, *needs), **UNRECORDED, **more}, index, **words)


control("files", BROKEN, [Release("skep", "1.0", SKEP)])
control("lost_and_changed", {**BROKEN, "skep/more.py": ""}, [Release("skep", "1.0", {**SKEP, "skep/new.py": "", "skep/folder/__init__.py": ""})], {"site/skep/__pycache__/wax.cpython-311.pyc": ""})
control("leftover", {"skep/__init__.py": "try:\n from skep import old\nexcept ImportError:\n pass\n"}, [Release("skep", "1.0", {"skep/__init__.py": "try:\n from skep import old\nexcept ImportError:\n pass\n"})], {"site/skep/old.py": "{}['x']\n"})
control("stray", {"skep/__init__.py": "try:\n import plugin\nexcept ImportError:\n pass\n"}, [Release("skep", "1.0", {"skep/__init__.py": "try:\n import plugin\nexcept ImportError:\n pass\n"})], {"site/plugin.py": "{}['x']\n", "site/other.py": ""})
control("stray_package", {"skep/__init__.py": "try:\n import plugin\nexcept ImportError:\n pass\n"}, [Release("skep", "1.0", {"skep/__init__.py": "try:\n import plugin\nexcept ImportError:\n pass\n"})], dist("plugin", "0.3", {"plugin.py": "{}['x']\n"}))
control("newer", BROKEN, [Release("skep", "1.0", BROKEN), Release("skep", "2.0", SKEP)])
control("older", BROKEN, [Release("skep", "0.9", SKEP), Release("skep", "1.0", BROKEN), Release("skep", "2.0", BROKEN)])
control("of_what_it_needs", {"skep/__init__.py": "import peat\npeat.check()\n"}, [Release("skep", "1.0", {"skep/__init__.py": "import peat\npeat.check()\n"}), Release("skep", "2.0", {"skep/__init__.py": "import peat\npeat.check()\n"}, ("Requires-Dist: peat>=2",)), Release("peat", "1.0", {"peat.py": "def check(): {}['x']\n"}), Release("peat", "2.0", {"peat.py": "def check(): pass\n"})],
        dist("peat", "1.0", {"peat.py": "def check(): {}['x']\n"}), needs=["Requires-Dist: peat"])  # fmt: skip
control("nowhere", BROKEN, [Release("skep", "1.0", BROKEN), Release("skep", "0.8", BROKEN), Release("skep", "2.0", BROKEN)])
control("no_release", BROKEN, [Release("skep", "2.0", SKEP)])
control("another_environment", BROKEN, [], {f"orchard/{path}": content for path, content in SKEP.items()} | {key.replace("site/", "orchard/"): content for key, content in {**dist("skep", "1.0", SKEP), **UNRECORDED}.items() if "dist-info" in key})
control("another_version", BROKEN, [], dist("skep", "1.1", SKEP, where="orchard"))
control("odd_name", BROKEN, [Release("skep", "1.0", SKEP)], dist("--target=x", "1.0", {"odd.py": ""}), needs=["Requires-Dist: peat"])


# -- why --against ----------------------------------------------------------------


def against(name: str, files: Mapping[str, object], **words: object) -> None:
    scene(f"against_{name}", files, INDEX, **words)


SPEC = KERNEL.replace('"language"', '"env": {"HIVE_HOME": "/hives", "HIVE_TOKEN": "hunter2"}, "language"')
against("variables", {"~/.local/share/jupyter/kernels/heath/kernel.json": SPEC, "spring/needs.py": "environ['HIVE_HOME']\n", "spring/more.py": "", "spring/never.py": "{}['x']\n", "spring/set.py": "{'/other': 1}[environ.get('HIVE_HOME', '/other')]\n",
      "spring/secret.py": "environ['HIVE_TOKEN']\n", "spring/fine.py": ""}, variables={"HIVE_HOUR": "3"})  # fmt: skip
against("packages", {**dist("skep", "1.0", BROKEN), **UNRECORDED, **dist("skep", "1.1", SKEP, where="orchard")})
against("files", {**dist("skep", "1.0", BROKEN), **UNRECORDED, **dist("skep", "1.0", SKEP, where="orchard")})
against("what_it_needs", {**dist("skep", "1.0", {"skep/__init__.py": "import peat\npeat.x\n"}, "Requires-Dist: peat"), **dist("peat", "1.0", {"peat.py": ""}), **dist("skep", "1.0", {"skep/__init__.py": "import peat\npeat.x\n"}, "Requires-Dist: peat", where="orchard"),
                          **dist("peat", "1.1", {"peat.py": "x = 1"}, where="orchard"), **dist("other", "1.1", {"other.py": "x = 1"}, where="orchard")})  # fmt: skip
against("another_python", {"spring/skep.py": "import tomllib\n", "/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "/usr/lib/python3.9/tomllib.py": ""})

# -- what else may be asked about ---------------------------------------------------

scene("asked_about", {**MOOR, **dist("my-hive", "1.0", {"my_hive.py": ""}, recorded=["../../../bin/hive-tool,,"]), "spring/weigh.py": "import moor\nimport os\ntry:\n    import hive\nexcept ImportError:\n    pass\n", "spring/notes.ipynb": '{"metadata": {"kernelspec": {"name": "heath"}}, "cells": [{"cell_type": "code", "source": ["import moor"]}]}', "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL,
      "~/heath/bin/hive-tool": "#!/home/keeper/heath/bin/python\nimport sys\nfrom my_hive import main\n", "spring/bin/tool": "#!/usr/bin/env python3\nimport moor\n", "spring/pipe.py": Pipe(), "spring/src/inner.py": "", "spring/src/run.py": "import inner", "spring/unsettled.py": "import " + "environ"},
      INDEX, processes={77: Process(77, 1, "/usr/bin/python3.11", (f"{HOME}/heath/bin/python", "weigh.py"), f"{HOME}/spring", {"PATH": "/usr/bin"}, 5.0)})  # fmt: skip


# -- environments: filled, prepared, discarded ---------------------------------------

DATED = Release("hive", "2.1", {"hive.py": COMB}, ("Requires-Python: >=3.13",))
scene("filled", {"spring/wants.txt": "hive>=2\n# more\nmoor==1.0\n"}, [*INDEX, DATED])  # fmt: skip

SEES = {"~/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.7\n", **dist("hive", "1.0", {"hive.py": ""}, where="base"), **dist("moor", "1.0", {"moor.py": ""}, "Requires-Dist: hive<2", where="base"), **dist("mine", "1.0", {"mine.py": ""}, where="user")}
scene("filled_above_the_base", SEES, INDEX)  # fmt: skip

SAYS = b"Collecting hive\nWARNING: Retrying (Retry(total=0)) after connection broken by 'NewConnectionError('<x>: Failed to establish a new connection: [Errno -2] Name or service not known')': /hive/\nERROR: Could not find a version that satisfies the requirement hive (from versions: none)\nERROR: No matching distribution found for hive\n"
LEFT_OUT = b"WARNING: The repository located at reed.example is not a trusted or secure host and is being ignored. If this repository is available via HTTPS\nERROR: Could not find a version that satisfies the requirement hive (from versions: none)\nERROR: No matching distribution found for hive\n"
for title, files, ends in [
    ("no_index", {}, {"install": Ended(1, SAYS, b"", 0.5)}), ("an_index_left_out", {}, {"install": Ended(1, LEFT_OUT, b"", 0.5)}), ("no_time", {}, {"--dry-run": Ended(-9, b"", b"", 0.5, timed_out=True)}), ("no_report", {}, {"--dry-run": Ended(0, b"[]", b"", 0.5)}), ("silence", {}, {"install": Ended(1, b"", b"", 0.5)}),
    ("not_started", {}, {"install": Ended(None, b"", b"", 0.0, problem="was not started: no such file")}), ("no_installer", {"site/pip/__init__.py": "gone", "site/pip-24.0.dist-info/METADATA": "gone", "site/pip-24.0.dist-info/RECORD": "gone"}, {}),
    ("kept_by_the_system", {"~/heath/pyvenv.cfg": "gone", "~/heath/conda-meta/history": "", "~/heath/bin/python": BINARY, "~/heath/lib/python3.11/os.py": ""}, {}),
    ("old_installer", {"site/pip-24.0.dist-info/METADATA": "gone", "site/pip-24.0.dist-info/RECORD": "gone", **dist("pip", "20.0", {"pip/__init__.py": ""}), **dist("hive", "1.0", {"hive.py": ""})}, {}),
    ("old_installer_above_the_base", {"site/pip-24.0.dist-info/METADATA": "gone", "site/pip-24.0.dist-info/RECORD": "gone", **SEES, **dist("pip", "20.0", {"pip/__init__.py": ""})}, {}),
]:  # fmt: skip
    scene(f"filled_with_{title}", files, INDEX, ends=ends)

scene("prepared", {"/etc/os-release": "ID=debian\n", "/opt/p/bin/python3.10": BINARY.replace(b"3.11.7", b"3.10.4"), "/opt/p/lib/python3.10/os.py": "", "/opt/p/lib/python3.10/venv/__init__.py": "gone", "~/full/data": "", "spring/wants.txt": "hive>=2\n", "spring/pyproject.toml": '[project]\nname = "spring"\nrequires-python = ">=3.10"\ndependencies = ["moor==1.0"]\n', "/usr/bin/python2.7": BINARY.replace(b"3.11.7", b"2.7.18"), "/usr/lib/python2.7/os.py": "",
      "/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "/usr/lib/python3.9/ensurepip/__init__.py": "gone", "spring/heath.lock": "gone", "~/.vscode/settings.json": "gone"}, INDEX)  # fmt: skip


# -- kernels, editors, records, and what only reads ----------------------------------

RUNS = {"site/ipykernel_launcher.py": "", **dist("ipykernel", "6.0", {"ipykernel/__init__.py": "", "ipykernel/resources/logo-64x64.png": "png"})}
scene("registered", {**RUNS, "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "old", "display_name": "Old"}}, "cells": []}', "spring/.vscode/settings.json": '{\n  // mine\n  "python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"\n}', "~/orchard/mine.txt": "mine", "spring/own.json": "[]"}, INDEX)  # fmt: skip

KERNELS = [Release("ipykernel", "6.0", {"ipykernel_launcher.py": "import ipykernel\n", "ipykernel/__init__.py": "", "ipykernel/resources/logo-64x64.png": "png"}), Release("ipykernel", "7.0", {"ipykernel_launcher.py": "import traitlets\n"}, ("Requires-Python: >=3.12",)), *INDEX]
scene("prepared_with_refusals", {"spring/.vscode/settings.json": "{", "~/.local/share/jupyter/kernels/new": Link("/moor"), "/moor/kernel.json": KERNEL}, KERNELS)
scene("kernels_that_answer", {**RUNS, **dist("hive", "2.0", {"hive.py": COMB}), **MOOR, "spring/peat.py": "import absent\n", "spring/weigh.py": "import hive\nprint(hive.comb.__name__)\nimport peat\n", **{f"spring/{name}.ipynb": '{"metadata": {"kernelspec": {"name": "gone", "display_name": "Gone"}}, "cells": []}' for name in "bc"}, "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "old", "display_name": "Old"}}, "cells": []}'}, KERNELS, {"PATH": f"{HOME}/orchard/bin:/usr/bin"})  # fmt: skip
ODD_KERNELS = {f"~/.local/share/jupyter/kernels/{odd.replace(' ', '-')}/kernel.json": KERNEL.replace("ipykernel_launcher", f"ipykernel_launcher\", \"--odd={odd}").replace("Heath", odd.capitalize()) for odd in ODD}
scene("kernels_that_do_not", {**RUNS, **ODD_KERNELS, "spring/weigh.py": "print(1)\n"}, KERNELS, odd={f"--odd={odd}": odd for odd in ODD})
RUN = {40: (f"{HOME}/heath/bin/python", "import hive\nimport statistics", ""), 41: ("/usr/bin/python3.11", "", ""), 42: (f"{HOME}/heath/bin/python", "", "silent"), 43: (f"{HOME}/heath/bin/python", "", "stuck"), 44: (f"{HOME}/orchard/bin/python", "", ""), 45: ("", "", ""), 46: (f"{HOME}/heath/bin/python", "", "odd answer")}
scene("kernels_that_run", {**RUNS, **dist("hive", "2.0", {"hive/__init__.py": COMB}), **MOOR, "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL, "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "heath"}}, "cells": []}',
      **{f"~/run/kernel-{port}.json": json.dumps({**{f"{name}_port": port for name in CHANNELS}, "transport": "tcp" if port != 45 else "udp", "ip": "127.0.0.1", "key": "6b6579"}) for port in RUN}}, KERNELS, running=RUN,
      processes={port: Process(port, 1, "/usr/bin/python3.11", (python or "/usr/bin/python3.11", "-m", "ipykernel_launcher", "-f", f"{HOME}/run/kernel-{port}.json"), f"{HOME}/spring", {}, float(port)) for port, (python, *_) in RUN.items()})  # fmt: skip
scene("consent", {**RUNS, **MOOR, "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL, "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "old"}}, "cells": []}', "spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"}'}, KERNELS)  # fmt: skip
MANY = {key: content for number in range(23) for key, content in dist(f"p{number:02}", "1.0", {f"p{number:02}.py": "#" * number * 100}).items()}
LINKED = {"site/tools.egg-link": f"{HOME}/spring/tools\n.", "site/easy-install.pth": f"{HOME}/spring/tools\n", "spring/tools/tools.egg-info/PKG-INFO": "Name: tools\nVersion: 1.0\n", "spring/tools/tools.py": ""}
DIRECT = {"editable": '{"url": "file:///home/keeper/spring/combs", "dir_info": {"editable": true}}', "local": '{"url": "file:///home/keeper/spring/peat", "dir_info": {}}', "branch": '{"url": "https://hive.test/x", "vcs_info": {"vcs": "git", "commit_id": "abc"}}', "wheel": '{"url": "file:///moor/wheel-1.0-py3-none-any.whl", "archive_info": {"hash": "sha256=ab"}}'}
LINKS = {**LINKED, "site/more.pth": "/moor/site\n", **dist("hive", "2.0", {"hive.py": ""}), **dist("fen", "1.0", {"fen.py": ""}, where="/moor/site"), **{key: content for name in DIRECT for key, content in dist(name, "1.0", {f"{name}.py": ""}).items()}, **{f"site/{name}-1.0.dist-info/direct_url.json": text for name, text in DIRECT.items()}}
scene("recorded_and_compared", {**LINKS, **dist("mine", "1.0", {"mine.py": ""}, where="user")}, INDEX)  # fmt: skip
CODE = "import typing\nfrom typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    import never\nif typing.TYPE_CHECKING:\n    import never_too\nif not TYPE_CHECKING:\n    import gone\nif x.CHECKING:\n    import more\n"
OTHER_WAYS = {"spring/statistics.py": "x = 1\n", "spring/checks.py": CODE, "spring/dots.py": "from . import wax\nfrom .wax import comb\nfrom .. import more\n", "spring/pack/__init__.py": "", "spring/pack/part.py": "from . import other\nfrom .other import x\nfrom .. import more\n", "spring/hive.py": "if 'HIVE' in environ: raise ValueError(environ['HIVE'])\n", "~/wheels/hive-2.0-py3-none-any.whl": "PK", "spring/.python-version": "3.10\n"}
scene("other_ways_to_ask", {**MOOR, **OTHER_WAYS}, INDEX, {"HIVE": "1", "PYTHONPATH": "/moor"}, ends={"--find-links": Ended(1, b"ERROR: no wheel\n", b"", 0.5)})  # fmt: skip
# -- Windows and macOS: what starts no interpreter -----------------------------------

KEEPER = "C:\\Users\\keeper"


def of_windows(files: Mapping[str, object] = {}, variables: Mapping[str, str] = {}, index: Iterable[Release] = (), **more: object) -> ModelInstaller:
    """A machine of Windows with two environments of one Python, in the second an own file; ``~`` is the user's folder."""
    made: dict[str, object] = {"C:\\Python311\\python.exe": WINDOWS, "C:\\Python311\\python311.dll": b"MZ3.11.7\0", "C:\\Python311\\Lib\\os.py": "", "C:\\Python311\\Lib\\venv\\__init__.py": "", f"{KEEPER}\\spring\\notes.txt": ""}
    for name in ("heath", "two words"):
        made |= {f"{KEEPER}\\{name}\\{path}": content for path, content in {"pyvenv.cfg": "home = C:\\Python311\ninclude-system-site-packages = false\nversion = 3.11.7\n", "Scripts\\python.exe": WINDOWS, "Scripts\\activate.bat": f"set VIRTUAL_ENV={KEEPER}\\{name}\n", "Scripts\\pip.exe": b"MZ"}.items()}
        made |= {f"{KEEPER}\\{name}\\Lib\\site-packages\\{path[1:].replace('/', chr(92))}": content for path, content in {**dist("hive", "1.0", {"hive/__init__.py": ""}, where=""), **dist("ipykernel", "6.0", {"ipykernel/__init__.py": "", "ipykernel_launcher.py": "", "ipykernel/resources/logo-64x64.png": "png"}, where="")}.items()}
    made = with_library(made | {path.replace("~", KEEPER).replace("/", "\\"): content for path, content in files.items()})
    given = {"USERPROFILE": KEEPER, "LOCALAPPDATA": f"{KEEPER}\\AppData\\Local", "APPDATA": f"{KEEPER}\\AppData\\Roaming", "PATH": f"{KEEPER}\\heath\\Scripts;C:\\Python311", "PATHEXT": ".EXE;.BAT", **variables}
    keys = {"HKEY_CURRENT_USER\\Software\\Python\\PythonCore\\3.11\\InstallPath": {"": "C:\\Python311", "ExecutablePath": "C:\\Python311\\python.exe"}}
    return ModelInstaller(MemoryReader("windows", {path: raw(content) for path, content in made.items()}, variables=given, home=KEEPER, folder=f"{KEEPER}\\spring", registry=keys), index, **more)


WEIGHTS = '{"metadata": {"kernelspec": {"name": "old", "display_name": "Old"}}, "cells": []}'
scene("on_windows", made=lambda: of_windows({"~/spring/a.ipynb": WEIGHTS, "~/spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "C:\\\\Python311\\\\python.exe"}', "~/two words/mine.txt": "", "~/a;b/pyvenv.cfg": "home = C:\\Python311\nversion = 3.11.7\n", "~/a;b/Scripts/python.exe": WINDOWS, "~/a;b/Lib/site-packages/x.py": "", "C:/Docker/docker.exe": b"MZ", "~/AppData/Roaming/jupyter/kernels/far/kernel.json": KERNEL.replace("/home/keeper/heath/bin/python", "C:\\\\Docker\\\\docker.exe"), "~/lost/Scripts/python.exe": WINDOWS, "~/lost/Scripts/activate": "VIRTUAL_ENV=C:\\Users\\keeper\\lost\n", "~/lost/Lib/site-packages/x.py": "", "~/spring/requirements.txt": "hive>=2\n", "~/spring/weigh.py": "import hive\nimport gone\n", "C:/Windows/py.exe": b"MZ"}, {"PATH": f"{KEEPER}\\heath\\Scripts;C:\\Python311;C:\\Windows"}))


def of_macos(files: Mapping[str, object] = {}, variables: Mapping[str, str] = {}, index: Iterable[Release] = (), **more: object) -> ModelInstaller:
    """A machine of macOS: the system's Python, a framework, one of a package manager, and environments of these."""
    made: dict[str, object] = {"/usr/bin/python3": BINARY.replace(b"3.11.7", b"3.9.6"), "/usr/lib/python3.9/os.py": "", "/Users/keeper/spring/notes.txt": "", "/Applications/Moor.app/Contents/MacOS/Moor": b"\xcf\xfa\xed\xfe"}
    framework, brew = "/Library/Frameworks/Python.framework/Versions/3.12", "/opt/homebrew/Cellar/python@3.11/3.11.7"
    made |= {f"{framework}/bin/python3.12": BINARY.replace(b"3.11.7", b"3.12.1"), f"{framework}/lib/python3.12/os.py": "", "/usr/local/bin/python3.12": Link(f"{framework}/bin/python3.12"), f"{brew}/bin/python3.11": BINARY, f"{brew}/lib/python3.11/os.py": "", f"{brew}/lib/python3.11/EXTERNALLY-MANAGED": "[externally-managed]\nError=use brew\n", "/opt/homebrew/bin/python3.11": Link(f"{brew}/bin/python3.11")}
    for name, base, version in [("heath", framework, "3.12.1"), ("orchard", "/opt/homebrew", "3.11.7"), ("gone", "/opt/gone", "3.10.1")]:
        minor = version.rpartition(".")[0]
        made |= {f"/Users/keeper/{name}/pyvenv.cfg": f"home = {base}/bin\nversion = {version}\n", f"/Users/keeper/{name}/bin/python": Link(f"{base}/bin/python{minor}"), f"/Users/keeper/{name}/bin/activate": f"VIRTUAL_ENV=/Users/keeper/{name}\n", f"/Users/keeper/{name}/bin/pip": f"#!/Users/keeper/{name}/bin/python\n"}
        made |= {path.replace("//", "/"): content for path, content in {**dist("hive", minor, {"hive.py": ""}, where=f"/Users/keeper/{name}/lib/python{minor}/site-packages"), **dist("ipykernel", "6.0", {"ipykernel/__init__.py": "", "ipykernel_launcher.py": ""}, where=f"/Users/keeper/{name}/lib/python{minor}/site-packages")}.items()}
    made = with_library(made | {path.replace("~", "/Users/keeper"): content for path, content in files.items()})
    given = {"HOME": "/Users/keeper", "SHELL": "/bin/zsh", "PATH": "/Users/keeper/heath/bin:/opt/homebrew/bin:/usr/local/bin:/usr/bin", **variables}
    return ModelInstaller(MemoryReader("macos", {path: content if isinstance(content, Link) else raw(content) for path, content in made.items()}, variables=given, home="/Users/keeper", folder="/Users/keeper/spring"), index, **more)


scene("on_macos", made=lambda: of_macos({"~/spring/a.ipynb": WEIGHTS, "~/.zshrc": "alias python=/opt/homebrew/bin/python3.11\n", "~/spring/.idea/misc.xml": '<project><component name="ProjectRootManager" project-jdk-name="Python 3.12 (heath)" project-jdk-type="Python SDK"/></project>', "~/Library/Jupyter/kernels/orchard/kernel.json": KERNEL.replace("/home/keeper/heath", "/Users/keeper/orchard"), "~/spring/weigh.py": "import hive\nimport winreg\nimport gone\nimport yaml\n", "~/Library/Python/3.12/lib/python/site-packages/mine.py": ""}))


# -- the same job on these systems, with what it starts --------------------------------

JOB = {"~/spring/wants.txt": "hive>=2\nmoor==1.0\n", "~/spring/a.ipynb": WEIGHTS, "~/spring/weigh.py": "import moor\nimport peat\n", "~/spring/statistics.py": "x = 1\n"}


def windows_package(name: str, files: dict[str, object], *metadata: str, where: str = "~/heath") -> dict[str, object]:
    return {f"{where}/Lib/site-packages{path}": content for path, content in dist(name, "1.0", files, *metadata, where="").items()}


ON_WINDOWS = {**JOB, "C:/Python311/Lib/ensurepip/__init__.py": "", "C:/Python311/Lib/statistics.py": "def mean(values): pass\n", **windows_package("pip", {"pip/__init__.py": ""}), **windows_package("moor", {"moor.py": "import hive.comb\n"}, "Requires-Dist: hive>=2"), **windows_package("peat", {"peat.py": ""}, where="~/two words")}
scene("job_on_windows", made=lambda: of_windows(ON_WINDOWS, index=KERNELS))
scene("fixes_on_windows", made=lambda: of_windows({**ON_WINDOWS, "C:/moor/json.py": "x = 1\n", "~/spring/src/combs.py": "", "C:/Python311/Lib/json.py": "loads = 1\n", "~/spring/tools/run": "import gone\n"}, {"PYTHONPATH": "C:\\moor"}, INDEX))
scene("job_on_macos", made=lambda: of_macos({**JOB, "/Library/Frameworks/Python.framework/Versions/3.12/lib/python3.12/venv/__init__.py": "", "/Library/Frameworks/Python.framework/Versions/3.12/lib/python3.12/ensurepip/__init__.py": "", **dist("pip", "24.0", {"pip/__init__.py": ""}, where="~/heath/lib/python3.12/site-packages")}, index=KERNELS))


# -- many at once --------------------------------------------------------------------

scene("many_packages", {**MANY, **LINKED, **dist("hive-tools", "1.0", {f"hive{number}.py": "" for number in range(6)}), "~/蜂蜜/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "~/蜂蜜/bin/python": Link("/usr/bin/python3.11"), "spring/.vscode/settings.json": '{"editor.fontSize": 12}',
      "spring/t.txt": "# kalyx record 1\n# python 3.13.0 cpython t\n# platform linux x86_64\n# sees its base: yes\np00==1.0\np01==2.0\n", "spring/pyrightconfig.json": "{}"}, INDEX)  # fmt: skip
scene("as_json", {**RUNS, **MOOR, **dist("hive", "1.0", {"hive.py": ""}), **dist("peat", "1.0", {"peat.py": ""}, where="orchard"), "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL, "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "heath"}}, "cells": []}', "spring/weigh.py": "import moor\nimport absent\n",
      "spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"}', "~/moved/pyvenv.cfg": "home = /gone/bin\n", "~/moved/bin/python": Link("/gone/bin/python3")}, KERNELS)  # fmt: skip
scene("only_read", {**dist("hive", "1.0", {"hive.py": ""}), **dist("moor", "1.0", {"moor.py": "import hive\n"}, "Requires-Dist: hive>=2"), **dist("hive", "2.0", {"hive.py": ""}, where="orchard"), "spring/weigh.py": "import moor\n", "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "python3"}}, "cells": []}',
      "spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"}', "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL}, INDEX)  # fmt: skip


scene("explained_in_a_cell", {**MOOR, "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL}, INDEX)  # fmt: skip

SHELL = {10: Process(10, 1, "/bin/bash", ("bash", "-l"), f"{HOME}/spring", {"PATH": f"{HOME}/heath/bin:/usr/bin"}, 1.0), 20: Process(20, 10, "/usr/bin/python3.11", ("python3.11", "/usr/bin/kalyx"), f"{HOME}/spring", {}, 2.0),
         30: Process(30, 1, "/usr/bin/python3.11", (f"{HOME}/heath/bin/python", "weigh.py"), f"{HOME}/spring", {"PATH": "/usr/bin"}, 3.0), 50: Process(50, 1, "/opt/far/bin/python3.11", ("/opt/far/bin/python", "x.py"), "/", {}, 5.0), 40: Process(40, 1, "/usr/bin/python3.11", (f"{HOME}/heath/bin/python", "-m", "ipykernel_launcher", "-f", f"{HOME}/run/kernel-1.json"), f"{HOME}/spring", {}, 4.0)}  # fmt: skip
ASKED = {"-lic": Ended(0, b"python is /usr/bin/python3\n", b"", 0.1), "-ic": Ended(0, b"python is aliased to `python3.9'\n", b"", 0.1), "-lc": Ended(-9, b"", b"", 0.1, timed_out=True), "-c type": Ended(1, b"", b"bash: type: pip: not found\n", 0.1)}
scene("seats_asked", {"/bin/bash": "\x7fELF", "/opt/far/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "/opt/far/bin/python": Link("/usr/bin/python3.11"), f"{HOME}/run/kernel-1.json": '{"shell_port": 1}', f"{HOME}/run/kernel-2.json": "{"}, INDEX, ends=ASKED, processes=SHELL, pid=20)  # fmt: skip


def later() -> Iterable[str]:
    """An earlier answer of ``here``, then a change, then the difference."""
    machine = model({**dist("hive", "1.0", {"hive.py": ""}), "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL}, INDEX)
    machine.reader.put(f"{HOME}/spring/then.json", machine.typed("here", "--json")[1].encode())
    yield from session(machine, """
here --since then.json
here --since notes.txt
here --since gone.json
unregister heath --yes
fill ~/orchard hive --yes
point editor ~/orchard --yes
here --since then.json
here --since then.json --against ~/orchard
""")


def captured() -> Iterable[str]:
    """A capture, what is in it, and what is answered on it as on the machine itself."""
    machine = model({**MOOR, "spring/weigh.py": "import moor\n", "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL, "spring/there.kalyx": "", "~/.local/share/jupyter/kernels/hosted/kernel.json": KERNEL.replace("Heath", "of keeper@moorhost")}, INDEX)
    lines = ("here", "survey", "contrast heath orchard", "kernels", "packages", "packages heath", "why moor", "why hive", "why moor --in kernel:heath", "why weigh.py", "why moor --in orchard", "enter heath", "record heath")
    with tempfile.TemporaryDirectory() as folder, patch("socket.gethostname", lambda: "moorhost.larkmoor"):
        for line in ("capture moor.kalyx --dry-run", "capture moor.kalyx --static", "capture there.kalyx", "capture moor.kalyx --why hive --why 'moor --in orchard'"):
            yield from (re.sub(r"\d+(\.\d+)? (kB|B)\b|moor.kalyx: .*", "{size}", text) for text in session(machine, line))
        path = Path(folder) / "moor.kalyx"
        path.write_bytes(machine.reader.read_whole(f"{HOME}/spring/moor.kalyx", 1 << 24))
        held = gzip.decompress(path.read_bytes())
        yield from [f"the machine's name is in it: {b'moorhost' in held}", ""]
        machine.reader.put(str(path), path.read_bytes())
        yield from (text.replace(folder, "") for text in session(machine, f"contrast heath {path}#heath\ncontrast {path} {path}#orchard\ncontrast {path}#heath {path}#heath\ncontrast heath {path}#gone"))
        # Two kept answers that are alike prove nothing where a folder was not read.
        kept = json.loads(machine.typed("packages", "orchard", "--json")[1])
        machine.reader.put(f"{HOME}/spring/kept.json", json.dumps({**kept, "unread": [{"path": f"{HOME}/orchard/lib64", "reason": "permission denied"}]}).encode())
        machine.reader.put(f"{HOME}/spring/else.json", json.dumps({**kept, "unread": [{"path": "/srv/closed", "reason": "permission denied"}]}).encode())
        yield from session(machine, "contrast kept.json kept.json\ncontrast else.json else.json")
        for line in lines:
            here, there = (list(session(machine, text))[1:] for text in (line, f"{line} --on {path}"))
            yield from [f"$ kalyx {line} --on moor.kalyx", *(["  as on the machine itself", ""] if here == there else there)]


def page() -> Iterable[str]:
    """The page of a folder, without its style, its script and what differs with each run."""
    machine = model({**dist("hive", "1.0", {"hive.py": ""}), **MOOR, "spring/weigh.py": "import moor\n", "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "heath"}}, "cells": []}', "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL}, INDEX)
    machine.typed("report", "-o", "page.html", "--against", f"{HOME}/orchard", "--why", "moor", "--sizes", "--yes")
    text = re.sub(r"(?s)<(style|script)\b[^>]*>.*?</\1>", r"<\1/>", machine.reader.read_text(f"{HOME}/spring/page.html"))
    yield from re.sub(r"Kalyx [\d.]+ on [\d-]+ [\d:]+ UTC", "Kalyx {version} on {time}", text).replace("><", ">\n<").splitlines()


SCENES.add(page)
SCENES.add(later)
SCENES.add(captured)


# -- calls that are none, and runs that are stopped or killed ------------------------

scene("calls", {}, INDEX)  # fmt: skip

for how, end in (("stopped", signals.Stopped(15)), ("killed", Killed())):
    for title, text in (("while_it_is_created", "venv"), ("while_it_is_filled", "install"), ("while_it_is_tried", "try:")):
        scene(f"prepare_{how}_{title}", {}, INDEX, ends={text: end})  # fmt: skip
    for title, text in (("while_it_is_filled", "retries 1 hive==2.0"), ("while_it_is_tried", "try:")):
        scene(f"fill_{how}_{title}", dist("hive", "1.0", {"hive.py": ""}), INDEX, ends={text: end})  # fmt: skip


def brought(where: str) -> dict[str, object]:
    """An environment of this path, with an installer and a package that does not import."""
    files = Files()
    files.clear()
    files.environment(where)
    return {**files, **dist("pip", "24.0", {"pip/__init__.py": ""}, where=f"{where}/lib/python3.11/site-packages"), **dist("hive", "1.0", {"hive.py": "import gone\n"}, where=f"{where}/lib/python3.11/site-packages")}


OWN = f"{HOME}/spring/.venv"
scene("not_asked", {**brought(OWN), **dist("peat", "1.0", {"peat.py": ""}, where=f"{OWN}/lib/python3.11/site-packages"), "~/.local/share/jupyter/kernels/brought/kernel.json": KERNEL.replace(f"{HOME}/heath", OWN), "spring/.git/HEAD": ""}, INDEX, {"PATH": f"{OWN}/bin:/usr/bin"})  # fmt: skip

scene("files_and_notebooks", {"spring/pack/__init__.py": "from . import wax, mod\n", "spring/pack/mod.py": "from .wax import x\nfrom .. import y\nfrom ..gone import z\nfrom . import comb\n", "spring/pack/wax.py": "", "spring/pack/deep/x.py": "from ..wax import x\nfrom .gone import y\n",
      "spring/installs.ipynb": json.dumps({"metadata": {"kernelspec": {"name": "heath"}}, "cells": [{"cell_type": "code", "source": "!pip install hive\n%pip install peat\n!/usr/bin/python3 -m pip install wax\nimport hive, peat"}, {"cell_type": "code", "source": ["%%bash\n", "pip install bog"]}, {"cell_type": "markdown", "source": "import x"}]}),
      "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL, "spring/late.py": "def f():\n    import gone_late\nif False:\n    import never\nimport importlib\nimportlib.import_module('by_name')\n__import__('dunder')\n", "spring/odd.py": "import (\n", "spring/empty/x.txt": ""}, INDEX)  # fmt: skip

scene("chosen_base", {"spring/pyproject.toml": '[project]\nname = "spring"\nrequires-python = ">=3.13"\ndependencies = ["hive"]\n', **{f"spring/{name}.txt": f"# kalyx record 1\n# python {version} cpython\n# platform linux unknown\n# sees its base: {sees}\nhive==1.0\n" for name, version, sees in (("lock", "3.12.1", "no"), ("older", "3.11.2", "yes"), ("exact", "3.9.18", "no"))},
      "/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "/usr/lib/python3.9/venv/__init__.py": "", "/usr/lib/python3.9/ensurepip/__init__.py": "", "/usr/lib/python3.9/site-packages/README": "",
      "/opt/many/bin/many": "#!/bin/sh\n", "/opt/many/versions/README": ""}, INDEX, {"PYENV_ROOT": "/opt/many"})  # fmt: skip


FOREIGN = {"/moor/encodings/__init__.py": "", **dist("hive", "1.0", {"hive.py": ""})}
scene("start_of_another_python", FOREIGN, INDEX, {"PYTHONPATH": "/moor"})
scene("fill_killed_then_discarded", {}, INDEX, ends={"retries 1 hive": Killed()})


scene("in_a_repository", {"~/.git/index": index_of("orchard/pyvenv.cfg", "orchard/bin/python", "spring/.vscode/settings.json"), "spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"}', "~/.git/HEAD": "ref: refs/heads/main\n", "~/.config/git/ignore": "/heath/\n"})
PART = {"spring/pyproject.toml": '[project]\nname = "hive"\n', "spring/src/hive/__init__.py": "", "spring/src/hive/extra.py": "", "spring/deep/hive/extra.py": "", **dist("hive", "1.0", {"hive/__init__.py": ""})}
scene("a_part_that_the_project_has", PART)


OLD_LINES = "print 'x'\ntext = \"\"\"\nimport inside\nit's \\\"\"\" still\nimport inside_too\n\"\"\"\nimport after_text\nwords = ['import in_words',\n'import in_brackets']\nimport hive, peat\nfrom moor import (a,\n  b)\ns = 'it\\'s # no'; import behind\n# import comment\nif 1: import in_if\n"
scene("old_lines", {"spring/old.py": OLD_LINES, "/usr/bin/python2.7": BINARY.replace(b"3.11.7", b"2.7.18"), "/usr/lib/python2.7/os.py": ""})

BLOCK = "# /// script\n# requires-python = '>=3.9'\n# dependencies = [\n#   'hive>=2',\n#\n#   'moor',\n# ]\n# ///\nimport hive\n"
scene("fits", {"spring/pyproject.toml": '[project]\nname = "spring"\nrequires-python = ">=3.12"\ndependencies = ["hive>=3", "moor"]\n[project.optional-dependencies]\nmore = ["bog"]\n', "spring/tool.py": BLOCK, "spring/broken.py": BLOCK.replace("# ///\nimport", "import"), "spring/plain.py": "",
      "~/elsewhere/x.txt": "", **dist("hive", "2.0", {"hive.py": ""}), **MOOR, **dist("hive", "1.0", {"hive.py": ""}, where="orchard")}, INDEX)  # fmt: skip


scene("broken_settings", {
    "spring/.vscode/settings.json": "{", "spring/mypy.ini": "[mypy\npython_executable = /x\n", "spring/pyproject.toml": "[tool", "spring/pyrightconfig.json": '{"venv": 3}', "spring/.idea/misc.xml": "<component", "spring/.zed/settings.json": "\udcff", "spring/.dir-locals.el": '((python-mode .\n ((python-shell-interpreter . "x',
    "~/.local/share/jupyter/kernels/odd/kernel.json": '{"argv": 3}', "~/.local/share/jupyter/kernels/empty/kernel.json": "", "~/heath/share/jupyter/kernels/twin/kernel.json": KERNEL.replace("heath/bin", "gone/bin")}, INDEX)  # fmt: skip


scene("a_flag_and_a_project", {"spring/pyproject.toml": '[project]\nname = "spring"\n', "spring/src/inner.py": "", "spring/src/run.py": "import inner\n", "spring/tools/run.py": "import outer\n", "spring/tools/outer.py": ""})


BY_NAME = {name: json.dumps({"argv": [*words, "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": name, "language": "python", "env": env}) for name, words, env in (("server", ["python3"], {}), ("behind", ["/usr/bin/env", "python"], {}), ("led", ["python3.11"], {"PATH": f"{HOME}/heath/bin"}), ("named", [f"{HOME}/heath/bin/python"], {}), ("both", ["/usr/bin/env", f"{HOME}/heath/bin/python"], {}))}
scene("kernels_by_a_name", {f"~/.local/share/jupyter/kernels/{name}/kernel.json": text for name, text in BY_NAME.items()} | {"~/heath/share/jupyter/kernels/python3/kernel.json": BY_NAME["server"], "/usr/bin/env": b"\x7fELF", f"{HOME}/heath/bin/python3.11": Link("python"), **dist("ipykernel", "6.0", {"ipykernel_launcher.py": ""})}, INDEX)


BROKEN_BASE = {"~/orchard/pyvenv.cfg": "home = /gone/bin\nversion = 3.11.7\n", "~/orchard/bin/python": Link("/gone/bin/python3.11"), **dist("hive", "1.0", {"hive.py": ""}, where="orchard"), "~/own/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "spring/.venv/pyvenv.cfg": "home = /gone/bin\nversion = 3.11.7\n", "spring/.venv/bin/python": Link("/gone/bin/python3.11"), "spring/.venv/lib/python3.11/site-packages/hive.py": "", "/moor/peat.py": "x = 1\n", "spring/peat.py": Link("/moor/peat.py"), **dist("peat", "1.0", {"peat/__init__.py": "", "peat/deep.py": ""})}
scene("base_gone_is_fixed", BROKEN_BASE, INDEX)
scene("filled_beside_the_users_own", {**dist("hive", "2.0", {"hive.py": ""}, where="user"), **dist("mine", "1.0", {"mine.py": ""}, where="user"), **dist("pip", "24.0", {"pip/__init__.py": ""}, where="base"), **dist("old", "1.0", {"old.py": ""}, where="base"), **dist("old", "2.0", {"old.py": ""}, where="user")}, INDEX)


DYNLOAD = {f"{prefix}/{path}": content for prefix, version in (("/opt/a", "3.9.18"), ("/opt/b", "3.11.9"), ("/opt/c", "3.12.1")) for path, content in {f"bin/python{version[:-2].rstrip('.')}": BINARY.replace(b"3.11.7", version.encode()), f"lib/python{version[:-2].rstrip('.')}/os.py": "", f"lib/python{version[:-2].rstrip('.')}/lib-dynload/_sqlite3.cpython.so": b"\x7fELF", f"lib/python{version[:-2].rstrip('.')}/site-packages/x.py": ""}.items()}
scene("which_of_several", {**DYNLOAD, **dist("hive", "1.0", {"hive/__init__.py": ""}), **dist("hive", "2.0", {"hive/__init__.py": "", "hive/comb.py": ""}, where="orchard"), "lib/sqlite3/__init__.py": "import _sqlite3\n", **{f"~/heath/lib/python{minor}/site-packages/moor/__init__.py": "" for minor in ("3.9", "3.10", "3.8")}, "spring/crash.py": "die('SIGSEGV')\n", "site/linked": Link("/moor/linked"), "/moor/linked/__init__.py": "", "/moor/linked/part.py": ""}, INDEX, {"PATH": f"{HOME}/heath/bin:/usr/bin:/opt/a/bin:/opt/b/bin:/opt/c/bin"})


CIRCULAR = {"spring/hive.py": "from hive import wax\n", **dist("hive", "1.0", {"hive.py": "wax = 1\n"}, where="orchard")}
scene("fix_is_stopped", CIRCULAR, [Release("hive", "1.0", {"hive.py": "wax = 1\n"})], ends={"heath/bin/python -m pip install hive": signals.Stopped(15)})
DEAD = {f"~/.local/share/jupyter/kernels/{name}/kernel.json": KERNEL.replace("/home/keeper/heath/bin/python", python) for name, python in (("dead", "/gone/python"), ("half", f"{HOME}/half/bin/python"), ("brought", f"{HOME}/spring/env/bin/python"), ("bare", f"{HOME}/spring/bare/bin/python"))}
scene("fix_removes_what_was_asked", {**DEAD, "~/half/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "spring/a.ipynb": json.dumps({"metadata": {"kernelspec": {"name": "half"}}, "cells": []}), "spring/env/pyvenv.cfg": "home = /gone/bin\nversion = 3.11.7\n", "spring/env/bin/python": Link("/gone/bin/python3.11"), "spring/env/bin/activate": f"VIRTUAL_ENV={HOME}/spring/env\n", "spring/bare/bin/python": Link("/usr/bin/python3.11"), "spring/bare/bin/activate": f"VIRTUAL_ENV={HOME}/spring/bare\n", "spring/bare/lib/python3.11/site-packages/hive.py": ""}, INDEX)
LOST = {"~/old/pyvenv.cfg": "home = /gone/bin\nversion = 3.8.1\n", "~/old/bin/python": Link("/gone/bin/python3.8"), **dist("hive", "1.0", {"hive.py": ""}, where="~/old/lib/python3.8/site-packages"), **dist("absent", "1.0", {"absent.py": ""}, where="~/lost/lib/python3.8/site-packages"), "~/lost/pyvenv.cfg": "home = /gone/bin\nversion = 3.8.1\n", "~/lost/bin/python": Link("/gone/bin/python3.8")}
scene("fix_fails_half_way", {**LOST, **CIRCULAR}, INDEX[:1], ends={"heath/bin/python -m pip install --disable-pip-version-check --no-input": Ended(1, b"ERROR: no room\n", b"", 0.5), "heath/bin/python -m pip install hive": Ended(1, b"ERROR: no room\n", b"", 0.5)})
scene("no_base_creates_environments", {**LOST, "/etc/os-release": "ID=debian\n", "/usr/lib/python3.11/ensurepip/__init__.py": "gone", "~/stale/pyvenv.cfg": "home = /gone/bin\nversion = 3.11.2\n", "~/stale/bin/python": Link("/gone/bin/python3.11"), "/usr/lib/python3.11/EXTERNALLY-MANAGED": "[externally-managed]\nError=no\n"}, INDEX)


NINE, ELEVEN = "/usr/lib/python3.9/site-packages", "/usr/lib/python3.11/site-packages"
TWO = {"/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/bin/pip3.9": "#!/usr/bin/python3.9\n", "/usr/bin/pip3.11": "#!/usr/bin/python3.11\n", **{f"/usr/lib/python3.9/{name}": "" for name in ("os.py", "ensurepip/__init__.py", "venv/__init__.py")},
       **{path: text for where in (NINE, ELEVEN) for name in ("pip", "ipykernel") for path, text in dist(name, "6.0", {f"{name}/__init__.py": "", **({"ipykernel_launcher.py": ""} if name != "pip" else {})}, where=where).items()}, **dist("hive", "1.0", {"hive.py": ""}, where=NINE)}
scene("two_versions_in_one_prefix", {**TWO, **{f"~/.local/share/jupyter/kernels/{name}/kernel.json": KERNEL.replace("/home/keeper/heath/bin/python", f"/usr/bin/python3.{minor}") for name, minor in (("nine", 9), ("eleven", 11))},
      "spring/a.ipynb": json.dumps({"metadata": {"kernelspec": {"name": "nine"}}, "cells": [{"cell_type": "code", "source": "!pip3.9 install bog\n!pip3.11 install bog\nimport hive"}]}), "spring/run.py": "#!/usr/bin/python3.9\nimport hive\n"}, INDEX, {"PATH": "/usr/bin"})


scene("many_notebooks", {f"spring/{name}.ipynb": json.dumps({"metadata": {"kernelspec": {"name": kernel}} if kernel else {}, "cells": []}) for kernel, names in (("gone", "abcdefghijkl"), ("", "mnopqrstuvwx"), ("heath", "yz")) for name in names} | {"~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL, **RUNS}, INDEX)


@pytest.mark.parametrize("name", SCENES.names)
def test_typed(name):
    assert not (difference := SCENES.difference(name)), difference
