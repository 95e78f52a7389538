"""Whether a program may be started: decided here, for every command, by who named it and where it lies.

Starting an interpreter runs what its environment brings (path files, start-up hooks), and an environment can lie in a
folder that somebody else wrote. ``objection`` decides for an interpreter; ``Gate`` is the one way to start anything:
it refuses whatever lies around the folder stood in and was not let through by ``objection``. ``docs/security.md`` says
the same case by case.

Named by the user, it may be started. Named only by files of the folder stood in, or by a text that was pasted, it may
not. Named by the user's own shell, kernels or processes, it may where neither the program nor its environment lies in
that folder's tree; and in the tree, where the user has entered the environment, or has registered it by its full path,
or runs it already. Merely found on the machine, it may where it lies nowhere around the folder and is an installation
that is known by itself: not by an environment's link alone, unless it is the system's.
"""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import Any, Literal

from kalyx.core.records import Interpreter
from kalyx.core.system import Facts
from kalyx.core.system.runner import Ended, Runner, Running

NamedBy = Literal["user", "shell", "kernel", "process", "machine", "folder", "text"]

# What marks the top of somebody's tree.
_TOPS = (".git", ".hg", ".svn")
# What lies below these is the system's: no user writes there.
_SYSTEMS_OWN = {
    "linux": ("/usr", "/bin", "/sbin", "/lib", "/lib64", "/opt", "/nix", "/snap"),
    "macos": ("/usr", "/bin", "/sbin", "/opt", "/System", "/Library", "/Applications"),
    "windows": ("C:\\Windows", "C:\\Program Files", "C:\\Program Files (x86)"),
}
# The programs that were let through in this run of Kalyx, by the paths that they are started by.
_let_through: set[str] = set()


def tree_of(facts: Facts) -> str | None:
    """The tree whose files somebody else may have written: the folder stood in, or the working copy it belongs to.

    Of working copies inside each other the outermost. None for the home folder and those above it: what lies there is
    the user's own.
    """
    known: dict[str, str | None] = facts.memory.setdefault("tree", {})
    if "tree" not in known:
        known["tree"] = _tree_of(facts)
    return known["tree"]


def _tree_of(facts: Facts) -> str | None:
    folder, home = facts.real(facts.folder), facts.real(facts.home)
    if facts.inside(home, folder):
        return None
    top, here = folder, folder
    while not facts.inside(home, here):
        if any(facts.kind(facts.join(here, name)) is not None for name in _TOPS):
            top = here
        upper = facts.parent(here)
        if upper == here:
            break
        here = upper
    return top


def surroundings_of(facts: Facts) -> str | None:
    """The largest folder around the one stood in that somebody may have brought: right below the home folder, else
    right below a folder of the root. None in the home folder itself, and in the system's folders."""
    folder, home = facts.real(facts.folder), facts.real(facts.home)
    if facts.inside(home, folder) or is_the_systems(facts, folder):
        return None
    here = folder
    while True:
        upper = facts.parent(here)
        if facts.same_path(upper, home) or facts.parent(facts.parent(upper)) == facts.parent(upper):
            return here
        here = upper


def is_the_systems(facts: Facts, path: str) -> bool:
    """Whether a path lies in a folder that only the system's own tools write."""
    return any(facts.inside(path, folder) for folder in _SYSTEMS_OWN[facts.system])


def brought_along(facts: Facts, *paths: str) -> str | None:
    """The first of these paths that may have come with the folder stood in, by its words or with its links followed."""
    ground, home = surroundings_of(facts), facts.real(facts.home)
    if ground is None:
        return None
    for path in paths:
        for one in (path, facts.real(path)) if path else ():
            is_homes = facts.inside(home, ground) and facts.inside(one, home)
            if facts.inside(one, ground) and not is_homes:
                return path
    return None


def lies_in_tree(facts: Facts, *paths: str) -> str | None:
    """The first of these paths that lies in the tree, by its words or with its links followed; None where none does."""
    tree = tree_of(facts)
    if tree is None:
        return None
    return next((p for p in paths if p and (facts.inside(p, tree) or facts.inside(facts.real(p), tree))), None)


