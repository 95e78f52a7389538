"""What the user asks about: a module, or an import statement."""

from __future__ import annotations

import keyword

from msgspec import Struct

from kalyx.core.model.records import KalyxError


class ImportStatement(Struct, frozen=True):
    """One import: the statement as it would stand in code, the module, the names taken from it."""

    statement: str
    module: str
    names: tuple[str, ...] = ()


def parse_wanted(text: str) -> list[ImportStatement]:
    """The imports that ``text`` asks for: ``a.b`` or ``from a import b`` or ``import a, b``.

    Raises KalyxError, in one line, for what is neither.
    """
    stripped = text.strip()
    if stripped.startswith(("import ", "from ")):
        return _statements(stripped)
    if stripped and all(part.isidentifier() and not keyword.iskeyword(part) for part in stripped.split(".")):
        return [ImportStatement(f"import {stripped}", stripped)]
    shown = stripped if len(stripped) <= 80 else stripped[:77] + "..."
    raise KalyxError(
        f"{shown!r} is not a module name: a module is written like hivescale or hivescale.frames,"
        ' an import like "from hivescale import read"'
    )


def wanted_again(statement: str, module: str) -> ImportStatement:
    """What an answer was about: its statement may begin with dots, or name what no module can be called."""
    names: tuple[str, ...] = ()
    if statement.startswith("from "):
        names = tuple(word.strip() for word in statement.partition(" import ")[2].split(","))
    names = () if names == ("*",) else names
    plain = f"from {module} import {', '.join(names)}" if names else f"import {module}"
    return ImportStatement(plain, module, names)


def _statements(text: str) -> list[ImportStatement]:
    import ast

    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError) as error:
        raise KalyxError(f"this import statement cannot be read: {text[:80]!r} ({error.args[0]})") from None
    statements = []
    for node in tree.body:
        if isinstance(node, ast.Import):
            statements += [ImportStatement(f"import {alias.name}", alias.name) for alias in node.names]
        elif isinstance(node, ast.ImportFrom):
            if node.level or not node.module:
                raise KalyxError(f"{text[:80]!r} is relative: name the package it stands in")
            names = tuple(alias.name for alias in node.names)
            statements.append(ImportStatement(f"from {node.module} import {', '.join(names)}", node.module, names))
        else:
            raise KalyxError(f"{text[:80]!r} holds more than imports")
    return statements
