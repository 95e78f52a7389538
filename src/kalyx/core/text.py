"""Words: quoting for shells, names compared, outside text made visible."""

from __future__ import annotations

import re

# Shells that quote as the POSIX shell does; others have a branch of their own.
_POSIX = {"bash", "zsh", "sh", "dash", "ksh", "ash", "fish", "tcsh", "csh", "xonsh"}


def line_for(argv: list[str], shell: str) -> str:
    """The command line that starts ``argv`` in this shell."""
    if shell in ("powershell", "pwsh"):
        words = [_powershell_word(word) for word in argv]
        return ("& " if words[0].startswith("'") else "") + " ".join(words)
    if shell == "cmd":
        return " ".join(_cmd_word(word) for word in argv)
    import shlex

    return " ".join(shlex.quote(word) for word in argv)


def _cmd_word(word: str) -> str:
    """Quoted where the command interpreter would split or read more into it; ``%`` cannot be kept from it."""
    if word and not any(character in " \t&|<>^()\"';,=" for character in word):
        return word
    return '"' + word.replace('"', '""') + '"'


def _powershell_word(word: str) -> str:
    if word and all(c.isalnum() or c in "-_./\\:=" for c in word):
        return word
    return "'" + word.replace("'", "''") + "'"


def canonical(name: str) -> str:
    """A distribution's name in the form that compares (PEP 503)."""
    return re.sub("[-_.]+", "-", name).lower()


def visible(text: str) -> str:
    """Outside text with control characters and undecodable bytes written out, fit for a terminal."""
    if text.isprintable():
        return text
    out = []
    for character in text:
        code = ord(character)
        if character.isprintable():
            out.append(character)
        elif 0xDC80 <= code <= 0xDCFF:
            out.append(f"\\x{code - 0xDC00:02x}")
        elif code < 0x100:
            out.append({"\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(character, f"\\x{code:02x}"))
        else:
            out.append(f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}")
    return "".join(out)


def distance(one: str, other: str, limit: int) -> int:
    """Letters to add, drop, change or swap between two words; ``limit + 1`` when it is more."""
    if abs(len(one) - len(other)) > limit:
        return limit + 1
    before: list[int] = []
    row = list(range(len(other) + 1))
    for i, a in enumerate(one, 1):
        following = [i]
        for j, b in enumerate(other, 1):
            cost = min(row[j] + 1, following[j - 1] + 1, row[j - 1] + (a != b))
            if i > 1 and j > 1 and a == other[j - 2] and one[i - 2] == b:
                cost = min(cost, before[j - 2] + 1)
            following.append(cost)
        if min(following) > limit:
            return limit + 1
        before, row = row, following
    return row[-1]


def words_of(text: str) -> list[str]:
    """The lower-case words of a label or an id: runs of letters and digits."""
    return "".join(c.lower() if c.isalnum() or c == "." else " " for c in text).split()


def numbers_of(version: str) -> list[int]:
    """The numbers of a version, to tell the newer of two apart where exactness does not matter."""
    import re

    return [int(part) for part in re.findall(r"\d+", version)[:4]]
