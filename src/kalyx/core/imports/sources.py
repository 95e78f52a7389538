"""The imports that files ask for, read from their code and never run: scripts, notebooks, folders.

An import in a function or under ``try`` is distinguished from one that every run
meets. Lines in cells that are the notebook's own (``%``, ``!``, ``?``) are left
out; those that install something are kept, since they may reach elsewhere.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.formats.notebook import code_cells
from kalyx.core.formats.span import Malformed
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.names import is_module_name
from kalyx.core.text.patterns import pattern

if TYPE_CHECKING:
    from tokenize import TokenInfo

_LIMIT = 64 * 1024 * 1024
_FILES = 2_000
# How a zip archive ends (APPNOTE 4.3.16), and the bytes from the end in which that stands.
_END_OF_ARCHIVE, _TAIL = b"PK\x05\x06", 65557
# Of a cell's first line: those that run what stands below as code of the notebook's own Python.
_AROUND_CODE = {"time", "timeit", "capture", "prun", "python", "python3", "memit", "mprun", "snakeviz"}
_ASSIGNED = pattern(r"[\w, ]+=\s*[!%]")
_PASSED_OVER = {"__pycache__", "node_modules", "site-packages", ".git", ".hg", "build", "dist"}


class FoundImport(Struct, kw_only=True):
    """One import in a file: the statement, the module, the names; where it stands and whether every run meets it."""

    statement: str
    module: str
    names: tuple[str, ...] = ()
    path: str
    line: int
    cell: int | None = None
    guarded: bool = False
    level: int = 0  # the dots before it
    either: int | None = None  # for imports that replace each other (try, except): the line of the try

    @property
    def top(self) -> str:
        """The first word of the module's name."""
        return self.module.split(".")[0]


class Read(Struct):
    """What was read of one file: its imports, the shell lines that install, and why it could not be read.

    ``by_line``: its imports where the parser of the Python that runs Kalyx does not take it; another Python may.
    """

    path: str
    imports: list[FoundImport] = []
    installs: list[tuple[int, int, str]] = []  # cell, line in it, the words
    problem: str | None = None
    is_archive: bool = False
    by_line: list[FoundImport] = []


def read_file(reader: Reader, path: str) -> Read:
    """The imports of a script, a notebook or an archive's ``__main__.py``. Never raises for what is wrong in it."""
    try:
        raw = reader.read_whole(path, _LIMIT)
    except Unreadable as problem:
        return Read(path, problem=problem.reason)
    is_archive = _END_OF_ARCHIVE in raw[-_TAIL:]
    program = _program_in(raw) if is_archive else raw
    if program is None:
        return Read(path, problem="an archive that is damaged, or that has no __main__.py")
    if path.endswith(".ipynb"):
        return _notebook(path, raw)
    source = Read(path, is_archive=is_archive)
    try:
        _take(source, _imports(ast.parse(program), path, None))
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        line = getattr(error, "lineno", None)
        source.problem = f"line {line}: {error.args[0]}" if line else str(error)[:200]
        if isinstance(error, SyntaxError) and not is_archive:
            source.by_line = [item for item in _by_line(program, path) if is_module_name(item.module or "x")]
    return source


def _by_line(program: bytes, path: str) -> Iterator[FoundImport]:
    """The imports of a source that no parser here takes, by its words alone: an indented one may not be reached."""
    import io
    import tokenize

    words: list[TokenInfo] = []
    depth = 0
    try:
        for token in tokenize.tokenize(io.BytesIO(program).readline):
            depth += (token.type == tokenize.INDENT) - (token.type == tokenize.DEDENT)
            if token.type == tokenize.NEWLINE or token.string == ";":
                for item in _of_words(words, path):
                    yield replace(item, line=words[0].start[0], guarded=item.guarded or depth > 0)
                words = []
            elif token.type in (tokenize.NAME, tokenize.OP):
                words.append(token)
    except (tokenize.TokenError, SyntaxError, ValueError):
        return


