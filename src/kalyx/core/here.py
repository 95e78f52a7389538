"""What every seat in a folder uses, side by side, with the relation to one of them."""

from __future__ import annotations

from kalyx.core.facts import Finding, HereAnswer, Kernel, Relation, Seat
from kalyx.core.findings import catalogue
from kalyx.core.imports.ways import with_search_path
from kalyx.core.machine import Machine
from kalyx.core.seats.notebook import notebooks_in, read_notebook
from kalyx.core.targets import default_seat, seat_of_kernel

# Conditions of a kernel that are worth a line when somebody asks about a folder.
MATTERS = {"interpreter-gone", "name-misleads", "provider-absent", "spec-unreadable", "kernel-absent",
           "installer-elsewhere", "activation-differs", "no-interpreter", "base-gone", "half-made"}  # fmt: skip


def look_here(machine: Machine, reference: Seat | None = None) -> HereAnswer:
    """The seats of the folder, the reference first. ``reference`` None means the caller or the shell."""
    catalogue.judge_seat(machine.shell_seat, machine)
    reference = reference or default_seat(machine)
    seats = [reference]
    if not _same_seat(reference, machine.shell_seat):
        seats.append(machine.shell_seat)
    by_id: dict[str, list[Finding]] = {}
    for kernel in machine.kernels:
        catalogue.judge_kernel(kernel, machine)
        seat = _kernel_seat(kernel, machine)
        by_id.setdefault(kernel.id, seat.findings)
        if not _same_seat(seat, reference):
            seats.append(seat)
    for path in notebooks_in(machine.facts, machine.facts.folder):
        seat = notebook_seat(path, machine)
        if not _same_seat(seat, reference):
            seats.append(seat)
    for seat in seats:
        seat.relation = relation(seat, reference)
        if not seat.findings and seat.via and seat.via.startswith("kernel:"):
            seat.findings = by_id.get(seat.via.removeprefix("kernel:"), [])
    return HereAnswer(
        reference=with_search_path(reference, machine),
        seats=[with_search_path(seat, machine) for seat in seats],
        folder=machine.facts.folder,
        findings=_that_matter(seats),
    )


def _kernel_seat(kernel: Kernel, machine: Machine) -> Seat:
    seat = seat_of_kernel(machine, kernel)
    seat.label = kernel.label if kernel.label != kernel.id else None
    seat.findings = kernel.findings
    return seat


def notebook_seat(path: str, machine: Machine) -> Seat:
    """A notebook file as a seat, whatever is wrong with it."""
    facts = machine.facts
    notebook = read_notebook(facts, path)
    kernel = machine.kernel_by_id(notebook.kernel) if notebook.kernel else None
    if kernel is not None:
        seat = seat_of_kernel(machine, kernel, notebook)
        seat.label = f"runs on kernel {kernel.id}"
        return seat
    seat = Seat(seat="notebook", name=facts.name(path), folder=facts.parent(path), source=path)
    if notebook.kernel:
        seat.via = f"kernel:{notebook.kernel}"
        seat.reason = f"it asks for kernel {notebook.kernel}, which is not registered"
    else:
        seat.reason = notebook.problem or "it names no kernel"
    return catalogue.judge_seat(seat, machine)


def _same_seat(one: Seat, other: Seat) -> bool:
    return one is other or (one.seat, one.name, one.source) == (other.seat, other.name, other.source)


def relation(seat: Seat, reference: Seat) -> Relation:
    """``same`` (one environment), ``differs``, ``dead`` (starts nothing) or ``unknown``."""
    if seat.interpreter is None or seat.environment is None:
        undecided = (
            seat.reason is None or "launcher" in seat.reason or seat.reason.startswith(("a script", '"', "not a"))
        )
        named_nothing = seat.seat == "notebook" and seat.via is None
        return "unknown" if undecided or named_nothing else "dead"
    if reference.environment is None:
        return "unknown"
    same = seat.environment.key == reference.environment.key
    # Two installations can share one prefix; then the version tells them apart.
    if same and seat.environment.kind == "installation" and reference.interpreter is not None:
        same = seat.interpreter.version == reference.interpreter.version
    return "same" if same else "differs"


def _that_matter(seats: list[Seat]) -> list[Finding]:
    found: list[Finding] = []
    for seat in seats:
        for finding in seat.findings:
            if finding.cause in MATTERS and all(finding.says != known.says for known in found):
                found.append(finding)
    return found
