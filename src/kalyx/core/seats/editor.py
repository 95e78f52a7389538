"""The editor seat: which interpreter the settings of a folder choose, for each part of an editor they govern."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.environments.reading import executables_of
from kalyx.core.formats.span import Malformed
from kalyx.core.formats.values import LIMIT, Value, values
from kalyx.core.model.records import Part, Seat
from kalyx.core.seats.build import first_that_starts, seat_from, silent_seat, starting
from kalyx.core.seats.checkers import ConfigFile, config_of, configured, deciding, holds_packages
from kalyx.core.seats.settings_forms import ChoiceKind, Decides, SettingsForm, own_table, settings_forms
from kalyx.core.seats.workspaces import ENDING, Opened, opened_in
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.nearness import distance
from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import fits
from kalyx.core.text.visible import visible

_EXPANDED_AT_MOST = 20
# What a part of a settings file decides, for the name of its seat.
_PARTS: dict[Decides, str] = {
    "run": "editor's Python",
    "terminal": "terminal's Python",
    "check": "type checker's Python",
    "check version": "type checker checks for VERSION",
}
_LONG = 65536  # of a path with its variables


class Choice(Struct):
    """One value of a settings file: which part it governs, what kind of word it is, and where it stands."""

    family: str
    form: str
    part: Decides
    kind: ChoiceKind
    value: Value
    path: str
    own: bool
    names: list[str] = []
    is_chosen: bool = False
    is_literal: bool = False  # a path by a checker's own rules: it has no variables


def editor_seats(reader: Reader, folder: str) -> list[Seat]:
    """A seat for every part that a settings file of the folder, else the user's own, chooses an interpreter for."""
    own = own_table(reader)
    seats = [_unread(reader, own.path, problem) for problem in own.problems]
    decided: set[tuple[str, str, str | None]] = set()
    choices = list(_choices(reader, folder, seats))
    together = {path: opened for path, opened in opened_in(reader, folder) if opened}
    choices = [choice for choice in choices if choice.path not in together]
    if not any(choice.own for choice in choices):
        choices = [choice for choice in choices if choice.kind != "version"]
    # A checker's target version says how it judges code; where it is told an environment too, that is its seat.
    placed = {choice.family for choice in choices if choice.is_literal and choice.kind != "version"}
    choices = [
        choice for choice in choices if not (choice.is_literal and choice.kind == "version" and choice.family in placed)
    ]
    for choice in choices:
        key = (choice.family, choice.part, choice.value.named)
        if key in decided or (not choice.own and not _has_python(reader, folder)):
            continue
        decided.add(key)
        seat = _seat(reader, folder, choice)
        if seat is not None:
            seats.append(seat)
    seats += _by_variable_file(reader, folder)
    for path, opened in together.items():
        for item in opened:
            seats += _in_workspace(reader, path, item, is_this=item.path == folder)
    return seats


def _by_variable_file(reader: Reader, folder: str) -> list[Seat]:
    """The seat of the variable file (``.envrc``) that counts in a folder, or none."""
    path = next((path for upper in reader.upward(folder) if reader.is_file(path := reader.join(upper, ".envrc"))), None)
    if path is None or reader.system == "windows":
        return []
    from kalyx.core.seats.variable_file import variable_file_seat  # it loads the parser of shell scripts

    seat = variable_file_seat(reader, folder, path)
    return [seat] if seat is not None else []


def _in_workspace(reader: Reader, file: str, opened: Opened, *, is_this: bool) -> list[Seat]:
    """What a folder of a workspace uses: by its own settings, else by the workspace's."""
    if not reader.is_folder(opened.path):
        name, reason = f"workspace folder: {opened.name}", f"{visible(opened.path)} is not there"
        return [silent_seat("editor", name, reason, opened.path, source=file)]
    ignored: list[Seat] = []
    choices = [choice for choice in _choices(reader, opened.path, ignored) if choice.own]
    forms = [form for form in settings_forms(reader) if any(name.endswith(ENDING) for name in form.files)]
    choices += [choice for form in forms for choice in _of_file(reader, form, file, True, ignored)]
    seats: list[Seat] = []
    decided: set[tuple[str, str, str | None]] = set()
    for choice in choices:
        key = (choice.family, choice.part, choice.value.named)
        if choice.path.endswith(ENDING) and choice.path != file or key in decided or choice.kind == "version":
            continue
        decided.add(key)
        made = None if is_this and choice.path != file else _seat(reader, opened.path, choice)
        if made is not None:
            seats.append(replace(made, name=f"{made.name} ({opened.name})"))
    return seats


