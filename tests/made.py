"""Made-up machines in memory, and the plain words that describe them in the causes' docstrings."""

from __future__ import annotations

import base64
import hashlib
import json
import re
import struct
from collections.abc import Iterable

from kalyx.core.machine import Machine
from kalyx.core.system.memory_reader import Link, MemoryReader
from tests.support.memory_writer import SteadyWriter

HOME = "/home/keeper"
BINARY = b"\x7fELF" + b"\0" * 16 + b"\x003.11.7\x00"
# Small enough to be read, and a real header: a PE file of no section.
WINDOWS = (b"MZ" + b"\0" * 58 + (64).to_bytes(4, "little") + b"PE\0\0" + (0x8664).to_bytes(2, "little") + (0).to_bytes(2, "little")
           + b"\0" * 12 + (112).to_bytes(2, "little") + (0x2022).to_bytes(2, "little") + (0x20B).to_bytes(2, "little") + b"\0" * 110)  # fmt: skip
FOLDERS = {"linux": (HOME, "/"), "macos": ("/Users/keeper", "/"), "windows": ("C:\\Users\\keeper", "\\")}


class Files(dict):
    """The files of a made-up Linux machine: a base Python and the environments orchard and heath."""

    def __init__(self) -> None:
        super().__init__()
        self["/usr/bin/python3.11"] = BINARY
        self["/usr/bin/python3"] = Link("python3.11")
        self["/usr/lib/python3.11/os.py"] = b""
        with_library(self)
        self["/usr/lib/python3.11/statistics.py"] = b""
        self["/usr/lib/python3.11/site-packages/README"] = b""
        for name in ("orchard", "heath"):
            self.environment(f"{HOME}/{name}")
        self[f"{HOME}/spring/notes.txt"] = b""
        self.variables = {"PATH": f"{HOME}/heath/bin:/usr/bin", "HOME": HOME}

    def environment(self, prefix: str, base: str = "/usr/bin/python3.11") -> None:
        self[f"{prefix}/pyvenv.cfg"] = (
            f"home = {base.rpartition('/')[0]}\ninclude-system-site-packages = false\nversion = 3.11.7\n"
        )
        self[f"{prefix}/bin/python"] = Link(base)
        self[f"{prefix}/bin/activate"] = f"VIRTUAL_ENV={prefix}\n"
        self[f"{prefix}/bin/pip"] = f"#!{prefix}/bin/python\n"
        self[f"{prefix}/lib/python3.11/site-packages/pip/__init__.py"] = b""

    def site(self, where: str) -> str:
        if where == "base":
            return "/usr/lib/python3.11/site-packages"
        return f"{HOME}/{where}/lib/python3.11/site-packages"

    def package(self, where: str, name: str, version: str, module: str, requires: str = "", files: bool = True) -> None:
        site, info = self.site(where), f"{name.replace('-', '_')}-{version}.dist-info"
        requirement = f"Requires-Dist: {requires}\n" if requires else ""
        self[f"{site}/{info}/METADATA"] = f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n{requirement}\n"
        file = module if module.endswith(".py") else f"{module}/__init__.py"
        self[f"{site}/{info}/RECORD"] = f"{file},,\n{info}/METADATA,,\n"
        if files:
            self[f"{site}/{file}"] = b""

    def kernel(self, identifier: str, program: str, root: str = f"{HOME}/.local/share/jupyter") -> None:
        spec = {"argv": [program, "-m", "ipykernel_launcher", "-f", "{connection_file}"],
                "display_name": identifier.title(), "language": "python"}  # fmt: skip
        self[f"{root}/kernels/{identifier}/kernel.json"] = json.dumps(spec, indent=1)

    def machine(self) -> Machine:
        reader = MemoryReader("linux", self, variables=self.variables, home=HOME, folder=f"{HOME}/spring")
        return Machine(reader, writer=SteadyWriter(reader))


