"""Commands typed on machines in memory, word for word (typed/*.txt): what they print, and what they change there.

A model of Python and of the installer runs what Kalyx starts. ``KALYX_DRAW=1`` writes the files again; read the
difference then.
"""

from __future__ import annotations

import gzip
import json
import re
import shlex
import struct
import tempfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from unittest.mock import patch

import pytest

from kalyx import __version__
from kalyx.core import signals
from kalyx.core.system.memory_reader import Link, MemoryReader, Pipe
from kalyx.core.system.reader import Process
from kalyx.core.system.runner import Ended
from tests.core.test_diagnoses import SITE, put
from tests.made import BINARY, HOME, Files
from tests.support.model_installer import Killed, ModelInstaller, Release, dist
from tests.support.scenes import Scenes, changed, tree

SCENES = Scenes("cli/typed")


def model(files: Mapping[str, object] = {}, index: Iterable[Release] = (), variables: Mapping[str, str | None] = {}, ends: Mapping[str, Ended | BaseException] | None = None, **more: object) -> ModelInstaller:
    """The made-up machine with these files, whose environments have an installer; ``index``: what that can install."""
    made = Files()
    made |= {"/usr/lib/python3.11/venv/__init__.py": "", "/usr/lib/python3.11/ensurepip/__init__.py": "", "/usr/lib/python3.11/statistics.py": "def mean(values): pass\n"}
    for name in ("heath", "orchard"):
        made |= dist("pip", "24.0", {"pip/__init__.py": ""}, where=made.site(name))
    made.update(put(dict(files)))
    for path in [path for path, content in made.items() if content == "gone"]:
        del made[path]
    given = {name: value for name, value in {**made.variables, **variables}.items() if value is not None}
    return ModelInstaller(MemoryReader("linux", made, variables=given, home=HOME, folder=f"{HOME}/spring", **more), index, ends)


def session(machine: ModelInstaller, lines: str) -> Iterable[str]:
    """What each line prints, its status where that is not 0, and what changed."""
    for line in lines.strip().splitlines():
        before = tree(machine.reader, "/")
        line, _, given = line.partition(" <<< ")
        status, out, err = machine.typed(*(word.replace("~", HOME) for word in shlex.split(line)), given=given.replace("|", "\n"))
        yield from [f"$ kalyx {line}", *(f"  {text}".rstrip() for text in (_read(out) + err).splitlines())]
        after = [text for text in changed(before, tree(machine.reader, "/")) if text != "as it was" and "/.local/state/" not in text]
        yield from [*(f"  * {text}" for text in after), *([f"  = {status}"] if status else []), ""]


def _read(out: str) -> str:
    """What is printed; of the answer to a kernel what the user sees, without the style of the page."""
    if '"html"' not in out:
        return out
    answer = json.loads(out)
    html = re.sub(r"(?s)<style>.*?</style>", "", answer["html"]).replace("><", ">\n<").replace(__version__, "{version}")
    return f"then {answer['then']}\n{answer['text']}\n{html}\n"


def scene(name: str, lines: str, *machine: object, **more: object) -> None:
    SCENES.add(lambda: session(model(*machine, **more), lines), name)


COMB = "def comb(): pass\n"
INDEX = [Release("hive", "1.0", {"hive.py": ""}), Release("hive", "2.0", {"hive.py": COMB}), Release("moor", "1.0", {"moor.py": "import hive\n"}, ("Requires-Dist: hive>=2",)), Release("moor", "1.1", {"moor.py": "import peat\n"}, ("Requires-Dist: peat",)),
         Release("fen", "1.0", {"fen.py": "raise ValueError('no fen')\n"}), Release("bog", "1.0", {"bog.py": ""}, ("Requires-Python: >=3.12",)), Release("wax", "1.0", {"wax.py": ""}, fails="command 'gcc' failed: No such file or directory")]  # fmt: skip
KERNEL = '{"argv": ["/home/keeper/heath/bin/python", "-m", "ipykernel_launcher", "-f", "{connection_file}"], "display_name": "Heath", "language": "python"}'
MOOR = dist("moor", "1.0", {"moor.py": "import hive\n"}, "Requires-Dist: hive>=2")

# -- why --prove and --fix: every kind of step, tried in a temporary copy ----------

scene("proved_installs", """
why moor --in ~/heath --prove
why moor --in ~/heath --prove --json
why moor bog fen wax gone_module --in ~/heath --prove
why moor --in ~/heath --prove --wheels ~/spring
why moor --in ~/heath --prove --wheels ~/nowhere
why moor --in ~/heath --prove --static
why moor --in ~/heath --fix --dry-run
why moor --in ~/heath --fix
why moor --in ~/heath --fix --yes --static
why moor --in ~/heath --fix --yes
why moor --in ~/heath --fix --yes
why moor --in ~/heath
""", {**MOOR, **dist("asks", "1.0", {"asks.py": "import bog\n"}, "Requires-Dist: bog")}, INDEX)  # fmt: skip


