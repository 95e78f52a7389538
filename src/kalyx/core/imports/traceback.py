"""A traceback or an error's text: which interpreter it comes from, and what failed."""

from __future__ import annotations

import re

from msgspec import Struct

from kalyx.core.doors import Facts
from kalyx.core.imports.trial import Raised, lacking_name, missing_name
from kalyx.core.words.numbers import leading_number

_FRAME = re.compile(r'File "([^"\n]+)", line (\d+)(?:, in (\S+))?')
_NOTEBOOK_FRAME = re.compile(r"^(?:File )?((?:/|~|[A-Za-z]:\\)[^\n:]*\.py)(?::(\d+)|\(\d+\))", re.MULTILINE)
_ERROR = re.compile(
    r"^\s*(?:E\s+)?((?:[A-Za-z_][\w]*\.)*[A-Z]\w*(?:Error|Exception|Warning|Interrupt|Exit|Fault))(?::\s?(.*))?$"
)
_COLOURS = re.compile(r"\x1b\[[0-9;]*m")
_LIMIT = 1024 * 1024


class Told(Struct):
    """What a traceback tells: its frames (file, line), the error at its end, and the module an import lacked."""

    frames: list[tuple[str, int]] = []
    type: str | None = None
    text: str = ""
    module: str | None = None
    name: str | None = None


def read_traceback(text: str) -> Told:
    """The last error of a text with its frames. Never raises; ``type`` is None where no error is in it."""
    text = _COLOURS.sub("", text[-_LIMIT:])
    told = Told()
    told.frames = [(path, leading_number(line)) for path, line, _ in _FRAME.findall(text)]
    if not told.frames:
        told.frames = [(path, leading_number(line)) for path, line in _NOTEBOOK_FRAME.findall(text)]
    for line in text.splitlines():
        found = _ERROR.match(line)
        if found:
            told.type, told.text = found[1].rpartition(".")[2], (found[2] or "").strip()
    if told.type in ("ImportError", "ModuleNotFoundError"):
        raised = Raised(told.type, told.text, import_error=True)
        told.module, told.name = missing_name(raised), lacking_name(raised)
        if told.name is not None:
            where = re.search(r"from ['\"]([\w.]+)['\"]", told.text)
            told.module = where[1] if where else None
    return told


def prefix_of(facts: Facts, told: Told) -> str | None:
    """The environment whose files the frames name: by the last site folder, else by the library's installation."""
    for path, _ in reversed(told.frames):
        parts = path.replace("\\", "/").split("/")
        for word in ("site-packages", "dist-packages"):
            if word in parts:
                at = parts.index(word)
                up = 1 if "Lib" in parts[:at] else 2
                return facts.path.normpath("/".join(parts[: at - up])) if at > up else None
    for path, _ in reversed(told.frames):
        found = re.match(r"(.+)/lib/(?:python|pypy)\d\.\d+/", path)
        if found:
            return found[1]
    return None
