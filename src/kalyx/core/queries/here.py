"""What every seat in a folder uses, side by side, with the relation to one of them."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.diagnosis import catalogue, fixes
from kalyx.core.invocation import UNNAMED, search_of, with_search_path
from kalyx.core.machine import Machine
from kalyx.core.model.records import Finding, Fitness, Kernel, Part, ProjectAsks, Relation, Seat, Unread
from kalyx.core.model.results import HereAnswer
from kalyx.core.model.steps import FillEnvironment, Step
from kalyx.core.packages.project import Project, environment_of_project, project_of
from kalyx.core.seats.editor import editor_seats
from kalyx.core.seats.notebook import notebook_seat, notebooks_in, read_notebook
from kalyx.core.seats.pasted import pasted_seats
from kalyx.core.seats.process import program_running, programs_of, with_life
from kalyx.core.seats.running import Live, live_seat
from kalyx.core.seats.server import RunningServer, server_seat
from kalyx.core.system import Reader
from kalyx.core.system.reader import FileStat
from kalyx.core.targets import default_seat, live_of_notebook, seat_of_kernel

# Conditions of a kernel that are worth a line when somebody asks about a folder.
MATTERS = {"interpreter-gone", "name-misleads", "kernel-package-absent", "spec-unreadable", "kernel-absent",
           "installer-elsewhere", "activation-differs", "not-activated", "no-interpreter", "base-gone", "half-made",
           "in-version-control"}  # fmt: skip


def look_here(
    machine: Machine, reference: Seat | None = None, *, ask: bool = False, pasted: str = "", whole: bool = False
) -> HereAnswer:
    """The seats of the folder, the reference first. ``reference`` None means the caller or the shell.

    ``ask``: the shell is asked what its start files define, and running kernels who they are. ``pasted``: what the
    user's consoles said (``pasted.py``). ``whole``: with the kernels that nothing in the folder refers to, too.
    """
    shell = catalogue.judge_seat(machine.environments.named_seat(machine.shell_seat), machine)
    if ask:
        from kalyx.core.queries.live_seats import ask_shell

        shell = replace(shell, parts=shell.parts + ask_shell(machine))
    asked = reference or default_seat(machine)
    reference = shell if asked is machine.shell_seat else machine.environments.named_seat(asked)
    seats = [reference]
    if not _same_seat(reference, shell):
        seats.append(shell)
    lives, unread = machine.servers.lives, list[Unread]()
    editors = [machine.environments.named_seat(seat) for seat in editor_seats(machine.reader, machine.reader.folder)]
    used = _Used.by(machine, [reference, shell, *editors], lives)
    kernels = [kernel for kernel in machine.kernels if whole or used.refers_to(kernel)]
    shown = [_kernel_seat(catalogue.judge_kernel(kernel, machine), machine) for kernel in kernels]
    seats += [seat for seat in shown if not _same_seat(seat, reference)]
    by_id = {kernel.id: seat.findings for kernel, seat in reversed(list(zip(kernels, shown, strict=True)))}
    for path in notebooks_in(machine.reader, machine.reader.folder):
        seat = live_of_notebook(machine, path) or seat_of_file(path, machine)
        if not _same_seat(seat, reference):
            seats.append(seat)
    seats += [seat for seat in running_seats(machine, lives) if not _same_seat(seat, reference)]
    for seat in editors:
        if not _same_seat(seat, reference):
            seats.append(catalogue.judge_seat(seat, machine))
    seats += pasted_seats(machine.reader, machine.reader.folder, pasted)
    if ask:
        seats = _kernels_asked(machine, seats, lives)
    seats = [
        replace(seat, relation=relation(seat, reference), findings=seat.findings or by_id.get(seat.kernel or "", []))
        for seat in seats
    ]
    seats = [with_search_path(seat, machine) for seat in seats]
    asks = _for_the_project(machine, seats, unread)
    reference = seats[0]
    return HereAnswer(
        project=asks,
        fill=_filling(machine, reference, asks),
        reference=reference,
        seats=seats,
        folder=machine.reader.folder,
        findings=_that_matter(seats),
        unread=machine.servers.unread + unread,
        seen_by=machine.server.answers,
        other_kernels=[] if whole else [kernel.id for kernel in machine.kernels if not used.refers_to(kernel)],
    )


class _Used(Struct):
    """What a folder uses: the kernels that its notebooks name or run on, and the environments of its other seats."""

    machine: Machine
    kernels: set[str]
    environments: set[str]
    tree: str

    @classmethod
    def by(cls, machine: Machine, seats: list[Seat], lives: list[Live]) -> _Used:
        """What these seats, the notebooks of the folder and its running kernels use."""
        reader = machine.reader
        named = [read_notebook(reader, path).kernel for path in notebooks_in(reader, reader.folder)]
        named += [live.spec for live in lives if live.notebook and reader.parent(live.notebook) == reader.folder]
        named += [seat.kernel for seat in seats if seat.kernel is not None]
        started = [seat.environment for seat in seats] + [part.environment for seat in seats for part in seat.parts]
        keys = {environment.key for environment in started if environment is not None}
        own = environment_of_project(reader, reader.folder)
        keys |= {reader.real(own)} if own is not None else set()
        return cls(machine, {name.lower() for name in named if name}, keys, reader.real(reader.folder))

    def refers_to(self, kernel: Kernel) -> bool:
        """Whether something in the folder names the kernel, or uses what the kernel starts."""
        reader = self.machine.reader
        if kernel.id in self.kernels or (
            kernel.environment is not None and kernel.environment.key in self.environments
        ):
            return True
        places = [kernel.folder, *kernel.command[:1]]
        return any(reader.path.isabs(path) and reader.inside(path, self.tree) for path in places)


def _for_the_project(machine: Machine, seats: list[Seat], unread: list[Unread]) -> ProjectAsks | None:
    """Each seat told whether it can run the folder's project; None where the folder belongs to none."""
    project = project_of(machine.reader, machine.reader.folder)
    if project is None:
        return None
    if project.problem is not None:
        unread.append(Unread(path=project.path, reason=project.problem))
    else:
        from kalyx.core.queries.fitness import fitness

        known: dict[object, Fitness] = {}
        for number, seat in enumerate(seats):
            if seat.interpreter is not None:
                key = seat.interpreter.executable, tuple(entry.entry for entry in seat.search_path[1:])
                if key not in known:
                    search = search_of(seat, machine, UNNAMED)
                    known[key] = fitness(machine, seat.interpreter, search, project)
                seats[number] = replace(seat, project=known[key])
    return asks_of(project)


