"""What a word means to a shell before ``PATH`` is asked: an alias, a function, a remembered place of its start files.

The files are read, never run, in the order in which the shell reads them for the way it was started (its manual's
chapter on start-up). What they work out by code, or only under a condition, is a meaning that only running them tells.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.model.records import Evidence
from kalyx.core.seats.callers import ShellFound
from kalyx.core.system import Reader
from kalyx.core.text.lines import lines_of
from kalyx.core.text.patterns import pattern
from kalyx.core.text.shells import Shell, shell_called

_LIMIT = 512 * 1024
_DEEP = 4
_FILES = 200  # files that read each other
_DEEPEST = 12

_OPENS = {"if", "case", "for", "while", "until", "select", "foreach", "switch", "begin", "repeat"}
_CLOSES = {"fi", "esac", "done", "end", "endif", "endsw"}
_CALLED = 1_000_000  # characters of functions and aliases that start files call
# A command that defines words in a way that is not followed here.
_DEFINES = pattern(r"\b(?:alias|function|hash|eval|unalias)\b")
_NAME = pattern(r"[\w.]+")
_WORD = pattern(r"(?:python|pypy|pip)[0-9.]*")
_FUNCTION = pattern(r"(?:function\s+([\w.:@+-]+)\s*(?:\(\s*\))?|([\w.:@+-]+)\s*\(\s*\))\s*(.*)")
_FISH_FUNCTION = pattern(r"function\s+([\w.:@+-]+).*")
# Options with which "alias" defines the words after them as without.
_ALIAS_OPTIONS = {"zsh": ("-g", "-r"), "fish": ("-s", "--save")}
_ANY_FUNCTION_NAME = ("bash", "zsh")  # the others take no hyphen in it
# Words in front of a command that do not change which program is started.
_BEFORE = {"exec", "builtin", "nocorrect", "noglob", "nohup", "time"}
_WORKED_OUT = ("$(", "`", "|", "&&", "||", ";", "<(", "${", "(")


# What the program of a command may be: any meaning, no alias (of a function's body), no alias and no function (after
# "command"), nothing but what PATH says (after a program that starts it).
Reach = Literal["any", "no alias", "no function", "path"]


MeaningKind = Literal["alias", "function", "start-up code", "remembered place"]


class Meaning(Struct, frozen=True):
    """What a word stands for: the command's words (None: only running the file tells), and where that is written."""

    kind: MeaningKind
    word: str
    text: str
    path: str
    line: int
    words: tuple[str, ...] | None
    reach: Reach = "any"

    @property
    def evidence(self) -> Evidence:
        """The line, to be shown."""
        return Evidence.at(self.path, self.text, self.line)


class Taken(Struct):
    """The words that start files take over, in the order in which a shell asks."""

    aliases: dict[str, Meaning] = {}
    functions: dict[str, Meaning] = {}
    places: dict[str, Meaning] = {}

    def of_python(self) -> list[Meaning]:
        """The meanings of the words of Python and its installer."""
        known = [*self.aliases.values(), *self.functions.values(), *self.places.values()]
        return [meaning for meaning in known if _WORD.fullmatch(meaning.word)]

    def followed(self, word: str) -> list[Meaning]:
        """What the word means, then what that means, and so on, down to a program or what only running tells."""
        result: list[Meaning] = []
        reach: Reach = "any"
        while len(result) < _DEEPEST:
            meaning = self._next(word, reach, result)
            if meaning is None:
                break
            result.append(meaning)
            if meaning.words is None or "/" in meaning.words[0] or meaning.kind == "remembered place":
                break
            word, reach = meaning.words[0], meaning.reach
        return result

    def _next(self, word: str, reach: Reach, met: list[Meaning]) -> Meaning | None:
        if reach == "any" and word in self.aliases and self.aliases[word] not in met:
            return self.aliases[word]
        if reach == "no alias" and word in self.aliases:
            return replace(self.aliases[word], words=None)  # defined before the function was read, or after: not known
        if reach in ("any", "no alias") and word in self.functions:
            again = self.functions[word] in met
            return replace(self.functions[word], words=None) if again else self.functions[word]
        return self.places.get(word) if reach != "path" else None


