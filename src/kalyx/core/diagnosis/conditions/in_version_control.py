"""An environment, or a setting with a path of this machine, is under version control.

How to tell: the index of the repository lists the file, or no ignore file leaves the environment out.
Fix: remove it from the repository's index and list it in an ignore file.

Example:
    heath lies in a repository that does not leave it out
    asked about heath

Not this (the repository's ignore file names it):
    heath lies in a repository that leaves it out
    asked about heath
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.environments.reading import View
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, Seat
from kalyx.core.model.steps import RunSystemProgram, Step

# It is worth saying, and the environment works all the same.
IS_SOUND = True


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    reader, prefix = machine.reader, view.environment.key
    if view.environment.kind == "installation":
        return None
    from kalyx.core.diagnosis.shared.conditions import condition
    from kalyx.core.environments.tracked import is_ignored, repository_of, tracked_below

    repository = repository_of(reader, reader.parent(prefix))
    if repository is None:
        return None
    tracked = tracked_below(reader, repository, prefix)
    if not tracked and is_ignored(reader, repository, prefix):
        return None
    relative = reader.path.relpath(prefix, repository).replace("\\", "/")
    ignore = reader.join(prefix, ".gitignore")
    leave_out = fixes.by_hand(f"leave it out: write the one line * into {ignore}")
    steps: list[Step] = [leave_out]
    evidence = [Evidence(fact="a version-controlled folder", source=repository, path=reader.join(repository, ".git"))]
    if tracked:
        evidence.append(Evidence(fact=f"{tracked} of its files are tracked", source="the repository's index",
                                 path=reader.join(repository, ".git")))  # fmt: skip
        words = ["git", "-C", repository, "rm", "-r", "-q", "--cached", "--", relative]
        steps = [fixes.step(machine, RunSystemProgram(words=words)), leave_out]
        message = f"it is tracked in the version-controlled folder {repository}; its files stay when it is taken out"
    else:
        evidence.append(Evidence(fact="no ignore file leaves it out", source=ignore, path=repository))
        message = f"it is in the version-controlled folder {repository}, which does not leave it out"
    return condition(
        "in-version-control",
        message,
        evidence,
        [Fix(message="take it out of version control", steps=steps, changes=[prefix])],
    )


def look_at_seat(seat: Seat, machine: Machine) -> Finding | None:
    """A settings file that others share, with a path that is true on this machine only."""
    reader, word = machine.reader, seat.parts[0].word if seat.parts else None
    if seat.seat != "editor" or seat.source is None or not word or not reader.path.isabs(word):
        return None
    from kalyx.core.environments.tracked import is_tracked, repository_of

    repository = repository_of(reader, reader.parent(seat.source))
    if repository is None or not is_tracked(reader, repository, seat.source):
        return None
    steps = [fixes.by_hand(f"write a path that begins at the folder, or move this setting to your own: {word}")]
    if reader.inside(word, repository):
        folder = seat.folder or reader.folder
        inner = reader.path.relpath(word, folder).replace("\\", "/")
        steps = [fixes.by_hand(f"write the path that leads there from {folder}: {inner}")]
    message = f"{reader.name(seat.source)} is tracked by version control and names a path of this machine: {word}"
    evidence = [
        Evidence.at(seat.source, f"names {word}", seat.line),
        Evidence(fact="the file is tracked", source="the repository's index", path=reader.join(repository, ".git")),
    ]
    offered = [Fix(message="leave paths of one machine out of shared files", steps=steps, changes=[seat.source])]
    return Finding.proven("in-version-control", message, evidence, offered)
