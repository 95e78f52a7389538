"""A command line that starts Python: the variables set in front of the interpreter, and the words after that.

Words are separated by the rules of the system that the line is from: POSIX Shell Command Language, 2.2 and 2.3, or
"Parsing C Command-Line Arguments" (Windows).
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern
from kalyx.core.text.shells import takes_command

_PYTHON = pattern(r"(?:python|pypy)[0-9.]*w?(?:\.exe)?")
_ASSIGNMENT = pattern(r"([A-Za-z_][A-Za-z0-9_]*)=(.*)")
# Programs that start another here, in its place or below themselves, without a change of where it finds anything.
_TRANSPARENT = {"env", "exec", "command", "nice", "nohup", "setsid", "stdbuf", "ionice", "time", "timeout"}
_SHELL_C = pattern(r"-[a-z]*c")
_SEVERAL = "it holds several commands; give only the one that starts Python"


class PythonCommand(Struct):
    """What starts Python: its ``program`` as written, and the ``words`` after that.

    The variables that are set and removed in front (``*``: all others); ``is_plain``: what else stands in front starts
    the program here and as it is.
    """

    words: list[str]
    program: str = ""
    is_plain: bool = True
    sets: dict[str, str] = {}
    removes: set[str] = set()

    def variables(self, given: dict[str, str]) -> dict[str, str]:
        """The variables that Python starts with, of those that the line is started with."""
        kept = {} if "*" in self.removes else given
        return {name: value for name, value in kept.items() if name not in self.removes} | self.sets


def python_command(line: str, system: str) -> PythonCommand:
    """What a line says. Without a word of Python the line is that of a program, whose first word is left out.

    Raises ValueError, with the reason for people, where the line is several commands or a quotation has no end.
    """
    commands = [words for words in commands_of(line, system) if words]
    if not commands:
        return PythonCommand([])
    starts = [words for words in commands if behind_python(words) is not None]
    is_changed = any(words[0] in ("cd", "export", ".", "source") for words in commands)
    if len(commands) > 1 and (len(starts) != 1 or is_changed):
        raise ValueError(_SEVERAL)
    chosen = (starts or commands)[0]
    return behind_python(chosen) or PythonCommand(chosen[1:])


def behind_python_or_none(words: list[str]) -> PythonCommand | None:
    """As ``behind_python``; None too for what cannot be read, or is several commands."""
    try:
        return behind_python(words)
    except ValueError:
        return None


def behind_python(words: list[str]) -> PythonCommand | None:
    """What the words of one command say; None: no word of them is an interpreter's. Raises ValueError as above."""
    command = PythonCommand([])
    remainder, is_env = list(words), False
    while remainder:
        word = remainder.pop(0)
        name = word.replace("\\", "/").rpartition("/")[2].lower()
        assignment, is_option = _ASSIGNMENT.fullmatch(word), word.startswith("-")
        if _PYTHON.fullmatch(name):
            command.program, command.words = word, remainder
            return command
        if assignment is not None:
            command.sets[assignment[1]] = assignment[2]
        elif is_env and word in ("-i", "-", "--ignore-environment"):
            command.removes.add("*")
        elif is_env and word in ("-u", "--unset"):
            command.removes.update(remainder[:1])
            remainder = remainder[1:]
        elif is_env and word in ("-S", "--split-string"):
            remainder = _split(" ".join(remainder[:1]), "linux") + remainder[1:]
        elif takes_command(name) and any(_SHELL_C.fullmatch(option) for option in remainder[:2]):
            at = next(at for at, option in enumerate(remainder) if _SHELL_C.fullmatch(option))
            inner = commands_of(" ".join(remainder[at + 1 : at + 2]), "linux")
            if len(inner) > 1:
                raise ValueError(_SEVERAL)
            remainder = inner[0] if inner else []
        elif not is_option and name not in _TRANSPARENT and not is_number(name):
            command.is_plain = False
        is_env = is_env or name == "env"
    return None


def commands_of(line: str, system: str) -> list[list[str]]:
    """The words of each command of a line, without what redirects streams. Raises ValueError for an open quotation."""
    words = _split(line, system)
    if system == "windows":
        return [words]
    commands: list[list[str]] = [[]]
    left = iter(words)
    for word in left:
        if not word or set(word) - set("();<>|&"):
            commands[-1].append(word)
        elif "<" in word or ">" in word:
            next(left, None)
            if commands[-1] and commands[-1][-1] in ("0", "1", "2"):
                commands[-1].pop()
        else:
            commands.append([])
    return [words for words in commands if words]


def _split(line: str, system: str) -> list[str]:
    if system == "windows":
        return _windows_words(line)
    import shlex  # it compiles a pattern when loaded

    lexer = shlex.shlex(line, posix=True, punctuation_chars=True)
    lexer.whitespace_split, lexer.commenters = True, ""
    return list(lexer)


def _windows_words(line: str) -> list[str]:
    """A backslash stands for itself, but before a quotation mark; two marks within a quotation are one."""
    words: list[str] = []
    word, is_quoted, is_word, slashes = "", False, False, 0
    at = 0
    while at < len(line):
        sign = line[at]
        at += 1
        if sign == "\\":
            slashes += 1
            continue
        if sign == '"':
            word += "\\" * (slashes // 2)
            is_word = True
            if slashes % 2:
                word += sign
            elif is_quoted and line[at : at + 1] == '"':
                word += sign
                at += 1
            else:
                is_quoted = not is_quoted
            slashes = 0
            continue
        word, is_word = word + "\\" * slashes, is_word or slashes > 0
        slashes = 0
        if sign in " \t" and not is_quoted:
            if is_word:
                words.append(word)
            word, is_word = "", False
        else:
            word, is_word = word + sign, True
    word, is_word = word + "\\" * slashes, is_word or slashes > 0
    if is_quoted:
        raise ValueError("No closing quotation")
    return [*words, word] if is_word else words