def settings_folder(reader: Reader, file: str) -> str:
    """The folder that a settings file governs: above the one of its form's own, where it has such."""
    patterns = [pattern for form in settings_forms(reader) for pattern in form.files]
    return next((folder for pattern in patterns if (folder := folder_of(reader, file, pattern))), reader.parent(file))


def folder_of(reader: Reader, file: str, pattern: str) -> str | None:
    """The folder whose settings a file is, by the pattern that it fits; None where it does not."""
    folder = file
    for word in reversed(pattern.split("/")):
        if not fits(reader.name(folder), word):
            return None
        folder = reader.parent(folder)
    return folder


def choices_for(reader: Reader, folder: str, file: str) -> list[Seat]:
    """A seat for every value of one settings file, whatever another file or an earlier value decides."""
    ignored: list[Seat] = []
    choices = [choice for choice in _choices(reader, folder, ignored) if choice.path == file]
    if not choices:  # of a checker another file decides, by now
        forms = [form for form in settings_forms(reader) if form.above and reader.name(file) in form.files]
        configs = [config for form in forms if (config := config_of(reader, form, file, own=True)) is not None]
        choices = [choice for config in configs for choice in _of_config(reader, config)]
    result = [_seat(reader, folder, choice) for choice in choices]
    return [seat for seat in result if seat is not None]


def _has_python(reader: Reader, folder: str) -> bool:
    """The user's own settings matter where there is something to run."""
    return any(name.endswith((".py", ".ipynb")) or name == "pyproject.toml" for name in reader.names(folder))


def _choices(reader: Reader, folder: str, seats: list[Seat]) -> Iterator[Choice]:
    """Every choice, the folder's before the user's; a file that cannot be read becomes a seat that says so."""
    known = settings_forms(reader)
    families = dict.fromkeys(form.family for form in known if form.above)
    for family in families:
        yield from _of_checker(reader, folder, [form for form in known if form.family == family], seats)
    for own in (True, False):
        for form in known:
            patterns = form.files if own else form.user.get(reader.system, [])
            if form.family not in families:
                for path in _matching(reader, folder if own else reader.home, patterns):
                    yield from _of_file(reader, form, path, own, seats)


def _of_checker(reader: Reader, folder: str, forms: list[SettingsForm], seats: list[Seat]) -> Iterator[Choice]:
    """What the one file says that decides for a checker; a value is a path by the checker's own rules."""
    config = deciding(reader, folder, forms)
    if config is None:
        return
    if config.problem is not None:
        seats.append(_unread(reader, config.path, f"{reader.name(config.path)} cannot be read: {config.problem}"))
        return
    yield from _of_config(reader, config)


def _of_config(reader: Reader, config: ConfigFile) -> Iterator[Choice]:
    form = config.form
    for choice in form.choices:
        for value, path in configured(reader, config, choice):
            yield Choice(form.family, form.form, choice.part, choice.kind, value, path, config.own, is_literal=True)


def _of_file(reader: Reader, form: SettingsForm, path: str, own: bool, seats: list[Seat]) -> Iterator[Choice]:
    try:
        raw = reader.read_whole(path, LIMIT)
        text = raw.decode("utf-16") if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else raw.decode("utf-8")
        names = _matching(reader, reader.home, form.names.get(reader.system, []))
        # Of several run configurations the file may say which one is chosen, as KIND.NAME.
        spans = values(form.format, text, form.chosen, None, None) if form.chosen else []
        chosen = [value.text.partition(".")[2] for value in spans]
        for choice in form.choices:
            for value in values(form.format, text, choice.key, choice.named, choice.below or None):
                is_chosen = value.named is not None and value.named in chosen
                yield Choice(form.family, form.form, choice.part, choice.kind, value, path, own, names, is_chosen)
    except (Unreadable, Malformed, UnicodeDecodeError) as problem:
        reason = problem.reason if isinstance(problem, Unreadable) else "not UTF-8"
        reason = str(problem) if isinstance(problem, Malformed) else reason
        if own and form.format not in ("toml", "ini"):
            seats.append(_unread(reader, path, f"{reader.name(path)} cannot be read: {reason}"))


def _unread(reader: Reader, path: str, problem: str) -> Seat:
    """A seat for a settings file that cannot be read, or not all of which is used."""
    return silent_seat("editor", reader.name(path), visible(problem), reader.folder, undecided=True, source=path)


