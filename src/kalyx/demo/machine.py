"""Building the Larkmoor machine: environments, packages, kernels, notebooks in one folder."""

from __future__ import annotations

import json
import os
import shutil
import sys
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from msgspec import Struct

from kalyx.core.environments.finding import ONLY_BELOW
from kalyx.core.imports.resolver import Resolver
from kalyx.core.machine import Machine
from kalyx.core.model.records import Interpreter, KalyxError
from kalyx.core.system.reasons import reason_of
from kalyx.demo.wheels import Package, standin_package, write_wheel

MARK = ".kalyx-demo"

HIVESCALE = '''"""Weights of beehives, in kilograms, read from the scales under them."""

SCALES = {"east-1": 41.2, "east-2": 38.7, "brook-1": 44.9}


def weights(hive=None):
    """The last weight of one hive, or of all."""
    return SCALES if hive is None else SCALES[hive]
'''
NECTARFLOW = '''"""How much nectar comes in a day, in kilograms."""


def gain(before, after):
    """The difference of two weights."""
    return round(after - before, 2)
'''
POLLENKIT = '''"""Pollen counts by plant."""

from nectarflow import gain


def season(counts):
    return sum(gain(0, count) for count in counts)
'''
WEIGHTS_SCRIPT = '''"""Which hive gained most this spring."""

import hivescale

heaviest = max(hivescale.weights(), key=hivescale.weights)
print("heaviest:", heaviest, hivescale.weights(heaviest), "kg")
'''

PACKAGES = {
    "orchard": [
        Package("hivescale", "2.1", {"hivescale/__init__.py": HIVESCALE}),
        Package("nectarflow", "1.2", {"nectarflow/__init__.py": NECTARFLOW}),
        Package("pollen-kit", "1.0", {"pollenkit.py": POLLENKIT}, requires=["nectarflow>=1.1"]),
    ],
    "heath": [
        Package("nectarflow", "1.0", {"nectarflow/__init__.py": NECTARFLOW}),
        Package(
            "broodmap",
            "0.4",
            {"broodmap/__init__.py": '"""Brood frames as a map."""\n\nFRAMES = 10\n'},
            requires=["nectarflow<1.1"],
        ),
    ],
}


class Demo(Struct):
    """The folders of the made-up machine, the variables of a shell on it, and which of them are the user's own."""

    root: str
    home: str
    folder: str
    variables: dict[str, str]
    notes: list[str]
    kept: list[str]


# What a shell and its terminal cannot do without.
_KEPT = ("LANG", "LC_ALL", "TERM", "COLUMNS", "NO_COLOR", "SYSTEMROOT", "SYSTEMDRIVE", "WINDIR", "COMSPEC", "PATHEXT",
         "TEMP", "TMP", "PROGRAMDATA", "NUMBER_OF_PROCESSORS")  # fmt: skip


def build(machine: Machine, root: str, tell: Callable[[str], None]) -> Demo:
    """Build the machine in ``root``, in place of one built there before; what is half built is cleared again.

    Raises KalyxError where the folder is not one of an earlier demo, and not empty.
    """
    if replaces(root):
        shutil.rmtree(root)
    os.makedirs(root, exist_ok=True)
    try:
        return _build(machine, root, tell)
    except BaseException:
        shutil.rmtree(root, ignore_errors=True)
        raise


def _build(machine: Machine, root: str, tell: Callable[[str], None]) -> Demo:
    home = os.path.join(root, "home")
    moor = os.path.join(home, "larkmoor")
    spring = os.path.join(moor, "spring")
    wheels = os.path.join(root, "wheels")
    for folder in (spring, wheels, os.path.join(root, "bin")):
        os.makedirs(folder)
    with open(os.path.join(root, MARK), "w", encoding="utf-8") as file:
        file.write("A made-up machine of kalyx demo; kalyx demo may clear this folder.\n")
    notes: list[str] = []
    newer, older = _bases(machine, notes)
    standin = write_wheel(standin_package(), wheels)
    notes.append("kernels run on a small stand-in that ships with Kalyx: no notebook software is needed")
    bases = {"orchard": newer, "heath": older}
    made = {name: [write_wheel(package, wheels) for package in PACKAGES[name]] for name in bases}
    tell(f"creating orchard with Python {newer.version} and heath with Python {older.version}")
    with ThreadPoolExecutor() as both:
        makings = [
            both.submit(_environment, machine, base, os.path.join(moor, name), [*made[name], standin], name)
            for name, base in bases.items()
        ]
        for making in makings:
            making.result()
    kept = {name: os.environ[name] for name in _KEPT if name in os.environ}
    variables = {**kept, **_variables(root, home, moor)}
    _kernel(home, "orchard", "Orchard", os.path.join(moor, "orchard"))
    _kernel(home, "orchard-spring", "Orchard, spring", os.path.join(moor, "heath"))
    _notebook(os.path.join(spring, "spring_weights.ipynb"), "orchard-spring", "Orchard, spring", older.version)
    with open(os.path.join(spring, "spring_weights.py"), "w", encoding="utf-8") as file:
        file.write(WEIGHTS_SCRIPT)
    return Demo(root, home, spring, variables, notes, [name for name in kept if name not in ("LANG", "LC_ALL")])


