"""Running Python processes that belong to a folder, and who started them."""

from __future__ import annotations

from kalyx.core.doors import Facts
from kalyx.core.doors.reading import Process
from kalyx.core.packages.metadata import installed_in
from kalyx.core.records import Seat
from kalyx.core.seats.callers import connection_in, is_shell, program_name, python_processes


def programs_of(facts: Facts, folder: str) -> list[Process]:
    """Python programs of this user that stand in the folder, or run a file of it; kernels and Kalyx itself left out."""
    found, real = [], facts.real(folder)
    family = {facts.pid, *(process.pid for process in above(facts, facts.process(facts.pid)))}
    for process in python_processes(facts):
        if process.pid in family or connection_in(process.command):
            continue
        stands = process.folder is not None and facts.inside(process.folder, real)
        runs = any(facts.path.isabs(word) and facts.inside(word, folder) for word in process.command[1:])
        if stands or runs:
            found.append(process)
    return found


def above(facts: Facts, process: Process | None) -> list[Process]:
    """The processes above one, nearest first."""
    found: list[Process] = []
    while process is not None and process.parent and len(found) < 64:
        process = facts.process(process.parent)
        if process is not None:
            found.append(process)
    return found


def started_by(facts: Facts, process: Process) -> list[str]:
    """The chain of programs above, up to the first shell a person types into; each by name and number."""
    chain = []
    for one in above(facts, process):
        if one.pid == 1:
            break
        name = program_name(one)
        words = [facts.name(word) for word in one.command[1:2] if not word.startswith("-")]
        chain.append(" ".join([name, *words]) + f" ({one.pid})")
        if is_shell(one) and one.leads_terminal:
            break
    return chain


def editor_of(facts: Facts, process: Process) -> str | None:
    """The name of the editor above a process, by the names editors' programs have; None where none is."""
    from kalyx.core.data import table

    names = table("editors").get("programs", [])
    assert isinstance(names, list)
    for one in above(facts, process):
        name = program_name(one)
        if name in names:
            return name
    return None


def changed_since(facts: Facts, seat: Seat) -> list[str]:
    """Distributions of the seat's environment whose metadata is younger than its process, which may hold the older."""
    if seat.environment is None or seat.started is None:
        return []
    found = []
    for site in seat.environment.site_packages:
        folder = facts.status(site)
        if folder is None or folder.modified_ns / 1e9 <= seat.started:
            continue  # nothing came or went in this folder since
        for installed in installed_in(facts, site):
            status = facts.status(installed.path)
            if status is not None and status.modified_ns / 1e9 > seat.started:
                found.append(f"{installed.name} {installed.version}")
    return found


def compiled_parts(facts: Facts, pid: int) -> list[str]:
    """The packages whose compiled files a process has loaded, by their folder in a site folder."""
    found: dict[str, None] = {}
    for path in facts.loaded_by(pid):
        for word in ("/site-packages/", "/dist-packages/"):
            before, slash, rest = path.partition(word)
            if slash and path.endswith(".so"):
                found.setdefault(before + word + rest.split("/")[0])
    return list(found)
