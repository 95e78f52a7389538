"""What in a shell's start files takes the words of Python over, whichever way the shell is started; nothing is run.

An alias or a function wins over ``PATH``, and no activation changes that. Most shells' files are followed as the shell
reads them (``shell_words``); those of the others are read line by line, and what they work out by code stays unknown.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from kalyx.core.seats.callers import ShellFound
from kalyx.core.seats.shell_words import Meaning, MeaningKind, is_followed, meanings
from kalyx.core.system import Reader
from kalyx.core.text.patterns import pattern
from kalyx.core.text.shells import shell_called

_LIMIT = 512 * 1024

_WORD = pattern(r"(?:python|pypy|pip)[0-9.]*$")
_FORMS: dict[MeaningKind, list[re.Pattern[str]]] = {
    "alias": [
        pattern(r"""^\s*Set-Alias\s+(?:-\w+\s+)*([\w.]+)\s+(.*)""", re.IGNORECASE),
        pattern(r"""^\s*aliases\[['"]([\w.]+)['"]\]\s*=\s*(.*)"""),
    ],
    "function": [pattern(r"^\s*function\s+([\w.]+)", re.IGNORECASE)],
}


def taken_over(reader: Reader, shell: str) -> list[Meaning]:
    """The words of Python and its installer that start files of ``shell`` take over, each line once."""
    row = shell_called(shell)
    if not row.is_followed:
        files = [word for word in row.start_files.get("always", []) if isinstance(word, str)]
        return [word_taken for word in files for word_taken in _in_file(reader, reader.absolute(word, reader.home))]
    if not is_followed(reader, shell):
        return []
    result: dict[tuple[str, int, str], Meaning] = {}
    for is_login in (False, True):
        taken = meanings(reader, ShellFound(shell, None, "asked about", is_login=is_login))
        for meaning in taken.of_python():
            result.setdefault((meaning.path, meaning.line, meaning.word), meaning)
    return list(result.values())


def _in_file(reader: Reader, path: str) -> Iterator[Meaning]:
    for number, line in enumerate((reader.text_or_none(path, _LIMIT) or "").splitlines(), 1):
        for kind, forms in _FORMS.items():
            match = next((match for match in (form.match(line) for form in forms) if match), None)
            if match and _WORD.match(match[1]):
                yield Meaning(kind, match[1], line.strip()[:200], path, number, None)