def is_followed(reader: Reader, shell: str) -> bool:
    """Whether the files of a shell of this name are followed here, as it reads them."""
    return shell_called(shell).is_followed and reader.system != "windows"


def meanings(reader: Reader, shell: ShellFound) -> Taken:
    """The words that this shell's start files take over, each with its last meaning."""
    if not is_followed(reader, shell.name):
        return Taken()
    row = shell_called(shell.name)
    start_files = _StartFiles(reader, row)
    for path in _files_read(reader, row, shell):
        start_files.file(path, 0)
    # For what is not typed, this shell alone passes over aliases.
    aliases = start_files.aliases if shell.is_typed_into or row.name != "bash" else {}
    return Taken(aliases, start_files.functions, start_files.places)


def _files_read(reader: Reader, row: Shell, shell: ShellFound) -> Iterator[str]:
    read = {"always": True, "typed into": shell.is_typed_into, "login": shell.is_login, "login, last": shell.is_login}
    if row.name == "bash" and shell.is_login:
        read["typed into"] = False  # bash as a login shell reads the login files alone
    home = (reader.variable("ZDOTDIR") or reader.home) if row.name == "zsh" else reader.home
    for when, files in row.start_files.items():
        for file in files if read[when] else []:
            places = [_place(reader, word, home) for word in ((file,) if isinstance(file, str) else file)]
            if "$ENV" in file and reader.variable("ENV"):
                places = places[:1]  # the usual one is read only where the variable names none
            there = [path for path in places if path is not None and reader.exists(path)]
            for path in there[:1]:
                if reader.is_folder(path):
                    yield from (reader.join(path, inner) for inner in reader.names(path) if inner.endswith(".fish"))
                else:
                    yield path
    if row.language == "fish":
        folder = reader.join(home, ".config", "fish", "functions")
        yield from (reader.join(folder, inner) for inner in reader.names(folder) if _WORD.match(inner))


def _place(reader: Reader, word: str, home: str) -> str | None:
    if word != "$ENV":
        return reader.absolute(word.rstrip("/"), home)
    named = _filled(reader, reader.variable("ENV") or "")
    return named if reader.path.isabs(named) and "$" not in named else None


