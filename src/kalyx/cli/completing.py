"""Completion of what is typed: commands, options, and words that come from the machine.

The shell evaluates what ``kalyx completion SHELL`` prints; at each tab it starts Kalyx with the unfinished line. Kalyx
then starts no other program and writes nothing: it reads folders and settings, as every command does.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable

from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.text.shells import SHELLS
from kalyx.core.text.visible import visible

COMPLETED = tuple(name for name, row in SHELLS.items() if row.is_completed)

Completer = Callable[..., Iterable[str]]


def shell_code(shell: str) -> str:
    """The code that makes this shell complete ``kalyx``."""
    from argcomplete.shell_integration import shellcode

    return str(shellcode(["kalyx"], shell=shell))


def complete(parser: argparse.ArgumentParser) -> None:
    """Print the completions of the line that the shell passes, and end."""
    import argcomplete

    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for command in action.choices.values():
                _teach(command)
    argcomplete.autocomplete(parser, always_complete_options=False, default_completer=files)  # type: ignore[arg-type]


def _teach(command: argparse.ArgumentParser) -> None:
    """Give each option and argument of a command the function that completes it."""
    for action in command._actions:
        known = _BY_WORD.get((command.prog.split()[-1], str(action.metavar))) or _BY_WORD.get(("", str(action.metavar)))
        if known is not None:
            setattr(action, "completer", known)  # noqa: B010


def _machine() -> Machine:
    return Machine(LiveReader(), None)


def _plain(names: Iterable[str]) -> list[str]:
    """Names that a shell and a terminal take as they stand."""
    return [name for name in dict.fromkeys(names) if name and visible(name) == name]


def _files(machine: Machine, prefix: str, *endings: str) -> list[str]:
    """Folders, and files with these endings, that begin with the word."""
    reader = machine.reader
    split = max(prefix.rfind("/"), prefix.rfind("\\") if reader.system == "windows" else -1)
    before, sign = prefix[: max(split, 0)], prefix[split : split + 1] if split >= 0 else ""
    folder = reader.absolute(before or sign or ".")
    result = []
    for name in reader.names(folder):
        is_folder = reader.is_folder(reader.join(folder, name))
        if (is_folder and not name.startswith(".")) or (endings and name.endswith(endings)):
            result.append(before + sign + name + ((sign or reader.path.sep) if is_folder else ""))
    return result


def files(prefix: str, **_: object) -> list[str]:
    """Files and folders whose names a shell takes as one word."""
    return _plain(_files(_machine(), prefix, ""))


def targets(prefix: str, **_: object) -> list[str]:
    """Seats, environments, kernels, notebooks, paths."""
    machine = _machine()
    result = ["shell", "editor", *(environment.name for environment in machine.environments.known)]
    result += [f"kernel:{kernel.id}" for kernel in machine.kernels]
    return _plain([*result, *_files(machine, prefix, ".ipynb")])


def kernels(prefix: str, **_: object) -> list[str]:
    """The ids of registered kernels."""
    return _plain(kernel.id for kernel in _machine().kernels)


def causes(prefix: str, **_: object) -> list[str]:
    """The names of causes."""
    from kalyx.core.diagnosis import catalogue

    return list(catalogue.ABOUT)


def seats_to_point(prefix: str, **_: object) -> list[str]:
    """The seats whose choice ``point`` can change."""
    files = _files(_machine(), prefix.removeprefix("notebook:"), ".ipynb")
    return _plain(["editor", *(f"notebook:{file}" for file in files)])


def modules(prefix: str, parsed_args: argparse.Namespace | None = None, **_: object) -> list[str]:
    """Modules that the target can reach, a package's inner ones after a dot; and scripts and notebooks."""
    from kalyx.core.invocation import UNNAMED, search_of
    from kalyx.core.targets import resolve

    machine = _machine()
    reader = machine.reader
    files = _files(machine, prefix, ".py", ".ipynb")
    try:
        target = getattr(parsed_args, "target", None)
        seat = resolve(machine, target) if target else machine.shell_seat
        entries = [entry.entry for entry in search_of(seat, machine, UNNAMED).entries] if seat.interpreter else []
    except KalyxError:
        return _plain(files)
    package, dot, begun = prefix.rpartition(".")
    inside = package.split(".") if dot else []
    result = []
    for path in [reader.join(entry or reader.folder, *inside) for entry in entries]:
        for name in reader.names(path):
            stem = name.split(".")[0]
            if not stem.startswith(begun) or not stem.isidentifier() or (stem.startswith("_") and not begun):
                continue
            if name.endswith((".py", ".so", ".pyd")) or reader.is_folder(reader.join(path, name)):
                result.append(package + dot + stem)
    return _plain([*sorted(result), *files])


_BY_WORD: dict[tuple[str, str], Completer] = {
    ("", "TARGET"): targets,
    ("", "ID"): kernels,
    ("causes", "NAME"): causes,
    ("why", "WHAT"): modules,
    ("rehearse", "MODULE"): modules,
    ("point", "SEAT"): seats_to_point,
}
