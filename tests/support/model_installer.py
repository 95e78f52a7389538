"""A model of the installer and of ``venv``, for machines in memory: what their command lines do to the files there.

An index is a list of releases. The installer takes the newest release that every requirement allows, and does not try
an older one where a later requirement is against the newest. What it prints, it prints in the real installer's words.
"""

from __future__ import annotations

import argparse
import copy
import json
import sys
from collections.abc import Iterable, Mapping
from contextlib import redirect_stderr, redirect_stdout
from email.parser import HeaderParser
from functools import partial
from io import BytesIO, TextIOWrapper
from typing import NamedTuple
from unittest.mock import patch

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import canonicalize_name
from packaging.version import Version

from kalyx.cli.start import call
from kalyx.core import signals
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.kernels.wire import Session
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.system.own_command import ENTRY
from kalyx.core.system.runner import Ended, Running
from tests.made import dist, raw
from tests.support.memory_writer import SteadyWriter
from tests.support.model_kernel import ModelKernel, ModelLoopback, Program
from tests.support.model_python import ModelPython

Content = str | bytes | Link


class Release(NamedTuple):
    """One release of the index. ``fails``: what its own build prints, where that fails."""

    name: str
    version: str
    files: dict[str, Content] = {}
    metadata: tuple[str, ...] = ()
    fails: str = ""

    def of(self, field: str) -> list[str]:
        return HeaderParser().parsestr("\n".join(self.metadata)).get_all(field, [])


class Killed(BaseException):
    """The program is killed at this moment: what the files are then, they stay."""


class _Refused(Exception):
    """The installer's words, and its status 1."""


