"""A registered kernel as a seat, and a notebook that runs on one."""

from __future__ import annotations

from kalyx.core.kernels.folders import Server
from kalyx.core.kernels.specs import SPEC_FILE, kernel_variables
from kalyx.core.model.records import Kernel, Part, Seat
from kalyx.core.seats.build import seat_from
from kalyx.core.seats.shell import telling
from kalyx.core.system import Reader


def kernel_seat(reader: Reader, kernel: Kernel, server: Server) -> Seat:
    """What a kernel starts, as its specification and the server that would start it have it."""
    text = "; ".join(finding.message for finding in kernel.findings) if not kernel.argv else None
    main = Part(role="python", word=kernel.id, interpreter=kernel.interpreter, environment=kernel.environment,
                undecided=kernel.undecided)  # fmt: skip
    seat = seat_from("kernel", kernel.id, main, reader.folder)
    seat.undecided, seat.reason = kernel.undecided, kernel.reason or text
    seat.variables = telling(kernel_variables(kernel, server))
    seat.via, seat.source = f"kernel:{kernel.id}", reader.join(kernel.folder, SPEC_FILE)
    return seat
