"""The text of a shell script as commands (POSIX.1-2017, "Shell Command Language", 2.3 to 2.10).

What is not understood raises Unsettled: a script is understood completely or not at all.
"""

from __future__ import annotations

from typing import Literal, TypeAlias

from msgspec import Struct

from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern

# Stands for the words that the script itself is started with.
ARGUMENTS = "\0arguments"

_NAME = pattern(r"[A-Za-z_][A-Za-z0-9_]*")
_EXPANSION = pattern(r"([A-Za-z_][A-Za-z0-9_]*(?:\[0\])?|[0-9@*#?$!-])(:?[-=?+]|%%?|##?)?(.*)")
_OPERATORS = (*";; && || <<- << >> <& >& <> >| &> ; & | ( ) < >".split(), "\n")
_REDIRECTS = {"<<-", "<<", ">>", "<&", ">&", "<>", ">|", "&>", "<", ">"}
_SEPARATORS = {";", "&", "\n"}


class Unsettled(Exception):
    """Reading does not tell what a script starts; the reason for people."""


class Part(Struct):
    """A part of a word: a text, a variable with what follows its name, a command that writes the part."""

    kind: Literal["text", "variable", "output", "arguments", "unknown"]
    text: str = ""
    quoted: bool = False
    operator: str = ""
    word: list[Part] = []


Word: TypeAlias = "list[Part]"


class Command(Struct):
    """A simple command: assignments in front, then words; a name with a plus sign gets its value added."""

    words: list[Word]
    assigned: list[tuple[str, Word]]


class Chain(Struct):
    """Commands bound to each other."""

    kind: Literal["and", "or", "not", "list", "pipe", "subshell"]
    parts: list[Node]


class Case(Struct):
    """A word, and of each branch the patterns and the commands."""

    word: Word
    branches: list[tuple[list[Word], list[Node]]]


class If(Struct):
    """A condition, what follows where it holds, and what where not."""

    condition: list[Node]
    body: list[Node]
    otherwise: list[Node]


class Loop(Struct):
    """``for`` a name over words, or while a condition holds."""

    body: list[Node]
    name: str = ""
    words: list[Word] = []
    condition: list[Node] | None = None


class Function(Struct):
    """A function and what it does."""

    name: str
    body: Node


Node: TypeAlias = "Command | Chain | If | Case | Loop | Function"


def parsed(text: str) -> list[Node]:
    """The commands of a script. Raises Unsettled."""
    parser = _Parser(_tokens(text))
    nodes = parser.commands(())
    if parser.left:
        raise Unsettled("a script of a shell that reading does not understand")
    return nodes


