"""Notebooks: the kernel a file asks for (the notebook format, versions 3 and 4)."""

from __future__ import annotations

import json

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.formats.notebook import metadata_of
from kalyx.core.formats.span import Malformed
from kalyx.core.kernels.folders import Server
from kalyx.core.model.records import Kernel, Seat
from kalyx.core.seats.build import silent_seat
from kalyx.core.seats.kernel import kernel_seat
from kalyx.core.system import Reader, Unreadable

# How many folders, and how deep, notebooks are looked for below others.
_FOLDERS, _DEEP = 1_000, 4
_NOTEBOOK_LIMIT = 64 * 1024 * 1024
ENDING = ".ipynb"


class Notebook(Struct):
    """The kernel that a notebook file names; ``problem`` where it could not be read."""

    path: str
    kernel: str | None = None
    label: str | None = None
    language: str | None = None
    language_version: str | None = None
    problem: str | None = None
    line: int | None = None


def read_notebook(reader: Reader, path: str) -> Notebook:
    """The kernel and the language version a notebook names. Never raises for what is wrong in it."""
    notebook = Notebook(path)
    try:
        raw = reader.read_whole(path, _NOTEBOOK_LIMIT)
    except Unreadable as refusal:
        notebook.problem = refusal.reason
        return notebook
    try:
        metadata = metadata_of(raw)
    except Malformed as error:
        notebook.problem = f"not a notebook: {error}"
        return notebook
    spec = metadata.get("kernelspec")
    if isinstance(spec, dict):
        notebook.kernel = _text(spec.get("name"))
        notebook.label = _text(spec.get("display_name"))
        notebook.language = _text(spec.get("language"))
    about = metadata.get("language_info")
    if isinstance(about, dict):
        notebook.language = notebook.language or _text(about.get("name"))
        notebook.language_version = _text(about.get("version"))
    if notebook.kernel:
        notebook.line = _line(raw, notebook.kernel)
    return notebook


def _text(value: object) -> str | None:
    return value if isinstance(value, str) and value else None


def _line(raw: bytes, kernel: str) -> int | None:
    """The line of the kernelspec's name: looked for after the last word kernelspec."""
    start = raw.rfind(b'"kernelspec"')
    at = raw.find(json.dumps(kernel).encode(), start) if start >= 0 else -1
    # The display name may be the same word: the key must stand before it.
    while at >= 0 and not raw[:at].rstrip().rstrip(b":").rstrip().endswith(b'"name"'):
        at = raw.find(json.dumps(kernel).encode(), at + 1)
    return raw.count(b"\n", 0, at) + 1 if at >= 0 else None


def notebooks_in(reader: Reader, folder: str) -> list[str]:
    """The notebook files of one folder, by name."""
    names = [name for name in reader.names(folder) if name.endswith(ENDING) and not name.startswith(".")]
    return [reader.join(folder, name) for name in names if reader.is_file(reader.join(folder, name))]


def notebooks_below(reader: Reader, folders: list[str]) -> list[str]:
    """The notebook files of these folders and of those below, hidden ones and environments left out; bounded."""
    pending, seen = [(folder, 0) for folder in folders], set[str]()
    notebooks: list[str] = []
    while pending and len(seen) < _FOLDERS:
        folder, depth = pending.pop(0)
        if folder in seen:
            continue
        seen.add(folder)
        notebooks += notebooks_in(reader, folder)
        if depth < _DEEP:
            below = [reader.join(folder, name) for name in reader.names(folder) if not name.startswith(".")]
            inner = [path for path in below if reader.kind(path) == "folder"]
            pending += [(path, depth + 1) for path in inner if not reader.may_be_there(reader.join(path, "pyvenv.cfg"))]
    return notebooks


def notebook_seat(reader: Reader, notebook: Notebook, kernel: Kernel | None, server: Server) -> Seat:
    """A notebook through the kernel it asks for (None: no such kernel is registered), whatever is wrong with it."""
    name, folder = reader.name(notebook.path), reader.parent(notebook.path)
    if kernel is not None:
        return replace(kernel_seat(reader, kernel, server), seat="notebook", name=name, folder=folder)
    if notebook.kernel:
        reason = f"it asks for kernel {notebook.kernel}, which is not registered"
        seat = silent_seat("notebook", name, reason, folder, source=notebook.path)
        return replace(seat, via=f"kernel:{notebook.kernel}")
    reason = notebook.problem or "it names no kernel"
    return silent_seat("notebook", name, reason, folder, undecided=True, source=notebook.path)
