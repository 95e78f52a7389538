"""Every interpreter and environment on this machine, read and never started."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from msgspec.structs import replace

from kalyx.core.environments.finding import ONLY_BELOW, environment_folders, interpreter_candidates, running_prefixes
from kalyx.core.environments.reading import View, executables_of, looks_like_environment, read_environment, view_of
from kalyx.core.interpreters.reading import NotAnInterpreter, interpreter_at, read_interpreter
from kalyx.core.model.records import Environment, Interpreter, Unread
from kalyx.core.system import Reader
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.numbers import leading_number

_FOLDERS_IN_A_NAME = 4  # the last ones of the path; where these are not unique, the path is


def found_interpreters(reader: Reader, unread: list[Unread]) -> list[Interpreter]:
    """One record an installation: its own names for it are links. Version managers' shims are not listed."""
    rows: dict[tuple[str, str], Interpreter] = {}
    met: dict[str, Interpreter | None] = {}  # by real folder: a folder with two names is read once
    for candidate, path in dict.fromkeys(interpreter_candidates(reader)):
        is_new = path not in met
        if is_new:
            met[path] = _installation(reader, candidate, unread)
        interpreter = met[path]
        if interpreter is not None:
            key = interpreter.base_prefix, interpreter.real_executable
            row = rows.setdefault(key, interpreter)
            links = interpreter.links if is_new else reader.hops(candidate)
            rows[key] = replace(row, links=list(dict.fromkeys([*row.links, *links])))
    only = reader.variable(ONLY_BELOW)
    if only is None and reader.system == "windows":
        unread += _entries_of_nothing(reader)
    if only is not None:
        inside = found_environments(reader, [], [], [], [])
        bases = {view.environment.base_prefix for view in inside}
        rows = {key: row for key, row in rows.items() if row.prefix in bases or reader.inside(row.prefix, only)}
    # The real file is the installation's own name; the first path may be a link to it.
    return in_order_of_versions([replace(row, executable=_best_name(reader, row)) for row in rows.values()])


def _entries_of_nothing(reader: Reader) -> list[Unread]:
    """Entries of the registry whose interpreters are gone: installers and the launcher still use them."""
    from kalyx.core.interpreters.registered import registered

    gone = [entry for entry in registered(reader) if not reader.may_be_there(entry.executable)]
    named = f"{NOTHING_THERE}, and the registry names it"
    return [Unread(path=dead.executable, reason=f"{named} ({dead.company}\\{dead.tag})") for dead in gone]


def _installation(reader: Reader, path: str, unread: list[Unread]) -> Interpreter | None:
    """The interpreter at a path, where it is an installation's own."""
    try:
        interpreter = read_interpreter(reader, path)
    except NotAnInterpreter as refusal:
        if refusal.dead:
            unread.append(Unread(path=path, reason=refusal.reason))
        return None
    # An environment's own link is listed with the environments.
    return interpreter if interpreter.prefix == interpreter.base_prefix else None


def bases_of(
    reader: Reader, views: Iterable[View], known: Iterable[Interpreter], more: Iterable[str] = ()
) -> list[Interpreter]:
    """The installations that are the bases of environments, and those at ``more``, that are not known yet."""
    seen = {reader.real(interpreter.prefix) for interpreter in known}
    interpreters = []
    for base in [*(view.interpreter.base_prefix for view in views if view.interpreter is not None), *more]:
        if reader.real(base) in seen:
            continue
        seen.add(reader.real(base))
        for executable in executables_of(reader, base):
            interpreter = interpreter_at(reader, executable)
            if interpreter is not None and interpreter.prefix == interpreter.base_prefix:
                interpreters.append(replace(interpreter, executable=_best_name(reader, interpreter), by_link=True))
                break
    return interpreters