scene("proved_changes", """
why "from statistics import mean" --in ~/heath --prove
why statistics --in ~/heath --as "~/heath/bin/python -I" --prove
why "from hive import comb" --in ~/heath --prove
why "from hive import comb" --in ~/heath --fix --yes
why "from hive import Comb" --in ~/heath --prove
why peat --in ~/heath --prove
why peat --in ~/heath --fix --yes
why peat --in kernel:heath --prove --wheels ~/spring
why "from json import lods" --in ~/heath --prove
""", {"spring/statistics.py": "x = 1\n", "lib/json/__init__.py": "loads = 1\n", "spring/hive.py": "", "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL,
      **dist("hive", "2.0", {"hive.py": COMB}), **dist("peat", "1.0", {"peat.py": ""}, where="orchard")}, INDEX)  # fmt: skip

scene("proved_variables", """
why "from statistics import mean" --in ~/heath --prove
why json --in ~/heath --as "~/heath/bin/python -S" --prove
why hive --in ~/heath --as "~/heath/bin/python -I" --prove
why peat --in ~/heath --as "~/heath/bin/python -S" --prove
why peat --in ~/heath --as "~/heath/bin/python -S" --fix --yes
why mine --in /usr/bin/python3.11 --as "/usr/bin/python3.11 -s" --prove
""", {"/moor/statistics.py": "x = 1\n", "lib/json/__init__.py": "loads = 1\n", "spring/hive.py": "", **dist("peat", "1.0", {"peat.py": ""}), **dist("mine", "1.0", {"mine.py": ""}, where="user")}, INDEX, {"PYTHONPATH": "/moor"})  # fmt: skip

scene("proved_removals", """
why "from hive import comb" --in ~/heath --prove
why "from hive import comb" --in ~/heath --fix --yes
why tangle --in ~/heath --prove
why tangle --in ~/heath --fix --yes
why knot --in ~/heath --prove
why knot --in ~/heath --fix --yes
why linked --in ~/heath --prove
""", {**dist("hive", "1.0", {"hive/__init__.py": ""}, where="user"), **dist("hive", "2.0", {"hive/__init__.py": COMB}), "~/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.7\n",
      **dist("tangle", "1.0", {"tangle/__init__.py": "from tangle.a import x\n", "tangle/a.py": "x = 1\n"}), "site/tangle/a.py": "y = 2\n", **dist("knot", "1.0", {"knot/__init__.py": "import knot.loop\n", "knot/loop.py": ""}), "site/knot/loop.py": "gone",
      "site/mine.pth": "/elsewhere\n"}, [*INDEX, Release("tangle", "1.0", {"tangle/__init__.py": "from tangle.a import x\n", "tangle/a.py": "x = 1\n"}), Release("knot", "1.0", {"knot/__init__.py": "import knot.loop\n"})])  # fmt: skip

# -- why --prove: compared with a fresh environment, and with others ----------------

UNRECORDED = {"site/skep-1.0.dist-info/RECORD": "skep/__init__.py,,\nskep/wax.py,,\nskep-1.0.dist-info/METADATA,,\nskep-1.0.dist-info/RECORD,,\n"}
SKEP = {"skep/__init__.py": "from skep import wax\nwax.check()\n", "skep/wax.py": "def check(): pass\n"}
BROKEN = {"skep/__init__.py": "from skep import wax\nwax.check()\n", "skep/wax.py": "def check(): {}['x']\n"}


def control(name: str, here: dict[str, str], index: Iterable[Release], more: Mapping[str, object] = {}, lines: str = "", needs: Iterable[str] = (), **words: object) -> None:
    scene(f"control_{name}", lines or "why skep --in ~/heath --prove", {**dist("skep", "1.0", here, *needs), **UNRECORDED, **more}, index, **words)


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


def against(name: str, lines: str, files: Mapping[str, object], **words: object) -> None:
    scene(f"against_{name}", lines, files, INDEX, **words)


SPEC = KERNEL.replace('"language"', '"env": {"HIVE_HOME": "/hives", "HIVE_TOKEN": "hunter2"}, "language"')
against("variables", """
why needs --in ~/heath --against kernel:heath
why needs more --in ~/heath --against kernel:heath
why more --in ~/heath --against ~/orchard
why never --in ~/heath --against kernel:heath
why set --in kernel:heath --against ~/heath
why secret --in ~/heath --against kernel:heath
why fine --in ~/heath --against kernel:heath
why fine --in ~/heath --against ~/gone
why needs --in ~/heath --against kernel:heath --static
why needs --everywhere --against kernel:heath
""", {"~/.local/share/jupyter/kernels/heath/kernel.json": SPEC, "spring/needs.py": "environ['HIVE_HOME']\n", "spring/more.py": "", "spring/never.py": "{}['x']\n", "spring/set.py": "{'/other': 1}[environ.get('HIVE_HOME', '/other')]\n",
      "spring/secret.py": "environ['HIVE_TOKEN']\n", "spring/fine.py": ""}, variables={"HIVE_HOUR": "3"})  # fmt: skip
