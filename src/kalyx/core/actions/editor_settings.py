"""Making an editor's settings or a run configuration choose an environment: only that value changes.

What may be written is in the same table of forms that the reading uses. A value
keeps its form: a path that begins at the folder stays one where the new path is in
the folder, the word for the folder is kept, quotes are kept.
"""

from __future__ import annotations

import json

from msgspec import Struct

from kalyx.core.actions.pointing import Pointing, read_for_change
from kalyx.core.environments.tracked import is_tracked, repository_of
from kalyx.core.formats.comments import without_comments
from kalyx.core.formats.editing import Edit, append_texts, apply
from kalyx.core.formats.positions import spans_of, written
from kalyx.core.formats.span import Malformed, Span
from kalyx.core.formats.values import LIMIT
from kalyx.core.invocation import interpreter_of
from kalyx.core.machine import Machine
from kalyx.core.model.records import ChangePlan, KalyxError, Seat
from kalyx.core.seats.editor import choices_for, editor_seats, folder_of
from kalyx.core.seats.settings_forms import ChoiceForm, SettingsForm, settings_forms
from kalyx.core.system import Reader
from kalyx.core.system.reader import FileStat
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.numbers import is_number
from kalyx.core.text.visible import visible

_FOLDER_WORDS = ("${workspaceFolder}", "${workspaceRoot}", "${fileWorkspaceFolder}", "$PROJECT_DIR$", "$project_path",
                 "${project_path}")  # fmt: skip


class _ConfigFile(Struct):
    """A settings file: its form, and the folder that its paths are relative to."""

    file: str
    about: SettingsForm
    folder: str

    @property
    def form(self) -> str:
        return self.about.format


def plan(machine: Machine, file: str, named: str | None, target: Seat) -> Pointing:
    """Plan what is written. ``named``: the name of one of several run configurations.

    Raises KalyxError where the form cannot be written, the file may not be, or the target starts nothing.
    """
    reader = machine.reader
    interpreter_of(target, machine, so=f"{visible(file)} was not changed")
    config = _config(reader, file)
    if not reader.may_be_there(file):
        return _new_file(reader, config, target)
    before = read_for_change(reader, file)
    text = before.decode("utf-8")
    try:
        choice, span = _chosen(config, text, named)
        if span is None:
            edits, was = _added(config, choice, text, reader, target), None
        else:
            edits, was = _replaced(config, choice, span, text, reader, target), span.value
    except (Malformed, ValueError, IndexError) as problem:
        raise KalyxError(f"{visible(file)}: {visible(str(problem))}; it was not changed") from None
    edits = [edit for edit in edits if text[edit.start : edit.end] != edit.text]
    after, back = apply(text, edits)
    plan = [ChangePlan(action=f"{_line(after, edits)} (it was {was or 'not set'})", path=file)] if edits else []
    return Pointing(file, before, after.encode("utf-8"), back, was, plan)


def settings_file(reader: Reader) -> str:
    """The settings file of the folder that chooses what it runs; where there is none, the first that can be begun."""
    for seat in editor_seats(reader, reader.folder):
        if seat.source and reader.inside(seat.source, reader.folder) and seat.parts and seat.parts[0].role == "run":
            return seat.source
    first = next(form for form in settings_forms(reader) if form.format in ("json", "jsonc") and form.files)
    return reader.join(reader.folder, *first.files[0].split("/"))


def _line(after: str, edits: list[Edit]) -> str:
    """The new line, as the plan shows it."""
    at = after.find(edits[-1].text.strip())
    start = after.rfind("\n", 0, at) + 1
    end = after.find("\n", at)
    return visible(after[start : end if end >= 0 else len(after)].strip())


