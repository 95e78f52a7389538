"""Write core/data/standard.json anew: which standard modules and names each Python version has.

Asks every interpreter of another minor version on this machine, and those that further words start, each a command
(``'chroot /srv/newer python3.15'``); run it where all are. Of what is not the same everywhere, a module or a name, the
first and the last version that has it is written; of what is, the modules alone.
"""

from __future__ import annotations

import ast
import json
import shlex
import subprocess
import sys
from pathlib import Path

from kalyx.core.machine import Machine
from kalyx.core.system.live_reader import LiveReader

TABLE = Path(__file__).resolve().parents[1] / "src" / "kalyx" / "core" / "data" / "standard.json"

# Their constants are those of the system that Python was built on.
OF_SYSTEM = ("errno", "fcntl", "os", "posix", "resource", "select", "signal", "socket", "ssl", "termios")

# Runs in each interpreter: modules below the standard library, and the public names of each.
CODE = r"""
import os, sys, types, warnings
warnings.simplefilter("ignore")
library = os.path.dirname(os.__file__)
left_out = set("antigravity this test tests idlelib turtledemo turtle lib2to3 __main__ site-packages ensurepip".split())
left_out |= set("__phello__ __hello__ sitecustomize usercustomize _bootlocale config dist-packages pydoc_data".split())
left_out.add("xxlimited_3_13")
found = {}
def name_of(entry, folder):
    if os.path.isdir(os.path.join(folder, entry)):
        return entry if os.path.exists(os.path.join(folder, entry, "__init__.py")) else None
    return entry.split(".")[0] if entry.endswith((".py", ".so")) else None
def walk(folder, before, depth):
    if not os.path.isdir(folder):
        return
    for entry in sorted(os.listdir(folder)):
        stem = name_of(entry, folder)
        if stem and stem not in left_out and stem.replace("_", "a").isalnum() and not stem.startswith(("_", "test")):
            names.add(before + stem)
            if depth < 3 and os.path.isdir(os.path.join(folder, stem)):
                walk(os.path.join(folder, stem), before + stem + ".", depth + 1)
names = set(name for name in sys.builtin_module_names if not name.startswith("_"))
walk(library, "", 1)
walk(os.path.join(library, "lib-dynload"), "", 1)
asked = eval(sys.stdin.read() or "{}")
# A module need not have a file of its own (collections.abc): those that other versions list are tried.
for name in sorted(names | set(asked)):
    try:
        module = __import__(name, {}, {}, ["x"])
        # Some names answer and are not listed: those that another version lists are tried.
        found[name] = sorted(n for n in set(dir(module)) | set(asked.get(name, ())) if not n.startswith("_")
                             and hasattr(module, n) and not isinstance(getattr(module, n), types.ModuleType))
    except BaseException:
        if name in names:
            found[name] = []
sys.stdout.write("\n<<" + repr(found) + ">>\n")
"""


def main() -> None:
    told: dict[str, dict[str, list[str]]] = {}
    elsewhere = [_version(shlex.split(command)) for command in sys.argv[1:]]
    listed: dict[str, set[str]] = {}
    for _ in range(2):
        told = _told(listed)
        for names in told.values():
            for module, inner in names.items():
                listed.setdefault(module, set()).update(inner)
    before = max((version for version in told if version not in elsewhere), key=_numbers)
    for version in elsewhere:  # their constants say nothing of Python's versions: those of this machine's newest count
        for module in OF_SYSTEM:
            own = [name for name in told[version].get(module, []) if name != name.upper()]
            told[version][module] = own + [name for name in told[before].get(module, []) if name == name.upper()]
    _write(told)


def _numbers(version: str) -> list[int]:
    return [int(part) for part in version.split(".")]


def _told(listed: dict[str, set[str]]) -> dict[str, dict[str, list[str]]]:
    """By version: the public names of each module, those in ``listed`` tried too."""
    told: dict[str, dict[str, list[str]]] = {}
    for command in [*map(shlex.split, sys.argv[1:]), *_here()]:
        minor = _version(command)
        if minor not in told:
            answer = _answer([*command, "-I" if not minor.startswith("2") else "-E", "-c", CODE], repr(listed))
            told[minor] = ast.literal_eval(answer.rpartition("<<")[2].rpartition(">>")[0])
    return told


def _here() -> list[list[str]]:
    """The commands of this machine's interpreters; a system's own is often split, and says less than it has."""
    every = Machine(LiveReader()).interpreters
    return [[item.executable] for item in every if item.implementation == "cpython" and item.prefix != "/usr"]


def _version(command: list[str]) -> str:
    return _answer([*command, "-c", "import sys; print('%d.%d' % sys.version_info[:2])"]).strip()


def _answer(argv: list[str], given: str = "") -> str:
    return subprocess.run(argv, capture_output=True, text=True, check=True, input=given).stdout


def _write(told: dict[str, dict[str, list[str]]]) -> None:
    versions = sorted(told, key=_numbers)
    threes = [version for version in versions if not version.startswith("2")]
    data: dict[str, object] = {"versions": versions, "modules": {}, "names": {}}
    modules = {name for names in told.values() for name in names}
    data["modules"] = {
        name: span for name in sorted(modules) if (span := _span([v for v in versions if name in told[v]], versions))
    }
    data["always"] = " ".join(name for name in sorted(modules) if all(name in names for names in told.values()))
    for module in sorted(modules):
        has = {version: set(told[version].get(module, [])) for version in threes if told[version].get(module)}
        changed = {
            name: span
            for name in sorted(set().union(*has.values()) if has else ())
            if (span := _span([v for v in has if name in has[v]], list(has)))
        }
        if changed:
            data["names"][module] = changed  # type: ignore[index]
    before = json.loads(TABLE.read_text()) if TABLE.exists() else {}
    TABLE.write_text(_laid_out({**before, **data}))


def _span(has: list[str], of: list[str]) -> str:
    """``3.11-`` since, ``-3.9`` until, ``3.8-3.11`` both; empty for what all have, or what comes and goes."""
    if not has or has == of or of[of.index(has[0]) : of.index(has[-1]) + 1] != has:
        return ""
    first = "" if has[0] == of[0] else has[0]
    return f"{first}-{'' if has[-1] == of[-1] else has[-1]}"


def _laid_out(data: dict[str, object]) -> str:
    """One line a module, so that a change of the table can be read."""
    rows = []
    for key, value in data.items():
        if isinstance(value, dict) and value:
            inner = [f"  {json.dumps(name)}: {json.dumps(value[name])}" for name in value]
            rows.append(f" {json.dumps(key)}: {{\n" + ",\n".join(inner) + "\n }")
        else:
            rows.append(f" {json.dumps(key)}: {json.dumps(value)}")
    return "{\n" + ",\n".join(rows) + "\n}\n"


if __name__ == "__main__":
    main()
