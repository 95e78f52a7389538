"""The shells that Kalyx knows, a row each, with every word and name that differs from shell to shell.

How a shell's *language* quotes a word is in ``text/quoting``, how its files are followed in ``seats/shell_words``.
"""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

Mode = Literal["login", "interactive", "script"]
Language = Literal["posix", "csh", "fish", "xonsh", "powershell", "cmd"]
# Files by how the shell was started: always, as an interactive shell, as a login shell (of a tuple the first file that
# exists). Relative paths start in the home folder, for zsh in ZDOTDIR.
Started = Literal["always", "typed into", "login", "login, last"]
StartFiles = dict[Started, list["str | tuple[str, ...]"]]

_LOGIN: list[str | tuple[str, ...]] = ["/etc/profile", ".profile"]
_ASKED: dict[Mode, list[str]] = {"login": ["-lc"], "interactive": ["-ic"], "script": ["-c"]}
# The ending of the file that a maker of environments writes for a language.
_ENDINGS: dict[Language, str] = {"csh": ".csh", "fish": ".fish", "powershell": ".ps1", "cmd": ".bat"}


class Shell(Struct, frozen=True):
    """A shell by its name, and what else its program may be called (``also``).

    - ``has_extensions``: its language has more than POSIX (``$'…'``, ``[[``, ``declare``).
    - ``reads``: the word in front of a file that the shell itself carries out; None: no file enters an environment.
    - ``tells``: the words in front of a word by which the shell says what that means.
    - ``modes``: the flags that start it as a login shell, as an interactive shell, and for a command alone.
    - ``start_files``: those that it reads by itself.
    - ``hook``: the variable that holds what it runs before each prompt.
    - ``is_completed``: whether ``kalyx completion`` has code for it.
    """

    name: str
    language: Language = "posix"
    also: tuple[str, ...] = ()
    has_extensions: bool = False
    reads: str | None = "."
    tells: str = ""
    modes: dict[Mode, list[str]] = {}
    start_files: StartFiles = {}
    hook: str | None = None
    is_completed: bool = False

    @property
    def is_followed(self) -> bool:
        """Whether its start files are followed as it reads them; those of other languages are read line by line."""
        return bool(self.start_files) and self.language in ("posix", "csh", "fish")

    @property
    def activation(self) -> str:
        """The name of the file that enters an environment in this shell."""
        return "activate" + _ENDINGS.get(self.language, "")


_ROWS = [
    Shell(
        "bash",
        has_extensions=True,
        reads="source",
        tells="type",
        modes=_ASKED,
        start_files={
            "typed into": ["/etc/bash.bashrc", ".bashrc"],
            "login": ["/etc/profile", (".bash_profile", ".bash_login", ".profile")],
        },
        hook="PROMPT_COMMAND",
        is_completed=True,
    ),
    Shell(
        "zsh",
        has_extensions=True,
        reads="source",
        tells="type",
        modes=_ASKED,
        start_files={
            "always": ["/etc/zsh/zshenv", ".zshenv"],
            "login": ["/etc/zsh/zprofile", ".zprofile"],
            "typed into": ["/etc/zsh/zshrc", ".zshrc"],
            "login, last": ["/etc/zsh/zlogin", ".zlogin"],
        },
        is_completed=True,
    ),
    Shell("sh", also=("ash",), tells="command -V", modes=_ASKED, start_files={"login": _LOGIN, "typed into": ["$ENV"]}),
    Shell("dash", tells="command -V", modes=_ASKED, start_files={"login": _LOGIN, "typed into": ["$ENV"]}),
    Shell(
        "ksh",
        also=("ksh93",),
        has_extensions=True,
        tells="whence -v",
        modes=_ASKED,
        start_files={"login": _LOGIN, "typed into": [("$ENV", ".kshrc")]},
    ),
    Shell(
        "mksh",
        has_extensions=True,
        tells="whence -v",
        modes=_ASKED,
        start_files={"login": _LOGIN, "typed into": [("$ENV", ".mkshrc")]},
    ),
    Shell(
        "fish",
        "fish",
        reads="source",
        tells="type",
        modes=_ASKED,
        start_files={"always": [".config/fish/conf.d/", "/etc/fish/config.fish", ".config/fish/config.fish"]},
        is_completed=True,
    ),
    Shell(
        "tcsh",
        "csh",
        reads="source",
        tells="which",
        modes={"interactive": ["-ic"], "script": ["-c"]},
        start_files={
            "always": ["/etc/csh.cshrc", (".tcshrc", ".cshrc")],
            "login": ["/etc/csh.login", ".login"],
        },
    ),
    Shell(
        "csh",
        "csh",
        reads="source",
        tells="which",
        modes={"interactive": ["-ic"], "script": ["-c"]},
        start_files={"always": ["/etc/csh.cshrc", ".cshrc"], "login": ["/etc/csh.login", ".login"]},
    ),
    Shell("xonsh", "xonsh", reads=None, start_files={"always": [".xonshrc", ".config/xonsh/rc.xsh"]}),
    Shell(
        "pwsh",
        "powershell",
        reads="&",
        start_files={"always": [".config/powershell/profile.ps1", "Documents/PowerShell/profile.ps1"]},
    ),
    Shell(
        "powershell",
        "powershell",
        reads="&",
        start_files={"always": ["Documents/WindowsPowerShell/profile.ps1"]},
        is_completed=True,
    ),
    Shell("cmd", "cmd", reads=""),
]
SHELLS = {name: row for row in _ROWS for name in (row.name, *row.also)}


def shell_called(name: str) -> Shell:
    """The row of a shell; of one that is not known a row that holds its name and the rules of POSIX alone."""
    return SHELLS.get(name) or Shell(name)


def is_posix(name: str) -> bool:
    """Whether this is the name of a shell whose language is POSIX's, or has it in it."""
    return name in SHELLS and SHELLS[name].language == "posix"


def takes_command(name: str) -> bool:
    """Whether a program of this name is a shell that runs the text after its ``-c``."""
    return name in SHELLS and SHELLS[name].language in ("posix", "fish", "csh")
