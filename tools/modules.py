"""Which distribution brings a module, asked of real releases: checks rows and writes them into the table that ships.

    python tools/modules.py ROWS          rows: a module and a distribution a line, as candidates
    python tools/modules.py --check       the rows of the table itself

Of each distribution the directory of the newest wheel is read: a few kilobytes of its end, never the whole. A row stays
where a file of that module is in it; the others are printed. Needs the network, and the index named in PIP_INDEX_URL.
"""

import io
import json
import os
import re
import sys
import urllib.error
import urllib.request
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

# The package index (its simple interface, PEP 691), as the installer is told of it too.
INDEX = os.environ.get("PIP_INDEX_URL", "")
TABLE = Path(__file__).parents[1] / "src" / "kalyx" / "core" / "data" / "distributions.json"
_TAIL = 256 * 1024


def _get(url: str, headers: dict[str, str]) -> bytes:
    with urllib.request.urlopen(urllib.request.Request(url, headers=headers), timeout=30) as answer:
        return answer.read()


class Remote(io.RawIOBase):
    """A file on a server, read by ranges, its end kept."""

    def __init__(self, url: str, size: int) -> None:
        self.url, self.size, self.at = url, size, 0
        self.start = max(0, size - _TAIL)
        self.tail = _get(url, {"Range": f"bytes={self.start}-{size - 1}"})

    def seekable(self) -> bool:
        return True

    def readable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        self.at = offset + (0, self.at, self.size)[whence]
        return self.at

    def tell(self) -> int:
        return self.at

    def read(self, count: int = -1) -> bytes:
        end = self.size if count < 0 else min(self.size, self.at + count)
        if self.at < self.start:
            found = _get(self.url, {"Range": f"bytes={self.at}-{end - 1}"})
        else:
            found = self.tail[self.at - self.start : end - self.start]
        self.at += len(found)
        return found


def names_in(distribution: str) -> list[str] | None:
    """The paths in its newest wheel; None where it has none, or no release."""
    page = json.loads(
        _get(
            f"{INDEX}/{re.sub('[-_.]+', '-', distribution).lower()}/", {"Accept": "application/vnd.pypi.simple.v1+json"}
        )
    )
    wheels = [file for file in page["files"] if file["filename"].endswith(".whl") and not file.get("yanked")]
    if not wheels:
        return None
    newest = max(item["upload-time"][:10] for item in wheels)
    wheel = min((item for item in wheels if item["upload-time"][:10] == newest), key=lambda item: item["size"])
    return zipfile.ZipFile(Remote(wheel["url"], wheel["size"])).namelist()


def brings(names: list[str], module: str) -> bool:
    """Whether a wheel of these paths holds the module."""
    path = module.replace(".", "/")
    inside = [re.sub(r"^[^/]+\.data/(?:purelib|platlib)/", "", name) for name in names]
    return any(
        name.startswith(path + "/") or re.fullmatch(re.escape(path) + r"(?:\.[\w\-]+)*\.(?:py|so|pyd)", name)
        for name in inside
    )


def verdict(row: tuple[str, str]) -> str:
    """``yes``, ``no``, or why it is not known."""
    module, distribution = row
    try:
        names = names_in(distribution)
    except (urllib.error.URLError, zipfile.BadZipFile, OSError, KeyError, ValueError) as error:
        return f"not told: {error}"
    return "no wheel" if names is None else "yes" if brings(names, module) else "no"


def main(words: list[str]) -> int:
    if not INDEX:
        print("name the package index in PIP_INDEX_URL")
        return 2
    table = json.loads(TABLE.read_text())
    known = list(table["modules"].items())
    rows = known if words == ["--check"] else [tuple(line.split()) for line in Path(words[0]).read_text().splitlines()]
    with ThreadPoolExecutor(16) as pool:
        for row, said in zip(rows, pool.map(verdict, rows), strict=True):
            if said != "yes":
                print(f"{row[0]}: {row[1]}: {said}")
            elif words != ["--check"]:
                module, distribution = row
                if (
                    re.sub("[-_.]+", "-", module).lower() == re.sub("[-_.]+", "-", distribution).lower()
                    and "." not in module
                ):
                    table["same"] = sorted({*table["same"], module})
                else:
                    table["modules"][module] = distribution
    if words != ["--check"]:
        modules = ",\n  ".join(
            f"{json.dumps(module)}: {json.dumps(name)}"
            for module, name in sorted(table["modules"].items(), key=lambda row: row[0].lower())
        )
        same = json.dumps(table["same"])
        TABLE.write_text(
            f'{{\n "about": {json.dumps(table["about"])},\n "modules": {{\n  {modules}\n }},\n "same": {same}\n}}\n'
        )
        print(len(table["modules"]), "modules with another name,", len(table["same"]), "with the same")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
