"""Bytes without secrets and without the user's and the machine's name, each replaced by other letters.

The replacement has the same length, so that positions in a file stay. A name is replaced only where it is used as one:
the user's own folder (below ``/home``, ``/Users`` and the like), an account or a host in an address. A user may be
called ``share`` or ``python3``, and elsewhere that word does not mean the user.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from kalyx.core.text.redaction import redacted

# Names of folders and accounts that are the same on every machine.
_NOBODY = set("root home user users admin local localhost lib bin usr var opt tmp src".split())
_STAND_IN = b"keeper"
# Folders that hold a folder for each user.
_ROOTS = rb"(?:home|users|scratch|data|mnt|media|work|projects|export/home|var/home|gpfs|lustre|nfs|u)"
_END = rb"(?=[/\\\"'\s:;,)\]}>&|\0]|$)"


class Blinding:
    """Takes secrets out, and puts stand-ins in the place of the names given."""

    def __init__(self, names: Iterable[str], homes: Iterable[str] = ()) -> None:
        """``names``: the user's, the machine's; ``homes``: home folders. Names too short to be told stay."""
        known = {*names, *(home.replace("\\", "/").rstrip("/").rpartition("/")[2] for home in homes)}
        chosen = sorted({name for name in known if len(name) >= 3 and name.lower() not in _NOBODY})
        chosen.sort(key=len)
        self.names: Mapping[bytes, bytes] = {
            _lower(name): _stand_in(name, number) for number, name in enumerate(chosen)
        }
        words = b"(?i:" + b"|".join(re.escape(name) for name in reversed(self.names)) + b")"
        above = [home.replace("\\", "/").rstrip("/").rpartition("/")[0] for home in homes]
        uppers = [upper.encode("utf-8", "surrogateescape") for upper in above]
        exactly = b"|".join(re.escape(upper).replace(b"/", rb"[/\\]{1,2}") for upper in uppers)
        lead = rb"(?i:(?:^|[^\w/\\.-]|[a-z]:)[/\\]{1,2}" + _ROOTS + rb"[/\\]{1,2})"
        lead += rb"|(?:" + exactly + rb")[/\\]{1,2}" if exactly else b""
        whole = rb"(?P<lead>" + lead + rb"|(?<![\w.-])~|@|(?<![:/])//|://|\\{2,4})(?P<name>" + words + rb")" + _END
        self._forms = [re.compile(form) for form in (
            whole, rb"(?P<lead>@|://|\\{2,4})(?P<name>" + words + rb")(?=\.[A-Za-z])",
            rb"(?P<lead>(?<![\w./\\-]))(?P<name>" + words + rb")(?=@)",
        )] if self.names else []  # fmt: skip

    def content(self, content: bytes) -> bytes:
        """The content, as long as it was."""
        text = content.decode("utf-8", "surrogateescape")
        return self.stand_ins(redacted(text, _hidden).encode("utf-8", "surrogateescape"))

    def stand_ins(self, content: bytes) -> bytes:
        """The content with stand-ins for the names alone."""
        lower = content.lower()
        if not any(name in lower for name in self.names):
            return content
        for form in self._forms:
            content = form.sub(lambda match: match["lead"] + self.names[match["name"].lower()], content)
        return content

    def text(self, text: str) -> str:
        """The same of a text."""
        return self.content(text.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape")

    def entry(self, folder: str, name: str) -> str:
        """A name in a listing, as it stands in paths: a user's folder among those of all users."""
        if _lower(name) not in self.names:
            return name
        sign = "\\" if "\\" in folder else "/"
        return self.text(f"{folder.rstrip(sign)}{sign}{name}")[-len(name) :]


def _lower(name: str) -> bytes:
    """The bytes of a name by which it is found in any spelling: only its ASCII letters are put into lower case."""
    return name.encode("utf-8", "surrogateescape").lower()


def _hidden(secret: str) -> str:
    return "".join(sign if sign.isspace() else "x" * len(sign.encode("utf-8", "surrogateescape")) for sign in secret)


def _stand_in(name: str, number: int) -> bytes:
    length = len(name.encode("utf-8", "surrogateescape"))
    word = (_STAND_IN if number == 0 else b"barn%d" % number) * length
    return word[:length]