class _Parser:
    """Tokens are words (lists of parts) and operators (texts)."""

    def __init__(self, tokens: list[Word | str]) -> None:
        self.left = tokens[::-1]

    def _plain(self) -> str:
        """The next token, where it is an operator or one word without anything to fill in or quoted."""
        token = self.left[-1] if self.left else ""
        if isinstance(token, str):
            return token
        return token[0].text if len(token) == 1 and token[0].kind == "text" and not token[0].quoted else ""

    def _sign(self) -> str:
        """The next token, where it is an operator."""
        token = self.left[-1] if self.left else ""
        return token if isinstance(token, str) else ""

    def _skip(self, *signs: str) -> None:
        while self._sign() in (signs or _SEPARATORS):
            self.left.pop()

    def _take(self, word: str) -> None:
        if self._plain() != word:
            raise Unsettled("a script of a shell that reading does not understand")
        self.left.pop()

    def commands(self, until: tuple[str, ...]) -> list[Node]:
        nodes: list[Node] = []
        self._skip()
        while self.left and self._plain() not in until:
            nodes.append(self._and_or())
            self._skip()
        return nodes

    def _and_or(self) -> Node:
        node = self._pipe()
        while self._sign() in ("&&", "||"):
            kind: Literal["and", "or"] = "and" if self.left.pop() == "&&" else "or"
            self._skip("\n")
            node = Chain(kind, [node, self._pipe()])
        return node

    def _pipe(self) -> Node:
        if self._plain() == "!":
            self.left.pop()
            return Chain("not", [self._pipe()])
        parts = [self._command()]
        while self._sign() == "|":
            self.left.pop()
            self._skip("\n")
            parts.append(self._command())
        return parts[0] if len(parts) == 1 else Chain("pipe", parts)

    def _command(self) -> Node:
        word = self._plain()
        grouped = {"{": ("}", "list"), "(": (")", "subshell")}
        node: Node
        if word in grouped:
            self.left.pop()
            end, kind = grouped[word]
            node = Chain("list" if kind == "list" else "subshell", self.commands((end,)))
            self._take(end)
        elif word == "if":
            self.left.pop()
            node = self._if()
        elif word == "case":
            self.left.pop()
            node = self._case()
        elif word in ("for", "while", "until"):
            self.left.pop()
            node = self._loop(word)
        elif word == "function":
            self.left.pop()
            return self._function(self._name())
        else:
            return self._simple()
        self._redirects()
        return node

    def _if(self) -> Node:
        condition = self.commands(("then",))
        self._take("then")
        body = self.commands(("elif", "else", "fi"))
        otherwise: list[Node] = []
        word = self._plain()
        if word == "elif":
            self.left.pop()
            otherwise = [self._if()]
        elif word == "else":
            self.left.pop()
            otherwise = self.commands(("fi",))
            self._take("fi")
        else:
            self._take("fi")
        return If(condition, body, otherwise)

    def _case(self) -> Node:
        word = self._word()
        self._skip("\n")
        self._take("in")
        self._skip("\n")
        branches: list[tuple[list[Word], list[Node]]] = []
        while self._plain() != "esac":
            if self._plain() == "(":
                self.left.pop()
            patterns = [self._word()]
            while self._plain() == "|":
                self.left.pop()
                patterns.append(self._word())
            self._take(")")
            branches.append((patterns, self.commands((";;", "esac"))))
            self._skip(";;", "\n")
        self.left.pop()
        return Case(word, branches)

    def _loop(self, word: str) -> Node:
        if word == "for":
            name, words = self._name(), [[Part("arguments")]]
            self._skip()
            if self._plain() == "in":
                self.left.pop()
                words = []
                while self.left and not isinstance(self.left[-1], str):
                    words.append(self._word())
            self._skip()
            loop = Loop([], name=name, words=words)
        else:
            condition = self.commands(("do",))
            loop = Loop([], condition=condition if word == "while" else [Chain("not", [Chain("list", condition)])])
        self._take("do")
        loop.body = self.commands(("done",))
        self._take("done")
        return loop

    def _name(self) -> str:
        name = self._plain()
        if not _NAME.fullmatch(name):
            raise Unsettled("a script of a shell that reading does not understand")
        self.left.pop()
        return name

    def _function(self, name: str) -> Node:
        if self._sign() == "(":
            self.left.pop()
            self._take(")")
        self._skip("\n")
        return Function(name, self._command())

    def _word(self) -> Word:
        if not self.left or isinstance(self.left[-1], str):
            raise Unsettled("a script of a shell that reading does not understand")
        token = self.left.pop()
        assert not isinstance(token, str)
        return token

    def _simple(self) -> Node:
        command = Command([], [])
        while self.left:
            if self._redirects():
                continue
            if self._sign():
                if self._sign() == "(" and len(command.words) == 1 and not command.assigned:
                    name = command.words[0][0].text
                    return self._function(name)
                break
            word = self._word()
            key, equals, value = word[0].text.partition("=") if word and word[0].kind == "text" else ("", "", "")
            if not command.words and equals and not word[0].quoted and _NAME.fullmatch(key.removesuffix("+")):
                first = [Part("text", value)] if value else []
                command.assigned.append((key, [*first, *word[1:]]))
            else:
                command.words.append(word)
        if not command.words and not command.assigned:
            raise Unsettled("a script of a shell that reading does not understand")
        return command

    def _redirects(self) -> bool:
        if self._sign() not in _REDIRECTS:
            return False
        self.left.pop()
        self._word()
        return True


# -- tokens -----------------------------------------------------------------------


def _tokens(text: str) -> list[Word | str]:
    tokens: list[Word | str] = []
    pending: list[tuple[str, bool]] = []  # ends of texts that stand in the next lines, and whether tabs are cut
    at = 0
    while at < len(text):
        sign = text[at]
        if sign in " \t" or text.startswith("\\\n", at):
            at += 1 if sign != "\\" else 2
            continue
        if sign == "#":
            at = _end_of_line(text, at)
            continue
        operator = next((operator_sign for operator_sign in _OPERATORS if text.startswith(operator_sign, at)), None)
        if operator is None:
            start = at
            word, at = _word(text, at)
            if at < len(text) and text[at] in "<>" and is_number(text[start:at]):
                continue  # the number of a stream
            if tokens and tokens[-1] in ("<<", "<<-"):
                pending.append(("".join(part.text for part in word), tokens[-1] == "<<-"))
            if at < len(text) and text[at] == "(" and text[start:at].endswith("="):
                raise Unsettled("a script of a shell that holds a list of words")
            tokens.append(word)
            continue
        at += len(operator)
        tokens.append(operator)
        if operator == "\n":
            for end, is_cut in pending:
                at = _behind_text(text, at, end, is_cut)
            pending = []
    return tokens


