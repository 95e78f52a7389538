"""Whether a registered kernel can start and be reached, as far as reading tells.

The module behind ``-m`` in the kernel's command, and its imports, are searched on the kernel's own sys.path.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.resolver import Location, Resolver
from kalyx.core.kernels.makers import KERNEL_PACKAGES
from kalyx.core.kernels.specs import UNLISTED, kernel_variables, names_connection_file
from kalyx.core.machine import Machine
from kalyx.core.model.records import Kernel
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.command_line import PythonCommand, behind_python_or_none

# How many imports deep the kernel package's own files are followed, and how much of a file is read.
_DEEP = 1
_FILE_LIMIT = 1024 * 1024


class Lack(Struct):
    """What keeps a kernel from starting: the module it runs, the module that is not on its sys.path.

    ``path``, ``line``: where that is imported, if it is not the module that the kernel runs; ``folders``: how many were
    read; ``is_without_site``: the command leaves out site-packages.
    """

    runs: str
    module: str
    folders: int
    is_without_site: bool
    path: str | None = None
    line: int | None = None


def could_answer(kernel: Kernel, machine: Machine) -> bool:
    """Whether a server lists the kernel, and nothing that was read keeps it from starting and being reached."""
    is_listed = not {"hidden", UNLISTED} & set(kernel.conditions)
    is_started = kernel.interpreter is not None and kernel.environment is not None
    return is_listed and is_started and names_connection_file(kernel) and lack_of(kernel, machine) is None


def lack_of(kernel: Kernel, machine: Machine) -> Lack | None:
    """The module that the kernel needs to start and does not find; None where it finds all, or only running tells."""
    reader, interpreter = machine.reader, kernel.interpreter
    if interpreter is None:
        return None
    command = behind_python_or_none(kernel.command) or PythonCommand(kernel.command[1:])
    variables = command.variables(kernel_variables(kernel, machine.server))
    invocation = Invocation.of_command(command.words, reader, interpreter, variables)
    module = invocation.module
    if not module:
        return None
    search = search_path(reader, interpreter, invocation)
    if search.unknown or reader.refused_within(interpreter.prefix, interpreter.base_prefix):
        return None  # start-up code may provide the module: only a rehearsal can tell
    resolver = Resolver(reader, interpreter, search, reader.folder)
    location = resolver.resolve(module).location
    lack = Lack(module, module, len(search.entries), invocation.no_site)
    if location is None:
        return lack
    absent = _imported_and_absent(reader, resolver, module, location)
    if absent is None:
        return None
    lack.module, lack.path, lack.line = absent
    return lack


def _imported_and_absent(
    reader: Reader, resolver: Resolver, module: str, location: Location
) -> tuple[str, str, int] | None:
    """A module that the kernel's module imports and that is not on its sys.path; the file and line that import it.

    The kernel package's own files are read, two imports deep, and only imports that every run carries out.
    """
    own = {module.split(".")[0]} | {
        word for module_place in KERNEL_PACKAGES for word in (module_place.module, module_place.distribution)
    }
    pending, seen = [(location, 0)], {location.path}
    while pending:
        here, depth = pending.pop(0)
        if here.is_package and here.module == module:
            main = resolver.resolve(f"{module}.__main__").location
            if main is None:
                return f"{module}.__main__", here.path, 1
            here = main
        package = here.module if here.is_package else here.module.rpartition(".")[0]
        for name, attribute, line in _imported(reader, here.path, package):
            resolution = resolver.resolve(name)
            if attribute and resolution.location is not None and resolution.location.is_package:
                below = resolver.resolve(f"{name}.{attribute}")
                if below.location is not None or not _may_hold(reader, resolver, resolution.location, attribute):
                    resolution = below
            if resolution.location is None:
                return resolution.missing or name, here.path, line
            # The packages above a module run before it.
            for module_place in (
                [*resolution.parents, resolution.location] if depth < _DEEP and name.split(".")[0] in own else []
            ):
                if module_place.path not in seen:
                    seen.add(module_place.path)
                    pending.append((module_place, depth + 1))
    return None


def _may_hold(reader: Reader, resolver: Resolver, package: Location, attribute: str) -> bool:
    """Whether a package's own file may give a name: by writing the name, or by what it takes all names of."""
    names = [name for name, taken, _ in _imported(reader, package.path, package.module) if taken == "*"]
    places = [package, *(resolver.resolve(name).location for name in names)]
    for location in places:
        text = reader.text_or_none(location.path, _FILE_LIMIT) if location is not None else None
        passes_on = location is not package and "import *" in (text or "")
        if text is None or attribute in text or "__getattr__" in text or passes_on:
            return True
    return False


def _imported(reader: Reader, path: str, package: str) -> Iterator[tuple[str, str, int]]:
    """What a file imports under no condition but that of being the program: the module, the name of it, the line."""
    import ast  # few environments have a kernel

    try:
        tree = ast.parse(reader.read_whole(path, _FILE_LIMIT)) if path.endswith(".py") else ast.Module([], [])
    except (Unreadable, SyntaxError, ValueError, RecursionError, MemoryError):
        return
    pending = list(tree.body)
    while pending:
        node = pending.pop(0)
        if isinstance(node, ast.If) and "__name__" in {getattr(part, "id", "") for part in ast.walk(node.test)}:
            pending[:0] = node.body
        elif isinstance(node, ast.Import):
            yield from ((alias.name, "", node.lineno) for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            above = package.split(".")[: len(package.split(".")) - node.level + 1] if node.level else []
            name = ".".join([*above, *([node.module] if node.module else [])])
            yield from ((name, alias.name, node.lineno) for alias in node.names)