class ModelInstaller(ModelPython):
    """Runs Python's trials, the installer, ``venv`` and Kalyx itself on the files of a machine in memory."""

    def __init__(self, reader: MemoryReader, index: Iterable[Release] = (), ends: Mapping[str, Ended | BaseException] | None = None, odd: Mapping[str, str] | None = None,
                 running: Mapping[int, tuple[str, str, str]] | None = None) -> None:  # fmt: skip
        """``ends``: how commands end whose line holds this text; an exception is raised once.

        ``odd``: what kernels do whose line holds this text. ``running``: kernels that run, by the port of their shell:
        their interpreter, what they have run, and what they do.
        """
        super().__init__(reader)
        self.index, self.ends = list(index), dict(ends or {})
        self.writer = SteadyWriter(reader)
        self.ran: list[str] = []
        self.odd = dict(odd or {})
        self._loopback = ModelLoopback(lambda: self.kernel, lambda port: self.kernel_of(*(running or {})[port]))

    def typed(self, *words: str, given: str = "", at_terminal: bool = False) -> tuple[int, str, str]:
        """Kalyx with these words, on this machine: its status, and what it prints to each output; ``given``: its input.

        ``at_terminal``: a user types the input, and sees what is not the output.
        """
        out, err = TextIOWrapper(BytesIO(), "utf-8", write_through=True), TextIOWrapper(BytesIO(), "utf-8", write_through=True)
        was, sys.stdin = sys.stdin, TextIOWrapper(BytesIO(given.encode()), "utf-8")
        folder = self.reader.folder
        for stream in (sys.stdin, err) if at_terminal else ():
            stream.isatty = lambda: True  # type: ignore[method-assign]
        try:
            with redirect_stdout(out), redirect_stderr(err), patch.dict("os.environ", COLUMNS="100"), patch.object(signals, "_state", signals._State()):
                system = () if "--on" in words else (self.reader.again(), self, self.writer)
                status = call(list(words), *system)
        except SystemExit as end:
            status = int(end.code or 0)
        except signals.Stopped as stopped:
            status = 128 + stopped.number
        except Killed:
            status = -9
            self.reader._nodes, self.reader._children = self.killed
            self.reader.memory.clear()
        finally:
            sys.stdin, self.reader.folder = was, folder
        return status, out.buffer.getvalue().decode(), err.buffer.getvalue().decode()

    def run(self, argv: list[str], *, variables: Mapping[str, str] | None = None, folder: str | None = None, **more: object) -> Ended:
        line = " ".join(argv)
        text = next((text for text in self.ends if text in line), None)
        if text is not None:
            self.ran.append(line)
            end = self.ends[text]
            if isinstance(end, Ended):
                return end
            del self.ends[text]
            self.killed = copy.deepcopy((self.reader._nodes, self.reader._children))
            raise end
        if argv[0] == sys.executable and ENTRY in argv:
            status, out, err = self.typed(*argv[argv.index(ENTRY) + 2 :])
            return Ended(status, out.encode(), err.encode(), 0.5)
        if argv[0] == "mv" or argv[:3] in (["cmd", "/c", "ren"], ["cmd", "/c", "move"]):
            self.ran.append(line)
            self.reader.shift(argv[-2], argv[-1] if argv[2] != "ren" else self.reader.join(self.reader.parent(argv[-2]), argv[-1]))
            return Ended(0, b"", b"", 0.5)
        if argv[:2] == ["rm", "-f"] or argv[:3] == ["cmd", "/c", "del"]:
            self.ran.append(line)
            for path in argv[2 if argv[0] == "rm" else 3 :]:
                self.reader.drop(path)
            return Ended(0, b"", b"", 0.5)
        words = [word for word in argv[1:] if word != "-B"]
        if words[:1] != ["-m"]:
            return super().run(argv, variables=variables, folder=folder, **more)
        self.ran.append(line)
        try:
            return Ended(0, {"pip": partial(self.installer, dict(variables or {})), "venv": self.environment, "ensurepip": self.bring_installer}[words[1]](argv[0], words[2:]).encode(), b"", 0.5)
        except (_Refused, NotAnInterpreter) as refusal:
            return Ended(1, b"", str(refusal).encode(), 0.5)

    # -- kernels ---------------------------------------------------------------

    @property
    def loopback(self) -> ModelLoopback:
        return self._loopback

    def kernel_of(self, executable: str, code: str, odd: str) -> ModelKernel:
        program = Program(self, executable, self.reader.folder, {})
        program.said_by(code)
        return ModelKernel(Session(self.loopback.KEY.encode()), program, odd=odd)

    def start(self, argv: list[str], *, variables: Mapping[str, str] | None = None, folder: str | None = None, **_: object) -> Running:
        """A kernel: it ends with a traceback where its modules cannot be imported."""
        line = " ".join(argv)
        self.ran.append(line)
        if not self.reader.is_file(self.reader.real(argv[0])):
            raise FileNotFoundError(2, "No such file or directory")
        program = Program(self, argv[0], folder or self.reader.folder, dict(variables or {}))
        answer = program.outcome(argv[argv.index("-m") + 1], []) if "-m" in argv else {"imports": True}
        odd = next((odd for text, odd in self.odd.items() if text in line), "")
        said = "" if answer["imports"] else f"Traceback (most recent call last):\n{answer['type']}: {answer['text']}\n"
        self.kernel = ModelKernel(Session(self.loopback.KEY.encode()), program, said, odd if answer["imports"] else "ends")
        return self.kernel

    # -- venv ------------------------------------------------------------------

    def environment(self, base: str, words: list[str]) -> str:
        python = read_interpreter(self.reader, base)
        prefix, windows = words[-1], self.reader.system == "windows"
        site, inside = self.site_in(prefix, python.minor), partial(self.reader.join, prefix, "Scripts" if windows else "bin")
        sees = str("--system-site-packages" in words).lower()
        home = self.reader.parent(python.executable if python.prefix == python.base_prefix else self.reader.join(python.base_prefix, "x") if windows else python.real_executable)
        files: dict[str, Content] = {self.reader.join(prefix, "pyvenv.cfg"): f"home = {home}\ninclude-system-site-packages = {sees}\nversion = {python.version}\n"}
        if windows:
            files |= {inside("python.exe"): self.reader.read(python.real_executable), inside("activate.bat"): f"set VIRTUAL_ENV={prefix}\n", inside("Activate.ps1"): ""}
        else:
            files |= {inside("python"): Link(python.real_executable), inside("python3"): Link("python"), inside("activate"): f"VIRTUAL_ENV={prefix}\n"}
        self.reader.put(site, None, folder=True)
        self.put(files)
        if "--without-pip" not in words:
            self.put_release(Release("pip", "24.0", {"pip/__init__.py": ""}), site)
            self.put({inside("pip.exe"): b"MZ"} if windows else {inside("pip"): f"#!{inside('python')}\n"})
        return ""

    def bring_installer(self, python: str, _: list[str]) -> str:
        self.put_release(Release("pip", "24.0", {"pip/__init__.py": ""}), self.site_of(python))
        return ""

    # -- the installer ----------------------------------------------------------

    def installer(self, variables: dict[str, str], python: str, words: list[str]) -> str:
        known = read_interpreter(self.reader, python)
        self.version, site = known.version, self.site_of(python)
        folders = search_path(self.reader.again(), known, Invocation(variables=variables)).site_packages
        # An installation's installer replaces what the user's own folder has, too.
        self.replaced = folders if known.prefix == known.base_prefix else [site]
        if not any(self.reader.is_folder(self.reader.join(folder, "pip")) for folder in folders):
            raise _Refused(f"{python}: No module named pip")
        action, options = words[0], _options(words[1:])
        if action == "uninstall":
            return "\n".join(self.remove(site, name) for name in options.words)
        return self.install(python, site, options)

    def site_of(self, python: str) -> str:
        known = read_interpreter(self.reader, python)
        return self.site_in(known.prefix, known.minor)

    def site_in(self, prefix: str, minor: str) -> str:
        return self.reader.join(prefix, *(("Lib",) if self.reader.system == "windows" else ("lib", f"python{minor}")), "site-packages")

    def install(self, python: str, site: str, options: argparse.Namespace) -> str:
        here = self.installed(site) if options.target is None else {}
        search = search_path(self.reader.again(), read_interpreter(self.reader, python), Invocation(no_user=True))
        below = [self.installed(folder) for folder in reversed(search.site_packages) if options.target is None]
        chosen = self.chosen({**{name: version for folder in below for name, version in folder.items()}, **here}, options)
        if options.dry_run:
            items = [{"metadata": {"name": release.name, "version": release.version, "requires_dist": release.of("Requires-Dist") or None}} for release in chosen]
            return json.dumps({"version": "1", "install": items})
        for release in chosen:
            if release.fails:
                raise _Refused(f"error: {release.fails}\nERROR: Failed to build {release.name}")
        for release in chosen:
            for folder in self.replaced if options.target is None else ():
                if release.name in self.installed(folder):
                    self.remove(folder, release.name)
            self.put_release(release, options.target or site)
        return "Successfully installed " + " ".join(f"{release.name}-{release.version}" for release in chosen) if chosen else ""

    def chosen(self, here: dict[str, str], options: argparse.Namespace) -> list[Release]:
        """What is to be installed: the newest release that all the requirements known by then allow."""
        lines = [line.partition("#")[0].strip() for file in options.r for line in self.reader.read_text(file).splitlines()]
        asked = [(Requirement(word), True) for word in [*options.words, *filter(None, lines)]]
        limits: dict[str, SpecifierSet] = {}
        chosen: dict[str, Release] = {}
        while asked:
            requirement, named = asked.pop(0)
            name = canonicalize_name(requirement.name)
            if requirement.marker is not None and not requirement.marker.evaluate({"python_version": ".".join(self.version.split(".")[:2]), "extra": ""}):
                continue
            limits[name] = limits.get(name, SpecifierSet()) & requirement.specifier
            if name in chosen and limits[name].contains(chosen[name].version):
                continue
            again = named and (options.upgrade or options.force_reinstall)
            if name in here and limits[name].contains(here[name]) and not again:
                continue
            release = self.newest(name, limits[name], requirement)
            if name in here and here[name] == release.version and not options.force_reinstall:
                continue
            chosen.pop(name, None)
            chosen[name] = release
            if not options.no_deps:
                asked += [(Requirement(line), False) for line in release.of("Requires-Dist")]
        return list(chosen.values())

    def newest(self, name: str, limit: SpecifierSet, requirement: Requirement) -> Release:
        known = [release for release in self.index if canonicalize_name(release.name) == name]
        usable = [release for release in known if all(SpecifierSet(text).contains(self.version) for text in release.of("Requires-Python"))]
        fitting = [release for release in usable if limit.contains(release.version)]
        if not fitting:
            names = ", ".join(sorted((release.version for release in usable), key=Version)) or "none"
            raise _Refused(f"ERROR: Could not find a version that satisfies the requirement {requirement} (from versions: {names})\nERROR: No matching distribution found for {requirement}")
        return max(fitting, key=lambda release: Version(release.version))

    def installed(self, site: str) -> dict[str, str]:
        infos = [name.removesuffix(".dist-info") for name in self.reader.again().names(site) if name.endswith(".dist-info")]
        return {canonicalize_name(info.rpartition("-")[0]): info.rpartition("-")[2] for info in infos}

    def remove(self, site: str, name: str) -> str:
        reader = self.reader.again()
        version = self.installed(site).get(canonicalize_name(name))
        if version is None:
            return f"WARNING: Skipping {name} as it is not installed."
        info = next(entry for entry in reader.names(site) if entry.lower().replace("_", "-") == f"{canonicalize_name(name)}-{version}.dist-info")
        for row in reader.read_text(reader.join(site, info, "RECORD")).splitlines():
            path = reader.join(site, *row.split(",")[0].split("/"))
            if reader.kind(path) is not None:
                self.reader.drop(path)
            while (path := reader.parent(path)) != site and not reader.again().names(path):
                self.reader.drop(path)
        return f"Successfully uninstalled {name}-{version}"

    def put_release(self, release: Release, site: str) -> None:
        files = dist(release.name, release.version, dict(release.files), *release.metadata, where="")
        self.put({self.reader.join(site, *path[1:].split("/")): content for path, content in files.items()})

    def put(self, files: Mapping[str, object]) -> None:
        for path, content in files.items():
            self.count += 1
            self.reader.put(path, content if isinstance(content, Link) else raw(content))
            self.reader.modified[path] = self.count


def _options(words: list[str]) -> argparse.Namespace:
    parser = argparse.ArgumentParser(exit_on_error=False)
    for flag in ("--disable-pip-version-check", "--no-input", "--no-index", "--dry-run", "--quiet", "--no-warn-conflicts", "--no-compile", "--no-deps", "--upgrade", "--force-reinstall", "--pre", "-y", "--no-build-isolation", "--prefer-binary"):
        parser.add_argument(flag, action="store_true")
    parser.add_argument("-r", action="append", default=[])
    for option in ("--timeout", "--retries", "--report", "--find-links", "--only-binary", "--target"):
        parser.add_argument(option)
    parser.add_argument("words", nargs="*")
    return parser.parse_args(words)