def _matching(reader: Reader, root: str, patterns: list[str]) -> list[str]:
    """The files below ``root`` that the patterns name; each ``*`` stays in one folder."""
    result: list[str] = []
    for pattern in patterns:
        places = [root]
        for word in pattern.replace("\\", "/").split("/"):
            if "*" not in word:
                places = [reader.join(path, word) for path in places]
            else:
                there = [reader.join(path, name) for path in places for name in reader.names(path) if fits(name, word)]
                places = list(reader.first_of(there, _EXPANDED_AT_MOST, reader.join(root, pattern)))
        result += [path for path in places if reader.is_file(path)]
    return list(dict.fromkeys(result))


def _seat(reader: Reader, folder: str, choice: Choice) -> Seat | None:
    value = choice.value
    what = _PARTS[choice.part].replace("VERSION", visible(value.text))
    name = f"{reader.name(choice.path)}: {value.named or what}"
    if not choice.own:
        name = f"user's {name}"
    part = Part(role=choice.part, word=value.text, undecided=True)  # until a path is known
    label = "the one that is chosen" if choice.is_chosen else None
    seat = replace(
        seat_from("editor", name, part, folder, [part], source=choice.path),
        via=f"editor:{choice.path}",
        line=value.line,
        label=label,
    )
    if _names_elsewhere(value.text):
        where = f"{visible(value.text)} names a place elsewhere"
        return replace(seat, reason=f"not on this machine: {where}; there, kalyx here tells")
    if choice.kind == "elsewhere":
        where = f"it runs in a container ({visible(value.text)})"
        return replace(seat, reason=f"not on this machine: {where}; there, kalyx here tells")
    if choice.kind == "version":
        return _target_version(reader, seat, part) if choice.is_literal else _pinned(seat, value.text)
    text = _named(reader, choice) if choice.kind == "name" else value.text
    if text is None:
        called = f"an interpreter called {visible(value.text)}, and no file that Kalyx reads says where that is"
        return replace(seat, reason=f"{called}; a line from kalyx here --paste, run in its console, tells")
    if choice.kind == "command":
        words = value.words or tuple(text.split())
        text = words[0] if words else ""
        base = text.replace("\\", "/").rpartition("/")[2].lower()
        if not base.startswith(("python", "pypy")):
            return None
    path = _literal(reader, text, folder) if choice.is_literal else _expanded(reader, text, folder)
    if path is None:
        return replace(seat, reason=f"{visible(text)}: what this stands for is known to the editor only")
    if choice.is_literal and choice.kind == "environment" and not holds_packages(reader, path):
        return _passed_over(reader, seat, part, path)
    return _started(reader, seat, part, path)


def _usual(reader: Reader) -> str | None:
    return next((result for word in ("python3", "python") for result in reader.lookup(word)), None)


def _target_version(reader: Reader, seat: Seat, part: Part) -> Seat:
    """A checker that is told a version and no environment takes PATH's Python, judging code as that version's."""
    label, usual = f"judges the code as for Python {visible(part.word)}", _usual(reader)
    seat = replace(seat, label=label, reason=label)
    return _started(reader, seat, part, usual) if usual is not None else seat


def _passed_over(reader: Reader, seat: Seat, part: Part, path: str) -> Seat:
    """The checker passes over an environment that it cannot use, and takes PATH's Python."""
    from kalyx.core.system.nearest_path import nearest_existing

    near, usual = nearest_existing(reader, path), _usual(reader)
    label = f"{visible(part.word)} is not there or holds no packages, so the checker takes PATH's python3"
    label += f"; the nearest that is there: {visible(near)}" if near is not None else ""
    seat = replace(seat, label=label)
    return _started(reader, seat, part, usual) if usual is not None else seat


def _names_elsewhere(text: str) -> bool:
    """Whether a path is on another machine, in a container or in a subsystem: by how such places are written."""
    lower = text.lower().replace("\\", "/")
    return "://" in lower and not lower.startswith("file:") or lower.startswith(("//wsl$/", "//wsl.localhost/"))


def _pinned(seat: Seat, version: str) -> Seat:
    """A version that is asked for: not an interpreter, but what it should be."""
    label = f"asks for Python {version}" if is_number(version[:1]) else f"asks for {version}"
    return replace(seat, label=label, reason=label)


