"""Whether a compiled file is for the interpreter that is to load it: by its name's tag and by its header."""

from __future__ import annotations

from kalyx.core.formats.headers import COMPILED, Header, read_header
from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader
from kalyx.core.text.patterns import pattern

# PEP 3149 and what Windows and PyPy write: cpython-311-x86_64-linux-gnu, cp311-win_amd64, pypy39-pp73-...
_TAG = pattern(r"^(cpython-|cp|pypy)(\d)(\d+)([a-z]*)(?:-|$)")


def is_compiled(path: str) -> bool:
    """Whether a name is that of a compiled module or library."""
    return path.endswith(COMPILED) or ".so." in path.replace("\\", "/").rpartition("/")[2]


def own_header(reader: Reader, interpreter: Interpreter) -> Header:
    """What the interpreter's own file says: what a compiled module must match."""
    return read_header(reader, interpreter.real_executable)


def foreign(reader: Reader, interpreter: Interpreter, path: str) -> str | None:
    """For which other system, processor or C library the file is, in words; None where for this one or unknown."""
    header, own = read_header(reader, path), own_header(reader, interpreter)
    if header.form is None:
        return None
    names = {"linux": "Linux", "macos": "macOS", "windows": "Windows"}
    if header.system != reader.system:
        return f"for {names[header.system or 'linux']}, and this is {names[reader.system]}"
    if own.machines and header.machines and not set(own.machines) & set(header.machines):
        return f"for {' and '.join(header.machines)}, and this interpreter is {own.machines[0]}"
    if own.c_library and header.c_library and own.c_library != header.c_library:
        return f"for systems with the C library {header.c_library}, and this one has {own.c_library}"
    return None


def build_of(path: str) -> str | None:
    """The Python a compiled module's name says it is for (``3.10``, ``PyPy 3.9``, ``3.13 without the lock``)."""
    name = path.replace("\\", "/").rpartition("/")[2]
    parts = name.split(".")
    match = _TAG.match(parts[1]) if len(parts) > 2 else None
    if match is None:
        return None
    kind, major, minor, flags = match.groups()
    text = f"{major}.{minor}" + (" without the lock" if "t" in flags else "")
    return f"PyPy {text}" if kind == "pypy" else text


def is_other_build(path: str, interpreter: Interpreter) -> bool:
    """Whether the name of a compiled module says that it is for another Python than this one."""
    build = build_of(path)
    if build is None:
        return False
    own = interpreter.minor + (" without the lock" if "t" in interpreter.abi_flags else "")
    return build != (f"PyPy {own}" if interpreter.implementation == "pypy" else own)
