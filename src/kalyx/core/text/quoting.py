"""A command line for each shell, which the shell reads back as the same words; or none, where that is impossible.

A line is for pasting: it has printable characters only (the terminal's line editor would obey a control character), and
a word for which a shell has no printable form is refused. Rules: POSIX.1-2017, Shell Command
Language 2.2; the manuals of bash, zsh and ksh ("ANSI-C quoting"), fish ("Quotes", "Escaping characters"), tcsh
("Lexical structure"), xonsh ("String literals in subprocess mode"); the documented rules of cmd and of the C run-time
(how a program's command line is split), and of PowerShell (about_Quoting_Rules).
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from kalyx.core.text.patterns import pattern
from kalyx.core.text.shells import Language, shell_called

# Safe in every shell without quotes. Neither = in front (a command's place in zsh) nor a leading ~ or %.
_PLAIN = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_./:,+@=-")
_PLAIN_WINDOWS = pattern(r"[A-Za-z0-9_./\\:+-][A-Za-z0-9_./\\:+=-]*")
# PowerShell takes typographic quotation marks for its own.
_POWERSHELL_QUOTES = "'\u2018\u2019\u201a\u201b"


class Unquotable(ValueError):
    """No line in this shell carries the word: the word, and the reason."""

    def __init__(self, word: str, reason: str) -> None:
        super().__init__(reason)
        self.word = word
        self.reason = reason


def line_for(argv: list[str], shell: str) -> str:
    """The line that starts ``argv`` in this shell (by its plain name). Raises Unquotable."""
    words = [quoted(word, shell) for word in argv]
    language = shell_called(shell).language
    if language == "cmd" and words and "=" in words[0] and words[0][0] != '"':
        words[0] = f'"{words[0]}"'  # in cmd a program's name ends at this sign
    # In PowerShell a quoted word is a text; the call operator makes it a command.
    call = "& " if language == "powershell" and words and words[0][:1] == "'" else ""
    return call + " ".join(words)


def line_with(variables: Mapping[str, str | None], argv: list[str], shell: str) -> str:
    """The line of a Windows shell that starts ``argv`` with variables set, or left out. Raises Unquotable.

    By cmd's ``set``, for the rest of its window; by PowerShell's ``$env:`` (about_Environment_Variables).
    """
    parts = []
    is_powershell = shell_called(shell).language == "powershell"
    for name, value in variables.items():
        if is_powershell:
            parts.append(f"$env:{name} = {_for_powershell(value) if value else '$null'}")
        elif any(sign in (value or "") for sign in '%"!^&|<>\n\r'):
            raise Unquotable(value or "", "a variable that cmd sets cannot hold it")
        else:
            parts.append(f'set "{name}={value or ""}"')
    between = "; " if is_powershell else " & "
    return between.join([*parts, line_for(argv, shell)])


# How a shell of each language runs, as its own, what a command printed.
_AS_ITS_OWN: dict[Language, str] = {
    "posix": 'eval "$({})"',
    "fish": "{} | source",
    "csh": "eval `{}`",
    "powershell": "{} | Invoke-Expression",
    # Read from a file: a line that a loop produces would not have % and & taken literally.
    "cmd": '{} > "%TEMP%\\kalyx-enter.bat" && call "%TEMP%\\kalyx-enter.bat"',
    "xonsh": "execx($({}))",
}


def line_that_runs_output(argv: list[str], shell: str) -> str:
    """The line that has this shell itself carry out what ``argv`` prints. Raises Unquotable."""
    return _AS_ITS_OWN[shell_called(shell).language].format(line_for(argv, shell))


def quoted(word: str, shell: str) -> str:
    """One word for this shell. Raises Unquotable where it has no way to carry it."""
    if "\0" in word:
        raise Unquotable(word, "no program can be given a word with a zero byte")
    row = shell_called(shell)
    if row.language in ("cmd", "powershell"):
        return _for_cmd(word) if row.language == "cmd" else _for_powershell(word)
    if word and word[0] != "=" and _PLAIN.issuperset(word):
        return word
    if row.language != "posix":
        return {"fish": _for_fish, "csh": _for_csh, "xonsh": _for_xonsh}[row.language](word)
    if word.isprintable():
        return "'" + word.replace("'", "'\"'\"'") + "'"
    if row.has_extensions:
        return _ansi_c(word)
    raise Unquotable(word, f"{shell or 'this shell'} has no printable way to write its control characters")


def _ansi_c(word: str) -> str:
    """``$'…'``: bytes that are no printable text are written as numbers."""
    out = []
    for character in word:
        if character in "\\'":
            out.append("\\" + character)
        elif character.isprintable():
            out.append(character)
        else:
            # Three digits: a letter or digit after the number cannot be taken for a part of it.
            out += [f"\\{byte:03o}" for byte in character.encode("utf-8", "surrogateescape")]
    return "$'" + "".join(out) + "'"


def _for_fish(word: str) -> str:
    """In single quotes a backslash escapes itself and the quote; what cannot be printed stands outside as a number."""
    parts = re.split(r"([^ -~\u00a0-\U0010ffff]+|[\udc80-\udcff]+)", word)
    out = []
    for number, part in enumerate(parts):
        if number % 2 or not part.isprintable():
            out += [f"\\X{byte:02x}" for byte in part.encode("utf-8", "surrogateescape")]
        elif part:
            out.append("'" + part.replace("\\", "\\\\").replace("'", "\\'") + "'")
    return "".join(out) or "''"


def _for_csh(word: str) -> str:
    """In single quotes only ``!`` is read, and needs a backslash; a backslash before anything else stays."""
    if not word.isprintable():
        raise Unquotable(word, "tcsh has no printable way to write its control characters")
    out = []
    for part in re.split(r"([!'\\]+)", word):
        if part[:1] in ("!", "'", "\\"):
            out += [{"!": "\\!", "'": "\\'", "\\": "\\\\"}[character] for character in part]
        elif part:
            out.append(f"'{part}'")
    return "".join(out) or "''"


def _for_xonsh(word: str) -> str:
    """A raw string is read as it stands; what it cannot hold is refused: a backslash before its end, too."""
    if not word.isprintable():
        raise Unquotable(word, "xonsh has no printable way to write its control characters")
    if any(character in "'${}@" for character in word) or word.endswith("\\"):
        raise Unquotable(word, "xonsh reads more into it than a word")
    return f"r'{word}'" if word else "''"


def _for_cmd(word: str) -> str:
    """In double quotes; the program's own run-time takes a backslash before the closing quote for an escape."""
    if not word.isprintable():
        raise Unquotable(word, "the command interpreter has no printable way to write its control characters")
    if any(character in '%!"' for character in word):
        raise Unquotable(word, 'the command interpreter reads % ! and " inside quotes too')
    if word and _PLAIN_WINDOWS.fullmatch(word):
        return word
    trailing = len(word) - len(word.rstrip("\\"))
    return '"' + word + "\\" * trailing + '"'


def _for_powershell(word: str) -> str:
    if _PLAIN_WINDOWS.fullmatch(word) and not word.startswith("-"):
        return word
    if re.fullmatch(r"--?[A-Za-z][A-Za-z0-9-]*", word):
        return word
    if not word.isprintable() or '"' in word:
        raise Unquotable(word, "PowerShell does not hand it to a program as it is")
    for mark in _POWERSHELL_QUOTES:
        word = word.replace(mark, mark + mark)
    return f"'{word}'"
