"""The module that the kernel runs is missing in its environment, or a part of it.

How to tell: the module behind -m in the kernel's command, and its imports, are searched on the kernel's own sys.path.
Fix: install the kernel package into that environment.

Example:
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath

Not this (the kernel package is there):
    heath has ipykernel 7.0 as ipykernel_launcher.py
    kernel heath starts /home/keeper/heath/bin/python
    asked about kernel:heath
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.imports.resolver import Location, Resolver
from kalyx.core.invocation import kernel_of
from kalyx.core.kernels.makers import KERNEL_PACKAGES, USUAL
from kalyx.core.kernels.specs import SPEC_FILE, kernel_variables
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Evidence, Finding, Interpreter, Kernel, Seat
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.command_line import PythonCommand, behind_python_or_none


class _Lack(Struct):
    """A module that is not there, and the file and line that import it."""

    module: str
    path: str
    line: int


# How many imports deep the kernel package's own files are followed, and how much of a file is read.
_DEEP = 1
_FILE_LIMIT = 1024 * 1024


def look_at_kernel(kernel: Kernel, machine: Machine) -> Finding | None:
    interpreter = kernel.interpreter
    if interpreter is None:
        return None
    command = behind_python_or_none(kernel.command) or PythonCommand(kernel.command[1:])
    variables = command.variables(kernel_variables(kernel, machine.server))
    invocation = Invocation.of_command(command.words, machine.reader, interpreter, variables)
    module = invocation.module
    if not module:
        return None
    search = search_path(machine.reader, interpreter, invocation)
    if search.unknown or machine.reader.refused_within(interpreter.prefix, interpreter.base_prefix):
        return None  # start-up code may provide the module: only a rehearsal can tell
    resolver = Resolver(machine.reader, interpreter, search, machine.reader.folder)
    location = resolver.resolve(module).location
    lacks = _lacking(machine.reader, resolver, module, location) if location is not None else None
    if location is not None and lacks is None:
        return None
    if invocation.no_site and kernel.environment is not None:
        return _without_packages(machine, kernel, kernel.environment, module)
    return _absent(machine, kernel, interpreter, module, lacks, len(search.entries))


def _without_packages(machine: Machine, kernel: Kernel, environment: Environment, module: str) -> Finding:
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    message = f"kernel {kernel.id} runs {module}, and its -S leaves out the packages of {environment.name}"
    evidence = [Evidence.at(path, "holds -S")]
    offered = [fixes.register(machine, environment, kernel.id, take_over=True)]
    return Finding.proven("kernel-package-absent", message, evidence, offered)


def _absent(
    machine: Machine, kernel: Kernel, interpreter: Interpreter, module: str, lacks: _Lack | None, folders: int
) -> Finding:
    requirement = next((p.distribution for p in KERNEL_PACKAGES if p.module == module), None)
    where = kernel.environment.name if kernel.environment else interpreter.prefix
    path = machine.reader.join(kernel.folder, SPEC_FILE)
    again = ["--force-reinstall"] if lacks is not None else []
    wanted = lacks.module if lacks is not None else module
    message = f"kernel {kernel.id} runs the module {module}, which {where} does not have"
    evidence = [
        Evidence.at(path, f"runs -m {module}"),
        Evidence(fact=f"no {wanted} on its sys.path", source=f"{folders} folders read"),
    ]
    if lacks is not None:
        message = f"kernel {kernel.id} runs the module {module}, which imports {wanted}; {where} does not have that"
        evidence.insert(1, Evidence.at(lacks.path, f"imports {wanted}", lacks.line))
    offered = [fixes.install(machine, interpreter, requirement, *again)] if requirement else []
    return Finding.proven("kernel-package-absent", message, evidence, [*offered, fixes.unregister(machine, kernel)])


def _lacking(reader: Reader, resolver: Resolver, module: str, location: Location) -> _Lack | None:
    """A module that the kernel's module imports and that is not on its sys.path.

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
                return _Lack(f"{module}.__main__", here.path, 1)
            here = main
        package = here.module if here.is_package else here.module.rpartition(".")[0]
        for name, attribute, line in _imported(reader, here.path, package):
            resolution = resolver.resolve(name)
            if attribute and resolution.location is not None and resolution.location.is_package:
                below = resolver.resolve(f"{name}.{attribute}")
                if below.location is not None or not _may_hold(reader, resolver, resolution.location, attribute):
                    resolution = below
            if resolution.location is None:
                return _Lack(resolution.missing or name, here.path, line)
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


def look_behind(seat: Seat, machine: Machine) -> Finding | None:
    """The same for the kernel of a seat: without the package the kernel does not start."""
    kernel = kernel_of(seat, machine)
    return look_at_kernel(kernel, machine) if kernel is not None and seat.interpreter is not None else None


def of_seat(machine: Machine, seat: Seat) -> Finding:
    """The finding that the target has no kernel package, with the fix."""
    assert seat.interpreter is not None and seat.environment is not None
    search = search_path(machine.reader, seat.interpreter, Invocation())
    message = f"{seat.environment.name} has no kernel package, so it cannot be a kernel yet"
    evidence = [
        Evidence(
            fact=f"no {USUAL.module} on its sys.path",
            source=f"{len(search.entries)} folders read",
            path=seat.environment.prefix,
        )
    ]
    offered = [fixes.install(machine, seat.interpreter, USUAL.distribution)]
    return Finding.proven("kernel-package-absent", message, evidence, offered)
