"""The one rule for secrets: in text, in command lines and among variables.

``redacted`` serves every answer, on the screen and as JSON, and what a capture keeps (``blinding``). A secret is
known by the name before it, by the form it is written in, or by its own pattern.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern

# The last part of a name that is a secret's: DB_PASS, apiKey, x-auth-token, licence_key.
_LAST = (
    r"(?:(?:auth|access|refresh|id|api|csrf|bearer)?tokens?|passw(?:or)?d|passwd|passphrase|pass|pwd|pw|secrets?|credentials?"
    r"|auth|authorization|cookies?|signature|dsn"
    r"|(?:api|access|account|private|encryption|signing|shared|master|client|licen[cs]e|session|storage|secret)key)"
)
_NAME = (
    r"(?<![\w/\\.-])-{0,2}(?:"
    r"(?i:(?:[a-z0-9]{1,40}[_.-]){0,6}" + _LAST + r"(?:[_-][a-z0-9]{1,20}){0,2})"
    r"|(?i:(?:[a-z0-9]{1,40}[_.-]){1,6}key)"
    r"|[A-Za-z0-9_.-]{0,60}[a-z](?:Token|Password|Passwd|Pwd|Secret|Key|Credential|Credentials)"
    r"|[Kk]ey(?=[\"'])"
    r")(?![A-Za-z0-9])"
)
_QUOTED = r"\\{0,3}\"(?P<a>[^\"\\\n]{1,4000})|\\{0,3}'(?P<b>[^'\\\n]{1,4000})"
_BARE = r"(?P<c>[^\s\"'`,;&<>(){}\[\]\\]{2,4000})"
_VALUE = "(?:" + _QUOTED + "|" + _BARE + ")"
_ELEMENT = r"(?i)\bname\s?=\s?[\"'](?:[\w.-]{0,60}[_.-])?" + _LAST + r"[\"']"
# What a text must hold, in any case, where a secret's name is in it.
_NAMES = (
    *"""token pass pwd pw= pw: pw" pw' _pw -pw secret credential auth cookie signature dsn key= key: key" key'
    key_ key- _key -key .key""".split(),
    "pw ",
    "key ",
    "pw\t",
    "pw\n",
    "key\t",
    "key\n",
)
_ACCOUNT = ("-u", "-a", "--user", "--auth")
_SHAPES = tuple("ghp_ gho_ ghu_ ghs_ ghr_ github_pat_ glpat- xox sk- sk_ rk_ hf_ npm_ pypi- dop_v1_ sg.".split())
# No form but that of a key goes over the end of a line more than this far from its words.
_REACH = 200
_MANY_LINES = ("-----begin",)
# Each form, and what a text must hold for it: of each group one word. Most texts hold none, and no pattern is tried.
_FORMS: list[tuple[tuple[tuple[str, ...], ...], re.Pattern[str]]] = [
    # user:password@ of an address (RFC 3986, userinfo); a repository's plain git@ is none.
    ((("@",), (":",)), pattern(
        r"(?<![A-Za-z0-9+.-])[A-Za-z0-9+.-]{2,20}:\\{0,2}/(?:\\{0,2}/)?(?P<a>(?!git@)[^\s/@?#\"'\\]{1,300})(?=@)"
    )),
    ((("bearer", "basic", "digest"),), pattern(
        r"(?i)\b(?:bearer|basic|digest)\s{1,3}(?P<a>[A-Za-z0-9._~+/=-]{6,})"
    )),
    # A name that says so, and its value: in settings, in JSON, in code, one object deeper.
    ((_NAMES,), pattern(_NAME + r"\s{0,5}(?:(?:: ?str ?)?=(?![=>~])|:(?!:)(?=\s{0,5}[^\s/]))\s{0,5}" + _VALUE)),
    ((_NAMES,), pattern(
        _NAME
        + r"\\{0,3}[\"'](?:\]\s{0,5}=|\s{0,5}[:,])\s{0,9}(?:\{\s{0,9}\\{0,3}[\"']\w{1,40}\\{0,3}[\"']\s{0,9}:\s{0,9})?"
        r"(?:" + _QUOTED + r"|(?P<c>[0-9]{4,40})\b)"
    )),
    # An option and the word after it; a line that sets a variable with a blank before the value.
    ((_NAMES, ("-",)), pattern(
        r"(?:^|(?<=[\s\"',\[]))-" + _NAME.replace(r"(?<![\w/\\.-])-{0,2}", "-?")
        + r"(?:\s{1,5}|=|[\"']\s?,\s{0,9}[\"'])(?!-)" + _VALUE
    )),
    ((_NAMES, ("%env", "setenv", "set -", "export")), pattern(
        r"(?:%env|setenv|set -\w{1,3}|export)\s{1,5}" + _NAME + r"\s{1,5}" + _VALUE
    )),
    # An element that is named so, and its value: in XML, in a form of a page.
    ((_NAMES, ("value",)), pattern(_ELEMENT + r"[^<>\n]{0,200}?\bvalue\s?=\s?(?:" + _QUOTED + ")")),
    ((_NAMES, ("value",)), pattern(
        r"(?i)\bvalue\s?=\s?(?:" + _QUOTED + r")[\"'][^<>\n]{0,200}?" + _ELEMENT.removeprefix("(?i)")
    )),
    # A query's part; an option of a client that takes a password.
    ((("sig=", "signature=", "code=", "key=", "token=", "secret=", "passw"),), pattern(
        r"(?i)[?&;](?:sig|signature|code|key|[\w.-]{0,40}(?:token|key|secret|passw(?:or)?d))=(?P<a>[^\s&\"'<>]{2,4000})"
    )),
    ((("mysql", "mariadb", "sshpass"), ("-p",)), pattern(
        r"\b(?:mysql|mysqldump|mysqladmin|mariadb|sshpass)\b[^\n|;]{0,400}?\s-p\s?(?P<a>[^\s\"'-][^\s\"']{1,300})"
    )),
    ((_ACCOUNT, ("curl", "wget", "http", "ftp"), (":",)), pattern(
        r"\b(?:curl|wget|http|https|ftp|lftp)\b[^\n|;]{0,400}?\s(?:-u|--user|-a|--auth)[ =]?[\"']?"
        r"[^\s:\"']{1,200}:(?P<a>[^\s\"']{1,300})"
    )),
    ((("redis-cli",),), pattern(r"\bredis-cli\b[^\n|;]{0,400}?\s-a\s?(?P<a>[^\s\"']{2,300})")),
    # Forms that are secrets wherever they stand.
    ((("akia", "asia"),), pattern(r"\b(?P<a>(?:AKIA|ASIA)[0-9A-Z]{16})\b")),
    ((_SHAPES,), pattern(
        r"\b(?P<a>(?:gh[pousr]_|github_pat_|glpat-|xox[abprs]-|sk-|sk_live_|rk_live_|hf_|npm_|pypi-|dop_v1_|SG\.)"
        r"[A-Za-z0-9_.-]{16,})"
    )),
    ((("eyj",),), pattern(r"\b(?P<a>eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*)")),
    ((_MANY_LINES,), pattern(r"-----BEGIN [A-Z ]{0,30}PRIVATE KEY-----(?P<a>[A-Za-z0-9+/=\s\\]{16,})")),
]  # fmt: skip
_NEEDED = {part for needs, _ in _FORMS for part in needs[0]}
# Without those that another is a part of.
_PARTS = tuple(sorted(part for part in _NEEDED if not any(other in part for other in _NEEDED - {part})))
_USERINFO = pattern(r"(?<![A-Za-z0-9+.-])(?P<scheme>[A-Za-z0-9+.-]{1,20}://)(?P<who>[^\s/@?#]{0,1000})@")
HIDDEN = "…"
_SHOWN = 60  # characters of a command line

# Variables whose values decide what Python, its installer and the notebook system do, and are no secrets.
DOCUMENTED = frozenset(
    """PATH HOME LANG LC_ALL VIRTUAL_ENV CONDA_PREFIX CONDA_DEFAULT_ENV LD_LIBRARY_PATH DYLD_LIBRARY_PATH
    PYTHONHOME PYTHONPATH PYTHONSAFEPATH PYTHONPLATLIBDIR PYTHONSTARTUP PYTHONOPTIMIZE PYTHONBREAKPOINT PYTHONDEBUG
    PYTHONINSPECT PYTHONUNBUFFERED PYTHONVERBOSE PYTHONCASEOK PYTHONDONTWRITEBYTECODE PYTHONPYCACHEPREFIX PYTHONHASHSEED
    PYTHONINTMAXSTRDIGITS PYTHONIOENCODING PYTHONNOUSERSITE PYTHONUSERBASE PYTHONEXECUTABLE PYTHONWARNINGS
    PYTHONFAULTHANDLER PYTHONTRACEMALLOC PYTHONPROFILEIMPORTTIME PYTHONASYNCIODEBUG PYTHONMALLOC PYTHONMALLOCSTATS
    PYTHONLEGACYWINDOWSFSENCODING PYTHONLEGACYWINDOWSSTDIO PYTHONCOERCECLOCALE PYTHONDEVMODE PYTHONUTF8
    PYTHONWARNDEFAULTENCODING PYTHONNODEBUGRANGES PYTHONPERFSUPPORT PYTHON_CPU_COUNT PYTHON_FROZEN_MODULES PYTHON_COLORS
    PYTHON_HISTORY PYTHON_GIL PYTHONTHREADDEBUG PYTHONDUMPREFS
    JUPYTER_PATH JUPYTER_DATA_DIR JUPYTER_CONFIG_DIR JUPYTER_RUNTIME_DIR JUPYTER_PREFER_ENV_PATH JUPYTER_PLATFORM_DIRS
    IPYTHONDIR PYENV_VERSION PYENV_ROOT LOADEDMODULES MODULEPATH _LMFILES_""".split()
)


def may_hold_a_secret(text: str) -> bool:
    """Whether anything in a text can be a secret by these rules; quick, for most texts hold none."""
    folded = text.casefold()
    for part in _PARTS:  # noqa: SIM110  (a generator takes six times as long, for every text that is shown)
        if part in folded:
            return True
    return False


def redacted(text: str, hidden: Callable[[str], str] = lambda secret: HIDDEN) -> str:
    """A text without secrets: of each nothing is left but what ``hidden`` makes of it (``…``)."""
    if not may_hold_a_secret(text):
        return text
    folded = text.casefold()
    around: dict[tuple[str, ...], list[tuple[int, int]]] = {}
    for needs, form in _FORMS:
        if needs[0] not in around:
            whole = needs[0] == _MANY_LINES or len(folded) != len(text)
            around[needs[0]] = [(0, len(text))] if whole else _around(folded, needs[0])
        if around[needs[0]] and all(any(part in folded for part in group) for group in needs[1:]):
            result = _in_parts(text, around[needs[0]], form, lambda match: _without(match, hidden))
            if result != text:
                text, folded, around = result, result.casefold(), {}
    return text


def _around(folded: str, words: Sequence[str]) -> list[tuple[int, int]]:
    """The lines that are within reach of each of these words, whole; in order, apart."""
    spans = []
    for word in words:
        start = end = -1
        at = folded.find(word)
        while at >= 0:
            if at >= end:
                start = folded.rfind("\n", 0, max(0, at - _REACH)) + 1
            if at + _REACH > end:
                line_end = folded.find("\n", at + _REACH)
                end = line_end if line_end >= 0 else len(folded)
                spans.append((start, end))
            at = folded.find(word, at + len(word))
    parts: list[tuple[int, int]] = []
    for start, end in sorted(spans):
        if parts and start <= parts[-1][1]:
            parts[-1] = (parts[-1][0], max(end, parts[-1][1]))
        else:
            parts.append((start, end))
    return parts


def _in_parts(
    text: str, parts: Sequence[tuple[int, int]], form: re.Pattern[str], instead: Callable[[re.Match[str]], str]
) -> str:
    in_parts, last = [], 0
    for start, end in parts:
        in_parts += [text[last:start], form.sub(instead, text[start:end])]
        last = end
    return "".join([*in_parts, text[last:]])


def _without(match: re.Match[str], hidden: Callable[[str], str]) -> str:
    name = next(item for item in ("a", "b", "c") if item in match.re.groupindex and match[item] is not None)
    start, end = match.start(name) - match.start(), match.end(name) - match.start()
    # The plain account of a repository over ssh is part of its address; a value that is only a variable says nothing.
    if match[name] in ("None", "True", "False", "null", "true", "false", HIDDEN) or match[name].startswith("$"):
        return match[0]
    return match[0][:start] + hidden(match[name]) + match[0][end:]


# Options of other programs whose next word is a secret, though no name says so, and those whose next word is a name and
# a secret.
_TAKES_SECRET = {"-p"}
_TAKES_ACCOUNT = {"-u", "--user", "-a"}


def redacted_words(words: Sequence[str], hidden: Callable[[str], str] = lambda secret: HIDDEN) -> list[str]:
    """The words of a command line without secrets: of an option that is named so the word after it is left out."""
    result: list[str] = []
    before = ""
    for word in words:
        name, sign, value = word.partition("=")
        if sign and value and _is_secrets_name(name.lstrip("-")):
            result.append(f"{name}={hidden(value)}")
            before = word
            continue
        named = before.startswith("-") and "=" not in before and _is_secrets_name(before.lstrip("-"))
        takes = before in _TAKES_SECRET and not is_number(word) and "/" not in word and "\\" not in word
        account, colon, secret = word.partition(":")
        if word and not word.startswith("-") and (named or takes):
            result.append(hidden(word))
        elif before in _TAKES_ACCOUNT and colon and secret and "/" not in word:
            result.append(f"{account}:{hidden(secret)}")
        else:
            result.append(redacted(word, hidden))
        before = word
    return result


def _is_secrets_name(name: str) -> bool:
    return re.fullmatch(_NAME, name) is not None or name.lower() == "key"


def without_credentials(text: str) -> str:
    """An address without names, passwords and tokens in it, that still leads to the same place."""
    return redacted(_USERINFO.sub(_without_userinfo, text) if "@" in text else text)


def _without_userinfo(match: re.Match[str]) -> str:
    # The plain account of a repository over ssh is part of its address.
    return match["scheme"] + ("git@" if match["who"] == "git" and "ssh" in match["scheme"] else "")


def shown_command(command: Sequence[str]) -> str:
    """A process's command line as it may be shown: no code that was given as a word, no credentials, cut."""
    words = list(command)
    for number, word in enumerate(words[1:], 1):
        if word in ("-c", "-lc", "-ic") and number + 1 < len(words):
            words[number + 1 :] = ["(code)"]
            break
    text = " ".join(redacted_words(words))
    return text if len(text) <= _SHOWN else text[: _SHOWN - 1] + HIDDEN


def program_ran(command: Sequence[str]) -> str:
    """What an interpreter runs, in a word or two: its script's name, a module, given code, or nothing of these."""
    words = iter(command[1:])
    for word in words:
        if word == "-c":
            return "-c (code)"
        if word == "-m":
            return f"-m {next(words, '')}"
        if word in ("-X", "-W"):
            next(words, "")
        elif not word.startswith("-"):
            return without_credentials(word.replace("\\", "/").rpartition("/")[2])
    return "interactive"


def shown_variables(variables: Mapping[str, str]) -> dict[str, str | None]:
    """Variables as they may be shown: those that are documented with their values, of the others the names alone."""
    return {
        name: without_credentials(value) if name.upper() in DOCUMENTED else None for name, value in variables.items()
    }
