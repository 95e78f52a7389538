"""How an interpreter is started: what its command line says about the search path."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.reader import LINK_LIMIT, FileStat
from kalyx.core.text.patterns import pattern

# Long options that take a value (Python's "Command line and environment").
_LONG_WITH_VALUE = ("--check-hash-based-pycs", "--jit")
_STANDARD_INPUT = pattern(r"/dev/stdin|(?:/dev|/proc/self)/fd/\d+")


class ProcessState(Struct):
    """What a running process has now, whatever it was started with: its search path and its variables."""

    path: list[str]
    variables: Mapping[str, str]


class Invocation(Struct, kw_only=True):
    """How an interpreter is started: the first entry of sys.path, the flags, and the variables.

    ``first`` is the entry that the program adds at the front (a script's
    folder, ``''`` for the current folder) or None; the flags that decide the path are
    ``-I``, ``-S``, ``-E``, ``-s`` and ``-P``.
    """

    first: str | None = None
    first_origin: str = "the folder of the script"
    is_program: bool = False  # the first entry is a folder or an archive that is run itself: no flag keeps it away
    isolated: bool = False
    no_site: bool = False
    ignore_variables: bool = False
    no_user: bool = False
    safe_path: bool = False
    other_flags: tuple[str, ...] = ()  # flags that change how code runs, and not where it is found
    variables: Mapping[str, str] = {}
    module: str | None = None  # that -m runs
    changes: tuple[str, ...] = ()  # of the path, in the probe's words: by the program that runs, before it imports
    folder: str | None = None  # that relative entries of PYTHONPATH go by; None: the folder that Kalyx stands in

    @staticmethod
    def of_command(
        words: list[str], reader: Reader, interpreter: Interpreter, variables: Mapping[str, str]
    ) -> Invocation:
        """The invocation that a command line gives: flags, then ``-c``, ``-m`` or a script."""
        invocation = Invocation(variables=variables)
        remainder = list(words)
        while remainder and remainder[0].startswith("-") and remainder[0] != "-":
            word = remainder.pop(0)
            if word == "--":
                break
            if word.startswith("--"):
                remainder = remainder[1:] if word in _LONG_WITH_VALUE else remainder
                continue
            program = invocation._short(word[1:], remainder, interpreter)
            if program is not None:
                remainder[:0] = program
                break
        invocation._begin(remainder, reader, interpreter)
        return invocation

    def _short(self, letters: str, remainder: list[str], interpreter: Interpreter) -> list[str] | None:
        """Read a word of short options, with the value in it or after it; returns ``-c`` or ``-m`` and its value."""
        for at, letter in enumerate(letters):
            if letter in "cm" or letter in ("WQ" if interpreter.version.startswith("2.") else "WX"):
                value = letters[at + 1 :] or (remainder.pop(0) if remainder else "")
                if letter in "cm":
                    return ["-" + letter, value]
                self.other_flags += (f"-{letter}{value}",) if letter != "Q" and value else ()
                return None
            self._flag(letter)
        return None

    def by(self, interpreter: Interpreter) -> Invocation:
        """The same as started by a starter of the interpreter, which has options and variables of its own."""
        if not interpreter.given and not interpreter.sets:
            return self
        invocation = replace(self, variables={**self.variables, **interpreter.sets})
        for word in interpreter.given:
            if word[1:2] in ("W", "X"):
                invocation.other_flags += (word,) if word not in invocation.other_flags else ()
            for letter in word[1:] if word[1:2] not in ("W", "X") else "":
                invocation._flag(letter)
        return invocation

    @property
    def flags(self) -> tuple[str, ...]:
        """The flags as words, to run an interpreter in this way."""
        chosen = {"-I": self.isolated, "-S": self.no_site, "-E": self.ignore_variables, "-s": self.no_user,
                  "-P": self.safe_path}  # fmt: skip
        return (*(word for word, given in chosen.items() if given), *self.other_flags)

    @property
    def keeps_first_away(self) -> bool:
        """Whether the flags keep the program's own folder off the path."""
        return self.isolated or self.safe_path

    def _flag(self, letter: str) -> None:
        self.isolated = self.isolated or letter == "I"
        self.no_site = self.no_site or letter == "S"
        self.ignore_variables = self.ignore_variables or letter == "E"
        self.no_user = self.no_user or letter == "s"
        self.safe_path = self.safe_path or letter == "P"
        if letter in "Ob":
            before = next((word for word in self.other_flags if word[1] == letter), "-")
            self.other_flags = (*(word for word in self.other_flags if word != before), before + letter)

    def _begin(self, program: list[str], reader: Reader, interpreter: Interpreter) -> None:
        """The first entry, which depends only on how the program is named."""
        if not program or program[0] in ("-", "-c"):
            self.first, self.first_origin = "", "the current folder"
        elif program[0] == "-m":
            self.module = "".join(program[1:2])
            newer = not interpreter.version.startswith(("2.", "3.6"))
            self.first, self.first_origin = reader.folder if newer else "", "the current folder"
        else:
            # Above a folder is above where its links lead: the words alone do not tell.
            written = reader.join(self.folder or reader.folder, program[0])
            script = reader.absolute(program[0], self.folder)
            if reader.is_folder(script) or _is_in_archive(reader, script):
                # A folder or an archive with a program in it is itself the first entry, as it is named: from 3.9 on
                # after the current folder; Windows and PyPy tidy that.
                is_tidied = reader.system == "windows" or interpreter.implementation == "pypy"
                full = script if is_tidied else written
                self.first = full if interpreter.pair >= (3, 9) else program[0]
                self.first_origin = "the program"
                self.is_program = True
            else:
                self.first = reader.parent(_followed(reader, interpreter, script, written))


def _followed(reader: Reader, interpreter: Interpreter, script: str, written: str) -> str:
    """The script whose folder is the first entry, links followed; PyPy follows only those of the script itself."""
    if reader.system == "linux" and _STANDARD_INPUT.fullmatch(script):
        return "/proc/self/fd/0"  # a pipe has no folder: the link leads no further
    if interpreter.implementation != "pypy":
        return script if reader.system == "windows" else reader.real(written)
    for _ in range(LINK_LIMIT):
        target = reader.link(script)
        if target is None:
            break
        script = reader.absolute(target, reader.parent(script))
    return script


def _is_in_archive(reader: Reader, path: str) -> bool:
    """Whether a file, or the last part of the path that is there, ends in a zip archive's directory (APPNOTE 4.3.16).

    A text or a program may stand before the archive, and what runs may be a folder in it.
    """
    status = reader.status(path)
    while status is None and reader.parent(path) != path:
        path = reader.parent(path)
        status = reader.status(path)
    if not isinstance(status, FileStat) or status.kind != "file":
        return False
    try:
        return b"PK\x05\x06" in reader.read(path, 65557, max(0, status.size - 65557))
    except Unreadable:
        return False
