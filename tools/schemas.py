"""Write docs/schema/ from the records: python tools/schemas.py"""

from __future__ import annotations

import inspect
import json
from pathlib import Path
from typing import Any

import msgspec

from kalyx.core.model import action_results, results

_NAMED = vars(results) | vars(action_results)
ANSWERS = [item for name, item in _NAMED.items() if name.endswith("Answer") and "schema" in item.__struct_fields__]
FOLDER = Path(__file__).resolve().parents[1] / "docs" / "schema"


def schemas() -> dict[str, str]:
    """File name to content, one schema a command."""
    found = {}
    for answer in ANSWERS:
        for name in msgspec.json.schema(answer)["$defs"][answer.__name__]["properties"]["schema"].get("enum", []):
            command = name.removeprefix("kalyx.").split("/")[0]
            schema = _described(msgspec.json.schema(answer))
            found[f"{command}.json"] = json.dumps(schema, indent=1, sort_keys=True) + "\n"
    return found


def _described(value: Any) -> Any:
    """The same with docstrings as ``inspect.cleandoc`` gives them; since 3.13 the compiler does that itself."""
    if isinstance(value, dict):
        found = {key: _described(item) for key, item in value.items()}
        if isinstance(value.get("description"), str):
            found["description"] = inspect.cleandoc(value["description"])
        return found
    return [_described(item) for item in value] if isinstance(value, list) else value


if __name__ == "__main__":
    for name, content in schemas().items():
        (FOLDER / name).write_text(content)