def _filling(machine: Machine, reference: Seat, asks: ProjectAsks | None) -> Step | None:
    """The line that installs what the reference's environment lacks; None where no package is missing."""
    fit, environment = reference.project, reference.environment
    if asks is None or fit is None or environment is None or environment.kind != "virtual":
        return None
    if fit.runs or not fit.python_allowed:
        return None
    return fixes.step(machine, FillEnvironment(prefix=environment.prefix, source=machine.reader.parent(asks.path)))


def asks_of(project: Project) -> ProjectAsks:
    """A project as it stands in an answer."""
    count = sum(wish.group is None for wish in project.wishes)
    return ProjectAsks(path=project.path, name=project.name, requires_python=project.requires_python,
                       requirements=count, problem=project.problem)  # fmt: skip


def _kernels_asked(machine: Machine, seats: list[Seat], lives: list[Live]) -> list[Seat]:
    """The seats; what a running kernel says of itself is a part of its seat."""
    from kalyx.core.queries.live_seats import ask_kernel

    by_pid, result = {live.process.pid: live for live in lives}, list[Seat]()
    for seat in seats:
        live = by_pid.get(seat.pid or -1)
        if live is not None:
            text = ask_kernel(machine, live)
            path, reason = (None, text) if isinstance(text, str) else (text["executable"], "its own answer")
            asked = Part(role="asked", word="who are you", path=path, reason=reason)
            seat = replace(seat, parts=[*seat.parts, asked])
        result.append(seat)
    return result


def running_seats(machine: Machine, lives: list[Live]) -> list[Seat]:
    """Servers, kernels without a notebook of this folder, and other Python programs that belong to the folder."""
    reader = machine.reader
    real = reader.real(reader.folder)
    servers = [server for server in machine.servers.running if _concerns(reader, server, real)]
    seats = [with_life(reader, server_seat(reader, server), server.process) for server in servers]
    for live in lives:
        stands = live.process.folder is not None and reader.inside(live.process.folder, real)
        if stands and (live.notebook is None or reader.parent(live.notebook) != reader.folder):
            seats.append(live_seat(reader, live))
    known = {server.pid for server in machine.servers.running}
    seats += [
        program_running(reader, process) for process in programs_of(reader, reader.folder) if process.pid not in known
    ]
    return [machine.environments.named_seat(seat) for seat in seats]


def _concerns(reader: Reader, server: RunningServer, real: str) -> bool:
    """Whether a running server serves the folder, or one above or below that."""
    root = reader.real(server.folder)
    return reader.inside(real, root) or reader.inside(root, real)


def _kernel_seat(kernel: Kernel, machine: Machine) -> Seat:
    label = kernel.label if kernel.label != kernel.id else None
    return replace(seat_of_kernel(machine, kernel), label=label, findings=kernel.findings)


def seat_of_file(path: str, machine: Machine) -> Seat:
    """A notebook file as a seat, judged, whatever is wrong with it."""
    notebook = read_notebook(machine.reader, path)
    kernel = machine.kernel_by_id(notebook.kernel) if notebook.kernel else None
    seat = notebook_seat(machine.reader, notebook, kernel, machine.server)
    if kernel is not None:
        return replace(seat, label=f"runs on kernel {kernel.id}")
    return catalogue.judge_seat(seat, machine)


def _same_seat(seat: Seat, other: Seat) -> bool:
    return seat is other or (seat.seat, seat.name, seat.source) == (other.seat, other.name, other.source)


def relation(seat: Seat, reference: Seat) -> Relation:
    """``same`` (one environment), ``differs``, ``dead`` (starts nothing) or ``unknown``."""
    if seat.interpreter is None or seat.environment is None:
        return "unknown" if seat.undecided or seat.reason is None else "dead"
    if reference.environment is None:
        return "unknown"
    return "same" if seat.environment.key == reference.environment.key else "differs"


def _that_matter(seats: list[Seat]) -> list[Finding]:
    result: dict[str, Finding] = {}
    for seat in seats:
        for finding in seat.findings:
            if finding.cause in MATTERS:
                result.setdefault(finding.message, finding)
    return list(result.values())


def package_times(machine: Machine, answer: HereAnswer) -> dict[str, int]:
    """When the package folders of each environment in the table last changed, in nanoseconds, by prefix."""
    result: dict[str, int] = {}
    for seat in answer.seats:
        if seat.environment is not None:
            times = [
                status.modified_ns
                for site in seat.environment.site_packages
                if isinstance(status := machine.reader.status(site), FileStat)
            ]
            result[seat.environment.prefix] = max(times, default=0)
    return result
