"""Notebook files (the notebook format, versions 3 and 4): what they say of their kernel, and the text of their cells.

Only what is asked for is made into objects; outputs, which are most of a file, are passed over while it is read.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import DecodeError, Raw, Struct, UnsetType
from msgspec import json as fast

from kalyx.core.formats.spot import Malformed

_CELLS = 10_000


class _Top(Struct):
    metadata: Any = None


class _Whole(Struct):
    cells: list[Raw] | UnsetType | None = None
    worksheets: list[Raw] | None = None


class _Sheet(Struct):
    cells: list[Raw] = []


class _Cell(Struct):
    cell_type: Any = None
    source: Any = None
    input: Any = None


def _decoded(raw: bytes, form: type[Any]) -> Any:
    try:
        return fast.decode(raw.removeprefix(b"\xef\xbb\xbf"), type=form)
    except RecursionError:
        raise Malformed("nested too deeply") from None
    except (DecodeError, ValueError) as error:
        raise Malformed(str(error).split("\n")[0][:200]) from None


def metadata_of(raw: bytes) -> dict[str, Any]:
    """The notebook's metadata. Raises Malformed for what is no notebook."""
    found = _decoded(raw, _Top).metadata
    if not isinstance(found, dict):
        raise Malformed("it has no metadata")
    return found


def code_cells(raw: bytes) -> list[tuple[int, str]]:
    """The text of each code cell with its number; older formats keep cells in worksheets, their text as ``input``."""
    whole = _decoded(raw, _Whole)
    cells = list(whole.cells or [])
    for sheet in (whole.worksheets or [])[:100]:
        cells += _decoded(bytes(sheet), _Sheet).cells
    return list(_texts(cells[:_CELLS]))


def _texts(cells: list[Raw]) -> Iterator[tuple[int, str]]:
    for number, raw in enumerate(cells, 1):
        try:
            cell = _decoded(bytes(raw), _Cell)
        except Malformed:
            continue  # one that is no cell spoils only itself
        text = cell.source if cell.source is not None else cell.input
        if isinstance(text, list):
            text = "".join(line for line in text if isinstance(line, str))
        if cell.cell_type == "code" and isinstance(text, str):
            yield number, text
