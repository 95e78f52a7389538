"""The imports that a notebook's code asks for, read from its cells and never run."""

from __future__ import annotations

import ast
import json
from collections.abc import Iterator

from kalyx.core.doors import Facts, Unreadable

_LIMIT = 64 * 1024 * 1024
_CELLS = 20_000


def modules_of_notebook(facts: Facts, path: str) -> list[str]:
    """The top-level modules that a notebook's code cells import, each once; none where it cannot be read."""
    try:
        whole = json.loads(facts.read(path, _LIMIT).decode("utf-8-sig"))
    except (Unreadable, ValueError, RecursionError):
        return []
    found: dict[str, None] = {}
    for source in _cells(whole):
        for module in modules_of_code(source):
            found.setdefault(module)
    return list(found)


def _cells(whole: object) -> Iterator[str]:
    """The text of each code cell; older formats keep cells in worksheets and their text as ``input``."""
    if not isinstance(whole, dict):
        return
    sheets = whole.get("worksheets") if isinstance(whole.get("worksheets"), list) else [whole]
    for sheet in sheets or []:
        cells = sheet.get("cells") if isinstance(sheet, dict) else None
        for cell in (cells if isinstance(cells, list) else [])[:_CELLS]:
            if not isinstance(cell, dict) or cell.get("cell_type") != "code":
                continue
            text = cell.get("source", cell.get("input"))
            if isinstance(text, list):
                text = "".join(line for line in text if isinstance(line, str))
            if isinstance(text, str):
                yield text


def modules_of_code(source: str) -> list[str]:
    """The top-level modules that one cell imports; lines for the notebook itself (``%``, ``!``, ``?``) are left out."""
    if source.lstrip().startswith("%%"):
        return []
    lines = [
        "pass" if line.lstrip().startswith(("%", "!", "?")) or line.rstrip().endswith("?") else line
        for line in source.splitlines()
    ]
    try:
        tree = ast.parse("\n".join(lines))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return []
    found: dict[str, None] = {}
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            for alias in node.names:
                found.setdefault(alias.name.split(".")[0])
        elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
            found.setdefault(node.module.split(".")[0])
    return list(found)
