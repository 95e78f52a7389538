"""A path to an interpreter or an environment, as a seat."""

from __future__ import annotations

from kalyx.core.environments.reading import executables_of, is_a_strangers, looks_like_environment
from kalyx.core.model.records import KalyxError, Part, Seat
from kalyx.core.seats.build import first_that_starts, seat_from, starting
from kalyx.core.system import Reader
from kalyx.core.system.nearest_path import near_paths
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.visible import visible


def path_seat(reader: Reader, path: str) -> Seat:
    """What a path starts. Raises KalyxError, with what is near, where it can be no interpreter or environment."""
    if not reader.exists(path) and not reader.may_be_there(path):
        raise KalyxError(f"{visible(path)}: {NOTHING_THERE}", near_paths(reader, path))
    part = _in_folder(reader, path) if reader.is_folder(path) else starting(reader, path)
    return seat_from("path", path, part, reader.folder, source=part.path if part.interpreter is None else None)


def _in_folder(reader: Reader, path: str) -> Part:
    part = first_that_starts(reader, executables_of(reader, path))
    if part is not None:
        return part
    if looks_like_environment(reader, path):
        return Part(role="python", word=path, path=path, reason="it holds no interpreter")
    around = [reader.parent(path), *(reader.join(path, name) for name in reader.names(path))]
    near = [f for f in around if looks_like_environment(reader, f) and not is_a_strangers(reader, f)]
    raise KalyxError(f"{visible(path)} is not an environment", near)