def _named(reader: Reader, choice: Choice) -> str | None:
    """The path of an interpreter that a project names, by the user's own table of names."""
    from kalyx.core.formats.xml import tags

    for path in choice.names:
        try:
            result = tags(reader.text_or_none(path, LIMIT) or "")
        except Malformed:
            continue
        text: dict[int, dict[str, str]] = {}
        for tag in result:
            owner = next((item for item in reversed(tag.within) if item.name == "jdk"), None)
            if owner is not None and tag.name in ("name", "homePath"):
                text.setdefault(owner.start, {}).setdefault(tag.name, tag.attributes.get("value", ""))
        for item in text.values():
            if item.get("name") == choice.value.text and item.get("homePath"):
                return item["homePath"].replace("$USER_HOME$", reader.home)
    return None


def _expanded(reader: Reader, text: str, folder: str) -> str | None:
    """The path that a value means; None where it has a variable that only the editor knows."""
    known = {"${workspaceFolder}": folder, "${workspaceRoot}": folder, "${fileWorkspaceFolder}": folder,
             "$PROJECT_DIR$": folder, "$project_path": folder, "${project_path}": folder, "${userHome}": reader.home,
             "$USER_HOME$": reader.home, "${workspaceFolderBasename}": reader.name(folder)}  # fmt: skip
    for word, value in known.items():
        text = text.replace(word, value)
    if len(text) > _LONG:
        return None
    if "${workspaceFolder:" in text:
        for name, path in _called(reader, folder).items():
            text = text.replace(f"${{workspaceFolder:{name}}}", path)
    # What a variable holds is not looked at again: it may hold its own name.
    text = re.sub(r"\$\{env:([^}{$]*)\}", lambda match: reader.variable(match[1]) or "", text)
    if "${" in text or "\0" in text or not text:
        return None
    if "/" not in text and "\\" not in text and not text.startswith("."):
        return (
            next(reader.lookup(text), text)
            if text.lower().startswith(("python", "pypy"))
            else reader.absolute(text, folder)
        )
    return reader.absolute(text, folder)


def _called(reader: Reader, folder: str) -> dict[str, str]:
    """The folders that are opened together with this one, by their names."""
    named = {reader.name(folder): folder}
    for root in (folder, reader.parent(folder)):
        for _, opened in opened_in(reader, root):
            if any(item.path == folder for item in opened):
                named |= {item.name: item.path for item in opened}
    return named


def _literal(reader: Reader, text: str, folder: str) -> str | None:
    """The path that a checker makes of a value: a bare word is looked for on PATH, nothing else stands for anything."""
    if "\0" in text or len(text) > _LONG:
        return None
    if not any(sign in text for sign in ("/", reader.path.sep)):
        return next(reader.lookup(text), text)
    return str(reader.path.normpath(reader.join(folder, text)))


def _nearest_program(reader: Reader, word: str) -> str | None:
    """The Python on PATH whose name is at most two letters from a word that names none."""
    names = {name: reader.join(folder, name) for folder in reversed(reader.path_folders())
             for name in reader.names(folder) if name.startswith(("python", "pypy"))}  # fmt: skip
    ranked = sorted((distance(word.lower(), name, 2), name) for name in names)
    return names[ranked[0][1]] if ranked and ranked[0][0] <= 2 else None


def _started(reader: Reader, seat: Seat, asked: Part, path: str) -> Seat:
    """The seat with what the path starts, or why it starts nothing, with the nearest that exists."""
    near = None
    if not reader.path.dirname(path):
        part = Part(role=asked.role, word=asked.word, reason=visible(reader.not_on_path(path)))
    else:
        is_folder = reader.is_folder(path)
        starts = first_that_starts(reader, executables_of(reader, path)) if is_folder else starting(reader, path)
        part = replace(starts or Part(role=asked.role, word=""), role=asked.role, word=asked.word, path=path)
        if part.interpreter is None:
            part = replace(part, reason=f"{visible(path)}: {part.reason or 'it holds no interpreter'}")
    if part.interpreter is None:
        from kalyx.core.system.nearest_path import nearest_existing

        is_name = not any(sign in asked.word for sign in "/\\$~")
        near = _nearest_program(reader, asked.word) if is_name else nearest_existing(reader, path)
        if near is not None:
            part = replace(part, reason=f"{part.reason}; the nearest that is there: {visible(near)}")
    return replace(seat, parts=[part], undecided=part.undecided, reason=part.reason, nearest=near,
                   interpreter=part.interpreter, environment=part.environment)  # fmt: skip
