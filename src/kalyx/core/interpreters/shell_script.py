"""What a shell script starts in the end, worked out by reading: each way through the script is followed at once.

Followed are words, assignments, conditions on files and texts, functions, loops over words and sourced files, by the
rules of POSIX.1-2017, "Shell Command Language". A condition that reading does not settle is followed both ways; what
the script starts is known where all ways start the same. Nothing is run.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Callable, Iterator, Mapping
from typing import TypeAlias

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.interpreters.shell_syntax import (
    ARGUMENTS,
    Case,
    Chain,
    Command,
    If,
    Loop,
    Node,
    Part,
    Unsettled,
    Word,
    parsed,
)
from kalyx.core.system import Reader
from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern
from kalyx.core.text.shells import SHELLS, is_posix

_STEPS = 4_000
_DEEP = 12
_ENDINGS = 64
_LONGEST = 4096
_FILE_LIMIT = 32 * 1024
_OPTIONS = ("--", "-s", "-P", "-L", "-p")
_ASSIGNMENT = pattern(r"[A-Za-z_][A-Za-z0-9_]*")
# Commands that change nothing that matters here, or only print.
_QUIET = set("echo printf umask ulimit trap wait hash alias unalias shopt setopt true :".split())
# Builtins that a plain POSIX shell need not have.
_OF_SOME = {"declare", "typeset", "source", "[[", "shopt", "setopt"}
_DECLARES = {"export", "local", "declare", "typeset", "readonly"}
# Programs that start another program in their place, and their options that take a value.
_BEFORE = {"nice": "n", "nohup": "", "setsid": "", "stdbuf": "ioe", "time": "", "command": "", "ionice": "cn"}


class Start(Struct, frozen=True):
    """A program that the script starts: its path, the words in front of the script's own, the variables it sets."""

    path: str
    words: tuple[str, ...] = ()
    sets: tuple[tuple[str, str], ...] = ()


class _State(Struct):
    """What is known at one point of one path through the script; None as a value: reading does not tell it."""

    variables: dict[str, str | None]
    arguments: list[str | None]
    folder: str | None
    sets: dict[str, str | None] = {}
    functions: dict[str, Node] = {}
    ends_by: frozenset[str] = frozenset()  # "e": a command that fails ends the script; "u": a variable that is not set
    leaves: str = ""  # what break, continue or return left: "turn", "loop", "function"; the rest is skipped

    def copy(self) -> _State:
        return replace(self, variables=dict(self.variables), arguments=list(self.arguments), sets=dict(self.sets),
                       functions=dict(self.functions))  # fmt: skip


# A path through the script: its state, and how the last command ended (None: not known).
_Ending: TypeAlias = "tuple[_State, bool | None]"


# Functions that the caller provides to a script: they get a call's words and change the variables.
Functions: TypeAlias = "Mapping[str, Callable[[list[str | None], dict[str, str | None]], None]]"


class _Ends(Exception):
    """This path through the script ends here; what it started is noted."""


