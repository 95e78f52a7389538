"""What an environment is to hold: requirements by word, from a requirements file, or from a project file.

Requirement lines follow PEP 508; a project file is ``pyproject.toml`` (PEP 621).
"""

from __future__ import annotations

from contextlib import suppress

from msgspec import Struct

from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.names import canonical
from kalyx.core.text.visible import visible

_LINES = 5000  # of a requirements file
_PACKED = (".whl", ".tar.gz", ".zip")


class InstallSpec(Struct):
    """The words for the installer, and the canonical names of what was asked for by name."""

    words: list[str] = []
    keys: set[str] = set()


def wants(reader: Reader, requirements: list[str], file: str | None) -> InstallSpec:
    """Everything asked for. Raises KalyxError for a requirement that no rule accepts or a file that is not there."""
    spec = InstallSpec([], set())
    for text in requirements:
        location = _place(reader, text)
        if location is None:
            spec.keys.add(_key(text))
            spec.words.append(text)
            continue
        linked, path, name = location
        spec.words += ["-e", path] if linked else [path]
        spec.keys |= {canonical(name)} if name else set()
    if file is None:
        return spec
    path = reader.absolute(file)
    if reader.is_folder(path) or path.endswith((".py", ".toml")):
        for line in _of_project(reader, path):
            spec.keys.add(_key(line))
            spec.words.append(line)
        return spec
    try:
        text = reader.read(path, 4 * 1024 * 1024).decode("utf-8")
    except Unreadable as problem:
        raise KalyxError(f"{visible(path)}: {problem.reason}") from None
    except UnicodeDecodeError:
        raise KalyxError(f"{visible(path)}: not UTF-8") from None
    if text.count("\n") > _LINES:
        raise KalyxError(f"{visible(path)} has more than {_LINES} lines")
    spec.words += _absolute_words(reader, path, text) or ["-r", path]
    for line in text.splitlines():
        # The installer knows more forms than names; it says what it cannot read.
        with suppress(KalyxError):
            spec.keys.add(_key(line.split(" #")[0].strip()))
    return spec


def _absolute_words(reader: Reader, path: str, text: str) -> list[str]:
    """The lines of a requirements file as words, where some name a place by a relative path; else none.

    The installer stands in an empty folder, and such a path goes by the folder that Kalyx was called in. Raises
    KalyxError where the file also pins digests, which only the file itself can say.
    """
    import shlex

    words: list[str] = []
    relative = False
    for line in text.replace("\\\n", " ").splitlines():
        line = line.split(" #")[0].strip()
        if not line or line.startswith("#"):
            continue
        option, _, remainder = line.partition(" ")
        option, sign, value = option.partition("=") if option.startswith("--") else (option, "", "")
        remainder = value if sign else remainder.strip()
        if option in ("-r", "--requirement", "-c", "--constraint"):
            words += [option, reader.absolute(remainder, reader.parent(path))]
        elif option in ("-e", "--editable"):
            is_place = remainder.startswith((".", "~")) or reader.exists(reader.absolute(remainder.partition("[")[0]))
            words += ["-e", reader.absolute(remainder) if is_place else remainder]
            relative = relative or is_place
        elif line.startswith("-"):
            try:
                words += shlex.split(line)  # as the installer does, on every system
            except ValueError:
                raise KalyxError(f"{visible(path)}: a quotation mark has no second one: {visible(line[:80])}") from None
        elif line.startswith(".") or (line.endswith(_PACKED) and reader.exists(reader.absolute(line))):
            words.append(reader.absolute(line))
            relative = True
        else:
            words.append(line)
    if relative and "--hash" in text:
        raise KalyxError(f"{visible(path)}: it pins digests and names a folder by a relative path; write the full path")
    return words if relative else []


def _place(reader: Reader, text: str) -> tuple[bool, str, str | None] | None:
    """A folder or file to install from: whether it stays linked (``-e``), its path, the name it says; None: no path."""
    linked = text.startswith("-e ")
    words = text.removeprefix("-e ").strip()
    is_path = linked or words.startswith((".", "/", "~")) or words.endswith(_PACKED) or reader.path.isabs(words)
    if not is_path or "://" in words or " @ " in words:
        return None
    path = reader.absolute(words)
    if not reader.exists(path):
        raise KalyxError(f"{visible(path)}: {NOTHING_THERE}")
    if reader.name(path).endswith(".whl"):
        return linked, path, reader.name(path).partition("-")[0]
    from kalyx.core.packages.project import PROJECT, project_of

    project = project_of(reader, path) if reader.is_file(reader.join(path, PROJECT)) else None
    return linked, path, project.name if project is not None else None


def _of_project(reader: Reader, path: str) -> list[str]:
    """What a project's folder or file, or a script with a block of its own (PEP 723), always asks for.

    Raises KalyxError.
    """
    from kalyx.core.packages.project import block_of_script, project_in, project_of

    if reader.is_folder(path):
        project = project_of(reader, path)
    else:
        project = project_in(reader, path) if path.endswith(".toml") else block_of_script(reader, path)
    if project is None:
        raise KalyxError(f"{visible(path)}: it does not say what it requires")
    if project.problem is not None:
        raise KalyxError(f"{visible(project.path)}: {project.problem}")
    return [wish.line for wish in project.wishes if wish.group is None]


def _key(text: str) -> str:
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        return canonical(Requirement(text).name)
    except InvalidRequirement:
        raise KalyxError(
            f"{visible(text)!r} is not a requirement: write a name like nectarflow or nectarflow>=1.2"
        ) from None


def required_python(reader: Reader, folder: str) -> tuple[str, str] | None:
    """The ``requires-python`` of a project file in the folder, and the file; None when it names none."""
    from kalyx.core.packages.project import PROJECT, project_in

    path = reader.join(folder, PROJECT)
    project = project_in(reader, path) if reader.is_file(path) else None
    if project is None:
        return None
    if project.problem is not None and project.requires_python is None:
        raise KalyxError(f"{visible(path)}: {project.problem}")
    return (project.requires_python, path) if project.requires_python is not None else None
