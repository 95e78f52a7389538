"""A traceback or an error's text: which interpreter it comes from, and what failed.

A text may hold many errors (a log, a test run): the last chain of exceptions counts. In this chain the failed import
is the cause, however it was wrapped; without a failed import, the first exception.
"""

from __future__ import annotations

import re

from msgspec import Struct

from kalyx.core.imports.trial import Raised, lacking_name, missing_name
from kalyx.core.system import Reader
from kalyx.core.text.numbers import leading_number
from kalyx.core.text.patterns import pattern

_FRAME = pattern(r'File "([^"\n]+)", line (\d+)(?:, in (\S+))?')
_NOTEBOOK_FRAME = pattern(r"^(?:File )?((?:/|~|[A-Za-z]:\\)[^\n:]*\.py)(?::(\d+)|\(\d+\))", re.MULTILINE)
_TEST_FRAME = pattern(r"^([^\s:\"]+\.py):(\d+): ", re.MULTILINE)
_ERROR = pattern(
    r"^\s*(?:E\s+)?((?:[A-Za-z_]\w{0,200}\.){0,50}[A-Z]\w*(?:Error|Exception|Warning|Interrupt|Exit|Fault|Configured))(?::\s?(.*))?$"
)
_BEGIN = "Traceback (most recent call last)"
_CHAINED = ("During handling of the above exception", "The above exception was the direct cause")
_COLOURS = pattern(r"\x1b\[[0-9;]*m")
_PATHS = pattern(r"[(\s'\"]((?:/|[A-Za-z]:\\)[^\s()'\"<>]+)")
_LIMIT = 1024 * 1024
_LONG = 4000

# Messages of packages about an optional requirement that is missing; the first name in a message counts. The first
# three count in any error, the next three in any error that names a known package, the others in that of an import.
_WORD = r"[`'\"]*([A-Za-z][\w.\-]*?)"
_WISHES = [pattern(item) for item in (
    r"[Mm]issing optional dependenc(?:y|ies) " + _WORD + r"(?:\[|[`'\"]*[\s.,]|$)",
    r"[Ii]mport " + _WORD + r"[`'\"]* failed",
    r"\b(?:pip3?|conda) install (?:-{1,2}\S{1,30} )?" + _WORD + r"(?:\[|[`'\"]*[\s.,;:)]|[=<>~!]|$)",
    r"[Pp]lease install (?:the )?" + _WORD + r"[`'\"]*(?:[\s.,;:(]|$)",
    r"^[Ii]nstall (?:the )?" + _WORD + r"[`'\"]*(?:[\s.,;:(]|$)",
    r"(?:^|[\s:])" + _WORD + r"[`'\"]* (?:is not|must be) installed\b",
    r"(?:^|[\s:])" + _WORD + r"[`'\"]* (?:is|must be) (?:not installed|required|needed|installed)\b",
    r"(?:[Yy]ou need|[Rr]equires|[Nn]eeds) (?:to install )?(?:the )?" + _WORD
    + r"[`'\"]* (?:package|library|module|to be installed|installed)\b",
)]  # fmt: skip
_NO_NAMES = {"it", "this", "that", "the", "package", "module", "library", "a", "an", "one", "which", "python",
             "version", "name", "argument", "file", "input", "value", "there", "and", "or"}  # fmt: skip
