"""What a compiler would refuse of a module's source, by reading it: for where nothing may be started."""

from __future__ import annotations

import ast
import io
import sys
import tokenize

from kalyx.core.imports.resolver import Resolution
from kalyx.core.imports.trial import Raised
from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.versions import pair_of

_LIMIT = 4 * 1024 * 1024


def refused_source(reader: Reader, interpreter: Interpreter, resolution: Resolution) -> Raised | None:
    """The error of the first file on the way to a module that this interpreter cannot compile; None: none is known."""
    places = [*resolution.parents, *([resolution.location] if resolution.location is not None else [])]
    for path in [location.path for location in places if location.path.endswith(".py")]:
        try:
            error = _error(reader.read_whole(path, _LIMIT), interpreter.version)
        except (Unreadable, RecursionError, MemoryError):
            continue
        if error is not None:
            kind = "SyntaxError" if isinstance(error, SyntaxError) else type(error).__name__
            text = error.msg if isinstance(error, SyntaxError) else str(error)
            return Raised(kind, text, file=path, line=getattr(error, "lineno", None) or 1)
    return None


def _error(raw: bytes, version: str) -> SyntaxError | ValueError | None:
    major, minor = pair_of(version)
    if b"\0" in raw:
        return ValueError("source code string cannot contain null bytes")
    if major < 3:
        return None
    try:
        encoding, _ = tokenize.detect_encoding(io.BytesIO(raw).readline)
        raw.decode(encoding)
        # An older grammar is part of a newer one, but for words that were free before 3.7.
        if (3, 7) <= (major, minor) <= sys.version_info[:2]:
            ast.parse(raw, feature_version=(major, minor))
    except UnicodeDecodeError as error:
        return SyntaxError(f"(unicode error) {error}")
    except (SyntaxError, ValueError) as error:
        return error
    return None
