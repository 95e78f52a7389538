"""The product's own files, each parsed and walked once."""

import ast
from functools import cache
from pathlib import Path


@cache
def parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text(encoding="utf-8"))


@cache
def nodes(path: Path) -> list[ast.AST]:
    return list(ast.walk(parsed(path)))