_COULD_NOT = pattern(
    r"(?:[Cc]ould not import(?: module)?|While importing|[Ee]rror importing|[Uu]nable to import|[Cc]annot load)"
    r" [`'\"]*([A-Za-z_][\w.]*)"
)
_PYTHON = pattern(r"(?:python|pypy)[\d.]*(?:\.exe)?$")
_FAILED_TO = pattern(r"^([A-Za-z_]\w*(?:\.\w+)+) failed to import\b")
# Another package of that name, another version, or a shadowed one: ``from M import A`` fails the same way.
_FROM = pattern(r"from (?:partially initialized module )?['\"]([\w.]+)['\"]")
# From 3.13 on the file stands in it too, where the module is half loaded.
NO_ATTRIBUTE = pattern(r"^(?:partially initialized )?module '([\w.]+)'(?: from '[^'\n]*')? has no attribute '(\w+)'")
# The source line of a frame, where that line is an import: the interpreter's form, and that of notebooks.
_ASKING = [pattern(item, re.MULTILINE) for item in (
    r'File "[^"\n]+", line \d+[^\n]*\n[ \t]+((?:import|from)[ \t][^\n]{1,300})$',
    r"^-+> *\d+ +((?:import|from)[ \t][^\n]{1,300})$",
)]  # fmt: skip
# The message of ``-m`` where the package above a module fails (Lib/runpy.py).
_NO_SPECIFICATION = pattern(
    r"Error while finding module specification for '[^'\n]{1,500}' \((\w+): ([^\n]{0,1000})\)$", re.MULTILINE
)
# The interpreter that prints the message, by its path.
_SAID_BY = pattern(r"^((?:/|[A-Za-z]:\\)[^\n]{1,1000}?): (?:Error while finding|No module named) ", re.MULTILINE)
_NO_MAIN = pattern(r"No module named ([\w.]+)\.__main__|No module named '?([\w.]+)'?$", re.MULTILINE)
_NOT_FOUND = [pattern(item, re.MULTILINE) for item in (
    r"command not found: ([\w.+-]+)\s*$",
    r"(?:^|: )([\w.+-]+): (?:command )?not found\s*$",
    r"[Tt]he term '([\w.+-]+)' is not recognized",
    r"'([\w.+-]+)' is not recognized as an internal or external command",
    r"Unknown command: ([\w.+-]+)",
)]  # fmt: skip
_NO_RELEASE = pattern(
    r"(?:No matching distribution found for|satisfies the requirement) ([A-Za-z0-9][\w.\-]*)([^\n(]{0,200})"
)


class ErrorReport(Struct):
    """What a text says: its frames (file, line), the error that counts, and what is missing: a module, a name in it.

    ``asked``: the import statement of the outermost frame that stands at one, where the error names nothing itself;
    ``wish``: a distribution or module that a package asks for in words of its own; ``may_wish``: a word that is such a
    wish if it is the name of a known package; ``program``: a command that the shell did not find; ``release``: what the
    installer found nothing for.
    """

    frames: list[tuple[str, int]] = []
    type: str | None = None
    text: str = ""
    module: str | None = None
    name: str | None = None
    wish: str | None = None
    may_wish: str | None = None
    asked: str | None = None
    program: str | None = None
    release: str | None = None


def read_traceback(text: str) -> ErrorReport:
    """The last error of a text with its frames. Never raises; ``type`` is None where no error is in it."""
    lines = _COLOURS.sub("", text[-_LIMIT:]).splitlines()
    text = "\n".join(line[:_LONG] for line in lines)
    chain = [_of_block(block) for block in _last_chain(text)]
    chain = [parsed for parsed in chain if parsed.type is not None]
    parsed = next(
        (parsed for parsed in chain if parsed.module is not None or parsed.wish is not None),
        chain[0] if chain else ErrorReport(),
    )
    if parsed.module is None and parsed.wish is None:
        parsed = _without_traceback(text, parsed)
    if not parsed.frames:
        parsed.frames = next((parsed.frames for parsed in chain if parsed.frames), [])
    return parsed


def _last_chain(text: str) -> list[str]:
    """The tracebacks of the last error and those that it came from, the first raised first."""
    blocks = text.split(_BEGIN)
    if len(blocks) == 1:
        return blocks
    first = len(blocks) - 1
    while first > 1 and any(words in blocks[first - 1][-400:] for words in _CHAINED):
        first -= 1
    return blocks[first:]


def _of_block(text: str) -> ErrorReport:
    parsed = ErrorReport()
    parsed.frames = [(path, leading_number(line)) for path, line, _ in _FRAME.findall(text)]
    for other in (_NOTEBOOK_FRAME, _TEST_FRAME):
        if not parsed.frames:
            parsed.frames = [(path, leading_number(line)) for path, line in other.findall(text)]
    lines = text.splitlines()
    for number, line in enumerate(lines):
        match = _ERROR.match(line)
        if match:
            parsed.type, parsed.text = match[1].rpartition(".")[2], (match[2] or "").strip()
            more = " ".join(line.strip() for line in lines[number + 1 : number + 4] if line.strip())
            parsed = _lacking(parsed, more)
    parsed.asked = next((match[1].strip() for form in _ASKING if (match := form.search(text))), None)
    return parsed