class _StartFiles:
    """Reads files in order and keeps the last meaning of each word."""

    def __init__(self, reader: Reader, row: Shell) -> None:
        self.reader, self.name = reader, row.name
        self.is_c, self.is_fish = row.language == "csh", row.language == "fish"
        self.aliases: dict[str, Meaning] = {}
        self.functions: dict[str, Meaning] = {}
        self.places: dict[str, Meaning] = {}
        self.bodies: dict[str, list[str]] = {}  # what a function or an alias carries out, each line of each meaning
        self.stood_for: set[str] = set()  # the single words that any name was ever an alias for
        self.files = self.called = 0
        self.is_torn = False  # the shell refuses a line: only the shell knows what it does with the rest

    def file(self, path: str, depth: int, certain: bool = True) -> None:
        self.files += 1
        if depth > _DEEP or self.files > _FILES:
            self._tear()  # not read: what it says is not known
            return
        text = self.reader.text_or_none(path, _LIMIT)
        outside = inside = 0 if certain else 1
        body = None
        for number, line in lines_of((text or "").replace("\\\n", " ")):
            line = line.strip()
            if not line or line.startswith("#"):
                continue
            if body is not None:
                body.text = f"{body.text.removesuffix(' …')} …"  # the function has more lines
            for statement in _statements(line):
                bare = statement.removeprefix("then ").removeprefix("else ").removeprefix("do ").strip()
                first = statement.split(None, 1)[0]
                if body is not None:
                    body = self._body(body, statement)
                elif (function := self._function_in(bare)) is not None:
                    body = self._function(function, line, path, number, inside > 0)
                elif first in _CLOSES:
                    inside = max(outside, inside - 1)
                elif first in _OPENS and not (self.is_c and first == "if" and not line.endswith("then")):
                    inside += 1
                    self._calls(statement, path, number, depth)
                else:
                    certain = not inside and "&&" not in line and "||" not in line
                    certain = certain and not (self.is_c and line.startswith("if"))
                    self._statement(bare, path, number, certain, depth)

    def _function_in(self, statement: str) -> tuple[str, str] | None:
        """The name of the function that a command defines, and what follows on it; None where it defines none."""
        if self.is_fish:
            match = _FISH_FUNCTION.fullmatch(statement)
            return (match[1], "") if match else None
        match = _FUNCTION.fullmatch(statement) if not self.is_c else None
        return (match[1] or match[2], match[3].strip()) if match else None

    def _function(self, function: tuple[str, str], line: str, path: str, number: int, unsure: bool) -> _Body | None:
        """A function's beginning: its body, where more commands belong to it."""
        name, remainder = function
        body = _Body(name, path, number, unsure, line, self.is_fish)
        return self._body(body, remainder) if remainder else body

    def _body(self, body: _Body, statement: str) -> _Body | None:
        """The same body with one more command; None where that ends it."""
        is_first = not body.is_open
        if is_first:
            body.is_open, body.unsure = True, body.unsure or not statement.startswith("{")
            statement = statement.removeprefix("{").strip()
            if body.unsure or not statement:
                body.lines = [statement] if statement else []
                if statement:
                    self._keep_function(body)
                return None if statement else body
        # zsh takes a brace at the end of such a line for the function's; the others need a semicolon before it.
        whole = is_first and self.name == "zsh" and statement.endswith((" }", "\t}"))
        if whole:
            body.lines = [statement[:-1].strip()]
        first, function = statement.split(None, 1)[0], self._function_in(statement)
        if whole or (not body.inner and first == ("end" if self.is_fish else "}")):
            self._keep_function(body)
            return None
        opens = function is not None and (self.is_fish or function[1][:1] == "{" and function[1][-1] != "}")
        body.inner += (first in _OPENS or first == "{" or opens) - (first in _CLOSES or first == "}")
        body.lines.append(statement)
        return body

    def _keep_function(self, body: _Body) -> None:
        if not body.name.isidentifier() and not self.is_fish and self.name not in _ANY_FUNCTION_NAME:
            self._tear()  # it ends the reading of this file
        if body.name in self.aliases and not self.is_fish:
            # The shell replaces the name by the alias even in a definition. The function that is defined then may have
            # the name of a path, or of any word that an alias ever had as its value: those meanings are unknown.
            self._tear()
            for word in [body.name, *self.stood_for]:
                self._unknown_function(word, body.text, body.path, body.line)
            self.stood_for.clear()
        else:
            body.unsure = body.unsure or self.is_torn
            words, reach = (None, "any") if len(body.lines) != 1 or body.unsure else self._command(body.lines[0])
            reach = "no alias" if reach == "any" else reach
            self.functions[body.name] = Meaning("function", body.name, body.text, body.path, body.line, words, reach)
        self.bodies.setdefault(body.name, []).extend(body.lines)

    def _unknown_function(self, name: str, text: str, path: str, line: int) -> None:
        self.functions[name] = Meaning("function", name, text[:200], path, line, None)

    def _tear(self) -> None:
        if not self.is_torn:
            for kept in (self.aliases, self.functions):
                kept.update({word: replace(meaning, words=None) for word, meaning in kept.items()})
        self.is_torn = True

    def _calls(self, text: str, path: str, number: int, depth: int) -> None:
        """Carry out the functions and aliases that a command may call: whether it does, only the shell knows."""
        left, called = [text], dict[str, list[str]]()
        while left:
            for word in left.pop().split():
                if word in self.bodies and word not in called:
                    called[word] = list(self.bodies[word])
                    left += called[word]
                    self.called += 1 + sum(map(len, called[word]))
                    if self.called > _CALLED:
                        self._tear()
                        return
        for line in itertools.chain.from_iterable(called.values()):
            function = self._function_in(line)
            if function is not None:
                self._unknown_function(function[0], line, path, number)
            for statement in _statements(line):
                words = statement.split()
                while words and (words[0] in ("then", "else", "do", "{", "(", "!") or words[0] in _OPENS):
                    words = words[1:]
                if words:
                    self._statement(" ".join(words), path, number, False, depth, calls=False)

    def _statement(self, text: str, path: str, number: int, certain: bool, depth: int, calls: bool = True) -> None:
        """One plain command of a start file: what it says of the words, or another file that it reads."""
        if calls:
            self._calls(text, path, number, depth)
        first, _, remainder = text.partition(" ")
        certain = certain and not self.is_torn
        if self.is_fish and first == "functions" and remainder.startswith(("-e ", "--erase ")):
            first, remainder = "unfunction", remainder.partition(" ")[2]
        if first in ("source", "."):
            named = _filled(self.reader, remainder.strip().split(" ")[0].strip("\"'"))
            if named and "$" not in named and "`" not in named:
                # A relative path starts in the shell's current folder at that time, which mostly is the home folder.
                certain = certain and self.reader.path.isabs(named)
                self.file(self.reader.absolute(named, self.reader.home), depth + 1, certain)
        elif first == "alias" or (first == "builtin" and remainder.startswith("alias ")):
            self._alias(remainder.removeprefix("alias "), text, path, number, certain)
        elif first in ("unalias", "unset", "unhash", "unfunction"):
            words = remainder.split()
            kept = self._taken_away_by(first, words) or {}
            for word in words:
                if certain:
                    kept.pop(word, None)
                elif word in kept:
                    kept[word] = replace(kept[word], words=None)
        elif first == "hash":
            self._remembered(remainder, text, path, number, certain)
        elif defines := _DEFINES.search(text):
            for word in _NAME.findall(text, defines.end()):
                self.aliases[word] = Meaning("start-up code", word, text[:200], path, number, None)
                self.stood_for.add(word)

    def _taken_away_by(self, command: str, words: list[str]) -> dict[str, Meaning] | None:
        """Of what a command takes meanings away; None where it takes away variables, or nothing that is followed."""
        if command == "unset":
            return self.functions if "-f" in words or (self.name == "bash" and "-v" not in words) else None
        if command == "unhash":
            option = next((word for word in words if word.startswith("-")), "")
            return {"": self.places, "-a": self.aliases, "-f": self.functions}.get(option)
        return self.aliases if command == "unalias" else self.functions

    def _alias(self, words_of_alias: str, text: str, path: str, number: int, certain: bool) -> None:
        words_of_alias = words_of_alias.strip()
        while words_of_alias.startswith("-") and not self.is_c:
            option, _, words_of_alias = words_of_alias.partition(" ")
            certain = certain and option in _ALIAS_OPTIONS.get(self.name, ())
            if self.name == "zsh" and option == "-g" and any(map(_WORD.match, words_of_alias.split())):
                self._tear()  # a global alias replaces the word anywhere in a line
                certain = False
            words_of_alias = words_of_alias.strip()
        name, _, value = words_of_alias.partition(" ")
        pairs = []
        if not self.is_c and not (self.is_fish and "=" not in name):
            try:
                pairs = [word.partition("=") for word in _words_of(words_of_alias) if "=" in word]
            except ValueError:
                certain, pairs = False, [words_of_alias.partition("=")]
        elif value := value.strip():
            quoted = len(value) > 1 and value[0] in "\"'" and value[-1] == value[0] and value.count(value[0]) == 2
            pairs = [(name, "=", value[1:-1] if quoted else value)]
        for name, _, value in pairs:
            name = name.strip("\"'")
            words, reach = self._command(value) if certain else (None, "any")
            self.aliases[name] = Meaning("alias", name, text[:200], path, number, words, reach)
            self.bodies.setdefault(name, []).append(value)
            self.stood_for.update(_NAME.findall(value) if _NAME.fullmatch(value) else ())
            if self.is_fish:  # in fish an alias is a function
                self.functions[name] = self.aliases.pop(name)

    def _remembered(self, arguments: str, text: str, path: str, number: int, certain: bool) -> None:
        words = arguments.split()
        pair = None
        if len(words) == 3 and words[0] == "-p" and self.name == "bash":
            pair = words[2], words[1]
        elif self.name == "zsh" and len(words) == 1 and "=" in words[0]:
            name, _, place = words[0].partition("=")
            pair = name, place
        if pair is not None:
            location = _filled(self.reader, pair[1].strip("\"'"))
            known = (location,) if certain and "$" not in location else None
            self.places[pair[0]] = Meaning("remembered place", pair[0], text[:200], path, number, known, "path")

    def _command(self, text: str) -> tuple[tuple[str, ...] | None, Reach]:
        """The words of a plain command, its program first (None where it is worked out), and what that may be."""
        text = _filled(self.reader, text)
        for given in ('"$@"', "$@", "$argv", "\\!*", "!*", '"$argv"'):
            text = text.replace(given, "")
        if any(sign in text for sign in _WORKED_OUT):
            return None, "any"
        try:
            words = _words_of(text)
        except ValueError:
            return None, "any"
        reach: Reach = "any"
        while words:
            if words[0] == "command" or words[0] in _BEFORE:
                if words[0] in ("exec", "nohup"):
                    reach = "path"
                elif words[0] == "command" and reach == "any":
                    reach = "no function"
                words = words[1:]
            elif words[0] == "env":
                reach, words = "path", words[1:]
                while words and words[0].startswith("-"):
                    words = words[2 if words[0] in ("-u", "--unset", "-C", "--chdir") else 1 :]
            elif re.fullmatch(r"\w+=.*", words[0]):
                words = words[1:]
            else:
                break
        words = [self.reader.home + word[1:] if word == "~" or word.startswith("~/") else word for word in words]
        if not words or "$" in words[0]:
            return None, "any"
        return tuple(words), reach


