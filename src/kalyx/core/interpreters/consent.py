"""Whether a program may be started: decided here, for every command, by who named it and where it is.

Starting an interpreter runs what its environment brings (path files, start-up hooks), and an environment can be in a
folder that somebody else wrote. ``objection`` decides for an interpreter; ``Gate`` is the one way to start anything:
it refuses whatever is around the current folder and was not let through (``Machine.objection``). The same stands in
``docs/security.md``, case by case.

Named by the user, it may be started. Named only by files of the current folder, or by a pasted text, it may not (by a
script's first line: as if it was only found). Named by the user's own shell, kernels or processes, it may where
neither the program nor its environment is in that folder's tree; and in the tree, where the user has activated the
environment, or has registered it by its full path, or runs it already. Only found on the machine, it may where it is
not around the folder and is an installation that is known by itself: not by an environment's link alone, unless it
is the system's.
"""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import Any, Literal

from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader
from kalyx.core.system.once import once
from kalyx.core.system.runner import Ended, Runner, Running, Through

NamedBy = Literal["user", "shell", "kernel", "process", "machine", "folder", "text"]

# Folders that mark the top of a working copy.
_TOPS = (".git", ".hg", ".svn")
# Folders that only the system's own tools write.
_SYSTEMS_OWN = {
    "linux": ("/usr", "/bin", "/sbin", "/lib", "/lib64", "/opt", "/nix", "/snap"),
    "macos": ("/usr", "/bin", "/sbin", "/opt", "/System", "/Library", "/Applications"),
    "windows": ("C:\\Windows", "C:\\Program Files", "C:\\Program Files (x86)"),
}


@once
def tree_of(reader: Reader) -> str | None:
    """The tree whose files somebody else may have written: the current folder, or the working copy it belongs to.

    Of working copies inside each other the outermost. None for the home folder and those above it: what is there is
    the user's own.
    """
    folder, home = reader.real(reader.folder), reader.real(reader.home)
    if reader.inside(home, folder):
        return None
    top, here = folder, folder
    while not reader.inside(home, here):
        if any(reader.may_be_there(reader.join(here, name)) for name in _TOPS):
            top = here
        upper = reader.parent(here)
        if upper == here:
            break
        here = upper
    return top


def surroundings_of(reader: Reader) -> str | None:
    """The largest folder around the current folder that somebody may have brought: right below the home folder, else
    right below a folder of the root. None in the home folder itself, and in the system's folders."""
    folder, home = reader.real(reader.folder), reader.real(reader.home)
    if reader.inside(home, folder) or is_the_systems(reader, folder):
        return None
    here = folder
    while True:
        upper = reader.parent(here)
        if reader.same_path(upper, home) or reader.parent(reader.parent(upper)) == reader.parent(upper):
            return here
        here = upper


def is_the_systems(reader: Reader, path: str) -> bool:
    """Whether a path is in a folder that only the system's own tools write."""
    return any(reader.inside(path, folder) for folder in _SYSTEMS_OWN[reader.system])


def brought_along(reader: Reader, *paths: str) -> str | None:
    """The first of these paths that may have come with the current folder, by its words or with its links followed."""
    ground, home = surroundings_of(reader), reader.real(reader.home)
    if ground is None:
        return None
    for path in paths:
        for item in (path, reader.real(path)) if path else ():
            is_homes = reader.inside(home, ground) and reader.inside(item, home)
            if reader.inside(item, ground) and not is_homes:
                return path
    return None


def lies_in_tree(reader: Reader, *paths: str) -> str | None:
    """The first of these paths that is in the tree, by its words or with its links followed; None where none does."""
    tree = tree_of(reader)
    if tree is None:
        return None
    return next((p for p in paths if p and (reader.inside(p, tree) or reader.inside(reader.real(p), tree))), None)


def not_to_be_run(reader: Reader, *paths: str) -> str | None:
    """The first of these paths whose code must not run, because it may have come with the current folder; else None.

    Such a path is in the tree, or in what surrounds the current folder.
    """
    return lies_in_tree(reader, *paths) or brought_along(reader, *paths)