def _config(reader: Reader, file: str) -> _ConfigFile:
    """The form of the settings file at a path. Raises KalyxError where no form names the path."""
    known = [(form, pattern) for form in settings_forms(reader) for pattern in form.files]
    config_files = [
        _ConfigFile(file, item, folder) for item, pattern in known if (folder := folder_of(reader, file, pattern))
    ]
    if not config_files:
        names = ", ".join(sorted({pattern for _, pattern in known}))
        raise KalyxError(f"{visible(file)} is not a settings file that Kalyx knows: {names}")
    # Of several forms of one file, the form whose value the file has.
    status = reader.status(file)
    if isinstance(status, FileStat) and status.size > LIMIT:
        raise KalyxError(f"{visible(file)} is larger than {LIMIT // 1024} KiB; it was not changed")
    text = reader.text_or_none(file, LIMIT) or ""
    for config in config_files:
        try:
            if any(spans_of(config.form, text, choice.key, choice.named) for choice in config.about.choices):
                return config
        except (Malformed, ValueError, IndexError):
            continue
    return config_files[0]


def _chosen(config: _ConfigFile, text: str, named: str | None) -> tuple[ChoiceForm, Span | None]:
    """The value to change: of those that can be written the first that is there; named where there are several."""
    writable = [
        choice
        for choice in config.about.choices
        if choice.kind in ("interpreter", "environment", "either", "command", "version")
    ]
    if not writable:
        raise Malformed("this form keeps a name that the editor itself gives out, which only the editor can write")
    for choice in writable:
        spans = spans_of(config.form, text, choice.key, choice.named)
        if named is not None:
            spans = [span for span in spans if span.named == named]
        names = list(dict.fromkeys(span.named or "" for span in spans))
        if len(names) > 1:
            raise Malformed(f"it has several: {', '.join(names)}; name one, as editor:{config.file}#{names[0]}")
        if spans:
            return choice, spans[-1]
    if named is not None:
        raise Malformed(f"it has no configuration called {named}")
    return writable[0], None


def _replaced(
    config: _ConfigFile, choice: ChoiceForm, span: Span, text: str, reader: Reader, target: Seat
) -> list[Edit]:
    if choice.below:
        return _in_two(config, choice, span, text, reader, target)
    value = _value(reader, config.folder, choice.kind, span.value, target)
    if choice.kind == "command" and not span.words:
        value = " ".join([value, *span.value.split(" ")[1:]])
    return [_edit(config, text, span, choice.key, value)]


def _in_two(
    config: _ConfigFile, choice: ChoiceForm, span: Span | None, text: str, reader: Reader, target: Seat
) -> list[Edit]:
    """An environment that is named by its own name and, apart from that, by the folder it is in: both are written."""
    upper = next(reversed(spans_of(config.form, text, choice.below, None)), None)
    values = _values(reader, config, choice, target, upper.value if upper is not None else "")
    places = {choice.below[-1]: (choice.below, upper), choice.key[-1]: (choice.key, span)}
    edits = [_edit(config, text, at, key, values.pop(name)) for name, (key, at) in places.items() if at]
    if values and config.form not in ("json", "jsonc"):
        raise Malformed("it names an environment and not the folder that the environment is in")
    return [*edits, append_texts(without_comments(text), values)] if values else edits


def _edit(config: _ConfigFile, text: str, span: Span, key: list[str], value: str) -> Edit:
    return Edit(*written(config.form, text, span, key, value))


def _value(reader: Reader, folder: str, kind: str, before: str, target: Seat) -> str:
    """The new value in the form of the old one."""
    assert target.interpreter is not None and target.environment is not None
    if kind == "version":
        count = before.count(".") + 1 if is_number(before[:1]) else 2
        return ".".join(target.interpreter.version.split(".")[:count])
    prefix = target.environment.prefix
    path = target.interpreter.executable
    if kind == "folder":
        path = reader.parent(prefix)
    elif kind == "environment" or (kind == "either" and before and _is_folder(reader, folder, before)):
        path = prefix
    word = next((word for word in _FOLDER_WORDS if before.startswith(word)), None)
    if reader.inside(path, folder) or kind == "folder":
        inner = str(reader.path.relpath(path, folder)).replace("\\", "/")
        if word is not None and not inner.startswith(".."):
            return f"{word}/{inner}"
        is_relative = reader.has_separator(before) or before.startswith(".")
        if is_relative and not reader.path.isabs(before) and "$" not in before:
            return f"./{inner}" if before.startswith("./") else inner
    return path