def replaces(root: str) -> bool:
    """Whether an earlier demo is in ``root``. Raises KalyxError where anything else is there."""
    if not os.path.lexists(root):
        return False
    if not os.path.isdir(root) or os.path.islink(root):
        raise KalyxError(f"{root}: there is something else; name a new folder for the demo")
    try:
        names = os.listdir(root)
    except OSError as error:
        raise KalyxError(f"{root}: {reason_of(error)}; name a new folder for the demo") from None
    if names and MARK not in names:
        raise KalyxError(f"{root}: not empty, and not made by kalyx demo; name a new folder for it")
    return MARK in names


def _bases(machine: Machine, notes: list[str]) -> tuple[Interpreter, Interpreter]:
    """Two installations of different versions where there are two; the newest that can create environments first."""
    usable = [interpreter for interpreter in machine.interpreters if _can_make(machine, interpreter)]
    if not usable:
        raise KalyxError("no interpreter here can create environments; on Debian, install python3-venv")
    own = [interpreter for interpreter in usable if interpreter.base_prefix == sys.base_prefix]
    newer = (own or usable)[0]
    older = next((interpreter for interpreter in usable
                  if interpreter.pair < newer.pair
                  and interpreter.pair >= (3, 8)), None)  # fmt: skip
    older = older or next((interpreter for interpreter in usable if interpreter.version != newer.version), newer)
    if older is newer:
        notes.append(f"only one Python is here, so both environments have version {newer.version}")
    return newer, older


def _can_make(machine: Machine, interpreter: Interpreter) -> bool:
    if interpreter.version.startswith("2") or interpreter.implementation != "cpython":
        return False
    if machine.objection(interpreter, "machine") is not None:
        return False
    from kalyx.core.environments.invocation import Invocation
    from kalyx.core.environments.searchpath import search_path

    search = search_path(machine.reader, interpreter, Invocation(no_user=True))
    resolver = Resolver(machine.reader, interpreter, search, machine.reader.folder)
    return all(resolver.resolve(module).location is not None for module in ("venv", "ensurepip"))


def _environment(machine: Machine, base: Interpreter, prefix: str, wheels: list[str], name: str) -> None:
    assert machine.runner is not None
    clean = {key: value for key, value in os.environ.items() if not key.startswith(("PYTHON", "PIP_", "VIRTUAL_ENV"))}
    python = machine.reader.join(prefix, "Scripts" if os.name == "nt" else "bin", "python")
    machine.let_through(python)  # made by this very call
    for argv in (
        [base.executable, "-I", "-m", "venv", prefix],
        [python, "-I", "-m", "pip", "install", "--quiet", "--no-index", "--no-deps", "--disable-pip-version-check",
         *wheels],
    ):  # fmt: skip
        done = machine.runner.run(argv, variables=clean, seconds=300)
        if done.status != 0:
            text = (done.errors or done.output).decode("utf-8", "replace").strip().splitlines() or [done.problem or ""]
            raise KalyxError(f"creating {name} failed: {machine.line(argv[:4])} … {text[-1] if text else ''}")


def _variables(root: str, home: str, moor: str) -> dict[str, str]:
    """The variables of a user who has activated orchard, without any of this machine's user."""
    scripts = "Scripts" if os.name == "nt" else "bin"
    path = [os.path.join(moor, "orchard", scripts), os.path.join(root, "bin")]
    if os.name == "nt":
        system = os.environ.get("SYSTEMROOT", r"C:\Windows")
        path += [os.path.join(system, "System32"), system]
    else:
        path += [folder for folder in ("/usr/local/bin", "/usr/bin", "/bin") if os.path.isdir(folder)]
    return {
        "HOME": home,
        "USERPROFILE": home,
        "PATH": os.pathsep.join(path),
        "VIRTUAL_ENV": os.path.join(moor, "orchard"),
        "JUPYTER_DATA_DIR": os.path.join(home, ".local", "share", "jupyter"),
        ONLY_BELOW: home,
        "PIP_NO_INDEX": "1",
        "PIP_FIND_LINKS": os.path.join(root, "wheels"),
        "PIP_DISABLE_PIP_VERSION_CHECK": "1",
    }


def _kernel(home: str, identifier: str, label: str, prefix: str) -> None:
    folder = os.path.join(home, ".local", "share", "jupyter", "kernels", identifier)
    os.makedirs(folder)
    python = os.path.join(prefix, "Scripts", "python.exe") if os.name == "nt" else os.path.join(prefix, "bin", "python")
    spec = {
        "argv": [python, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"],
        "display_name": label,
        "language": "python",
    }
    with open(os.path.join(folder, "kernel.json"), "w", encoding="utf-8") as file:
        json.dump(spec, file, indent=1)


def _notebook(path: str, kernel: str, label: str, version: str) -> None:
    cell: dict[str, object] = {
        "cell_type": "code",
        "execution_count": None,
        "id": "weights",
        "metadata": {},
        "outputs": [],
        "source": ["import hivescale\n", "hivescale.weights()"],
    }
    whole = {
        "cells": [cell],
        "metadata": {
            "kernelspec": {"display_name": label, "language": "python", "name": kernel},
            "language_info": {"name": "python", "version": version},
        },
        "nbformat": 4,
        "nbformat_minor": 5,
    }
    with open(path, "w", encoding="utf-8") as file:
        json.dump(whole, file, indent=1)
        file.write("\n")
