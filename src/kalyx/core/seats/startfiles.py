"""What a shell's start files say about ``python``, by reading them; nothing of them is run.

An alias or a function wins over ``PATH``, and no activation changes that. The
files a shell reads are a table; a file read in with a literal path is followed.
What a file works out by code stays unknown, so a finding here is ``likely``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.doors import Facts
from kalyx.core.words.patterns import pattern

_LIMIT = 512 * 1024
_DEEP = 3

_POSIX = [".profile"]
# Start files of each shell, from the home folder or absolute. Data: a new shell is a row.
START_FILES = {
    "bash": ["/etc/profile", "/etc/bash.bashrc", ".bash_profile", ".bash_login", *_POSIX, ".bashrc", ".bash_aliases"],
    "zsh": ["/etc/zsh/zshenv", "/etc/zsh/zshrc", ".zshenv", ".zprofile", ".zshrc", ".zlogin"],
    "fish": ["/etc/fish/config.fish", ".config/fish/config.fish"],
    "dash": ["/etc/profile", *_POSIX],
    "sh": ["/etc/profile", *_POSIX],
    "ksh": ["/etc/profile", "/etc/ksh.kshrc", *_POSIX, ".kshrc"],
    "ksh93": ["/etc/profile", *_POSIX, ".kshrc"],
    "mksh": ["/etc/profile", "/etc/mkshrc", *_POSIX, ".mkshrc"],
    "tcsh": ["/etc/csh.cshrc", "/etc/csh.login", ".tcshrc", ".cshrc", ".login"],
    "csh": ["/etc/csh.cshrc", "/etc/csh.login", ".cshrc", ".login"],
    "pwsh": [".config/powershell/profile.ps1", "Documents/PowerShell/profile.ps1"],
    "powershell": ["Documents/WindowsPowerShell/profile.ps1"],
    "xonsh": [".xonshrc", ".config/xonsh/rc.xsh"],
}
# Folders whose every file is read: fish reads a configuration folder, and a function from the file of its name.
START_FOLDERS = {"fish": [".config/fish/conf.d", ".config/fish/functions"], "bash": ["/etc/profile.d"],
                 "zsh": [], "ksh": ["/etc/profile.d"]}  # fmt: skip

_WORD = pattern(r"(?:python|pypy|pip)[0-9.]*$")
_ALIASES = [
    pattern(r"""^\s*(?:builtin\s+)?alias\s+(?:-\w+\s+)*([\w.]+)=(.*)"""),
    pattern(r"""^\s*alias\s+(?:-\w+\s+)*([\w.]+)\s+([^=\s].*)"""),
    pattern(r"""^\s*Set-Alias\s+(?:-\w+\s+)*([\w.]+)\s+(.*)""", re.IGNORECASE),
    pattern(r"""^\s*aliases\[['"]([\w.]+)['"]\]\s*=\s*(.*)"""),
]
_FUNCTIONS = [pattern(r"^\s*(?:function\s+)?([\w.]+)\s*\(\s*\)"), pattern(r"^\s*function\s+([\w.]+)")]
_READS = pattern(r"""^\s*(?:source|\.)\s+["']?([^\s"';|&]+)""")


class Definition(Struct, frozen=True):
    """An alias or a function of a start file: the word it takes over, the line, and where it stands."""

    kind: str
    word: str
    text: str
    path: str
    line: int


def definitions(facts: Facts, shell: str) -> list[Definition]:
    """The aliases and functions for ``python`` and its installer in the start files of ``shell``."""
    found: list[Definition] = []
    seen: set[str] = set()
    for path in _files(facts, shell):
        found += _in_file(facts, path, seen, 0)
    return found


def _files(facts: Facts, shell: str) -> Iterator[str]:
    home = facts.home
    if shell == "zsh":
        home = facts.variable("ZDOTDIR") or home
    for relative in START_FILES.get(shell, []):
        yield facts.absolute(relative, home)
    for relative in START_FOLDERS.get(shell, []):
        folder = facts.absolute(relative, home)
        for name in facts.names(folder):
            yield facts.join(folder, name)
    named = facts.variable("ENV")
    if named and shell in ("sh", "dash", "ksh", "ksh93", "mksh") and facts.path.isabs(named):
        yield named


def _in_file(facts: Facts, path: str, seen: set[str], depth: int) -> Iterator[Definition]:
    if path in seen or depth > _DEEP:
        return
    seen.add(path)
    text = facts.text_or_none(path, _LIMIT)
    for number, line in enumerate((text or "").splitlines(), 1):
        for kind, patterns in (("alias", _ALIASES), ("function", _FUNCTIONS)):
            found = next((match for match in (form.match(line) for form in patterns) if match), None)
            if found and _WORD.match(found[1]):
                yield Definition(kind, found[1], line.strip()[:200], path, number)
        read = _READS.match(line)
        if read:
            named = read[1].replace("$HOME", facts.home).replace("${HOME}", facts.home)
            if "$" not in named:
                yield from _in_file(facts, facts.absolute(named, facts.parent(path)), seen, depth + 1)