def described(lines: list[str]) -> tuple[Files, str | None]:
    """The machine that the plain words of a docstring describe, and what is asked on it.

    None for the question where the words describe what only a real run can have.
    """
    files, asked = Files(), None
    for line in lines:
        if match := re.fullmatch(
            r"(\S+) has (\S+) (\S+?)(?: as (\S+))?(?: requiring (\S+))?( without its files)?", line
        ):
            where, name, version, module, requires, empty = match.groups()
            files.package(where, name, version, module or name, requires or "", not empty)
        elif match := re.fullmatch(r"kernel (\S+) starts (\S+)", line):
            files.kernel(*match.groups())
        elif match := re.fullmatch(r"kernel (\S+) starts (\S+) without a connection file", line):
            files.kernel(*match.groups())
            path = f"{HOME}/.local/share/jupyter/kernels/{match.group(1)}/kernel.json"
            files[path] = files[path].replace("{connection_file}", "connection.json")
        elif match := re.fullmatch(r"kernel (\S+) is also registered for the machine", line):
            files.kernel(match.group(1), f"{HOME}/orchard/bin/python", "/usr/local/share/jupyter")
        elif line == "kernel heath has a file that is no JSON":
            files[f"{HOME}/.local/share/jupyter/kernels/heath/kernel.json"] = b"{"
        elif match := re.fullmatch(r"the base of heath is (\S+), which is gone", line):
            files.environment(f"{HOME}/heath", f"{match.group(1)}/bin/python3.11")
        elif line == "heath was begun and not finished":
            for path in [path for path in files if path.startswith(f"{HOME}/heath/")]:
                if not path.endswith("pyvenv.cfg"):
                    del files[path]
        elif match := re.fullmatch(r"heath was moved here from (\S+)", line):
            files[f"{HOME}/heath/bin/activate"] = f"VIRTUAL_ENV='{match.group(1)}'\n"
        elif match := re.fullmatch(r"heath is reached by the link (\S+)", line):
            files[match.group(1)] = Link(f"{HOME}/heath")
            files[f"{HOME}/heath/bin/activate"] = f"VIRTUAL_ENV='{match.group(1)}'\n"
        elif match := re.fullmatch(r"heath lies in a repository that (does not leave it out|leaves it out)", line):
            files[f"{HOME}/.git/HEAD"] = b"ref: refs/heads/main\n"
            files[f"{HOME}/.gitignore"] = "/heath/\n" if match.group(1).startswith("leaves") else "*.log\n"
        elif match := re.fullmatch(r"heath holds (packages|an empty folder) for 3\.9(?: beside its own)?", line):
            name = "broodmap-1.0.dist-info/METADATA" if match.group(1) == "packages" else "README"
            files[f"{HOME}/heath/lib/python3.9/site-packages/{name}"] = b""
        elif line == "heath is a prefix of an environment manager, without Python":
            for path in [path for path in files if path.startswith(f"{HOME}/heath/")]:
                del files[path]
            files[f"{HOME}/heath/conda-meta/history"] = b""
        elif line == "heath may not be read":
            for path in [path for path in files if path.startswith(f"{HOME}/heath/")]:
                del files[path]
            files[f"{HOME}/heath/pyvenv.cfg"] = None
        elif match := re.fullmatch(
            r"(?:the shell has entered (\S+), and )?PATH finds python in (\S+?)(?: and pip in (\S+))?", line
        ):
            entered, python, pip = match.groups()
            if pip not in (None, python):
                del files[f"{HOME}/{python}/bin/pip"]
            files.variables["PATH"] = f"{HOME}/{python}/bin:{HOME}/{pip or python}/bin:/usr/bin"
            if entered:
                files.variables["VIRTUAL_ENV"] = f"{HOME}/{entered}"
        elif match := re.fullmatch(r"a notebook asks for kernel (\S+?)(?:, and there is none)?", line):
            metadata = {"kernelspec": {"name": match.group(1), "display_name": "x"}}
            files[f"{HOME}/spring/weights.ipynb"] = json.dumps({"metadata": metadata, "cells": []}, indent=1)
        elif match := re.fullmatch(r"heath holds (\S+) (\S+) for 3\.9 beside its own", line):
            files.package("heath", match.group(1), match.group(2), match.group(1))
            for path in [path for path in files if f"heath/lib/python3.11/site-packages/{match.group(1)}" in path]:
                files[path.replace("python3.11", "python3.9")] = files.pop(path)
        elif match := re.fullmatch(r"the user has (\S+) (\S+)", line):
            files.package("heath", match.group(1), match.group(2), match.group(1))
            for path in [path for path in files if f"heath/lib/python3.11/site-packages/{match.group(1)}" in path]:
                files[path.replace("/heath/lib", "/.local/lib")] = files.pop(path)
        elif line == "heath runs Python 3.9":
            files["/usr/bin/python3.9"] = BINARY.replace(b"3.11.7", b"3.9.18")
            files["/usr/lib/python3.9/os.py"] = b""
            files[f"{HOME}/heath/bin/python"] = Link("/usr/bin/python3.9")
        elif line == "the base has tkinter without its compiled part":
            files["/usr/lib/python3.11/tkinter/__init__.py"] = b"import _tkinter\n"
        elif match := re.fullmatch(r"heath links (\S+) to (\S+), which is not there", line):
            files[f"{files.site('heath')}/{match.group(1)}.pth"] = f"{match.group(2)}\n"
        elif line == "the folder's project has combs.py in its src folder":
            files[f"{HOME}/spring/pyproject.toml"] = b"[project]\nname = 'combs'\n"
            files[f"{HOME}/spring/src/combs.py"] = b""
        elif match := re.fullmatch(r"the folder's project has an environment of its own(?: with (\S+) (\S+)|(, which the shell has entered))", line):
            own = f"{HOME}/spring/.venv"
            files[f"{HOME}/spring/pyproject.toml"] = b"[project]\nname = 'spring'\n"
            files.environment(own)
            if match[1] is not None:
                files.package("spring/.venv", match[1], match[2], match[1])
            else:
                files.variables["PATH"] = f"{own}/bin:/usr/bin"
        elif line == "the folder above the script's has combs.py":
            files[f"{HOME}/spring/src/combs.py"] = b""
        elif line == "heath has the stubs of hivescale":
            files[f"{files.site('heath')}/hivescale-stubs/__init__.pyi"] = b""
        elif match := re.fullmatch(r"heath has (\S+) (\S+) whose part (\S+) is there as source in C only", line):
            files.package("heath", match.group(1), match.group(2), match.group(1))
            files[f"{files.site('heath')}/{match.group(1)}/{match.group(3)}.c"] = b"int main;"
        elif match := re.fullmatch(r"the folder has a folder (\S+) (without code|with modules) in it", line):
            inner = "notes.txt" if match.group(2) == "without code" else "frames.py"
            files[f"{HOME}/spring/{match.group(1)}/{inner}"] = b""
        elif line.startswith("heath sees its base and has hivescale 1.0"):
            files[f"{HOME}/heath/pyvenv.cfg"] = (
                "home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.7\n"
            )
            files.package("heath", "hivescale", "1.0", "hivescale")
            files.package("base", "hivescale", "2.1", "hivescale")
            files[f"{files.site('base')}/hivescale/frames.py"] = b""
        elif line.startswith("heath has a regular package moorland"):
            files.package("heath", "moorland", "1.0", "moorland")
            files[f"{files.site('heath')}/more.pth"] = f"{HOME}/more\n"
            files[f"{HOME}/more/moorland/bees.py"] = b""
        elif match := re.fullmatch(r"heath has (\S+) (\S+) whose compiled part is for (Windows|Python 3\.8)", line):
            files.package("heath", match.group(1), match.group(2), match.group(1))
            name = (
                "_core.cp311-win_amd64.pyd" if match.group(3) == "Windows" else "_core.cpython-38-x86_64-linux-gnu.so"
            )
            files[f"{files.site('heath')}/{match.group(1)}/{name}"] = (
                WINDOWS if match.group(3) == "Windows" else b"\x7fELF"
            )
        elif line.startswith("asked"):
            asked = line
        else:
            return files, None
    return files, asked