class _Script:
    def __init__(
        self, reader: Reader, path: str, variables: Mapping[str, str], shell: str, given: Functions | None = None
    ) -> None:
        self.reader, self.path, self.variables, self.shell, self.given = reader, path, variables, shell, given or {}
        self.starts: list[Start] = []
        self.others: list[Start] = []  # programs that do not get the script's words; the script continues after them
        self.steps = 0

    # -- lists of commands ------------------------------------------------------

    def follow(self, nodes: list[Node], state: _State, depth: int = 0) -> list[_Ending]:
        """How a list of commands can end."""
        endings: list[_Ending] = [(state, True)]
        for node in nodes:
            endings = [
                after
                for before, ended in endings
                for after in ([(before, ended)] if before.leaves else self._node(node, before, depth))
                if not (isinstance(node, Command) and after[1] is False and "e" in after[0].ends_by)
            ]
            if len(endings) > _ENDINGS:
                raise Unsettled("more ways through it than are followed")
        return endings

    def _step(self, depth: int) -> None:
        self.steps += 1
        if self.steps > _STEPS or depth > _DEEP:
            raise Unsettled("a longer script than is followed")

    def _asked(self, nodes: list[Node], state: _State, depth: int) -> list[_Ending]:
        """How commands can end whose end is looked at: none of them ends the script by failing."""
        kept = state.ends_by
        endings = self.follow(nodes, replace(state, ends_by=kept - {"e"}), depth)
        return [(replace(after, ends_by=after.ends_by | kept), ended) for after, ended in endings]

    def _node(self, node: Node, state: _State, depth: int) -> list[_Ending]:
        self._step(depth)
        try:
            if isinstance(node, Command):
                return list(self._command(node, state, depth))
            if isinstance(node, Chain):
                return self._chain(node, state, depth)
            if isinstance(node, If):
                return self._if(node, state, depth)
            if isinstance(node, Case):
                return self._case(node, state, depth)
            if isinstance(node, Loop):
                return self._loop(node, state, depth)
            state.functions[node.name] = node.body
            return [(state, True)]
        except _Ends:
            return []

    def _chain(self, node: Chain, state: _State, depth: int) -> list[_Ending]:
        """``kind``: and, or, not, a list, a pipe (of which only the state before is known after), a subshell."""
        endings: list[_Ending]
        if node.kind in ("pipe", "subshell"):
            for part in node.parts if node.kind == "pipe" else [None]:
                self.follow([part] if part is not None else node.parts, state.copy(), depth)
            return [(state, None)]
        if node.kind == "list":
            return self.follow(node.parts, state, depth)
        if node.kind == "not":
            endings = self._asked(node.parts[:1], state, depth)
            return [(after, None if ended is None else not ended) for after, ended in endings]
        endings = []
        for after, ended in self._asked(node.parts[:1], state, depth):
            if after.leaves:
                endings.append((after, ended))
                continue
            goes_on = node.kind == "and"
            if ended is not (not goes_on):
                endings += self.follow(node.parts[1:], after.copy(), depth)
            if ended is not goes_on:
                endings.append((after, ended if ended is not None else not goes_on))
        return endings

    def _if(self, node: If, state: _State, depth: int) -> list[_Ending]:
        endings: list[_Ending] = []
        for after, ended in self._asked(node.condition, state, depth):
            if ended is not False:
                endings += self.follow(node.body, after.copy(), depth)
            if ended is not True:
                endings += self.follow(node.otherwise, after.copy(), depth)
        return endings

    def _case(self, node: Case, state: _State, depth: int) -> list[_Ending]:
        value = self._text(node.word, state, depth)
        endings: list[_Ending] = []
        for patterns, body in node.branches:
            written = [self._text(word, state, depth) for word in patterns]
            if value is None or None in written:
                endings += self.follow(body, state.copy(), depth)
                if "*" in written:
                    return endings
            elif any(fnmatch.fnmatchcase(value, text) for text in written if text is not None):
                return endings + self.follow(body, state, depth)
        return [*endings, (state, True)]

    def _loop(self, node: Loop, state: _State, depth: int) -> list[_Ending]:
        if node.condition is not None:
            endings: list[_Ending] = []
            for after, ended in self._asked(node.condition, state, depth):
                if ended is not False:
                    endings += [_behind_loop(ending) for ending in self.follow(node.body, after.copy(), depth + 1)]
                if ended is not True:
                    endings.append((after, True))
            return endings
        left: list[_Ending] = []
        endings = [(state, True)]
        for value in self._words(node.words, state, depth):
            self._step(depth)
            endings = [(after.copy(), ended) for after, ended in endings]
            for after, _ in endings:
                after.variables[node.name] = None if value is ARGUMENTS else value
            endings = [done for after, _ in endings for done in self.follow(node.body, after, depth + 1)]
            left += [_behind_loop(ending) for ending in endings if ending[0].leaves in ("loop", "function")]
            endings = [_behind_loop(ending) for ending in endings if ending[0].leaves in ("", "turn")]
            if len(endings) + len(left) > _ENDINGS:
                raise Unsettled("more ways through it than are followed")
        return left + endings

    # -- one command ------------------------------------------------------------

    def _command(self, node: Command, state: _State, depth: int) -> Iterator[_Ending]:
        words = self._words(node.words, state, depth)
        given: dict[str, str | None] = {}
        for name, word in node.assigned:
            self._assign(name, self._text(word, state, depth), given, state.variables | given)
        if not words:
            state.variables |= given
            passed_on = state.sets.keys() | self.variables.keys()
            state.sets |= {key: value for key, value in given.items() if key in passed_on}
            yield state, True
            return
        yield from self._run(words, given, state, depth)

    def _run(
        self, words: list[str | None], given: dict[str, str | None], state: _State, depth: int
    ) -> Iterator[_Ending]:
        name, parameters = words[0], words[1:]
        if name is not None and name in state.functions:
            inner = replace(state, arguments=parameters)
            for after, ended in self._node(state.functions[name], inner, depth + 1):
                yield replace(after, arguments=state.arguments, leaves=""), ended
            return
        if name is not None and name in self.given:
            state.variables["PWD"] = state.folder
            self.given[name](parameters, state.variables)
            yield state, True
            return
        if name is not None and name in _OF_SOME:
            self._refuse_in_plain(name)
        builtin = _BUILTINS.get(name or "")
        if builtin is not None:
            yield from builtin(self, parameters, state, depth)
            return
        if name in _QUIET:
            yield state, True
            return
        if name in _DECLARES:
            is_export = name == "export" or any(
                "x" in (word or "") for word in parameters if (word or "").startswith("-")
            )
            for word in parameters:
                key, equals, value = (word or "").partition("=")
                if equals and _ASSIGNMENT.fullmatch(key.removesuffix("+")):
                    self._assign(key, value, state.variables, state.variables)
                    key = key.removesuffix("+")
                if _ASSIGNMENT.fullmatch(key) and is_export:
                    state.sets[key] = state.variables.get(key, "")
                elif word is None:
                    raise Unsettled("a variable whose value only running tells")
            yield state, True
            return
        if name in ("break", "continue", "return"):
            state.leaves = {"break": "loop", "continue": "turn", "return": "function"}[name]
            yield state, {"0": True, "1": False}.get(parameters[0] or "") if parameters else None
            return
        if name == "exec" and not parameters:
            yield state, True
            return
        is_last = name == "exec"
        if is_last and parameters[:1] == ["-a"]:
            raise Unsettled("a script that gives Python another name (exec -a)")
        self._started(parameters if is_last else words, given, state, is_last, depth)
        if name is None or ("/" not in name and self._lookup(name, state) is None):
            raise Unsettled(f"a script that calls {name or 'what only running tells'}, which may change what follows")
        yield state, None

    def _assign(self, name: str, value: str | None, to: dict[str, str | None], known: Mapping[str, str | None]) -> None:
        """Give a variable its value; a name that ends in a plus sign has the value added."""
        if name.endswith("+"):
            self._refuse_in_plain(name + "=")
            name = name[:-1]
            before = known.get(name, "")
            value = before + value if before is not None and value is not None else None
        to[name] = value

    def _refuse_in_plain(self, word: str) -> None:
        """Raise Unsettled where the script's shell is one that need not know what only some shells have."""
        if is_posix(self.shell) and not SHELLS[self.shell].has_extensions:
            raise Unsettled(f"a script of {self.shell} that uses {word}, which only some of these shells have")

    def _lookup(self, word: str, state: _State) -> str | None:
        path = state.variables.get("PATH", "/usr/bin:/bin")
        return next(self.reader.lookup(word, path), None) if path is not None else None

    def _started(
        self, words: list[str | None], given: dict[str, str | None], state: _State, is_last: bool, depth: int
    ) -> None:
        """Note what a command starts, where the script is for that: the last one, or that with the script's words."""
        state = replace(state, variables=state.variables | given, sets=state.sets | given)
        words = self._unwrapped(words, state)
        if not words:
            return
        program = words[0]
        if not is_last and ARGUMENTS not in words:
            if program is not None and None not in words and self.reader.name(program).startswith(("python", "pypy")):
                self.others.append(Start(self._program(program, state), tuple(word or "" for word in words[1:])))
            return
        if program is None or program is ARGUMENTS:
            raise Unsettled("a script whose program only running tells")
        name = self.reader.name(program)
        if is_posix(name) and words[1:2] == ["-c"] and words[2:]:
            if words[2] is None:
                raise Unsettled("a script whose program only running tells")
            self.follow(parsed(words[2]), replace(state, arguments=words[4:]), depth + 1)
            raise _Ends
        path = self._program(program, state)
        front = words[1 : words.index(ARGUMENTS)] if ARGUMENTS in words else words[1:]
        sets = [(name, value) for name, value in state.sets.items() if name.startswith("PYTHON")]
        if None in front or any(value is None for _, value in sets):
            raise Unsettled("a script that starts Python with words or variables that only running tells")
        set_here = tuple((name, value or "") for name, value in sets)
        self.starts.append(Start(path, tuple(word for word in front if word is not None), set_here))
        raise _Ends

    def _unwrapped(self, words: list[str | None], state: _State) -> list[str | None]:
        """The words after programs that start another: ``env`` with its variables, ``nice`` and the like."""
        words = list(words)
        while words:
            name = self.reader.name(words[0] or "")
            if name == "env":
                words.pop(0)
                while words and words[0] is not None and words[0] is not ARGUMENTS:
                    word = words[0]
                    key, equals, value = word.partition("=")
                    if word in ("-u", "--unset"):
                        state.variables.pop(words[1] or "", None)
                        state.sets.pop(words[1] or "", None)
                        words = words[2:]
                    elif word.startswith("-"):
                        raise Unsettled("a script that starts Python by options of env")
                    elif equals:
                        state.variables[key] = state.sets[key] = value
                        words.pop(0)
                    else:
                        break
            elif name in _BEFORE:
                words.pop(0)
                while words and (words[0] or "").startswith("-"):
                    option = words.pop(0) or ""
                    if option[1:] and option[1:] in _BEFORE[name]:
                        words = words[1:]
            else:
                return words
        return words

    def _program(self, word: str, state: _State) -> str:
        if "/" in word:
            if not word.startswith("/") and state.folder is None:
                raise Unsettled("a script whose folder only running tells")
            return word if word.startswith("/") else self.reader.join(state.folder or "", word)
        path = self._lookup(word, state)
        if path is None:
            raise Unsettled(f"a script that starts {word}, which is not on the PATH that reading knows")
        return path

    # -- words ------------------------------------------------------------------

    def _words(self, words: list[Word], state: _State, depth: int) -> list[str | None]:
        result: list[str | None] = []
        for word in words:
            if len(word) == 1 and word[0].kind == "arguments":
                result += state.arguments
                continue
            value = self._text(word, state, depth)
            is_bare = any(part.kind != "text" and not part.quoted for part in word)
            result += value.split() if is_bare and value is not None else [value]
        return result

    def _text(self, word: Word, state: _State, depth: int) -> str | None:
        """One word as a text; None where reading does not settle one of its parts."""
        result = ""
        for at, part in enumerate(word):
            value = self._part(part, state, depth)
            if value is None:
                return None
            if at == 0 and part.kind == "text" and not part.quoted and (value == "~" or value.startswith("~/")):
                value = (state.variables.get("HOME") or self.reader.home) + value[1:]
            result += value
            if len(result) > _LONGEST:
                return None
        return result

    def _part(self, part: Part, state: _State, depth: int) -> str | None:
        if part.kind == "text":
            return part.text
        if part.kind == "variable":
            return self._variable(part, state, depth)
        if part.kind == "output":
            return self._output(part.text, state, depth)
        return None  # the script's words inside a longer word, arithmetic, and all else

    def _variable(self, part: Part, state: _State, depth: int) -> str | None:
        name, sign = part.text, part.operator
        value: str | None
        if name == "0" or name in ("BASH_SOURCE", "BASH_SOURCE[0]"):
            value = self.path
        elif name == "PWD":
            value = state.folder
        elif is_number(name):
            known = ARGUMENTS not in state.arguments[: int(name)]
            value = "".join(word or "" for word in state.arguments[int(name) - 1 : int(name)]) if known else None
            if known and None in state.arguments[int(name) - 1 : int(name)]:
                value = None
        elif _ASSIGNMENT.fullmatch(name):
            if name not in state.variables and "u" in state.ends_by and not sign:
                raise _Ends
            value = state.variables.get(name, "")
        else:
            return None
        if not sign or value is None:
            return value
        other = self._text(part.word, state, depth)
        is_empty = not value if sign.startswith(":") else name not in state.variables
        if sign in (":-", "-", ":=", "="):
            if is_empty and "=" in sign:
                state.variables[name] = other
            return other if is_empty else value
        if sign in (":+", "+"):
            return "" if is_empty else other
        if sign in (":?", "?"):
            return None if is_empty else value
        self.steps += len(value) // 16
        self._step(depth)
        return _cut(value, sign, other)

    def _output(self, text: str, state: _State, depth: int) -> str | None:
        """What a command writes, of the few whose output is known without running them."""
        self._step(depth)
        nodes, depth = parsed(text), depth + 1
        inner = state.copy()
        while len(nodes) == 1 and isinstance(nodes[0], Chain) and nodes[0].kind in ("and", "list"):
            nodes = nodes[0].parts
        for node in nodes[:-1]:
            if not isinstance(node, Command) or self._words(node.words, inner, depth)[:1] != ["cd"]:
                return None
            inner.folder = self._folder(self._words(node.words, inner, depth)[1:], inner)
        if not nodes or not isinstance(nodes[-1], Command):
            return None
        words = [word for word in self._words(nodes[-1].words, inner, depth) if word not in _OPTIONS]
        if not words or None in words or ARGUMENTS in words:
            return None
        name, arguments = words[0] or "", [word or "" for word in words[1:]]
        reader = self.reader
        if name == "pwd" and inner.folder is not None:
            return reader.real(inner.folder) if "-P" in text else inner.folder
        if name == "dirname" and len(arguments) == 1:
            return arguments[0].rstrip("/").rpartition("/")[0] or ("/" if arguments[0].startswith("/") else ".")
        if name == "basename" and arguments:
            return arguments[0].rstrip("/").rpartition("/")[2].removesuffix(arguments[1] if arguments[1:] else "")
        if name in ("readlink", "realpath") and arguments and (name == "realpath" or arguments[0] in ("-f", "-e")):
            path = arguments[-1]
            whole = path if path.startswith("/") else inner.folder and reader.join(inner.folder, path)
            return reader.real(whole) if whole else None
        if name == "uname" and not arguments:
            return {"linux": "Linux", "macos": "Darwin"}.get(reader.system)
        if (name == "command" and arguments[:1] == ["-v"]) or name == "which":
            return self._lookup(arguments[-1], inner)
        return None

    def _folder(self, arguments: list[str | None], state: _State) -> str | None:
        words = [word for word in arguments if word not in ("-P", "-L", "--")]
        if not words:
            return state.variables.get("HOME")
        if len(words) != 1 or words[0] is None or words[0] is ARGUMENTS:
            return None
        if words[0].startswith("/"):
            return str(self.reader.path.normpath(words[0]))
        return self.reader.absolute(words[0], state.folder) if state.folder is not None else None

    # -- what the shell itself does ----------------------------------------------

    def _cd(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        folder = self._folder(arguments, state)
        if folder is not None and not self.reader.is_folder(folder):
            yield state, False
        else:
            state.folder = folder
            yield state, True if folder is not None else None

    def _exit(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        raise _Ends
        yield  # a generator, as the others

    def _shift(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        if state.arguments and state.arguments[0] is not ARGUMENTS:
            state.arguments = state.arguments[1:]
        yield state, True

    def _set(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        if arguments and (arguments[0] == "--" or not (arguments[0] or "").startswith(("-", "+"))):
            words = arguments[1:] if arguments[0] == "--" else arguments
            # What only running tells may be none or several words: which number a later word has is not known.
            at = words.index(None) + 1 if None in words else len(words)
            state.arguments = words[:at] + ([ARGUMENTS] if at < len(words) else [])
        for word in arguments:
            if word == "allexport" or (word is not None and word.startswith("-") and "a" in word):
                raise Unsettled("a script that exports whatever it sets")
            if word is not None and word.startswith("+"):
                state.ends_by -= set(word[1:])
            else:
                state.ends_by |= ending_options(word or "")
        yield state, True

    def _unset(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        for word in arguments:
            state.variables.pop(word or "", None)
            state.sets.pop(word or "", None)
        yield state, True

    def _eval(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        if None in arguments or ARGUMENTS in arguments:
            raise Unsettled("a script that works its command out (eval)")
        yield from self.follow(parsed(" ".join(word or "" for word in arguments)), state, depth + 1)

    def _source(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        if not arguments or arguments[0] is None or arguments[0] is ARGUMENTS or "/" not in arguments[0]:
            raise Unsettled("a script that reads another that only running tells")
        path = self._program(arguments[0], state)
        text = self.reader.text_or_none(path, _FILE_LIMIT)
        if text is None:
            raise Unsettled(f"a script that reads {path}, which this user cannot")
        for after, ended in self.follow(parsed(text), state, depth + 1):
            yield replace(after, leaves=""), ended  # a return ends the file that was read, not the script

    def _test(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        yield state, self._holds(arguments, state)

    def _brackets(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        yield state, self._holds(arguments[:-1], state) if arguments[-1:] in (["]"], ["]]"]) else None

    def _holds(self, words: list[str | None], state: _State) -> bool | None:
        """Whether a condition holds (``test``); None where reading does not settle that."""
        if words[:1] == ["!"] and len(words) > 1:
            inner = self._holds(words[1:], state)
            return None if inner is None else not inner
        if None in words or ARGUMENTS in words:
            return None
        known = [word or "" for word in words]
        if len(known) == 1:
            return bool(known[0])
        if len(known) == 2 and known[0] in ("-n", "-z"):
            return bool(known[1]) == (known[0] == "-n")
        if len(known) == 2:
            return self._is_file(known[0], known[1], state)
        if len(known) == 3 and known[1] in ("=", "==", "!="):
            return (known[0] == known[2]) == (known[1] != "!=") if not set("*?[") & set(known[2]) else None
        return None

    def _is_file(self, sign: str, path: str, state: _State) -> bool | None:
        reader = self.reader
        if not path.startswith("/"):
            if state.folder is None:
                return None
            path = reader.join(state.folder, path)
        looks: dict[str, Callable[[str], bool]] = {
            "-e": reader.exists, "-f": reader.is_file, "-d": reader.is_folder, "-r": reader.exists,
            "-x": lambda word: reader.exists(word) and reader.may_run(word),
            "-L": lambda word: reader.kind(word) == "link", "-h": lambda word: reader.kind(word) == "link",
        }  # fmt: skip
        return looks[sign](path) if sign in looks else None

    def _command_word(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        """``command``: with ``-v`` whether a word is a program, else the program is started."""
        if arguments[:1] in (["-v"], ["-V"]):
            yield from self._found(arguments, state, depth)
            return
        self._started(arguments, {}, state, False, depth)
        yield state, None

    def _found(self, arguments: list[str | None], state: _State, depth: int) -> Iterator[_Ending]:
        """``which`` and its like: whether a word is a program."""
        words = [word for word in arguments if not (word or "").startswith("-")]
        path = state.variables.get("PATH", "/usr/bin:/bin")
        if len(words) != 1 or words[0] is None or path is None:
            yield state, None
        else:
            yield state, words[0] in state.functions or self._lookup(words[0], state) is not None


def _behind_loop(ending: _Ending) -> _Ending:
    """How a loop ends whose body ends so: what left the loop, or this turn of it, continues after it."""
    state, ended = ending
    return (replace(state, leaves="") if state.leaves in ("loop", "turn") else state), ended


def _cut(value: str, sign: str, written: str | None) -> str | None:
    """``${NAME%PATTERN}`` and its like, for the shortest and the longest match."""
    if written is None or sign not in ("%", "%%", "#", "##"):
        return None
    cuts = range(len(value) + 1)
    if sign in ("%", "##"):
        cuts = range(len(value), -1, -1)
    for at in cuts:
        if fnmatch.fnmatchcase(value[at:] if "%" in sign else value[:at], written):
            return value[:at] if "%" in sign else value[at:]
    return value


_BUILTINS: dict[str, Callable[[_Script, list[str | None], _State, int], Iterator[_Ending]]] = {
    "cd": _Script._cd, "exit": _Script._exit, "shift": _Script._shift, "set": _Script._set,
    "unset": _Script._unset, "eval": _Script._eval, ".": _Script._source, "source": _Script._source,
    "[": _Script._brackets, "[[": _Script._brackets, "test": _Script._test, "command": _Script._command_word,
    "which": _Script._found, "type": _Script._found,
    "false": lambda script, arguments, state, depth: iter([(state, False)]),
}  # fmt: skip


def ending_options(word: str) -> frozenset[str]:
    """The options of a word of ``set``, or of a first line, by which a script ends early."""
    letters = {"errexit": "e", "nounset": "u"}.get(word, word[1:] if word.startswith("-") else "")
    return frozenset(letter for letter in letters if letter in "eu")


def variables_after(reader: Reader, path: str, text: str, given: Functions) -> dict[str, str | None]:
    """The variables after a file has been read by a shell in its folder; None for what is not the same at each end.

    Raises Unsettled, with the reason for people, where reading does not tell.
    """
    state = _State(dict(reader.variables), [], reader.parent(path))
    try:
        script = _Script(reader, path, reader.variables, "bash", given)
        endings = [after.variables for after, _ in script.follow(parsed(text), state)]
    except RecursionError:
        raise Unsettled("a script of a shell that is nested too deeply") from None
    names = {name for variables in endings for name in variables}
    differs = {name for name in names if len({variables.get(name) for variables in endings}) > 1}
    return {name: None if name in differs else endings[0].get(name) for name in names}


def start_of(
    reader: Reader, path: str, text: str, variables: Mapping[str, str], shell: str = "sh", options: str = ""
) -> Start:
    """What the script at ``path`` starts, run by this shell with these variables and options. Nothing is run.

    Raises Unsettled, with the reason for people, where reading does not tell.
    """
    script = _Script(reader, path, variables, shell)
    state = _State(dict(variables), [ARGUMENTS], reader.folder, ends_by=ending_options(options))
    try:
        script.follow(parsed(text), state)
    except RecursionError:
        raise Unsettled("a script of a shell that is nested too deeply") from None
    starts = list(dict.fromkeys(script.starts or script.others))
    if not starts:
        raise Unsettled("a script of a shell that starts no Python that reading finds")
    if len(starts) > 1:
        named = " or ".join(dict.fromkeys(start.path for start in starts[:3]))
        raise Unsettled(f"a script of a shell that starts {named}: which, only running it tells")
    return starts[0]
