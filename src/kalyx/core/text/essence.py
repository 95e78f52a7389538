"""What a capture keeps of a file: the parts that the questions read; of other parts only their length.

Each kind of file has its rule: the settings that a table names, the imports of a source without its strings, the fields
of metadata with requirements. Other text is replaced by text of the same length, so that lines and positions stay. In a
shell's file each unknown word is replaced, always by the same stand-in in one capture.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from msgspec import Struct

from kalyx.core.data import table
from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern
from kalyx.core.text.redaction import DOCUMENTED, redacted, redacted_words

# Variables that some question reads besides the documented ones; of the others nothing is kept, not even the name.
_READ = frozenset(
    """APPDATA BASH_ENV BROWSER COMPUTERNAME ENV KALYX_ONLY_BELOW KALYX_TYPED_BY LC_CTYPE LOCALAPPDATA PATHEXT
    PROGRAMDATA PROMPT
    PSMODULEPATH PWD PY_PYTHON PY_PYTHON2 PY_PYTHON3 RPM_BUILD_ROOT SHELL SYSTEMROOT TERM TERM_PROGRAM USERPROFILE
    VIRTUAL_ENV_DISABLE_PROMPT WORKON_HOME XDG_CACHE_HOME XDG_CONFIG_HOME XDG_DATA_HOME XDG_DATA_DIRS XDG_RUNTIME_DIR
    XDG_STATE_HOME ZDOTDIR JUPYTER_USE_PROGRAMDATA CONDA_SHLVL PYTHON_ROOT PYTHON_HOME PYTHON_BASE EBROOTPYTHON
    EBROOTPYTHON3 LMOD_VERSION MODULESHOME""".split()
)


def needed(variables: Mapping[str, str]) -> dict[str, str]:
    """Those variables that some question reads; of the others nothing is kept, not even that they are there."""
    read = DOCUMENTED | _READ
    return {name: redacted(value) for name, value in variables.items() if name.upper() in read}


# Words of shells that decide how their files are read.
_SHELL_WORDS = frozenset(
    """if then elif else fi for in do done while until case esac select function alias unalias unset unhash export
    source eval exec builtin command hash set setenv test typeset declare local readonly return exit begin end
    switch foreach endif endsw repeat status interactive not and or echo env cd true false nocorrect noglob
    nohup time erase functions conda mamba micromamba pyenv virtualenv activate deactivate module load bin usr
    local home path fish zsh bash sh install uninstall shell""".split()
)
_PYTHONS = pattern(r"(?:i?python|pypy|pip|ipython|jupyter)[\w.-]{0,12}")
_SHELL_TOKEN = pattern(
    r"(?P<address>[A-Za-z][A-Za-z0-9+.-]{0,20}://[^\s\"'`;|&()<>]{0,4000})"
    r"|(?P<path>(?:~|\$HOME|\$\{HOME\}|\$\w{1,40}|\.{1,2})?/[^\s\"'`;|&()<>:=,]{0,1000})"
    r"|(?P<word>[^\s\"'`$(){}<>|&;\\=:/,\[\]!*?#]{1,1000})"
)
# Calls whose text is a module's name or a folder, which the reading of a source follows.
_FOLLOWED = pattern(
    r"(?:import_module|__import__|find_spec|import_optional_dependency|path\.(?:append|insert|extend)|addsitedir|join|Path)"
    r"\(\s{0,9}(?:\d{1,3}\s{0,3},\s{0,9})?\[?$"
)
# Texts of a kernel package's own source by which its search path is known (core/kernel_path.py).
_LOOKED_FOR = ("site-packages", "extensions")
_METADATA = frozenset(
    """name version requires-dist requires-python provides-extra metadata-version import-name import-namespace
    provides-dist obsoletes-dist requires provides dynamic""".split()
)
_SECTIONS = tuple(
    """project build-system dependency-groups tool.pyright tool.basedpyright tool.mypy mypy tool.setuptools tool.poetry
    tool.hatch tool.pdm options metadata defaults global""".split()
)
_OF_A_LINE = pattern(r"[^\r\n]+")
_NOT_TEXT = pattern("[\udc80-\udcff]")
_JSON_TOKEN = pattern(r'"(?:\\.|[^"\\])*"|//[^\n]*|/\*|[{}\[\],:]')
_BARE_WORD = pattern(r"[^\s\"]{1,4000}")
_LITERAL = pattern(r"-?[0-9][0-9.eE+-]{0,40}|true|false|null")
_WHOLE = frozenset(
    """RECORD INSTALLER WHEEL top_level.txt entry_points.txt namespace_packages.txt patchlevel.h environments.txt index
    .python-version os-release REQUESTED installed-files.txt SOURCES.txt requires.txt history .gitignore
    exclude""".split()
)
_BINARY = (b"\x7fELF", b"MZ", b"\xcf\xfa\xed\xfe", b"\xfe\xed\xfa\xcf", b"\xca\xfe\xba\xbe", b"PK", b"DIRC")


def _filled(text: str) -> str:
    """As long as the text in UTF-8, its line breaks in their places; a byte that is not UTF-8 stays such a byte."""
    filled = _OF_A_LINE.sub(lambda match: "x" * len(match[0].encode("utf-8", "surrogateescape")), text)
    odd = None if text.isascii() else _NOT_TEXT.search(text)
    if odd is None:
        return filled
    at = len(text[: odd.start()].encode("utf-8", "surrogateescape"))
    return filled[:at] + "\udcff" + filled[at + 1 :]


class _Choice(Struct):
    key: list[str]
    named: str | None = None
    below: list[str] = []


class _Form(Struct):
    choices: list[_Choice]
    chosen: list[str] = []


class _Editors(Struct):
    descriptors: list[_Form]


class Essence:
    """Keeps what is read of the files of one capture. ``salt``: by chance, so that stand-ins tell nothing."""

    def __init__(self, salt: bytes) -> None:
        self._salt = salt
        self._binaries: set[str] = set()  # files of programs and libraries, of which further parts are read

    def content(self, path: str, content: bytes, start: int = 0) -> bytes:
        """What is kept of a file's content, as long as it was."""
        name = path.replace("\\", "/").rpartition("/")[2]
        if content.startswith(_BINARY) or (start and path in self._binaries):
            self._binaries.add(path)
            return content
        if name in _WHOLE:
            return content
        if start:
            return b"x" * len(content)
        text = content.decode("utf-8", "surrogateescape")
        return redacted(self._rule(path, name)(text), _filled).encode("utf-8", "surrogateescape")

    def command(self, words: Sequence[str]) -> tuple[str, ...]:
        """What is kept of a program's command line: programs, paths, flags, modules, connection files."""
        result: list[str] = []
        before = ""
        for word in redacted_words(words, _filled):
            result.append(word if not result or self._says_how(word, before) else self._stand_in(word))
            before = word
        return tuple(result)

    @staticmethod
    def _says_how(word: str, before: str) -> bool:
        if before in ("-c", "-lc", "-ic"):
            return False
        name, sign, value = word.partition("=")
        if word.startswith("-"):
            return not sign or "/" in value or "\\" in value or is_number(value)
        plain = before in ("-m", "-f", "--connection-file", "-X", "-W") or _PYTHONS.fullmatch(word) is not None
        return plain or "/" in word or "\\" in word or "{" in word or is_number(word) or word in _SHELL_WORDS

    def _rule(self, path: str, name: str) -> Callable[[str], str]:
        slashed, low = path.replace("\\", "/"), name.lower()
        is_library = "/lib/python" in slashed and "site-packages" not in slashed and "dist-packages" not in slashed
        if name in ("METADATA", "PKG-INFO"):
            return _metadata
        if low.endswith(".ipynb"):
            return self._notebook
        if low.startswith("__editable__") and low.endswith("_finder.py"):
            return lambda text: text  # a finder that a build tool wrote: module names and folders
        if low.endswith((".py", ".pyw", ".pyi")):
            return (lambda text: text) if is_library else self._python
        if low == "kernel.json":
            return lambda text: self._json(text, self._of_kernel)
        if low.endswith((".json", ".jsonc", ".code-workspace", ".sublime-project", ".sublime-build")):
            return lambda text: self._json(text, self._of_json(slashed, low))
        if low.endswith((".toml", ".cfg", ".ini")) and low != "pyvenv.cfg":
            return _sections
        if low.endswith((".xml", ".iml")):
            return _elements
        if low == "config" and "/.git/" in slashed or low in (".gitconfig", "gitconfig"):
            return lambda text: _lines(text, lambda line: line[:1] == "[" or "excludesfile" in line.lower())
        if low.endswith((".el", ".lisp")):
            return lambda text: _lines(text, lambda line: re.search(r"python|pyvenv|nil", line) is not None)
        whole = (".txt", ".egg-link", "._pth", ".in", ".start")
        if low in ("pyvenv.cfg", "mount", "mounts", "version") or low.endswith(whole):
            return lambda text: text
        if low.endswith(".pth"):
            return lambda text: "".join(
                Source(self).feed(line) if line.startswith(("import ", "import\t")) else line
                for line in text.splitlines(True)
            )
        return self._script

    # -- shells -----------------------------------------------------------------

    def _script(self, text: str) -> str:
        """A shell's file, or a program with a first line: that line whole, the rest by the words that are read."""
        first, sign, remainder = text.partition("\n")
        if not first.startswith("#!"):
            return self._shell(text)
        return self._python(text) if "python" in first or "pypy" in first else first + sign + self._shell(remainder)

    def _python(self, text: str) -> str:
        """Python source; a first line that names the interpreter stays whole."""
        first, sign, remainder = text.partition("\n")
        is_named = first.startswith("#!")
        return first + sign + Source(self).feed(remainder) if is_named else Source(self).feed(text)

    def _shell(self, text: str) -> str:
        return _SHELL_TOKEN.sub(self._shell_word, text)

    def _shell_word(self, match: re.Match[str]) -> str:
        word = match[0]
        if match["path"] is not None:
            return word
        if match["address"] is not None:
            return word.partition("//")[0] + "//" + _filled(word.partition("//")[2])
        kept = word in _SHELL_WORDS or word.upper() in DOCUMENTED or word.upper() in _READ
        kept = kept or _PYTHONS.fullmatch(word) is not None or len(word) < 3 or word[0] in "~.@+%"
        return word if kept else self._stand_in(word)

    def _stand_in(self, word: str) -> str:
        """The same letters for the same word in this capture, as many bytes as it has."""
        length = len(word.encode("utf-8", "surrogateescape"))
        digest = hashlib.sha256(self._salt + word.encode("utf-8", "surrogateescape")).digest()
        signs = "".join("abcdefghijklmnopqrstuvwxyz"[number % 26] for number in digest * (length // len(digest) + 1))
        return signs[:length]

    # -- JSON -------------------------------------------------------------------

    def _json(self, text: str, keep: Callable[[list[str], str, str], str]) -> str:
        """JSON, with comments too: keys, numbers and structure stay; what each text becomes ``keep`` says.

        It is given the keys on the way, the text before it in its list, and the text.
        """
        return "".join(_json_parts(text, keep))

    def _of_kernel(self, keys: list[str], before: str, text: str) -> str:
        if keys[:1] == ["argv"]:
            return text if not before or self._says_how(text, before) else self._stand_in(text)
        if keys[:1] == ["env"]:
            known = keys[-1].upper() in DOCUMENTED or keys[-1].upper() in _READ
            return text if known else _filled(text)
        return text if keys[:1] in (["display_name"], ["language"], ["interrupt_mode"], ["metadata"]) else _filled(text)

    def _of_json(self, path: str, name: str) -> Callable[[list[str], str, str], str]:
        if name.startswith(("jpserver-", "nbserver-")):
            keys = {"url", "root_dir", "notebook_dir", "base_url", "hostname", "version", "sock"}
            return lambda at, before, text: text if at and at[-1] in keys else _filled(text)
        if path.endswith("/kalyx/environments.json"):  # Kalyx's own list: paths alone
            return lambda at, before, text: text
        if "/dist-info/" in path or ".dist-info/" in path or "/conda-meta/" in path or name.startswith("kalyx"):
            return lambda at, before, text: text
        if name.startswith("kernel-"):
            return lambda at, before, text: _filled(text) if at and at[-1] == "key" else text
        return self._of_settings

    def _of_settings(self, keys: list[str], before: str, text: str) -> str:
        if tuple(keys) not in self._settings_keys:
            return _filled(text)
        last = keys[-1]
        if last in ("command", "cmd", "shell_cmd", "args") or "interpreter" in keys[0]:
            return " ".join(self.command(["", *text.split(" ")])[1:]) if " " in text else text
        return text

    @cached_property
    def _settings_keys(self) -> set[tuple[str, ...]]:
        """The ways of keys that some reader of settings follows; places in lists count nothing."""
        settings_keys: set[tuple[str, ...]] = {("folders", "path"), ("extends",), ("include",), ("exclude",)}
        for row in table("editors", _Editors).descriptors:
            for choice in row.choices:
                key = [word for word in choice.key if word != "*"]
                settings_keys |= {tuple(key), (*key[:-1], choice.named or key[-1]), tuple(choice.below)}
            settings_keys.add(tuple(row.chosen))
        return settings_keys - {()}

    def _notebook(self, text: str) -> str:
        kinds = _kinds_of_cells(text)
        cell: list[Any] = []  # the source of the cell that is being read, or None where it is no code

        def keep(keys: list[str], before: str, text: str) -> str:
            if keys[-1:] == ["source"]:
                if not before:  # the first line of a cell
                    kind = next(kinds, "code")
                    cell[:] = [Source(self) if kind == "code" else None]
                return _filled(text) if cell[0] is None else str(cell[0].feed(text))
            if keys[:1] == ["metadata"] and keys[1:2] in (["kernelspec"], ["language_info"]):
                return text
            return text if keys[-1:] == ["cell_type"] else _filled(text)

        return self._json(text, keep)


class Source:
    """Python source, fed in pieces: code stays, texts and comments keep their length; shell lines by their words."""

    _SIGNS = pattern(r"[\"'#]|^[ \t]{0,40}[!%][^\n]*", re.MULTILINE)

    def __init__(self, essence: Essence) -> None:
        self._essence = essence
        self._open = ""  # the quotation that a piece before has left open

    def feed(self, text: str) -> str:
        """What is kept of the next piece."""
        result, at = [], 0
        if self._open:
            at = self._end(text, 0, self._open)
            result.append(_filled(text[:at]))
        while at < len(text):
            match = self._SIGNS.search(text, at)
            if match is None:
                break
            result.append(text[at : match.start()])
            at = match.start()
            if match[0] == "#":
                end = text.find("\n", at)
                end = len(text) if end < 0 else end
                result.append("#" + _filled(text[at + 1 : end]))
            elif match[0] in "\"'":
                sign = match[0] * 3 if text.startswith(match[0] * 3, at) else match[0]
                end = self._end(text, at + len(sign), sign)
                last = end - len(sign)
                is_closed = not self._open and last >= at + len(sign) and text.startswith(sign, last)
                inner_end = last if is_closed else end
                inner = text[at + len(sign) : inner_end]
                follows = len(sign) == 1 and _FOLLOWED.search(text[max(0, at - 80) : at]) is not None
                is_kept = follows or inner in _LOOKED_FOR
                result.append(sign + (inner if is_kept else _filled(inner)) + text[inner_end:end])
            else:
                end = match.end()
                result.append(self._line(match[0]))
            at = end
        result.append(text[at:])
        return "".join(result)

    def _end(self, text: str, at: int, sign: str) -> int:
        """Where a quotation ends; at the end of the line, or of the piece, where it does not."""
        self._open = ""
        while at < len(text):
            item = text[at]
            if item == "\\":
                at += 2
            elif text.startswith(sign, at):
                return at + len(sign)
            elif item == "\n" and len(sign) == 1:
                return at
            else:
                at += 1
        if len(sign) == 3:
            self._open = sign
        return len(text)

    def _line(self, line: str) -> str:
        """A line for the shell or the notebook: an installer's as it is, but for addresses; any other by its words."""
        words = line.lstrip(" \t!%").split()
        if words[:1] and (words[0] in ("pip", "pip3", "conda", "mamba") or words[1:3] == ["-m", "pip"]):
            return _SHELL_TOKEN.sub(
                lambda match: match[0] if match["address"] is None else self._essence._shell_word(match), line
            )
        return self._essence._shell(line)


def _json_parts(text: str, keep: Callable[[list[str], str, str], str]) -> Iterator[str]:
    stack: list[list[Any]] = []  # kind, the key or None, the text before in a list
    at = 0
    while at < len(text):
        match = _JSON_TOKEN.search(text, at)
        if match is None:
            break
        yield _bare(text[at : match.start()])
        token, at = match[0], match.end()
        if token == "/*":
            inner, sign, _ = text[at:].partition("*/")
            yield "/*" + _filled(inner) + sign
            at += len(inner) + len(sign)
        elif token.startswith("//"):
            yield "//" + _filled(token[2:])
        elif token in "{[":
            stack.append([token, None, ""])
            yield token
        elif token in "}]":
            if stack:
                stack.pop()
            yield token
        elif token in ",:":
            if token == "," and stack and stack[-1][0] == "{":
                stack[-1][1] = None
            yield token
        elif stack and stack[-1][0] == "{" and stack[-1][1] is None:
            stack[-1][1] = _unquoted(token)
            yield token
        else:
            keys = [str(item[1]) for item in stack if item[1] is not None]
            message = _unquoted(token)
            kept = keep(keys, stack[-1][2] if stack and stack[-1][0] == "[" else "", message)
            if stack:
                stack[-1][2] = message or " "
            yield token if kept == message else json.dumps(kept, ensure_ascii=token.isascii())
    yield _bare(text[at:])


def _bare(text: str) -> str:
    """What stands outside the quotes of JSON: numbers and the three words of JSON stay, of anything else the length."""
    return _BARE_WORD.sub(lambda match: match[0] if _LITERAL.fullmatch(match[0]) else _filled(match[0]), text)


def _kinds_of_cells(text: str) -> Iterator[str]:
    """The kind of each cell of a notebook that has a source, in order; none where it cannot be read."""
    try:
        cells = json.loads(text.lstrip("\ufeff")).get("cells")
    except (ValueError, AttributeError, RecursionError):
        return
    for cell in cells if isinstance(cells, list) else []:
        if isinstance(cell, dict) and cell.get("source"):
            yield str(cell.get("cell_type", "code"))


def _unquoted(token: str) -> str:
    try:
        return str(json.loads(token, strict=False))
    except ValueError:
        return token[1:-1]


def _lines(text: str, is_read: Callable[[str], bool]) -> str:
    return "".join(line if is_read(line) else _filled(line) for line in text.splitlines(True))


def _metadata(text: str) -> str:
    """The fields that say what a distribution is and requires; of the others and of the description the length."""
    head, sign, body = text.partition("\n\n")
    kept, result = False, []
    for line in head.splitlines(True):
        if line[:1] not in (" ", "\t"):
            kept = line.partition(":")[0].strip().lower() in _METADATA
        name, colon, value = line.partition(":")
        result.append(line if kept else name + colon + _filled(value) if line[:1] not in (" ", "\t") else _filled(line))
    return "".join(result) + sign + _filled(body)


_KEY = pattern(r"""\s*(?:[\w.-]{1,200}|"[^"\n]{0,200}"|'[^'\n]{0,200}')\s*=""")


def _sections(text: str) -> str:
    """TOML and INI: the sections that some question reads; of the others names and lengths.

    Above the first section a key may name one by dots (TOML 1.0, "Dotted keys"); what no such key has is not read.
    """
    kept, in_section, sections = False, False, []
    for line in text.splitlines(True):
        bare = line.strip()
        name, sign, value = line.partition("=")
        if bare.startswith("[") and not line[:1].isspace():
            kept, in_section = _is_read(bare.strip("[]")), True
            sections.append(line)
            continue
        if not in_section and _KEY.match(line):
            kept = _is_read(name)
        if bare.startswith(("#", ";")):
            sections.append(line[:1] + _filled(line[1:]))
        elif kept:
            sections.append(line)
        else:
            sections.append(name + sign + _filled(value) if sign else _filled(line))
    return "".join(sections)


def _is_read(section: str) -> bool:
    """Whether some question reads a section or a key of this name."""
    name = section.strip().strip("\"'")
    return any(name == item or name.startswith((item + ".", item + "-", item + ":")) for item in _SECTIONS)


_TAG = pattern(r"<[^<>]{0,20000}>")
_ATTRIBUTE = pattern(r"([\w.:-]{1,80})(\s?=\s?)(\"[^\"]{0,20000}\"|'[^']{0,20000}')")
_NAMED_ELEMENTS = {"SDK_HOME", "SDK_NAME", "RunManager", "ProjectRootManager", "WORKING_DIRECTORY", "SCRIPT_NAME",
                   "MODULE_NAME", "IS_MODULE_SDK", "SDK_UUID"}  # fmt: skip


def _elements(text: str) -> str:
    """XML: elements and attributes; a value only of what some question reads; no text between."""
    elements, at = [], 0
    for match in _TAG.finditer(text):
        elements += [_filled_words(text[at : match.start()]), _tag(match[0])]
        at = match.end()
    return "".join(elements) + _filled_words(text[at:])


def _filled_words(text: str) -> str:
    return _filled(text) if text.strip() else text


def _tag(tag: str) -> str:
    name = re.search(r"\bname\s?=\s?[\"']([^\"']{0,200})", tag)
    is_read = name is None or name[1] in _NAMED_ELEMENTS

    def attribute(match: re.Match[str]) -> str:
        kept = match[1] not in ("value", "url", "content") or is_read
        return match[0] if kept else match[1] + match[2] + match[3][0] + _filled(match[3][1:-1]) + match[3][-1]

    return _ATTRIBUTE.sub(attribute, tag)
