"""Notebook files (the notebook format, versions 3 and 4): what they say of their kernel, and the text of their cells.

Only the needed parts become objects; outputs, which are most of a file, are skipped while it is read. What that strict
reader refuses (NaN, or half a character, which writers of notebooks accept) the standard reader reads.
"""

from __future__ import annotations

import json

from msgspec import DecodeError, Struct
from msgspec import json as fast

from kalyx.core.formats.span import Malformed

_BY_STANDARD_READER = 32 * 1024 * 1024  # it makes an object of everything


class _Cell(Struct):
    cell_type: object = None
    source: object = None
    input: object = None


class _Notebook(Struct):
    cells: list[_Cell] = []


class _Whole(Struct):
    cells: list[_Cell] = []
    worksheets: list[_Notebook] = []


class _Top(Struct):
    metadata: object = None


def _by_standard_reader(raw: bytes) -> dict[str, object]:
    if len(raw) > _BY_STANDARD_READER:
        raise Malformed("not plain JSON, and too large to be read in another way")
    try:
        whole = json.loads(raw.decode("utf-8-sig"))
    except RecursionError:
        raise Malformed("nested too deeply") from None
    except ValueError as error:
        raise Malformed(str(error).split("\n")[0][:200]) from None
    return whole if isinstance(whole, dict) else {}


def metadata_of(raw: bytes) -> dict[str, object]:
    """The notebook's metadata. Raises Malformed for what is no notebook."""
    try:
        result = fast.decode(raw.removeprefix(b"\xef\xbb\xbf"), type=_Top).metadata
    except (DecodeError, ValueError, RecursionError):
        result = _by_standard_reader(raw).get("metadata")
    if not isinstance(result, dict):
        raise Malformed("it has no metadata")
    return result


def code_cells(raw: bytes) -> list[tuple[int, str]]:
    """The text of each code cell with its number; older formats keep cells in worksheets, their text as ``input``."""
    try:
        whole = fast.decode(raw.removeprefix(b"\xef\xbb\xbf"), type=_Whole)
        cells = [*whole.cells, *(cell for sheet in whole.worksheets for cell in sheet.cells)]
    except (DecodeError, ValueError, RecursionError):
        cells = _lenient_cells(_by_standard_reader(raw))
    result = []
    for number, cell in enumerate(cells, 1):
        text = cell.source if cell.source is not None else cell.input
        if isinstance(text, list):
            text = "".join(line for line in text if isinstance(line, str))
        if cell.cell_type == "code" and isinstance(text, str):
            result.append((number, text))
    return result


def _lenient_cells(whole: dict[str, object]) -> list[_Cell]:
    """Every cell of a file whose parts may be of any type; one that is no cell spoils only itself."""
    sheets = [whole, *_list(whole.get("worksheets"))]
    cells = [cell for sheet in sheets if isinstance(sheet, dict) for cell in _list(sheet.get("cells"))]
    return [
        _Cell(cell.get("cell_type"), cell.get("source"), cell.get("input")) if isinstance(cell, dict) else _Cell()
        for cell in cells
    ]


def _list(value: object) -> list[object]:
    return value if isinstance(value, list) else []
