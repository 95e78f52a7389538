"""Which one file decides for a language checker, and what it says: here or in the folders above.

A checker takes its whole configuration from one file. One kind looks for its own file in every folder above before any
project file counts (``above: file``); the other takes the nearest folder that has any of the list, up to the top of a
repository, then the user's own (``above: folder``). No other file adds to that
one. The tests compare with the checkers' own verbose output.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.formats.span import Malformed
from kalyx.core.formats.values import LIMIT, Value, values
from kalyx.core.seats.settings_forms import ChoiceForm, SettingsForm
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.nested import nested
from kalyx.core.text.patterns import pattern

_TOPS = (".git", ".hg")
_EXTENDED_AT_MOST = 10
_VARIABLE = pattern(r"\$(\w+|\{[^}]*\})")


class ConfigFile(Struct):
    """A checker's configuration: its form, the file, and whether it is the folder's and not the user's."""

    form: SettingsForm
    path: str
    text: str
    own: bool
    problem: str | None = None


def deciding(reader: Reader, folder: str, forms: list[SettingsForm]) -> ConfigFile | None:
    """The file that decides for the checker of these forms, which are one family's; None where it has none."""
    if forms[0].above == "file":
        looked = ((form, path) for form in forms for path in reader.upward(folder))
    else:
        looked = ((form, path) for path in reader.upward(folder, _TOPS) for form in forms)
    for form, path in looked:
        for name in form.files:
            config = config_of(reader, form, reader.join(path, name), own=True)
            if config is not None:
                return config
    for form in forms:
        for name in form.user.get(reader.system, []):
            config = config_of(reader, form, reader.absolute(name, reader.home), own=False)
            if config is not None:
                return config
    return None


def config_of(reader: Reader, form: SettingsForm, path: str, *, own: bool) -> ConfigFile | None:
    """The file as this checker takes it; None where it passes the file over."""
    if not reader.is_file(path):
        return None
    try:
        text = reader.read_whole(path, LIMIT).decode("utf-8")
        if text.startswith("\ufeff"):
            raise Malformed("it begins with a byte-order mark, which this checker does not take")
        if not _has_section(form, text):
            return None
    except (Unreadable, UnicodeDecodeError, Malformed) as problem:
        if form.above == "folder" or form.section:
            return None  # the checker reports that, and searches further
        reason = problem.reason if isinstance(problem, Unreadable) else str(problem)
        return ConfigFile(form, path, "", own, reason)
    return ConfigFile(form, path, text, own)


def _has_section(form: SettingsForm, text: str) -> bool:
    """Whether the file holds what it must, to count. Raises Malformed where the checker could not read it."""
    section = form.section
    if form.format == "ini":
        from kalyx.core.formats import ini

        result = ini.read(text, strict=True)
        return not section or (section[0], "") in result
    if form.format == "toml":
        from kalyx.core.formats import toml

        return nested(toml.read(text), *section) is not None
    if text.strip():
        from kalyx.core.formats.positions import spans_of

        spans_of(form.format, text, ["*"], None)
    return True


def configured(reader: Reader, config: ConfigFile, choice: ChoiceForm) -> Iterator[tuple[Value, str]]:
    """What the file says at this choice, as the path that the checker makes of it, and the file where it stands."""
    form = config.form
    if form.format == "ini" or form.above == "folder":
        for value in values(form.format, config.text, choice.key, None, None):
            text = value.text if choice.kind == "version" else _with_variables(reader, value.text, config.path)
            yield Value(text, value.line, value.named, value.words), config.path
        return
    chain = list(_extended(reader, config))
    result = _first(form.format, chain, choice.key)
    if result is None:
        return
    value, path = result
    if choice.below:
        below = _first(form.format, chain, choice.below)
        if below is None:
            return  # an environment's name says nothing without its folder
        folder = reader.join(reader.parent(below[1]), below[0].text)
        value = Value(str(reader.path.normpath(reader.join(folder, value.text))), value.line, value.named, value.words)
    yield value, path


def _first(form: str, chain: list[tuple[str, str]], key: list[str]) -> tuple[Value, str] | None:
    for path, text in chain:
        try:
            for value in values(form, text, key, None, None):
                return value, path
        except Malformed:
            continue
    return None


def _extended(reader: Reader, config: ConfigFile) -> Iterator[tuple[str, str]]:
    """The file and those that it builds upon, the nearest first."""
    from kalyx.core.formats.positions import spans_of

    path, text, form, seen = config.path, config.text, config.form.format, set[str]()
    while path not in seen and len(seen) < _EXTENDED_AT_MOST:
        seen.add(path)
        yield path, text
        key = [*(config.form.section if form == "toml" else []), "extends"]
        try:
            base = next((span.value for span in spans_of(form, text, key, None)), None)
        except Malformed:
            return
        if base is None or (base.endswith(".toml") != (form == "toml")):
            return
        path = str(reader.path.normpath(reader.join(reader.parent(path), base)))
        text = reader.text_or_none(path, LIMIT) or ""


def holds_packages(reader: Reader, prefix: str) -> bool:
    """Whether a checker finds a folder of packages in an environment that its configuration names."""
    if reader.system == "windows":
        return reader.is_folder(reader.join(prefix, "Lib", "site-packages"))
    return any(
        reader.is_folder(reader.join(prefix, folder, name, "site-packages"))
        for folder in ("lib", "lib64")
        for name in reader.names(reader.join(prefix, folder))
        if name.startswith("python3.")
    )


def _with_variables(reader: Reader, text: str, path: str) -> str:
    """Variables and the home put in, as the library's ``expandvars`` and ``expanduser`` do; unknown ones stay."""
    known = {"MYPY_CONFIG_FILE_DIR": reader.parent(path)}

    def value(match: re.Match[str]) -> str:
        name = match[1].strip("{}")
        return known.get(name) or reader.variable(name) or match[0]

    if text == "~" or text.startswith("~/"):
        text = reader.home + text[1:]
    return _VARIABLE.sub(value, text)
