"""Words without what is nobody else's: credentials in addresses and command lines, undocumented variables."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from kalyx.core.words.patterns import pattern

# user:password@ or token@ in an address (RFC 3986, userinfo). A repository's plain "git@" is no secret.
_USERINFO = pattern(r"(?<![A-Za-z0-9+.-])(?P<scheme>[A-Za-z0-9+.-]+://)(?P<who>[^\s/@?#]*)@")
# A query or an option that is named like a secret, and what stands behind it.
_NAMED = pattern(
    r"(?i)((?<![\w.-])[\w.-]*(?:token|passw(?:or)?d|secret|api[_-]?key|access[_-]?key|signature|credential)[\w.-]{0,60}"
    r"['\"]?\s{0,9}[=: ]\s{0,9}['\"]?)([^\s&;,'\"})]+)"
)
# Without one of these no name is a secret's: most texts need no pattern.
_NAME_PARTS = ("token", "passw", "secret", "signature", "credential", "apikey", "api_key", "api-key", "accesskey",
               "access_key", "access-key")  # fmt: skip
HIDDEN = "…"

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


def may_name_a_secret(text: str) -> bool:
    """Whether anything in a text can be named like a secret; quick, for most texts hold none."""
    folded = text.casefold()
    return any(part in folded for part in _NAME_PARTS)


def without_credentials(text: str) -> str:
    """An address, a command line or a program's words without names, passwords and tokens in them."""
    if "://" in text and "@" in text:
        text = _USERINFO.sub(_without_userinfo, text)
    if may_name_a_secret(text):
        text = _NAMED.sub(lambda match: match.group(1) + HIDDEN, text)
    return text


def shown_command(command: Sequence[str], most: int = 60) -> str:
    """A process's command line as it may be shown: no code that was given as a word, no credentials, cut."""
    words = list(command)
    for number, word in enumerate(words[1:], 1):
        if word in ("-c", "-lc", "-ic") and number + 1 < len(words):
            words[number + 1 :] = ["(code)"]
            break
    text = without_credentials(" ".join(words))
    return text if len(text) <= most else text[: most - 1] + HIDDEN


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


def _without_userinfo(match: re.Match[str]) -> str:
    # The plain account of a repository over ssh is part of its address.
    kept = "git@" if match["who"] == "git" and "ssh" in match["scheme"] else ""
    return match["scheme"] + kept


def shown_variables(variables: Mapping[str, str]) -> dict[str, str | None]:
    """Variables as they may be shown: those that are documented with their values, of the others the names alone."""
    return {
        name: without_credentials(value) if name.upper() in DOCUMENTED else None for name, value in variables.items()
    }