def _of_words(words: list[TokenInfo], path: str) -> Iterator[FoundImport]:
    words = words[1:] if words and words[0].string == "lazy" else words  # PEP 810
    if not words or words[0].string not in ("import", "from"):
        return
    try:
        tree = ast.parse(" ".join(word.string for word in words))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return
    yield from _imports(tree, path, None)


def _program_in(raw: bytes) -> bytes | None:
    """The ``__main__.py`` of a zip archive (PEP 441), at most ``_LIMIT`` bytes of it; None where there is none."""
    import io
    import zipfile
    import zlib

    try:
        with zipfile.ZipFile(io.BytesIO(raw)) as archive, archive.open("__main__.py") as member:
            return member.read(_LIMIT)
    except (zipfile.BadZipFile, KeyError, OSError, ValueError, NotImplementedError, RuntimeError, EOFError, zlib.error):
        return None


def _notebook(path: str, raw: bytes) -> Read:
    result = Read(path)
    try:
        cells = code_cells(raw)
    except Malformed as error:
        return Read(path, problem=f"not a notebook: {error}")
    for number, source in cells:
        for at, line in enumerate(source.splitlines(), 1):
            words = line.strip()
            if words.startswith(("!", "%")) and " install" in words and "pip" in words:
                result.installs.append((number, at, words))
        _take(result, _imports_of_cell(source, path, number))
    return result


def _take(read: Read, imports: Iterator[FoundImport]) -> None:
    """Keep the imports; a name that is longer than a module's can be is the file's problem."""
    for asked in imports:
        if asked.module and not is_module_name(asked.module):
            read.problem = f"line {asked.line}: a module's name of {len(asked.module)} characters"
        else:
            read.imports.append(asked)


def _imports_of_cell(source: str, path: str, number: int) -> Iterator[FoundImport]:
    """The imports of one cell, none of another language; by its lines where only another Python takes the cell."""
    if source.lstrip().startswith("%%"):
        first, _, source = source.lstrip().partition("\n")
        if first[2:].split(" ")[0] not in _AROUND_CODE:
            return
    plain = _without_own_lines(source)
    for text in (source, plain):
        try:
            tree = ast.parse(text)
        except (SyntaxError, ValueError, RecursionError, MemoryError):
            continue
        yield from _imports(tree, path, number)
        return
    for item in _by_line(plain.encode("utf-8", "replace"), path):
        yield replace(item, cell=number)


def _without_own_lines(source: str) -> str:
    """The code of a cell with ``pass`` in place of each line that is the notebook's own."""
    lines, scanner = [], _Scanner()
    for line in source.splitlines():
        words = line.strip()
        own = (
            words.startswith(("%", "!", "?"))
            or _ASSIGNED.match(words)
            or words.partition("#")[0].rstrip().endswith("?")
        )
        if own and not scanner.inside:
            line = line[: len(line) - len(line.lstrip())] + "pass"
        scanner.read(line)
        lines.append(line)
    return "\n".join(lines)


class _Scanner:
    """Tells whether the lines so far end inside brackets or inside a string of several lines."""

    def __init__(self) -> None:
        self.depth, self.quote = 0, ""

    @property
    def inside(self) -> bool:
        return self.depth > 0 or bool(self.quote)

    def read(self, line: str) -> None:
        at = 0
        while at < len(line):
            if self.quote:
                if line[at] == "\\":
                    at += 1
                elif line.startswith(self.quote, at):
                    at, self.quote = at + len(self.quote) - 1, ""
            elif line[at] == "#":
                return
            elif line[at] in "'\"":
                self.quote = line[at] * 3 if line.startswith(line[at] * 3, at) else line[at]
                at += len(self.quote) - 1
            elif line[at] in "([{":
                self.depth += 1
            elif line[at] in ")]}":
                self.depth = max(0, self.depth - 1)
            at += 1
        if len(self.quote) == 1:
            self.quote = ""  # a text of one line ends with it


