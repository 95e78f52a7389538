"""Development installs: generated finder files, whose mapping is read and never run."""

from __future__ import annotations

from kalyx.core.system import Reader


def finder_mapping(reader: Reader, path: str) -> dict[str, str]:
    """The module-to-folder mapping that a generated finder holds; empty when it has none to read."""
    import ast

    text = reader.text_or_none(path, 1024 * 1024)
    for line in (text or "").splitlines():
        if not line.startswith("MAPPING"):
            continue
        _, equals, value = line.partition("=")
        try:
            mapping = ast.literal_eval(value.strip()) if equals else None
        except (ValueError, SyntaxError, MemoryError, RecursionError):
            continue
        if isinstance(mapping, dict):
            return {k: v for k, v in mapping.items() if isinstance(k, str) and isinstance(v, str)}
    return {}