def _end_of_line(text: str, at: int) -> int:
    end = text.find("\n", at)
    return len(text) if end < 0 else end


def _behind_text(text: str, at: int, end: str, is_cut: bool) -> int:
    while at < len(text):
        stop = _end_of_line(text, at)
        line = text[at:stop]
        at = stop + 1
        if (line.lstrip("\t") if is_cut else line) == end:
            return at
    return len(text)


def _word(text: str, at: int) -> tuple[Word, int]:
    parts: Word = []
    plain = ""

    def flush() -> None:
        nonlocal plain
        if plain:
            parts.append(Part("text", plain))
            plain = ""

    while at < len(text):
        sign = text[at]
        if sign in " \t\n;&|()<>":
            break
        if sign == "\\":
            if text[at + 1 : at + 2] != "\n":
                flush()
                parts.append(Part("text", text[at + 1 : at + 2], True))
            at += 2
        elif sign == "'":
            end = text.find("'", at + 1)
            if end < 0:
                raise Unsettled("a script of a shell whose quotation has no end")
            flush()
            parts.append(Part("text", text[at + 1 : end], True))
            at = end + 1
        elif sign == '"':
            flush()
            inner, at = _quoted(text, at + 1)
            parts += inner
        elif sign in "$`":
            flush()
            part, at = _expansion(text, at, False)
            parts.append(part)
        else:
            plain += sign
            at += 1
    flush()
    return parts, at


def _quoted(text: str, at: int) -> tuple[Word, int]:
    parts: Word = [Part("text", "", True)]
    while at < len(text):
        sign = text[at]
        if sign == '"':
            is_arguments = len(parts) == 2 and parts[1].kind == "arguments"
            return parts[1:] if is_arguments else parts, at + 1
        if sign == "\\" and text[at + 1 : at + 2] in '$`"\\\n':
            parts.append(Part("text", text[at + 1 : at + 2].strip("\n"), True))
            at += 2
        elif sign in "$`":
            part, at = _expansion(text, at, True)
            parts.append(part)
        else:
            parts.append(Part("text", sign, True))
            at += 1
    raise Unsettled("a script of a shell whose quotation has no end")


def _expansion(text: str, at: int, quoted: bool) -> tuple[Part, int]:
    if text[at] == "`":
        end = text.find("`", at + 1)
        if end < 0 or "\\" in text[at:end]:
            raise Unsettled("a script of a shell that reading does not understand")
        return Part("output", text[at + 1 : end], quoted), end + 1
    following = text[at + 1 : at + 2]
    if text.startswith("$((", at):
        return Part("unknown", "", quoted), _closed(text, at + 1, "(", ")")
    if following == "(":
        end = _closed(text, at + 1, "(", ")")
        return Part("output", text[at + 2 : end - 1], quoted), end
    if following == "{":
        end = _closed(text, at + 1, "{", "}")
        return _braced(text[at + 2 : end - 1], quoted), end
    name = _NAME.match(text[at + 1 : at + 300])
    word = name[0] if name is not None else following if following and following in "@*#?$!0123456789-" else ""
    if not word:
        if following in "'\"":
            return Part("unknown", "", quoted), at + 1
        return Part("text", "$", quoted), at + 1
    kind: Literal["arguments", "variable"] = "arguments" if word in "@*" else "variable"
    return Part(kind, word, quoted), at + 1 + len(word)


def _braced(text: str, quoted: bool) -> Part:
    match = _EXPANSION.fullmatch(text.replace("\n", " "))
    if match is None:
        return Part("unknown", "", quoted)
    name, sign, remainder = match.group(1), match.group(2) or "", match.group(3)
    if remainder and not sign:
        return Part("unknown", "", quoted)
    word: Word = []
    at = 0
    while at < len(remainder):
        inner, end = _word(remainder, at)
        if end == at:
            inner, end = [Part("text", remainder[at])], at + 1
        word += inner
        at = end
    if name in ("@", "*") or (name == "1" and sign == "+" and any(part.kind == "arguments" for part in word)):
        return Part("arguments", name, quoted)
    return Part("variable", name, quoted, sign, word)


def _closed(text: str, at: int, opens: str, closes: str) -> int:
    """Behind the sign that closes the one at ``at``; quotations in between are passed over."""
    depth, quote = 0, ""
    while at < len(text):
        sign = text[at]
        if sign == "\\":
            at += 2
            continue
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "'\"":
            quote = sign
        elif sign == opens:
            depth += 1
        elif sign == closes:
            depth -= 1
            if not depth:
                return at + 1
        at += 1
    raise Unsettled("a script of a shell that reading does not understand")
