"""Answers that are kept word for word: a change of what is said is seen, and read, before it is kept.

``KALYX_DRAW=1`` writes what a test kept anew; read the difference then.
"""

import difflib
import json
import os
import re
from pathlib import Path

DRAW = bool(os.environ.get("KALYX_DRAW"))
# What differs from one run to the next: an address, a time, a process, the machine's own libraries.
# An error's text is cut at a length, and the paths in one are longer here than elsewhere.
_CHANGING = [
    (re.compile(r"\bsource (?=\{)"), ". "),  # as the shell has it that the tests are started from
    (re.compile(r'("fact": "\w+: [^"{]*\{[a-z]+\})[^"]*"'), r'\1..."'),
    (re.compile(r"0x[0-9a-f]{6,}"), "0x{address}"),
    (re.compile(r'(probe\.py\\+", line )\d+'), r"\1{number}"),
    # One environment takes up the packages of several faults: how many depends on which ran before.
    (re.compile(r"among \d+ distributions"), "among {some} distributions"),
    (re.compile(r"\b(pid|process) \d+"), r"\1 {pid}"),
    (re.compile(r"\b(\w{8}\.)?\d{8}-\d{6}-\d+"), "{time}"),
    (re.compile(r"\b\d+(\.\d+)? (s|ms|MB|kB|KB|GB)\b"), r"{number} \2"),
    (re.compile(r'"(seconds|modified|began|size_bytes|bytes)": [\d.]+'), r'"\1": {number}'),
]


def as_kept(text: str, names: dict[str, str]) -> str:
    """The text with each path of ``names`` (path to name) as its name, the longest first, and without what changes."""
    for path in sorted(names, key=len, reverse=True):
        text = text.replace(path, "{" + names[path] + "}")
    for pattern, name in _CHANGING:
        text = pattern.sub(name, text)
    return text


def differs(kept: Path, text: str) -> str:
    """The difference between what is kept in this file and ``text``; empty where they are the same."""
    if DRAW:
        kept.parent.mkdir(exist_ok=True)
        kept.write_text(text, encoding="utf-8")
    lines = [item.splitlines() for item in (kept.read_text(encoding="utf-8"), text)]
    return "\n".join(difflib.unified_diff(*lines, "kept", "now", lineterm="", n=2))


def story_differs(kept: Path, text: str, made_by: str) -> str:
    """The same of a text that another Python or user has otherwise: it is compared where it was kept by the same."""
    if not DRAW and kept.read_text(encoding="utf-8").partition("\n")[0] != made_by:
        return ""
    # Columns stand as far apart as the paths in them are long.
    return differs(kept, made_by + "\n" + re.sub(r"(?<=\S)   +", "  ", text))


def answer_differs(kept: Path, answer: object, names: dict[str, str], made_by: str) -> str:
    """The same of a JSON answer, where it was kept by the same Python and user: another words its errors otherwise."""
    if not DRAW and json.loads(kept.read_text(encoding="utf-8"))["made by"] != made_by:
        return ""
    return differs(kept, as_kept(json.dumps({"made by": made_by, "answer": answer}, indent=1), names) + "\n")
