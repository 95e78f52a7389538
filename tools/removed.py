"""What releases of well-known distributions took away, asked of real releases: checks the table's rows, finds new ones.

    python tools/removed.py --check [NAME ...] each row: there in the release before, gone from the one that it names
    python tools/removed.py --find NAME ...    names and modules that a release of these distributions took away

A release is read first: the modules of one wheel of it, and what they take from each other by a star; a name counts as
gone only where no word of the later module's text is it. What reading leaves in doubt is run: both releases are
installed aside with a Python of the PATH that there are wheels for, and asked. Needs the network, and PIP_INDEX_URL.
"""

import ast
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import zipfile
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from pathlib import Path

from modules import INDEX, Remote, _get
from packaging.version import InvalidVersion, Version

TABLE = Path(__file__).parents[1] / "src" / "kalyx" / "core" / "data" / "removals.json"
_NEWEST = 14  # of a distribution's minor releases, looked through for what went


@cache
def releases(distribution: str) -> dict[tuple[int, ...], dict]:
    """The smallest wheel of the last release of each minor version, by its numbers."""
    name = re.sub("[-_.]+", "-", distribution).lower()
    page = json.loads(_get(f"{INDEX}/{name}/", {"Accept": "application/vnd.pypi.simple.v1+json"}))
    found: dict[tuple[int, ...], tuple[Version, dict]] = {}
    for file in page["files"]:
        if not file["filename"].endswith(".whl") or file.get("yanked"):
            continue
        try:
            version = Version(file["filename"].split("-")[1])
        except InvalidVersion:
            continue
        if version.is_prerelease:
            continue
        minor = (version.major, version.minor)
        best = found.get(minor)
        if best is None or (version, -file["size"]) > (best[0], -best[1]["size"]):
            found[minor] = version, file
    return {minor: found[minor][1] for minor in sorted(found)}


class Release:
    """The modules of one wheel."""

    def __init__(self, wheel: dict) -> None:
        self.zip = zipfile.ZipFile(Remote(wheel["url"], wheel["size"]))
        self.paths = {re.sub(r"^[^/]+\.data/(?:purelib|platlib)/", "", path): path for path in self.zip.namelist()}
        self.texts: dict[str, str | None] = {}

    def path_of(self, module: str) -> str | None:
        path = module.replace(".", "/")
        for item in (f"{path}/__init__.py", f"{path}.py"):
            if item in self.paths:
                return item
        compiled = re.compile(re.escape(path) + r"\.[\w.-]*(?:so|pyd)$")
        return next((item for item in self.paths if compiled.match(item)), None)

    def text(self, module: str) -> str | None:
        if module not in self.texts:
            path = self.path_of(module)
            known = path is not None and path.endswith(".py")
            self.texts[module] = self.zip.read(self.paths[path]).decode("utf-8", "replace") if known else None
        return self.texts[module]

    def has(self, module: str) -> bool:
        inside = module.replace(".", "/") + "/"
        return self.path_of(module) is not None or any(path.startswith(inside) for path in self.paths)

    def names(self, module: str, depth: int = 4) -> set[str]:
        """The names that a module binds at its top level, those that it takes by a star included."""
        text = self.text(module)
        if text is None or not depth:
            return set()
        try:
            tree = ast.parse(text)
        except (SyntaxError, ValueError):
            return set()
        package = module if (self.path_of(module) or "").endswith("__init__.py") else module.rpartition(".")[0]
        found: set[str] = set()
        pending = list(tree.body)
        while pending:
            node = pending.pop()
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
                found.add(node.name)
            elif isinstance(node, ast.Assign | ast.AnnAssign):
                for target in node.targets if isinstance(node, ast.Assign) else [node.target]:
                    found |= {item.id for item in ast.walk(target) if isinstance(item, ast.Name)}
            elif isinstance(node, ast.Import):
                found |= {(item.asname or item.name).split(".")[0] for item in node.names}
            elif isinstance(node, ast.ImportFrom):
                above = package.split(".")[: len(package.split(".")) - node.level + 1] if node.level else []
                source = ".".join([*above, *([node.module] if node.module else [])])
                for item in node.names:
                    found |= self.names(source, depth - 1) if item.name == "*" else {item.asname or item.name}
            elif isinstance(node, ast.If | ast.Try | ast.With):
                inner = ast.iter_child_nodes(node)
                pending += [child for child in inner if isinstance(child, ast.stmt | ast.ExceptHandler)]
            elif isinstance(node, ast.ExceptHandler):
                pending += node.body
        return {name for name in found if not name.startswith("_")}

    def speaks_of(self, module: str, name: str, depth: int = 3) -> bool:
        """Whether a module's text, or that of one it takes names from by a star, holds the word."""
        text = self.text(module)
        if text is None:
            return self.has(module)
        if re.search(rf"\b{re.escape(name)}\b", text):
            return True
        package = module if (self.path_of(module) or "").endswith("__init__.py") else module.rpartition(".")[0]
        stars = re.findall(r"from\s+(\.*)([\w.]*)\s+import\s+\*", text) if depth else []
        for dots, inner in stars:
            above = package.split(".")[: len(package.split(".")) - len(dots) + 1] if dots else []
            if self.speaks_of(".".join([*above, *([inner] if inner else [])]), name, depth - 1):
                return True
        return False


@cache
def release(distribution: str, minor: tuple[int, ...]) -> Release:
    return Release(releases(distribution)[minor])


def there(one: Release, module: str, name: str) -> bool:
    return one.has(module) if name == "*" else one.speaks_of(module, name)