against("packages", "why skep --in ~/heath --against ~/orchard", {**dist("skep", "1.0", BROKEN), **UNRECORDED, **dist("skep", "1.1", SKEP, where="orchard")})
against("files", "why skep --in ~/heath --against ~/orchard", {**dist("skep", "1.0", BROKEN), **UNRECORDED, **dist("skep", "1.0", SKEP, where="orchard")})
against("what_it_needs", "why skep --in ~/heath --against ~/orchard", {**dist("skep", "1.0", {"skep/__init__.py": "import peat\npeat.x\n"}, "Requires-Dist: peat"), **dist("peat", "1.0", {"peat.py": ""}), **dist("skep", "1.0", {"skep/__init__.py": "import peat\npeat.x\n"}, "Requires-Dist: peat", where="orchard"),
                          **dist("peat", "1.1", {"peat.py": "x = 1"}, where="orchard"), **dist("other", "1.1", {"other.py": "x = 1"}, where="orchard")})  # fmt: skip
against("another_python", "why skep --in ~/heath --against /usr/bin/python3.9", {"spring/skep.py": "import tomllib\n", "/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "/usr/lib/python3.9/tomllib.py": ""})

# -- what else may be asked about ---------------------------------------------------

TRACEBACK = 'Traceback (most recent call last):|  File "/home/keeper/spring/weigh.py", line 1, in <module>|    import moor|ModuleNotFoundError: No module named \'moor\''
scene("asked_about", f"""
why - <<< {TRACEBACK}
why - --in ~/orchard <<< {TRACEBACK}
why - <<< nothing of the kind
why - --fix --yes <<< {TRACEBACK}
why weigh.py --in ~/heath
why . --in ~/heath
why notes.ipynb
why "import moor, hive" --in ~/heath
why moor --everywhere
why moor hive --everywhere
why moor-hive --in ~/heath
why my-hive --in ~/heath
why program:hive-tool
why bin/tool
why bin/tool --in ~/heath
why gone.py
why src/gone.py
why pipe.py
why moor ./weigh.py
why moor --from ~/spring/src --in ~/heath
why inner --from ~/spring/src --in ~/heath
why inner --from ~/spring/none --in ~/heath
why inner --as "~/heath/bin/python -P src/run.py"
why inner --as "~/heath/bin/python src/run.py"
why moor --as "~/heath/bin/python 'x"
why hive --live --in pid:77
why hive --in pid:77
why hive --static --in ~/heath
why unsettled --static --in ~/heath
why hive unsettled --static --in ~/heath
""", {**MOOR, **dist("my-hive", "1.0", {"my_hive.py": ""}, recorded=["../../../bin/hive-tool,,"]), "spring/weigh.py": "import moor\nimport os\ntry:\n    import hive\nexcept ImportError:\n    pass\n", "spring/notes.ipynb": '{"metadata": {"kernelspec": {"name": "heath"}}, "cells": [{"cell_type": "code", "source": ["import moor"]}]}', "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL,
      "~/heath/bin/hive-tool": "#!/home/keeper/heath/bin/python\nimport sys\nfrom my_hive import main\n", "spring/bin/tool": "#!/usr/bin/env python3\nimport moor\n", "spring/pipe.py": Pipe(), "spring/src/inner.py": "", "spring/src/run.py": "import inner", "spring/unsettled.py": "import " + "environ"},
      INDEX, processes={77: Process(77, 1, "/usr/bin/python3.11", (f"{HOME}/heath/bin/python", "weigh.py"), f"{HOME}/spring", {"PATH": "/usr/bin"}, 5.0)})  # fmt: skip


# -- environments: filled, prepared, discarded ---------------------------------------

DATED = Release("hive", "2.1", {"hive.py": COMB}, ("Requires-Python: >=3.13",))
scene("filled", """
fill ~/heath
fill ~/heath hive --static
fill ~/heath hive --dry-run
fill ~/heath hive
fill ~/heath "hive<2" --yes
fill ~/heath hive --yes
fill ~/heath moor --yes
fill ~/heath hive==1.0 --dry-run
fill ~/heath hive==1.0 --yes
fill ~/heath peat --yes
fill ~/heath wax --yes
fill ~/heath fen --yes
fill ~/heath hive==1.0 --wheels ~/none --yes
fill ~/heath hive==1.0 --wheels ~/spring --yes
fill ~/heath hiv --remove --yes
fill ~/heath pip --remove --dry-run
fill ~/heath fen moor --remove --yes
fill ~/heath fen --remove --yes
fill ~/heath --from wants.txt --yes
fill ~/heath --from none.txt --yes
fill ~/heath "not a name" --yes
fill /usr/bin/python3.11 hive --yes
fill shell hive --yes
fill ~/orchard hive --remove --yes
fill kernel:gone hive --yes
fill ~/heath --repair
""", {"spring/wants.txt": "hive>=2\n# more\nmoor==1.0\n"}, [*INDEX, DATED])  # fmt: skip

SEES = {"~/heath/pyvenv.cfg": "home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.7\n", **dist("hive", "1.0", {"hive.py": ""}, where="base"), **dist("moor", "1.0", {"moor.py": ""}, "Requires-Dist: hive<2", where="base"), **dist("mine", "1.0", {"mine.py": ""}, where="user")}
scene("filled_above_the_base", """
packages ~/heath
fill ~/heath hive --dry-run
fill ~/heath "hive>=1" --yes
fill ~/heath "hive>=2" --yes
packages ~/heath --hidden
fill ~/heath moor --remove --yes
fill ~/heath mine --remove --yes
fill ~/heath hive --remove --dry-run
fill ~/heath hive --remove --yes
""", SEES, INDEX)  # fmt: skip

SAYS = b"Collecting hive\nWARNING: Retrying (Retry(total=0)) after connection broken by 'NewConnectionError('<x>: Failed to establish a new connection: [Errno -2] Name or service not known')': /hive/\nERROR: Could not find a version that satisfies the requirement hive (from versions: none)\nERROR: No matching distribution found for hive\n"
for title, files, ends in [
    ("no_index", {}, {"install": Ended(1, SAYS, b"", 0.5)}), ("no_time", {}, {"--dry-run": Ended(-9, b"", b"", 0.5, timed_out=True)}), ("no_report", {}, {"--dry-run": Ended(0, b"[]", b"", 0.5)}), ("silence", {}, {"install": Ended(1, b"", b"", 0.5)}),
    ("not_started", {}, {"install": Ended(None, b"", b"", 0.0, problem="was not started: no such file")}), ("no_installer", {"site/pip/__init__.py": "gone", "site/pip-24.0.dist-info/METADATA": "gone", "site/pip-24.0.dist-info/RECORD": "gone"}, {}),
    ("kept_by_the_system", {"~/heath/pyvenv.cfg": "gone", "~/heath/conda-meta/history": "", "~/heath/bin/python": BINARY, "~/heath/lib/python3.11/os.py": ""}, {}),
    ("old_installer", {"site/pip-24.0.dist-info/METADATA": "gone", "site/pip-24.0.dist-info/RECORD": "gone", **dist("pip", "20.0", {"pip/__init__.py": ""}), **dist("hive", "1.0", {"hive.py": ""})}, {}),
]:  # fmt: skip
    scene(f"filled_with_{title}", "fill ~/heath hive==2.0 --yes\nfill ~/heath moor fen bog --yes\n", files, INDEX, ends=ends)

scene("prepared", """
prepare ~/new --dry-run
prepare ~/new --want hive
prepare ~/new --want hive --static --yes
prepare ~/new --want hive --yes
prepare ~/new --want hive --yes
prepare ~/heath --yes
prepare ~/spring/notes.txt --yes
prepare ~/spring/notes.txt/x --yes
prepare ~/full --yes
prepare ~/seen --see-base --want moor --want fen --yes
prepare ~/gone --want peat --yes
prepare ~/built --want hive --want wax --yes
prepare ~/two --python version:2 --yes
prepare ~/nine --python version:3.9 --yes
prepare ~/ten --python version:3.10 --yes
prepare ~/from --from wants.txt --yes
prepare ~/project --from . --yes
prepare ~/record --from heath.lock --yes
prepare ~/other --from other.lock --yes
prepare ~/kernel --kernel "The moor" --dry-run
prepare ~/kernel --kernel "The moor" --explain --dry-run
prepare ~/kernel --explain --yes
prepare ~/kernel --kernel "The moor" --yes
prepare ~/kernel --point-editor --yes
prepare ~/pointed --want hive --point-editor --yes
prepare ~/pointed2 --point-editor --dry-run
discard ~/new --dry-run
discard ~/new
discard ~/new --yes
discard ~/pointed --yes
discard ~/gone --yes
survey
""", {"~/full/data": "", "spring/wants.txt": "hive>=2\n", "spring/pyproject.toml": '[project]\nname = "spring"\nrequires-python = ">=3.10"\ndependencies = ["moor==1.0"]\n', "/usr/bin/python2.7": BINARY.replace(b"3.11.7", b"2.7.18"), "/usr/lib/python2.7/os.py": "",
      "/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "/usr/lib/python3.9/venv/__init__.py": "", "spring/heath.lock": "gone", "~/.vscode/settings.json": "gone"}, INDEX)  # fmt: skip


# -- kernels, editors, records, and what only reads ----------------------------------

RUNS = {"site/ipykernel_launcher.py": "", **dist("ipykernel", "6.0", {"ipykernel/__init__.py": "", "ipykernel/resources/logo-64x64.png": "png"})}
scene("registered", """
register ~/heath --yes
register ~/heath --static --dry-run
register ~/heath --static --yes
register ~/heath --static --id heath --yes
register ~/heath --static --id heath --label "The heath" --variable HIVE=1 --take-over --yes
register ~/orchard --yes
register ~/orchard --bring-package --dry-run
register ~/orchard --bring-package --yes
register ~/orchard --static --bring-package --yes
register ~/heath --id "a b" --yes
register ~/heath --variable HIVE --yes
register ~/heath --static --explain --id second --yes
register ~/heath --static --reach env --own-path --id third --yes
register ~/heath --static --reach machine --id fourth --yes
register ~/heath --id fifth --notebook a.ipynb --yes
register ~/heath --id fifth --static --notebook a.ipynb --yes
register ~/heath --id fifth --notebook gone.ipynb --yes
register ~/gone --yes
kernels
kernels -v
why peat --in kernel:heath
point notebook:a.ipynb kernel:heath --dry-run
point notebook:a.ipynb kernel:heath
point notebook:a.ipynb kernel:heath --yes
point notebook:a.ipynb kernel:heath --yes
point notebook:a.ipynb --undo --yes
point notebook:gone.ipynb kernel:heath --yes
point editor ~/heath --yes
point editor ~/orchard --yes
point editor --undo --yes
point editor:own.json ~/orchard --yes
point shell ~/orchard --yes
rehearse heath
rehearse gone
unregister heath --dry-run
unregister heath
unregister heath --yes
unregister heath --undo --dry-run
unregister heath --undo --yes
unregister heath second --yes
unregister gone --yes
discard ~/heath --dry-run
discard ~/orchard --yes
discard ~/heath/lib --yes
discard ~/spring --yes
""", {**RUNS, "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "old", "display_name": "Old"}}, "cells": []}', "spring/.vscode/settings.json": '{\n  // mine\n  "python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"\n}', "~/orchard/mine.txt": "mine", "spring/own.json": "[]"}, INDEX)  # fmt: skip

scene("only_read", """
here
here --against editor
here ~/spring/a.ipynb
here --since then.json
here --since notes.txt
survey
survey --sizes
survey --under ~/orchard
packages
packages ~/heath --unmet
packages ~/heath --sizes
packages ~/heath --origin own
contrast ~/heath ~/orchard
contrast shell editor
contrast ~/heath heath.txt
contrast ~/heath none.txt
record ~/heath
record ~/heath -o heath.txt --dry-run
record ~/heath -o heath.txt
record ~/heath -o heath.txt
record ~/heath -o notes.txt
record ~/heath --used . -o used.txt
record ~/heath --everything
contrast ~/heath heath.txt
prepare ~/again --from heath.txt --dry-run
prepare ~/again --from heath.txt --yes
enter ~/heath
enter ~/heath --shell fish
enter ~/gone
causes shadowed
causes nothing
report -o page.html --dry-run
report -o page.svg --why hive --why "moor --in orchard"
report -o notes.txt
report -o page.svg
""", {**dist("hive", "1.0", {"hive.py": ""}), **dist("moor", "1.0", {"moor.py": "import hive\n"}, "Requires-Dist: hive>=2"), **dist("hive", "2.0", {"hive.py": ""}, where="orchard"), "spring/weigh.py": "import moor\n", "spring/a.ipynb": '{"metadata": {"kernelspec": {"name": "python3"}}, "cells": []}',
      "spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"}', "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL}, INDEX)  # fmt: skip


FAILED = {"pid": 4, "kernel": "heath", "line": "import moor", "error": "ModuleNotFoundError", "message": "No module named 'hive'", "path": ["", SITE], "folder": f"{HOME}/spring", "traceback": "Traceback (most recent call last):\nModuleNotFoundError: No module named 'hive'"}


def told_by_kernel(**more: object) -> str:
    return "explain - <<< " + json.dumps({**FAILED, **more})


scene("explained_in_a_cell", "\n".join([
    told_by_kernel(), told_by_kernel(line="import peat", message="No module named 'peat'"), told_by_kernel(line="x = 1"), told_by_kernel(line="x = 1", traceback="nothing"), told_by_kernel(kernel="gone"), told_by_kernel(line="from moor import x; import hive", path=[SITE, f"{HOME}/spring"]),
    told_by_kernel(line="import pip", error="ImportError", message="cannot import name 'x' from 'pip'", loaded_from="/other/pip/__init__.py"), "explain - <<< {}", "explain - <<< [", "explain -", "explain --static -- python x.py", "explain -- hive-scale-that-is-not-there",
]), {**MOOR, "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL}, INDEX)  # fmt: skip

SHELL = {10: Process(10, 1, "/bin/bash", ("bash", "-l"), f"{HOME}/spring", {"PATH": f"{HOME}/heath/bin:/usr/bin"}, 1.0), 20: Process(20, 10, "/usr/bin/python3.11", ("python3.11", "/usr/bin/kalyx"), f"{HOME}/spring", {}, 2.0),
         30: Process(30, 1, "/usr/bin/python3.11", (f"{HOME}/heath/bin/python", "weigh.py"), f"{HOME}/spring", {"PATH": "/usr/bin"}, 3.0), 50: Process(50, 1, "/opt/far/bin/python3.11", ("/opt/far/bin/python", "x.py"), "/", {}, 5.0), 40: Process(40, 1, "/usr/bin/python3.11", (f"{HOME}/heath/bin/python", "-m", "ipykernel_launcher", "-f", f"{HOME}/run/kernel-1.json"), f"{HOME}/spring", {}, 4.0)}  # fmt: skip
ASKED = {"-lic": Ended(0, b"python is /usr/bin/python3\n", b"", 0.1), "-ic": Ended(0, b"python is aliased to `python3.9'\n", b"", 0.1), "-lc": Ended(-9, b"", b"", 0.1, timed_out=True), "-c type": Ended(1, b"", b"bash: type: pip: not found\n", 0.1)}
scene("seats_asked", """
here
here --live
here --live --static
here --live -v
survey
here --paste
here --paste <<< nothing of the kind
why hive --live --in pid:40
why hive --live --in pid:30
why --everywhere hive
fill ~/heath hive --yes
discard ~/heath --yes
enter ~/heath
""", {"/bin/bash": "\x7fELF", "/opt/far/pyvenv.cfg": "home = /usr/bin\nversion = 3.11.7\n", "/opt/far/bin/python": Link("/usr/bin/python3.11"), f"{HOME}/run/kernel-1.json": '{"shell_port": 1}', f"{HOME}/run/kernel-2.json": "{"}, INDEX, ends=ASKED, processes=SHELL, pid=20)  # fmt: skip


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
        yield from (text.replace(folder, "") for text in session(machine, f"contrast heath {path}#heath\ncontrast {path} {path}#orchard\ncontrast heath {path}#gone"))
        for line in lines:
            here, there = (list(session(machine, text))[1:] for text in (line, f"{line} --on {path}"))
            yield from [f"$ kalyx {line} --on moor.kalyx", *(["  as on the machine itself", ""] if here == there else there)]


SCENES.add(later)
SCENES.add(captured)


# -- calls that are none, and runs that are stopped or killed ------------------------

scene("calls", f"""
why --help
register --help
heer
nothing-like-it --json
here --jsn
here --js
here --timeout x
here --timeout 0
here --timeout 86401
here too many
why
register --id
fill ~/heath --on x hive --yes
why --in
here {'x' * 20_000}
packages {'y' * 3_000}
here --on gone.kalyx
why hive --on notes.txt
kernels --seen-by ~/heath
kernels --seen-by ~/orchard
kernels --seen-by gone
kernels --seen-by server:1
demo ~/larkmoor
demo ~/larkmoor --dry-run
demo --static
""", {}, INDEX)  # fmt: skip

for how, end in (("stopped", signals.Stopped(15)), ("killed", Killed())):
    for title, text in (("while_it_is_created", "venv"), ("while_it_is_filled", "install"), ("while_it_is_tried", "try:")):
        scene(f"prepare_{how}_{title}", """
prepare ~/new --want hive --point-editor --yes
survey
prepare ~/new --want hive --yes --dry-run
prepare ~/new --want hive --yes
discard ~/new --yes
""", {}, INDEX, ends={text: end})  # fmt: skip
    for title, text in (("while_it_is_filled", "retries 1 hive==2.0"), ("while_it_is_tried", "try:")):
        scene(f"fill_{how}_{title}", """
fill ~/heath hive==2.0 --yes
survey
here
why hive --in ~/heath
fill ~/heath --repair --dry-run
fill ~/heath --repair
fill ~/heath moor==1.0 --dry-run
fill ~/heath moor==1.0
fill ~/heath moor==1.0 --yes
fill ~/heath --repair --yes
discard ~/heath --yes
""", dist("hive", "1.0", {"hive.py": ""}), INDEX, ends={text: end})  # fmt: skip


def brought(where: str) -> dict[str, object]:
    """An environment of this path, with an installer and a package that does not import."""
    files = Files()
    files.clear()
    files.environment(where)
    return {**files, **dist("pip", "24.0", {"pip/__init__.py": ""}, where=f"{where}/lib/python3.11/site-packages"), **dist("hive", "1.0", {"hive.py": "import gone\n"}, where=f"{where}/lib/python3.11/site-packages")}


OWN = f"{HOME}/spring/.venv"
scene("not_asked", """
here
why hive
why hive json
why gone --static
why hive --prove
why hive --fix --yes
why hive --everywhere
why hive --in .venv
why hive --in kernel:brought
why hive --in kernel:brought --fix --yes
why peat --in ~/heath --prove
fill shell hive --yes
fill .venv hive==1.0 --yes
register shell --yes
prepare ~/new --python shell --yes
prepare ~/new --python .venv/bin/python --dry-run
rehearse brought
packages
record
discard .venv --dry-run
""", {**brought(OWN), **dist("peat", "1.0", {"peat.py": ""}, where=f"{OWN}/lib/python3.11/site-packages"), "~/.local/share/jupyter/kernels/brought/kernel.json": KERNEL.replace(f"{HOME}/heath", OWN), "spring/.git/HEAD": ""}, INDEX, {"PATH": f"{OWN}/bin:/usr/bin"})  # fmt: skip

scene("files_and_notebooks", """
why pack
why pack/mod.py --in ~/heath
why pack/__init__.py --in ~/heath
why pack --in ~/heath
why installs.ipynb
why late.py --in ~/heath
why odd.py --in ~/heath
why latin.py --in ~/heath
why empty --in ~/heath
why ~/spring/pack/mod.py --in ~/heath --as "~/heath/bin/python -m pack.mod"
why mod --from ~/spring/pack --in ~/heath
""", {"spring/pack/__init__.py": "from . import wax, mod\n", "spring/pack/mod.py": "from .wax import x\nfrom .. import y\nfrom ..gone import z\nfrom . import comb\n", "spring/pack/wax.py": "", "spring/pack/deep/x.py": "from ..wax import x\nfrom .gone import y\n",
      "spring/installs.ipynb": json.dumps({"metadata": {"kernelspec": {"name": "heath"}}, "cells": [{"cell_type": "code", "source": "!pip install hive\n%pip install peat\n!/usr/bin/python3 -m pip install wax\nimport hive, peat"}, {"cell_type": "code", "source": ["%%bash\n", "pip install bog"]}, {"cell_type": "markdown", "source": "import x"}]}),
      "~/.local/share/jupyter/kernels/heath/kernel.json": KERNEL, "spring/late.py": "def f():\n    import gone_late\nif False:\n    import never\nimport importlib\nimportlib.import_module('by_name')\n__import__('dunder')\n", "spring/odd.py": "import (\n", "spring/latin.py": b"import gone_one # \xe9\n", "spring/empty/x.txt": ""}, INDEX)  # fmt: skip

scene("chosen_base", """
prepare ~/new --dry-run
prepare ~/new --python version:3 --dry-run
prepare ~/new --from . --dry-run
prepare ~/new --from lock.txt --dry-run
prepare ~/new --from older.txt --dry-run
prepare ~/new --from exact.txt --yes
prepare ~/six --from six --yes
prepare ~/ten --python version:3.10 --yes
""", {"spring/pyproject.toml": '[project]\nname = "spring"\nrequires-python = ">=3.13"\ndependencies = ["hive"]\n', **{f"spring/{name}.txt": f"# kalyx record 1\n# python {version} cpython\n# platform linux unknown\n# sees its base: {sees}\nhive==1.0\n" for name, version, sees in (("lock", "3.12.1", "no"), ("older", "3.11.2", "yes"), ("exact", "3.9.18", "no"))},
      "/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.18"), "/usr/lib/python3.9/os.py": "", "/usr/lib/python3.9/venv/__init__.py": "", "/usr/lib/python3.9/ensurepip/__init__.py": "", "/usr/lib/python3.9/site-packages/README": "",
      "/opt/many/bin/many": "#!/bin/sh\n", "/opt/many/versions/README": ""}, INDEX, {"PYENV_ROOT": "/opt/many"})  # fmt: skip


FOREIGN = {"/moor/encodings/__init__.py": "", **dist("hive", "1.0", {"hive.py": ""})}
scene("start_of_another_python", "why hive --in ~/heath --prove\nwhy hive --in ~/heath --fix --yes\nhere\nprepare ~/new --yes\n", FOREIGN, INDEX, {"PYTHONPATH": "/moor"})
scene("fill_killed_then_discarded", "fill ~/heath hive --yes\ndiscard ~/heath --dry-run\ndiscard ~/heath --yes\nsurvey\n", {}, INDEX, ends={"retries 1 hive": Killed()})


def index_of(*names: str) -> bytes:
    """The index of a repository that tracks these files (version 2 of "gitformat-index")."""
    entries = b"".join((entry := b"\0" * 60 + struct.pack(">H", len(name)) + name.encode()) + b"\0" * (8 - len(entry) % 8) for name in names)
    return b"DIRC" + struct.pack(">II", 2, len(names)) + entries


scene("in_a_repository", "survey\nsurvey -v\nhere\npoint editor ~/heath --yes\n", {"~/.git/index": index_of("orchard/pyvenv.cfg", "orchard/bin/python", "spring/.vscode/settings.json"), "spring/.vscode/settings.json": '{"python.defaultInterpreterPath": "/home/keeper/orchard/bin/python"}', "~/.git/HEAD": "ref: refs/heads/main\n", "~/.config/git/ignore": "/heath/\n"})
PART = {"spring/pyproject.toml": '[project]\nname = "hive"\n', "spring/src/hive/__init__.py": "", "spring/src/hive/extra.py": "", "spring/deep/hive/extra.py": "", **dist("hive", "1.0", {"hive/__init__.py": ""})}
scene("a_part_that_the_project_has", "why hive.extra --in ~/heath\nwhy hive.gone --in ~/heath\nwhy hive.extra --in ~/orchard\nwhy extra --in ~/heath --from ~/spring/deep\n", PART)


OLD_LINES = "print 'x'\ntext = \"\"\"\nimport inside\nit's \\\"\"\" still\nimport inside_too\n\"\"\"\nimport after_text\nwords = ['import in_words',\n'import in_brackets']\nimport hive, peat\nfrom moor import (a,\n  b)\ns = 'it\\'s # no'; import behind\n# import comment\nif 1: import in_if\n"
scene("old_lines", "why old.py --in /usr/bin/python2.7\n", {"spring/old.py": OLD_LINES, "/usr/bin/python2.7": BINARY.replace(b"3.11.7", b"2.7.18"), "/usr/lib/python2.7/os.py": ""})

BLOCK = "# /// script\n# requires-python = '>=3.9'\n# dependencies = [\n#   'hive>=2',\n#\n#   'moor',\n# ]\n# ///\nimport hive\n"
scene("fits", """
packages ~/heath --for .
packages ~/heath --for tool.py
packages ~/orchard --for tool.py
packages ~/heath --for broken.py
packages ~/heath --for plain.py
packages ~/heath --for gone
packages ~/heath --for ~/elsewhere
packages /usr/bin/python3.11 --for tool.py
packages ~/heath --match hiv
packages --as "~/heath/bin/python -I"
fill ~/heath --from tool.py --dry-run
here
""", {"spring/pyproject.toml": '[project]\nname = "spring"\nrequires-python = ">=3.12"\ndependencies = ["hive>=3", "moor"]\n[project.optional-dependencies]\nmore = ["bog"]\n', "spring/tool.py": BLOCK, "spring/broken.py": BLOCK.replace("# ///\nimport", "import"), "spring/plain.py": "",
      "~/elsewhere/x.txt": "", **dist("hive", "2.0", {"hive.py": ""}), **MOOR, **dist("hive", "1.0", {"hive.py": ""}, where="orchard")}, INDEX)  # fmt: skip


scene("broken_settings", "here\nhere -v\npoint editor ~/heath --yes\npoint editor:mypy.ini ~/heath --yes\npoint editor:.vscode/settings.json ~/heath --yes\npackages --for .\nprepare ~/new --from . --yes\nwhy hive --in editor\n", {
    "spring/.vscode/settings.json": "{", "spring/mypy.ini": "[mypy\npython_executable = /x\n", "spring/pyproject.toml": "[tool", "spring/pyrightconfig.json": '{"venv": 3}', "spring/.idea/misc.xml": "<component", "spring/.zed/settings.json": "\udcff",
    "~/.local/share/jupyter/kernels/odd/kernel.json": '{"argv": 3}', "~/.local/share/jupyter/kernels/empty/kernel.json": "", "~/heath/share/jupyter/kernels/twin/kernel.json": KERNEL.replace("heath/bin", "gone/bin")}, INDEX)  # fmt: skip


@pytest.mark.parametrize("name", SCENES.names)
def test_typed(name):
    assert not (difference := SCENES.difference(name)), difference