def _imports(tree: ast.AST, path: str, cell: int | None) -> Iterator[FoundImport]:
    """The imports in the order of the text, without recursion, because code may be nested to any depth."""
    pending: list[tuple[ast.AST, bool, int | None]] = [(tree, False, None)]
    while pending:
        node, guarded, either = pending.pop()
        if isinstance(node, ast.Import):
            for alias in node.names:
                statement = f"import {alias.name}"
                yield FoundImport(statement=statement, module=alias.name, path=path, line=node.lineno, cell=cell,
                                  guarded=guarded, either=either)  # fmt: skip
        elif isinstance(node, ast.ImportFrom):
            if node.module or node.level:
                names = tuple(alias.name for alias in node.names)
                module = "." * node.level + (node.module or "")
                statement = f"from {module} import {', '.join(names)}"
                yield FoundImport(statement=statement, module=node.module or "", names=names, path=path,
                                  line=node.lineno, cell=cell, guarded=guarded, level=node.level,
                                  either=either)  # fmt: skip
        elif isinstance(node, ast.Try):
            pending += reversed(_tried(node, guarded, either))
        else:
            inner = guarded or isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.Lambda)
            inner = inner or (isinstance(node, ast.If) and _asks_for_types(node.test))
            pending += [(item, inner, either) for item in reversed(list(ast.iter_child_nodes(node)))]


def _tried(node: ast.Try, guarded: bool, either: int | None) -> list[tuple[ast.AST, bool, int | None]]:
    """The parts of a ``try``: what a handler catches is guarded, but for one that raises, or that imports instead."""
    handlers = [handler for handler in node.handlers if _catches_imports(handler)]
    raises = any(isinstance(statement, ast.Raise) for handler in handlers for statement in handler.body)
    instead = any(
        isinstance(statement, ast.Import | ast.ImportFrom) for handler in handlers for statement in handler.body
    )
    body = guarded or bool(handlers and not raises)
    tried_by = node.lineno if instead and not guarded else either
    result: list[tuple[ast.AST, bool, int | None]] = [(statement, body, tried_by) for statement in node.body]
    result += [(statement, body or instead, tried_by) for handler in node.handlers for statement in handler.body]
    return result + [(statement, guarded, either) for statement in [*node.orelse, *node.finalbody]]


def _catches_imports(handler: ast.ExceptHandler) -> bool:
    """Whether a handler is one for an import that fails."""
    if handler.type is None:
        return True
    names = {getattr(node, "id", getattr(node, "attr", "")) for node in ast.walk(handler.type)}
    return bool(
        names & {"ImportError", "ModuleNotFoundError", "Exception", "BaseException", "AttributeError", "OSError"}
    )


def _asks_for_types(test: ast.expr) -> bool:
    """``if TYPE_CHECKING:`` in either form: what stands below it is not run."""
    return any(getattr(node, "id", getattr(node, "attr", "")) == "TYPE_CHECKING" for node in ast.walk(test))


def read_folder(reader: Reader, folder: str) -> list[Read]:
    """Every script and notebook below a folder; environments and what others brought along are passed over.

    Where there are more than can be looked at, the last one says so, as a place that was not read.
    """
    sources: list[Read] = []
    pending = [folder]
    while pending and len(sources) < _FILES:
        here = pending.pop(0)
        for name in reader.names(here):
            path = reader.join(here, name)
            kind = reader.kind(path)
            if kind == "file" and name.endswith((".py", ".ipynb")):
                sources.append(read_file(reader, path))
            elif kind == "folder" and name not in _PASSED_OVER and not name.startswith("."):
                if not reader.may_be_there(reader.join(path, "pyvenv.cfg")) and not reader.is_folder(
                    reader.join(path, "conda-meta")
                ):
                    pending.append(path)
    if pending or len(sources) >= _FILES:
        sources.append(Read(path=folder, problem=f"only the first {len(sources)} files of it were looked at"))
    return sources


def modules_of_notebook(reader: Reader, path: str) -> list[str]:
    """The top-level modules that a notebook's code cells import, each once; none where it cannot be read."""
    return list(dict.fromkeys(imported.top for imported in read_file(reader, path).imports if not imported.level))
