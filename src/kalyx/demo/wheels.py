"""Made-up packages, written as wheels without any build tool (PEP 427)."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import os
import zipfile

from msgspec import Struct


class Package(Struct):
    """A distribution to write: its files, and what its metadata says."""

    name: str
    version: str
    files: dict[str, str | bytes]
    requires: list[str] = []
    summary: str = "A made-up package of the Larkmoor scenario"
    extras: dict[str, list[str]] = {}
    tag: str = "py2.py3-none-any"
    python: str = ""


def write_wheel(package: Package, folder: str) -> str:
    """Write the wheel of a package into ``folder`` and return its path."""
    stem = f"{package.name.replace('-', '_')}-{package.version}"
    path = os.path.join(folder, f"{stem}-{package.tag}.whl")
    info = f"{stem}.dist-info"
    lines = ["Metadata-Version: 2.1", f"Name: {package.name}", f"Version: {package.version}",
             f"Summary: {package.summary}"]  # fmt: skip
    lines += [f"Requires-Dist: {line}" for line in package.requires]
    if package.python:
        lines.append(f"Requires-Python: {package.python}")
    for extra, requirements in package.extras.items():
        lines.append(f"Provides-Extra: {extra}")
        lines += [f'Requires-Dist: {line} ; extra == "{extra}"' for line in requirements]
    contents = {name: text.encode("utf-8") if isinstance(text, str) else text for name, text in package.files.items()}
    contents[f"{info}/METADATA"] = ("\n".join(lines) + "\n").encode()
    tags = [f"Tag: {part}-{'-'.join(package.tag.split('-')[1:])}" for part in package.tag.split("-")[0].split(".")]
    wheel = ["Wheel-Version: 1.0", "Generator: kalyx-demo", "Root-Is-Purelib: true", *tags]
    contents[f"{info}/WHEEL"] = ("\n".join(wheel) + "\n").encode()
    record = io.StringIO()
    writer = csv.writer(record, lineterminator="\n")
    for name, content in contents.items():
        digest = base64.urlsafe_b64encode(hashlib.sha256(content).digest()).rstrip(b"=").decode()
        writer.writerow([name, f"sha256={digest}", len(content)])
    writer.writerow([f"{info}/RECORD", "", ""])
    contents[f"{info}/RECORD"] = record.getvalue().encode()
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in contents.items():
            archive.writestr(zipfile.ZipInfo(name, (2026, 3, 1, 8, 0, 0)), content)
    return path


def standin_package() -> Package:
    """The stand-in kernel as a package that any environment can take."""
    source = os.path.join(os.path.dirname(os.path.abspath(__file__)), "standin", "kalyx_standin_kernel.py")
    with open(source, encoding="utf-8") as file:
        text = file.read()
    return Package("kalyx-standin-kernel", "1.0", {"kalyx_standin_kernel.py": text}, summary="A stand-in kernel")
