"""A registered kernel as a seat, and a notebook that runs on one."""

from __future__ import annotations

from msgspec.structs import replace

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
    return replace(
        seat_from("kernel", kernel.id, main, reader.folder, source=reader.join(kernel.folder, SPEC_FILE)),
        undecided=kernel.undecided,
        reason=kernel.reason or text,
        variables=telling(kernel_variables(kernel, server)),
        via=f"kernel:{kernel.id}",
    )
