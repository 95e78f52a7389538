"""What a fix found before it was carried out, and how that is put back when it did not mend anything.

Only what can be taken back by a plain step is: a package's former version comes from where the installer gets it, a
file moved goes back to its place, an environment that was not there is removed again, a kernel is put back as it was.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from kalyx.core.actions.installer import run_to_end
from kalyx.core.diagnosis.undo import inverse
from kalyx.core.machine import Machine
from kalyx.core.model.records import Fix, KalyxError
from kalyx.core.system import Reader
from kalyx.core.system.own_command import own_command
from kalyx.core.text.visible import visible

Tell = Callable[[str], None]


class Found(Struct):
    """The state that one step of a fix is about to change."""

    argv: list[str]
    versions: dict[str, tuple[str, str]] = {}  # canonical name to name and version, of an environment's packages
    was_there: bool = False


def found_before(machine: Machine, fix: Fix) -> list[Found]:
    """What each step of the fix would change, as it is now."""
    found: list[Found] = []
    for step in fix.steps:
        argv = step.command or []
        one = Found(argv)
        if _installs(argv):
            one.versions = _versions(machine, argv[0])
        elif argv[:2] == ["kalyx", "prepare"]:
            moved = any(before.argv[:2] == ["mv", argv[2]] for before in found)
            one.was_there = machine.reader.exists(argv[2]) and not moved
        found.append(one)
    return found


def undoing(machine: Machine, found: list[Found]) -> tuple[list[list[str]], list[str]]:
    """The commands that put it back, last step first, on a machine looked at afresh; and what none of them can."""
    reader, commands, left = machine.reader, [], []
    seen: set[str] = set()
    for one in reversed(found):
        argv = one.argv
        if _installs(argv):
            if argv[0] in seen:
                continue  # all of its packages are as they were by then
            seen.add(argv[0])
            now = _versions(machine, argv[0])
            new = [name for key, (name, _) in now.items() if key not in one.versions]
            changed = [f"{name}=={version}" for key, (name, version) in one.versions.items()
                       if now.get(key, (name, ""))[1] != version]  # fmt: skip
            if new:
                commands.append([argv[0], "-m", "pip", "uninstall", "-y", *new])
            if changed:
                commands.append([argv[0], "-m", "pip", "install", "--no-deps", *changed])
            continue
        back = inverse(argv) if argv and not one.was_there and argv[:2] != ["kalyx", "register"] else None
        if back is None and argv:
            left.append(machine.line(argv))  # of a kernel taken over, its former file is kept for the user's own word
        elif back is not None and _is_done(reader, argv, commands):
            commands.append(back)
    return commands, left


def _is_done(reader: Reader, argv: list[str], commands: list[list[str]]) -> bool:
    """Whether a step came to be, so that there is something to take back; ``commands`` are run before that."""
    if argv[0] == "mv":
        free = reader.kind(argv[1]) is None or ["kalyx", "discard", argv[1]] in commands
        return free and reader.kind(argv[2]) is not None
    return argv[1] != "prepare" or reader.exists(argv[2])


def put_back(machine: Machine, found: list[Found], tell: Tell) -> list[str]:
    """Put back what a fix changed in vain; says what was put back, and what could not be."""
    commands, left = undoing(machine, found)
    said = [f"what {line} did was left as it is" for line in left]
    for argv in commands:
        line = machine.line(argv)
        tell(line)
        try:
            run_to_end(machine, own_command([*argv[1:], "--yes"]) if argv[0] == "kalyx" else argv, tell)
            said.append(f"put back: {line}")
        except KalyxError as refusal:
            said.append(f"not put back ({visible(str(refusal))}); to do it by hand: {line}")
    return said


def _installs(argv: list[str]) -> bool:
    return len(argv) > 3 and argv[1:3] == ["-m", "pip"] and argv[3] in ("install", "uninstall")


def _versions(machine: Machine, executable: str) -> dict[str, tuple[str, str]]:
    environment = machine.environment_named(
        machine.reader.real(machine.reader.parent(machine.reader.parent(executable)))
    )
    sites = environment.site_packages if environment is not None else []
    return {one.key: (one.name, one.version) for one in machine.installed(sites)}