def base_interpreter(reader: Reader, interpreter: Interpreter) -> Interpreter | None:
    """The interpreter of the installation that an environment was created from; an installation's own is itself.

    The environment's program is a link to the base's on most systems. On Windows, and with ``--copies``, it is another
    program: then the base's folder is searched. None where the base is gone.
    """
    if interpreter.prefix == interpreter.base_prefix:
        return interpreter
    for path in (interpreter.real_executable, *executables_of(reader, interpreter.base_prefix)):
        base = interpreter_at(reader, path)
        if base is not None and base.prefix == base.base_prefix and base.minor == interpreter.minor:
            return base
    return None


def in_order_of_versions(interpreters: Iterable[Interpreter]) -> list[Interpreter]:
    """The newest first."""
    return sorted(
        interpreters, key=lambda interpreter: (_version_key(interpreter.version), interpreter.prefix), reverse=True
    )


def _best_name(reader: Reader, row: Interpreter) -> str:
    inside = [link for link in [row.executable, *row.links] if reader.inside(link, row.prefix)]
    wanted = reader.join(row.prefix, "python.exe" if reader.system == "windows" else reader.join("bin", "python3"))
    return wanted if wanted in inside else (row.real_executable if row.real_executable in inside else row.executable)


def _version_key(version: str) -> tuple[int, ...]:
    return tuple(leading_number(part) for part in version.split("."))


def found_environments(
    reader: Reader,
    interpreters: Iterable[Interpreter],
    under: Iterable[str],
    more: Iterable[str],
    unread: list[Unread],
    running: bool = False,
    installations: list[str] | None = None,
    known: Iterable[View] | None = None,
) -> list[View]:
    """Environments with how they were read, one entry a key.

    ``running``: also those that processes of this user run, wherever they are. ``installations`` takes the prefixes of
    installations below ``under``. ``known``: those of the usual places, where they were read before.
    """
    views = {view.environment.key: view for view in known or ()}
    read = {reader.real(view.environment.prefix) for view in known or ()}
    folders = [folder for folder in more if folder]
    if running:
        folders += [folder for folder in running_prefixes(reader) if looks_like_environment(reader, folder)]
    usual = environment_folders(reader, under, unread, installations) if known is None else ()
    for folder in [*usual, *folders]:
        if (real := reader.real(folder)) not in read:
            read.add(real)
            view = read_environment(reader, folder)
            views.setdefault(view.environment.key, view)
    for interpreter in interpreters:
        view = view_of(reader, interpreter)
        views.setdefault(view.environment.key, view)
    only = reader.variable(ONLY_BELOW)
    if only is None:
        return list(views.values())
    chosen = [view for view in views.values() if reader.inside(view.environment.prefix, only)]
    bases = {view.environment.base_prefix for view in chosen}
    return chosen + [view for view in views.values() if view not in chosen and view.environment.prefix in bases]


def names_of(reader: Reader, environments: Iterable[Environment]) -> dict[str, str]:
    """The unique name of each environment by its key: its own name, or with the folder above, or the end of its path.

    The order in which environments were read changes nothing.
    """
    prefixes = {environment.key: environment.prefix for environment in environments}
    named = {environment.key: environment.called or environment.name for environment in environments}
    for folders in range(1, _FOLDERS_IN_A_NAME + 2):
        counts = Counter(named.values())
        for key in [key for key, name in named.items() if counts[name] > 1]:
            words = prefixes[key].replace("\\", "/").strip("/").split("/")
            if folders == 1:
                named[key] = f"{reader.name(reader.parent(prefixes[key]))}/{named[key]}"
            elif folders <= _FOLDERS_IN_A_NAME and len(words) > folders:
                named[key] = "/".join(words[-folders:])
            else:
                named[key] = prefixes[key]
    return named


def with_name(environment: Environment, names: dict[str, str]) -> Environment:
    """A copy of the record with the unique name; its own name stays in the record too."""
    own = environment.called or environment.name
    return replace(environment, name=names.get(environment.key, own), called=own)
