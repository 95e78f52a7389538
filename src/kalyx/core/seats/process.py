"""Running Python processes that belong to a folder, and who started them."""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.model.records import Seat, SeatKind
from kalyx.core.seats.build import seat_from, silent_seat, starting
from kalyx.core.seats.callers import (
    above,
    ancestors,
    connection_file_of,
    connection_in,
    is_removed,
    is_shell,
    program_name,
    python_processes,
    started_as,
)
from kalyx.core.seats.shell import telling
from kalyx.core.system import Reader
from kalyx.core.system.reader import FileStat, Process
from kalyx.core.text.redaction import program_ran
from kalyx.core.text.visible import visible


def process_seat(reader: Reader, process: Process, via: str) -> Seat:
    """A live process: what the system says it runs, which beats every file. A kernel is known by its connection."""
    kind: SeatKind = "kernel" if connection_file_of(process) else "process"
    runs = program_ran(process.command) if process.command and kind == "process" else program_name(process)
    name = f"{runs} (pid {process.pid})"
    executable = started_as(reader, process)
    if executable is None:
        seat = silent_seat(kind, name, "the system does not show what it runs", None, undecided=True)
    else:
        seat = seat_from(kind, name, starting(reader, executable), process.folder or reader.folder)
        if seat.interpreter is None and is_removed(reader, process):
            seat = replace(seat, reason=f"{visible(executable)} was removed after the process had started")
    if seat.interpreter is None:
        return replace(seat, via=via, folder=None)
    variables = telling(process.variables or {})
    return replace(seat, via=via, variables=variables, pid=process.pid, started=process.started)


def with_life(reader: Reader, seat: Seat, process: Process) -> Seat:
    """The seat with what its process tells: since when it runs, who started it, what changed under it since."""
    chain = started_by(reader, process)
    return replace(
        seat,
        pid=process.pid,
        started=process.started,
        started_by=chain,
        changed_since=changed_since(reader, seat, process.started),
        compiled=compiled_parts(reader, process.pid),
        label="started by " + chain[0] if seat.label is None and chain else seat.label,
    )


def program_running(reader: Reader, process: Process) -> Seat:
    """A Python program that runs, or an editor's own helper."""
    seat = process_seat(reader, process, "")
    kind = "editor" if editor_of(reader, process) is not None else seat.seat
    return with_life(reader, replace(seat, seat=kind), process)


def programs_of(reader: Reader, folder: str) -> list[Process]:
    """Python programs of this user that stand in the folder, or run a file of it; kernels and Kalyx itself left out."""
    processes, real = [], reader.real(folder)
    family = {reader.pid, *(process.pid for process in ancestors(reader))}
    for process in python_processes(reader):
        if process.pid in family or connection_in(process.command):
            continue
        stands = process.folder is not None and reader.inside(process.folder, real)
        runs = any(reader.path.isabs(word) and reader.inside(word, folder) for word in process.command[1:])
        if stands or runs:
            processes.append(process)
    return processes


def started_by(reader: Reader, process: Process) -> list[str]:
    """The chain of programs above, up to the first shell a person types into; each by name and number."""
    chain = []
    for item in above(reader, process):
        if item.pid == 1:
            break
        name = program_name(item)
        words = [reader.name(word) for word in item.command[1:2] if not word.startswith("-")]
        chain.append(" ".join([name, *words]) + f" ({item.pid})")
        if is_shell(item) and item.leads_terminal:
            break
    return chain


def editor_of(reader: Reader, process: Process) -> str | None:
    """The name of the editor above a process, by the names editors' programs have; None where none is."""
    from kalyx.core.seats.settings_forms import shipped

    names = shipped().programs
    for item in above(reader, process):
        name = program_name(item)
        if name in names:
            return name
    return None


def changed_since(reader: Reader, seat: Seat, started: float | None) -> list[str]:
    """Distributions of the seat's environment whose metadata is younger than its process, which may hold the older."""
    if seat.environment is None or started is None:
        return []
    result = []
    for site in seat.environment.site_packages:
        folder = reader.status(site)
        if not isinstance(folder, FileStat) or folder.modified_ns / 1e9 <= started:
            continue  # nothing came or went in this folder since
        from kalyx.core.packages.metadata import installed_in

        for installed in installed_in(reader, site):
            status = reader.status(installed.path)
            if isinstance(status, FileStat) and status.modified_ns / 1e9 > started:
                result.append(f"{installed.name} {installed.version}")
    return result


def compiled_parts(reader: Reader, pid: int) -> list[str]:
    """The packages whose compiled files a process has loaded, by their folder in a site folder."""
    result: dict[str, None] = {}
    for path in reader.loaded_by(pid):
        for word in ("/site-packages/", "/dist-packages/"):
            before, slash, remainder = path.partition(word)
            if slash and path.endswith(".so"):
                result.setdefault(before + word + remainder.split("/")[0])
    return list(result)