_ASKS = """
import importlib, sys, warnings
warnings.simplefilter("ignore")
module, name = sys.argv[1:]
try:
    found = importlib.import_module(module)
    if name != "*":
        try:
            getattr(found, name)
        except Exception:
            importlib.import_module(module + "." + name)
    print("there")
except (ImportError, AttributeError):
    print("gone")
"""


@cache
def installed(distribution: str, minor: tuple[int, ...]) -> tuple[str, str] | None:
    """A Python of the PATH and a folder with that release and what it requires; None where no wheels suit."""
    wheel = releases(distribution)[minor]["filename"].split("-")[1]
    for version in ("3.13", "3.12", "3.11", "3.9", "3.8", "3.7", "3.6"):
        python = shutil.which(f"python{version}")
        folder = tempfile.mkdtemp(prefix="removed-")
        words = ["install", "-q", "--only-binary", ":all:", "--target", folder, f"{distribution}=={wheel}"]
        if python and subprocess.run([python, "-m", "pip", *words], capture_output=True, check=False).returncode == 0:
            return python, folder
        shutil.rmtree(folder)
    return None


def runs_there(distribution: str, minor: tuple[int, ...], module: str, name: str) -> bool | None:
    """Whether the release itself, imported, has it; None where that cannot be told here."""
    place = installed(distribution, minor)
    if place is None:
        return None
    argv, variables = [place[0], "-c", _ASKS, module, name], {**os.environ, "PYTHONPATH": place[1]}
    said = subprocess.run(argv, env=variables, capture_output=True, text=True, check=False, timeout=120).stdout
    return {"there": True, "gone": False}.get(said.strip())


def has(distribution: str, minor: tuple[int, ...], module: str, name: str, expected: bool) -> bool | None:
    """As read, where that is as expected; else as run."""
    if there(release(distribution, minor), module, name) == expected:
        return expected
    return runs_there(distribution, minor, module, name)


def checked(row: tuple[str, str, str, str]) -> str:
    """``yes``, or what is wrong with a row of module, name, distribution, first release without."""
    module, name, distribution, first = row
    try:
        minors = list(releases(distribution))
        gone = (*(int(part) for part in first.split(".")[:2]), 0)[:2]
        before = [item for item in minors if item < gone]
        if gone not in minors or not before:
            return f"the index has no wheel of {distribution} {first if gone not in minors else 'before ' + first}"
        for minor, expected in ((before[-1], True), (gone, False)):
            found = has(distribution, minor, module, name, expected)
            if found is not expected:
                said = "cannot be told of" if found is None else "still in" if found else "not in"
                return f"{said} {'.'.join(map(str, minor))}"
    except (OSError, KeyError, ValueError, zipfile.BadZipFile) as error:
        return f"not told: {error}"
    return "yes"


def taken(distribution: str) -> dict[tuple[str, str], str]:
    """Module and name to the first release without them, of the top modules and what they hold."""
    found: dict[tuple[str, str], str] = {}
    minors = list(releases(distribution))[-_NEWEST:]
    for before, after in zip(minors, minors[1:], strict=False):
        old, new = release(distribution, before), release(distribution, after)
        modules = {path.removesuffix("/__init__.py").removesuffix(".py").replace("/", ".") for path in old.paths
                   if path.endswith(".py") and path.count("/") <= 2 and "test" not in path.lower()
                   and "/_" not in path.replace("__init__", "")}  # fmt: skip
        modules = {item for item in modules if item.split(".")[0] in {path.split("/")[0] for path in new.paths}}
        first = ".".join(map(str, after))
        for module in sorted(modules):
            if not new.has(module):
                found[module, "*"] = first
            elif module.count(".") == 0:
                for name in old.names(module) - new.names(module):
                    if not new.speaks_of(module, name) and not new.has(f"{module}.{name}"):
                        found[module, name] = first
            found = {key: value for key, value in found.items() if value == first or not there(new, *key)}
    return found


def rows() -> list[tuple[str, str, str, str]]:
    table = json.loads(TABLE.read_text())["removals"]
    of = ((module, item["distribution"], item["names"]) for module, item in table.items())
    return [(module, name, distribution, said[0]) for module, distribution, names in of for name, said in names.items()]


def main(words: list[str]) -> int:
    if not INDEX:
        print("name the package index in PIP_INDEX_URL")
        return 2
    with ThreadPoolExecutor(3) as pool:
        if words[:1] == ["--check"]:
            all_rows, wrong = [row for row in rows() if row[2] in words[1:] or not words[1:]], []
            names = list(dict.fromkeys(row[2] for row in all_rows))
            # One distribution after another in each worker: a wheel's reader is one worker's own.
            for found in pool.map(lambda name: [(row, checked(row)) for row in all_rows if row[2] == name], names):
                for row, said in found:
                    if said != "yes":
                        wrong.append(row)
                        print(*row, said, sep="\t", flush=True)
            print(len(all_rows), "rows,", len(all_rows) - len(wrong), "as real releases have it")
            return 1 if wrong else 0
        known = {row[:2] for row in rows()}
        for distribution, found in zip(words[1:], pool.map(_taken_or_said, words[1:]), strict=True):
            for (module, name), first in found.items():
                if (module, name) not in known:
                    print(module, name, distribution, first, sep="\t", flush=True)
    return 0


def _taken_or_said(distribution: str) -> dict[tuple[str, str], str]:
    try:
        return taken(distribution)
    except (OSError, KeyError, ValueError, zipfile.BadZipFile) as error:
        print(f"{distribution}: {error}", file=sys.stderr)
        return {}


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