def not_to_be_run(facts: Facts, *paths: str) -> str | None:
    """The first of these folders and files whose code is not run for being found there; None where each may be.

    It lies in the tree, or may have come with the folder stood in.
    """
    return lies_in_tree(facts, *paths) or brought_along(facts, *paths)


def has_entered(facts: Facts, prefix: str) -> bool:
    """Whether the user has entered this environment: activating it is a deed, and a folder cannot do it."""
    entered = (facts.variable(name) for name in ("VIRTUAL_ENV", "CONDA_PREFIX"))
    return any(value and facts.real(value) == facts.real(prefix) for value in entered)


def objection(facts: Facts, interpreter: Interpreter, named_by: NamedBy) -> str | None:
    """Why the interpreter may not be started, in words; None where it may: then the gate lets it through."""
    found = _objection(facts, interpreter, named_by)
    if found is None:
        let_through(interpreter.executable)
    return found


def let_through(path: str) -> None:
    """Have the gate start this program: the user named it, or Kalyx made it."""
    _let_through.add(path)


def _objection(facts: Facts, interpreter: Interpreter, named_by: NamedBy) -> str | None:
    name = f"name it with --in {interpreter.executable}"
    if named_by == "user":
        return None
    if named_by in ("folder", "text"):
        if has_entered(facts, interpreter.prefix):
            return None
        who = "only files of this folder name it" if named_by == "folder" else "only the text given names it"
        return f"{interpreter.executable} was not started: {who}, and you did not; {name}"
    paths = (interpreter.executable, interpreter.real_executable, interpreter.prefix)
    where = "it lies in the folder you stand in, and you did not name it"
    if named_by == "machine":
        if interpreter.by_link and not is_the_systems(facts, interpreter.real_executable):
            where = "only an environment's link leads to it, and you did not name it"
        elif brought_along(facts, *paths) is None:
            return None
    elif lies_in_tree(facts, *paths) is None and not _by_relative_entry(facts, interpreter.executable):
        return None
    if named_by in ("kernel", "process") or has_entered(facts, interpreter.prefix):
        return None
    return f"{interpreter.executable} was not started: {where}; {name}"


def _by_relative_entry(facts: Facts, path: str) -> bool:
    """Whether PATH leads to a program only by an entry that goes by the folder stood in (``.``, ``../bin``, none)."""
    folder = facts.parent(path)
    if brought_along(facts, path) is None:
        return False
    sign = ";" if facts.system == "windows" else ":"
    entries = [entry for entry in (facts.variable("PATH") or "").split(sign) if facts.path.isabs(entry)]
    return not any(facts.same_path(str(facts.path.normpath(entry)), folder) for entry in entries)


class Gate(Runner):
    """The one way to start a program: whatever may have come with the folder stood in, and was not let through, is not
    started. A bare word is looked up on the child's own PATH, and judged by where that leads."""

    def __init__(self, inner: Runner, facts: Facts) -> None:
        self._inner, self._facts = inner, facts

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inner, name)

    def empty_folder(self) -> Any:
        return self._inner.empty_folder()

    def chance(self, count: int) -> str:
        return self._inner.chance(count)

    def refusal(self, argv: list[str], variables: Mapping[str, str] | None) -> str | None:
        """Why the program of this command line is not started; None where it may be."""
        facts, word = self._facts, argv[0]
        if word == sys.executable or word in _let_through:
            return None
        path: str | None = word
        if facts.path.isabs(word):
            is_brought = brought_along(facts, word) is not None
        else:
            path = next(facts.lookup(word, (variables or facts.variables).get("PATH", "")), None)
            entered = path is not None and has_entered(facts, facts.parent(facts.parent(path)))
            is_brought = path is not None and not entered and path not in _let_through
            is_brought = is_brought and bool(lies_in_tree(facts, path or "") or _by_relative_entry(facts, path or ""))
        if not is_brought:
            return None
        return f"was not started: {path} may have come with the folder you stand in, and you did not name it"

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