def _is_folder(reader: Reader, folder: str, value: str) -> bool:
    for word in _FOLDER_WORDS:
        value = value.replace(word, folder)
    return not reader.name(value).lower().startswith(("python", "pypy"))


def _added(config: _ConfigFile, choice: ChoiceForm, text: str, reader: Reader, target: Seat) -> list[Edit]:
    """The value put into a file that does not have it yet, at the end of its outermost object."""
    if config.form not in ("json", "jsonc") or "*" in choice.key or len(choice.key) != 1:
        raise Malformed("it does not choose an interpreter yet, and Kalyx cannot add a value to this format")
    plain = without_comments(text)
    if not json.loads(plain) and text.strip("\ufeff{} \t\r\n"):
        raise Malformed("it holds only comments; add the value by hand")
    if choice.below:
        return _in_two(config, choice, None, text, reader, target)
    return [append_texts(plain, _values(reader, config, choice, target))]


def _values(reader: Reader, config: _ConfigFile, choice: ChoiceForm, target: Seat, former: str = "") -> dict[str, str]:
    """The members that choose the target, by their names. ``former``: the first one's value, whose form is kept."""
    if not choice.below:
        return {choice.key[-1]: _value(reader, config.folder, choice.kind, former, target)}
    assert target.environment is not None
    lies_in = _value(reader, config.folder, "folder", former, target)
    return {choice.below[-1]: lies_in, choice.key[-1]: reader.name(target.environment.prefix)}


def _new_file(reader: Reader, config: _ConfigFile, target: Seat) -> Pointing:
    """A settings file of its own, where the form is an object that may hold that value alone."""
    choice = config.about.choices[0]
    if config.form == "text" and choice.kind == "version":
        text = _value(reader, config.folder, "version", "", target) + "\n"
    elif config.form in ("json", "jsonc") and len(choice.key) == 1:
        text = json.dumps(_values(reader, config, choice, target), indent=4, ensure_ascii=False) + "\n"
    else:
        raise KalyxError(f"{visible(config.file)}: {NOTHING_THERE}, and Kalyx cannot create a file of this format")
    plan = [ChangePlan(action="write " + " ".join(text.split()), path=config.file)]
    return Pointing(config.file, b"", text.encode("utf-8"), [], None, plan, is_new=True)


def warnings(machine: Machine, pointing: Pointing, target: Seat) -> list[str]:
    """Notes for the user before the change: a path of this machine in a file that others share."""
    reader = machine.reader
    assert target.interpreter is not None and target.environment is not None
    repository = repository_of(reader, reader.parent(pointing.path))
    absolute = (
        target.environment.prefix.encode() in pointing.after
        and target.environment.prefix.encode() not in pointing.before
    )
    if repository is not None and absolute and is_tracked(reader, repository, pointing.path):
        return [f"{visible(pointing.path)} is under version control, and this is a path of this machine only"]
    return []


def proof(machine: Machine, file: str, target: Seat) -> Seat:
    """What the file chooses now, read again. Raises KalyxError where that is not the target."""
    assert target.environment is not None and target.interpreter is not None
    for seat in choices_for(machine.reader, _config(machine.reader, file).folder, file):
        pinned = seat.parts[0].word.split(".")
        if pinned == target.interpreter.version.split(".")[: len(pinned)]:
            return seat
        if seat.environment is not None and seat.environment.key == target.environment.key:
            return seat
    prefix = visible(target.environment.prefix)
    raise KalyxError(f"{visible(file)} does not choose {prefix} after the change")