def has_entered(reader: Reader, prefix: str) -> bool:
    """Whether the user has activated this environment, which no folder can do for the user."""
    entered = (reader.variable(name) for name in ("VIRTUAL_ENV", "CONDA_PREFIX"))
    return any(value and reader.real(value) == reader.real(prefix) for value in entered)


def objection(reader: Reader, interpreter: Interpreter, named_by: NamedBy) -> str | None:
    """Why the interpreter may not be started, in words; None where it may."""
    name = f"name it with --in {interpreter.executable}"
    if named_by == "user":
        return None
    if named_by in ("folder", "text"):
        if has_entered(reader, interpreter.prefix):
            return None
        who = "only files of this folder name it" if named_by == "folder" else "only the text given names it"
        return f"{interpreter.executable} was not started: {who}, and you did not; {name}"
    paths = (interpreter.executable, interpreter.real_executable, interpreter.prefix)
    by_link = False
    if named_by == "machine":
        by_link = interpreter.by_link and not is_the_systems(reader, interpreter.real_executable)
        if not by_link and brought_along(reader, *paths) is None:
            return None
    elif lies_in_tree(reader, *paths) is None and not _by_relative_entry(reader, interpreter.executable):
        return None
    if named_by in ("kernel", "process") or has_entered(reader, interpreter.prefix):
        return None
    where = "only an environment's link leads to it" if by_link else f"it is in {_around(reader, *paths)}"
    return f"{interpreter.executable} was not started: {where}, and you did not name it; {name}"


def _around(reader: Reader, *paths: str) -> str:
    """Where paths are that may have come with the current folder, in words."""
    folder = reader.real(reader.folder)
    ground = surroundings_of(reader)
    if ground is None or any(reader.inside(reader.real(path), folder) for path in paths if path):
        return "the current folder"
    return f"{ground}, as the current folder is"


def _by_relative_entry(reader: Reader, path: str) -> bool:
    """Whether PATH leads to a program only by an entry that goes by the current folder (``.``, ``../bin``, none)."""
    folder = reader.parent(path)
    if brought_along(reader, path) is None:
        return False
    entries = (reader.variable("PATH") or "").split(reader.path.pathsep)
    return not any(reader.same_path(str(reader.path.normpath(entry)), folder) for entry in entries)


class Gate(Through):
    """The one way to start a program: whatever may have come with the current folder, and was not let through, is not
    started. A bare word is looked up on the child's own PATH, and judged by where that leads.

    ``let_through``: the programs that may be started, by their paths: nothing is objected to, the user named them, or
    Kalyx made them.
    """

    def __init__(self, inner: Runner, reader: Reader, let_through: set[str]) -> None:
        super().__init__(inner)
        self._reader, self._let_through = reader, let_through

    def refusal(self, argv: list[str], variables: Mapping[str, str] | None) -> str | None:
        """Why the program of this command line is not started; None where it may be."""
        reader, word = self._reader, argv[0]
        if word == sys.executable or word in self._let_through:
            return None
        path: str | None = word
        if reader.path.isabs(word):
            is_brought = brought_along(reader, word) is not None
        else:
            path = next(reader.lookup(word, (variables or reader.variables).get("PATH", "")), None)
            entered = path is not None and has_entered(reader, reader.parent(reader.parent(path)))
            is_brought = path is not None and not entered and path not in self._let_through
            is_brought = is_brought and bool(lies_in_tree(reader, path or "") or _by_relative_entry(reader, path or ""))
        if not is_brought:
            return None
        return f"was not started: {path} may have come with the current folder, and you did not name it"

    def run(self, argv: list[str], *, variables: Mapping[str, str] | None = None, **more: Any) -> Ended:
        refused = self.refusal(argv, variables)
        if refused is not None:
            return Ended(None, b"", b"", 0.0, problem=refused)
        return self._inner.run(argv, variables=variables, **more)

    def start(self, argv: list[str], *, variables: Mapping[str, str] | None = None, **more: Any) -> Running:
        refused = self.refusal(argv, variables)
        if refused is not None:
            raise OSError(refused)
        return self._inner.start(argv, variables=variables, **more)
