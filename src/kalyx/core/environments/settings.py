"""Environments that settings files of a folder name.

In every format an interpreter is named by a quoted path. Every quoted text
that leads to an interpreter or an environment counts; ``seats`` knows which
part of an editor a setting controls.
"""

from __future__ import annotations

from collections.abc import Iterator

from kalyx.core.system import Reader

# Where settings are, relative to a folder; the names are dictated by the formats.
_FILES = (".vscode/settings.json", ".vscode/launch.json", "pyrightconfig.json", ".idea/misc.xml", ".idea/workspace.xml",
          ".dir-locals.el", "pyproject.toml")  # fmt: skip
_ENDINGS = (".code-workspace", ".sublime-project")
_LIMIT = 1024 * 1024
_WORDS_LIMIT = 5000


def named_prefixes(reader: Reader, folder: str) -> list[str]:
    """Prefixes of the environments that settings files in this folder name, in order."""
    files = [reader.join(folder, *name.split("/")) for name in _FILES]
    files += [reader.join(folder, name) for name in reader.names(folder) if name.endswith(_ENDINGS)]
    result = []
    for path in files:
        if not reader.is_file(path):
            continue
        for word in reader.first_of(list(_quoted(reader.text_or_none(path, _LIMIT) or "")), _WORDS_LIMIT, path):
            prefix = _prefix_of(reader, word, folder)
            if prefix is not None:
                result.append(prefix)
    return list(dict.fromkeys(result))


def _quoted(text: str) -> Iterator[str]:
    """Every text between double quotes on one line that may be a path to Python or an environment."""
    for line in text.splitlines():
        parts = line.split('"')
        for word in parts[1::2]:
            if 1 < len(word) < 1000 and ("/" in word or "\\" in word or word.startswith((".", "env", "venv"))):
                yield word.replace("\\\\", "\\")


def _prefix_of(reader: Reader, word: str, folder: str) -> str | None:
    for variable in ("${workspaceFolder}", "${workspaceRoot}", "$PROJECT_DIR$"):
        word = word.replace(variable, folder)
    if "$" in word or "\0" in word or "*" in word:
        return None
    path = reader.absolute(word, folder)
    if reader.name(path).lower().startswith(("python", "pypy")) and reader.kind(path) in ("file", "link"):
        return reader.parent(reader.parent(path))
    return path if reader.may_be_there(reader.join(path, "pyvenv.cfg")) else None