def _lacking(report: ErrorReport, more: str) -> ErrorReport:
    """The error with what it says is lacking; ``more``: what the lines after it say."""
    report.module = report.name = report.wish = report.may_wish = None
    is_import = report.type in ("ImportError", "ModuleNotFoundError")
    raised = Raised(report.type or "", report.text, import_error=True)
    report.module = missing_name(raised)
    if is_import and report.module is None:
        report.name = lacking_name(raised)
        where = _FROM.search(report.text) if report.name is not None else None
        report.module = where[1] if where else None
    if report.module is None and report.name is None:
        could = _COULD_NOT.search(report.text) or _FAILED_TO.search(report.text)
        report.module = could[1].rstrip(".") if could is not None else None
        attribute = NO_ATTRIBUTE.search(report.text) if report.type == "AttributeError" else None
        if attribute is not None:
            report.module, report.name = attribute[1], attribute[2]
    if report.module is None and report.name is None:
        # In an error that is no import's, words like "x is required" may be about anything.
        report.wish = _wish(f"{report.text} {more}", _WISHES) if is_import else _wish(report.text, _WISHES[:3])
        report.may_wish = None if is_import else _wish(report.text, _WISHES[3:6])
    return report


def _wish(words: str, patterns: list[re.Pattern[str]]) -> str | None:
    for form in patterns:
        for match in form.finditer(words):
            word = match[1].rstrip(".")
            if word.lower() not in _NO_NAMES:
                return word
    return None


def _without_traceback(text: str, report: ErrorReport) -> ErrorReport:
    """Messages of other programs: a shell, the installer, an interpreter's one line, a program that loads modules."""
    end = text[-20_000:]
    release = list(_NO_RELEASE.finditer(end))
    if release:
        result = release[-1]
        return ErrorReport(type="no matching distribution", text=result[0][:300].strip(), release=result[1])
    if report.type is None:
        for form in _NOT_FOUND:
            if match := form.search(end):
                return ErrorReport(type="command not found", text=match[0].strip(": \n")[:300], program=match[1])
        if match := _NO_SPECIFICATION.search(end):
            return _lacking(ErrorReport(_said_by(end), type=match[1], text=match[2][:_LONG]), "")
        if match := _NO_MAIN.search(end):
            return ErrorReport(
                _said_by(end),
                type="ModuleNotFoundError",
                text=match[0],
                module=match[1] or match[2],
                name="__main__" if match[1] else None,
            )
        if match := _COULD_NOT.search(end):
            return ErrorReport(type="ImportError", text=match[0][:300], module=match[1].rstrip("."))
        wish = _wish(end, _WISHES[:3])
        if wish is not None:
            return ErrorReport(type="ImportError", text=wish, wish=wish)
    return report


def _said_by(text: str) -> list[tuple[str, int]]:
    """The interpreter that says something in one line, as the place that it comes from."""
    return [(match[1], 0) for match in [_SAID_BY.search(text)] if match is not None]


def prefix_of(reader: Reader, report: ErrorReport) -> str | None:
    """The environment whose files the frames or the words name, or the interpreter that speaks; None where only a
    standard library's are named."""
    named = [path for path, _ in reversed(report.frames)] + _PATHS.findall(" " + report.text)
    for path in named:
        parts = path.replace("\\", "/").split("/")
        for word in ("site-packages", "dist-packages"):
            if word in parts:
                at = parts.index(word)
                up = 1 if "Lib" in parts[:at] else 2
                return reader.path.normpath("/".join(parts[: at - up])) if at > up else None
    for path in named:
        folder = reader.parent(path)
        above = reader.parent(folder)
        if reader.name(folder) in ("bin", "Scripts") and reader.is_there(reader.join(above, "pyvenv.cfg")):
            return above  # a command of an environment
    # An interpreter that could not begin says so itself.
    programs = [path for path, line in report.frames if not line and reader.path.isabs(path)]
    return next((path for path in programs if _PYTHON.match(reader.name(path)) and reader.is_file(path)), None)
