"""How a seat runs Python, and the search path this gives: read, or asked where the user named the seat.

Reading cannot know what start-up code puts on the path (a ``.pth`` line that
runs, a ``sitecustomize``). A target the user named is then asked itself, with
its own flags and variables; one merely found never is.
"""

from __future__ import annotations

from kalyx.core.environments.searchpath import STARTUP, SearchPath, Way, search_path
from kalyx.core.facts import KalyxError, Kernel, PathEntry, Seat
from kalyx.core.kernels.specs import kernel_variables
from kalyx.core.machine import Machine


def way_of(seat: Seat, machine: Machine, command: str | None = None) -> Way:
    """How this seat runs Python: a kernel has the current folder first, the others run a script from the folder.

    ``command`` is a command line whose flags and program decide instead; its
    first word is passed over. Raises KalyxError where it cannot be read.
    """
    folder = seat.folder or machine.facts.folder
    variables = _variables(seat, machine)
    if command is not None:
        import shlex

        try:
            words = shlex.split(command)[1:]
        except ValueError as error:
            raise KalyxError(f"{command!r} is no command line: {error}") from None
        if seat.interpreter is None:
            raise KalyxError(f"{seat.name} starts no interpreter: {seat.reason}")
        return Way.of_command(words, machine.facts, seat.interpreter, variables)
    if seat.seat in ("kernel", "notebook"):
        return Way(first="", first_origin="the notebook's folder", variables=variables)
    return Way(first=folder, first_origin="the folder of the script", variables=variables)


def _variables(seat: Seat, machine: Machine) -> dict[str, str]:
    """All variables the seat runs with, read where they are: its record shows only some of them."""
    if seat.pid is not None:
        process = machine.facts.process(seat.pid)
        if process is not None and process.variables:
            return dict(process.variables)
    kernel = kernel_of(seat, machine)
    if kernel is not None:
        return kernel_variables(kernel, machine.server)
    return dict(machine.facts.variables)


def kernel_of(seat: Seat, machine: Machine) -> Kernel | None:
    """The registered kernel that a seat stands for, or None."""
    if seat.via is None or not seat.via.startswith("kernel:"):
        return None
    return machine.kernel_by_id(seat.via.removeprefix("kernel:"))


def search_of(seat: Seat, machine: Machine, *, named: bool, command: str | None = None) -> SearchPath:
    """The seat's search path, also written into the seat; asked where ``named`` and only running code can tell."""
    assert seat.interpreter is not None
    way = way_of(seat, machine, command)
    found = search_path(machine.facts, seat.interpreter, way)
    if found.unknown and named and machine.runner is not None:
        _ask(seat, machine, way, found)
    seat.search_path = found.entries
    return found


def _ask(seat: Seat, machine: Machine, way: Way, found: SearchPath) -> None:
    """Replace what was read by what the interpreter says; what it gives no answer to stays unknown."""
    from kalyx.core.interpreters.asking import ask_witness

    assert seat.interpreter is not None and machine.runner is not None
    facts = machine.facts
    answer, _ = ask_witness(
        machine.runner,
        seat.interpreter.executable,
        ["-B", *way.flags],
        ["who"],
        variables=way.variables,
        folder=seat.folder or facts.folder,
        seconds=machine.seconds,
    )
    if answer is None:
        return
    origins = {entry.entry: entry.origin for entry in found.entries}
    first = found.entries[:1] if found.entries and found.entries[0].origin == way.first_origin else []
    found.entries = first + [
        PathEntry(entry=text, origin=origins.get(text, STARTUP), exists=facts.exists(text) if text else True)
        for text in answer["path"]
    ]
    found.unknown = []


def with_search_path(seat: Seat, machine: Machine) -> Seat:
    """The seat with its search path filled in by reading, each entry with its origin."""
    if seat.interpreter is not None and not seat.search_path:
        search_of(seat, machine, named=False)
    return seat