class _Body(Struct):
    """A function whose lines are being read."""

    name: str
    path: str
    line: int
    unsure: bool
    text: str
    is_open: bool  # the brace before its first command was met
    lines: list[str] = []
    inner: int = 0


def _statements(line: str) -> list[str]:
    """The commands of a line, parted where a semicolon or an operator stands outside quotes."""
    statements, quote, begin = [], "", 0
    at = 0
    while at < len(line):
        sign = line[at]
        if quote:
            quote = "" if sign == quote else quote
        elif sign == "\\":
            at += 1
        elif sign in "\"'":
            quote = sign
        elif sign in ";&|" or (sign == "#" and line[at - 1] in " \t"):
            statements.append(line[begin:at])
            begin = at + 1
            if sign == "#":
                begin = len(line)
                break
        at += 1
    statements.append(line[begin:])
    return [item.strip() for item in statements if item.strip()]


def _words_of(text: str) -> list[str]:
    """The words of a line by the rules of POSIX shells. Raises ValueError where a quotation has no end."""
    import shlex  # it compiles a pattern when loaded: most start files say nothing of Python

    return shlex.split(text)


def _filled(reader: Reader, text: str) -> str:
    for word in ("${HOME}", "$HOME"):
        text = text.replace(word, reader.home)
    return reader.home + text[1:] if text.startswith("~/") else text
