"""Bytes without secrets and without the user's and the machine's name, each replaced by as many other letters.

As many: places in a file stay where they were. The same name gets the same stand-in, so that paths still match.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from kalyx.core.words.patterns import pattern
from kalyx.core.words.secrets import DOCUMENTED

_WORD = (
    rb"(?:token|passw(?:or)?d|passphrase|secret|api[_-]?key|access[_-]?key|private[_-]?key"
    rb"|credentials?|authorization|cookie|signature)"
)
_VALUE = rb"(?P<hide>[^\s\"',;&<>(){}\[\]\\]{3,})"
_SECRETS = [
    # user:password@ of an address (RFC 3986, userinfo); a repository's plain git@ is none.
    pattern(rb":/{1,2}(?P<hide>(?!git@)[^\s/@?#\"'\\]{1,300})(?=@)"),
    pattern(rb"(?i)\b(?:bearer|basic)\s{1,3}(?P<hide>[A-Za-z0-9._~+/=-]{8,})"),
    # A name that says so, and its value: in settings, in JSON, in a query, in code.
    pattern(
        rb"(?i)" + _WORD + rb"[\w.-]{0,40}\\{0,3}[\"']?[\])]?\s{0,9}(?:: ?str ?)?[:=]\s{0,9}\\{0,3}[\"']?" + _VALUE
    ),
    # An option and the word behind it, in a line or in a list of words.
    pattern(
        rb"(?i)--?[\w-]{0,40}"
        + _WORD
        + rb"[\w-]{0,20}(?:\s{1,9}|\0|\\{0,3}[\"']\s{0,40},\s{0,40}\\{0,3}[\"'])"
        + _VALUE
    ),
    # The key by which a kernel's messages are signed.
    pattern(rb"\"key\"\s{0,9}:\s{0,9}\"(?P<hide>[^\"]{8,})\""),
    # Forms that are secrets wherever they stand.
    pattern(rb"(?P<hide>\b(?:AKIA|ASIA)[0-9A-Z]{16}\b)"),
    pattern(rb"(?P<hide>\b(?:gh[pousr]_|github_pat_|glpat-|xox[abprs]-|sk-|hf_|npm_|pypi-|dop_v1_)[A-Za-z0-9_-]{16,})"),
    pattern(rb"(?P<hide>\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*)"),
    pattern(rb"-----BEGIN [A-Z ]{0,30}PRIVATE KEY-----(?P<hide>[A-Za-z0-9+/=\s\\]{16,})"),
]
# Names that say nothing of anybody, or that stand everywhere.
_NOBODY = set("root home user users admin python localhost local lib bin usr var opt tmp src".split())
_STAND_IN = b"keeper"

_NEEDED = pattern(
    r"(?i)(?:PYTHON|VIRTUAL_ENV|CONDA_|JUPYTER|IPYTHON|XDG_|LC_|PYENV_|MODULE|LOADEDMODULES|LMOD|_LM|PIP_|KALYX_|PY_PYTHON)\w*"
    r"|PATH|PATHEXT|HOME|USERPROFILE|APPDATA|LOCALAPPDATA|PROGRAMDATA|SYSTEMROOT|PSMODULEPATH|PROMPT|SHELL|ENV|ZDOTDIR"
    r"|BASH_ENV|TERM|TERM_PROGRAM|LANG|WORKON_HOME|LD_LIBRARY_PATH|DYLD_\w+|EDITOR_\w+|PROMPT_COMMAND"
)
_SECRET = pattern(r"(?i)token|passw|secret|key|credential|auth|cookie")


def needed(variables: Mapping[str, str]) -> dict[str, str]:
    """Those variables that some question reads; of the others nothing is kept, not even that they are there."""
    known = (name for name in variables if name in DOCUMENTED or _NEEDED.fullmatch(name))
    return {name: variables[name] for name in known if not _SECRET.search(name)}


class Blinding:
    """Takes secrets out, and puts stand-ins in the place of the names given."""

    def __init__(self, names: Iterable[str]) -> None:
        """``names``: the user's, the machine's. Those too short to be told from other words stay."""
        chosen = sorted({name for name in names if len(name) >= 3 and name.lower() not in _NOBODY}, key=len)
        self.names: Mapping[bytes, bytes] = {
            name.encode("utf-8", "surrogateescape"): _stand_in(name, number) for number, name in enumerate(chosen)
        }
        words = b"|".join(re.escape(name) for name in reversed(self.names))
        self._known = re.compile(rb"(?<![A-Za-z0-9])(?:" + words + rb")(?![A-Za-z0-9])") if words else None

    def content(self, content: bytes) -> bytes:
        """The content, as long as it was."""
        for form in _SECRETS:
            content = form.sub(_hidden, content)
        return self.stand_ins(content)

    def stand_ins(self, content: bytes) -> bytes:
        """The content with stand-ins for the names alone."""
        return content if self._known is None else self._known.sub(lambda match: self.names[match[0]], content)

    def text(self, text: str) -> str:
        """The same of a text."""
        return self.content(text.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape")


def _hidden(match: re.Match[bytes]) -> bytes:
    start, end = match.start("hide") - match.start(), match.end("hide") - match.start()
    kept = re.sub(rb"[^\s]", b"x", match[0][start:end])
    return match[0][:start] + kept + match[0][end:]


def _stand_in(name: str, number: int) -> bytes:
    length = len(name.encode("utf-8", "surrogateescape"))
    word = (_STAND_IN if number == 0 else b"barn%d" % number) * length
    return word[:length]
