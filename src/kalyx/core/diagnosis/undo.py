"""How a fix is taken back: the line that undoes its one step, where a plain line does."""

from __future__ import annotations

from kalyx.core.machine import Machine
from kalyx.core.model.records import Fix
from kalyx.core.text.names import canonical
from kalyx.core.text.quoting import Unquotable, line_for

_PLAIN = {"--upgrade", "--no-deps"}


def with_undo(fix: Fix, machine: Machine) -> None:
    """Say how the fix is taken back; nothing where it has several steps, or what it did is not known beforehand."""
    if fix.undo is not None or len(fix.steps) != 1 or fix.steps[0].command is None:
        return
    argv = fix.steps[0].command
    back = _of_installing(argv, machine) if argv[1:4] == ["-m", "pip", "install"] else inverse(argv)
    if back is not None:
        try:
            fix.undo = line_for(back, machine.shell.name)
        except Unquotable:
            pass


def inverse(argv: list[str]) -> list[str] | None:
    """The command that takes another back, where its words alone say so; None for any other, an installer's too."""
    if argv[0] == "mv" and len(argv) == 3:
        return ["mv", argv[2], argv[1]]
    if argv[0] == "kalyx" and len(argv) > 2:
        verb, subject = argv[1], argv[2]
        if verb == "register" and "--id" in argv and "--bring-package" not in argv:
            identifier = argv[argv.index("--id") + 1]
            return ["kalyx", "unregister", identifier, *(["--undo"] if "--take-over" in argv else [])]
        if verb == "unregister":
            return ["kalyx", "unregister", subject, "--undo"]
        if verb == "prepare":
            return ["kalyx", "discard", subject]
        if verb == "point":
            return ["kalyx", "point", subject, "--undo"]
    return None


def _of_installing(argv: list[str], machine: Machine) -> list[str] | None:
    """The versions that were there, or none of them; None where some were and others not, or an extra is asked for."""
    from kalyx.core.packages.requirements import name_of

    reader = machine.reader
    words = [word for word in argv[4:] if word not in _PLAIN]
    names = [name_of(word) for word in words]
    environment = machine.environment_named(reader.real(reader.parent(reader.parent(argv[0]))))
    if environment is None or not words or None in names or any("[" in word for word in words):
        return None
    there = {one.key: one for one in machine.installed(environment.site_packages)}
    known = [there.get(canonical(name)) for name in names if name is not None]
    if all(one is None for one in known):
        return [argv[0], "-m", "pip", "uninstall", "-y", *(name for name in names if name is not None)]
    if any(one is None for one in known):
        return None
    versions = [f"{one.name}=={one.version}" for one in known if one is not None]
    return [argv[0], "-m", "pip", "install", "--no-deps", *versions]