# What a key of made-up files may begin with, and where that is.
PLACES = {"site": f"{HOME}/heath/lib/python3.11/site-packages", "orchard": f"{HOME}/orchard/lib/python3.11/site-packages", "base": "/usr/lib/python3.11/site-packages", "lib": "/usr/lib/python3.11", "spring": f"{HOME}/spring", "user": f"{HOME}/.local/lib/python3.11/site-packages", "user36": f"{HOME}/.local/lib/python3.6/site-packages"}  # fmt: skip


def put(files: dict[str, object]) -> dict[str, object]:
    """Made-up files by their whole paths."""
    result = {}
    for key, content in files.items():
        first, _, left = key.partition("/")
        result[f"{PLACES[first]}/{left}" if first in PLACES else key.replace("~", HOME)] = content
    return with_library(result)


def with_library(files: dict[str, object]) -> dict[str, object]:
    """Beside each landmark of a standard library what environments are created with, as most Pythons have."""
    for path in [path for path in files if path.endswith(("/os.py", "\\os.py"))]:
        for name in ("venv", "ensurepip"):
            files.setdefault(f"{path[:-5]}{name}{path[-6]}__init__.py", b"")
    return files


def raw(content: object) -> bytes:
    return content.encode() if isinstance(content, str) else bytes(content or b"") if not isinstance(content, Link) else b""


def digest(content: object) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(raw(content)).digest()).rstrip(b"=").decode()


def dist(name: str, version: str, files: dict[str, object], *metadata: str, where: str = "site", recorded: Iterable[str] = ()) -> dict[str, object]:
    """A distribution: its files, its metadata, a record with their sizes and hashes; ``recorded``: further rows."""
    info = f"{name.replace('-', '_')}-{version}.dist-info"
    rows = [f"{file},sha256={digest(content)},{len(raw(content))}" for file, content in files.items()]
    return {**{f"{where}/{file}": content for file, content in files.items()}, f"{where}/{info}/METADATA": "\n".join(["Metadata-Version: 2.1", f"Name: {name}", f"Version: {version}", *metadata, "", ""]),
            f"{where}/{info}/RECORD": "\n".join([*rows, *recorded, f"{info}/METADATA,,", f"{info}/RECORD,,", ""])}  # fmt: skip


def index_of(*names: str) -> bytes:
    """The index of a repository that tracks these files (version 2 of "gitformat-index")."""
    entries = b"".join((entry := b"\0" * 60 + struct.pack(">H", len(name)) + name.encode()) + b"\0" * (8 - len(entry) % 8) for name in names)
    return b"DIRC" + struct.pack(">II", 2, len(names)) + entries
