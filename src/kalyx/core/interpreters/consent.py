"""Whether an interpreter may be started for a question: decided here, for every command.

Starting an interpreter runs what its environment brings (path files, start-up hooks), and an environment can lie in a
folder that somebody else wrote. Two things decide: who named it, and where the environment and the program lie.
``docs/security.md`` says the same case by case.

Named by the user, it may. Named only by files of the folder stood in, or by a text that was pasted, it may not.
Named by the user's own shell, kernels, or processes, it may where neither the program nor its environment lies in that
folder's tree; and in the tree, where the user has entered the environment, or has registered it by its full path, or
runs it already.
"""

from __future__ import annotations

from typing import Literal

from kalyx.core.doors import Facts
from kalyx.core.records import Interpreter

NamedBy = Literal["user", "shell", "kernel", "process", "machine", "folder", "text"]

# What marks the top of somebody's tree.
_TOPS = (".git", ".hg", ".svn")


def tree_of(facts: Facts) -> str | None:
    """The tree whose files somebody else may have written: the folder stood in, or the working copy it belongs to.

    None for the home folder and those above it: what lies there is the user's own.
    """
    known: dict[str, str | None] = facts.memory.setdefault("tree", {})
    if "tree" not in known:
        known["tree"] = _tree_of(facts)
    return known["tree"]


def _tree_of(facts: Facts) -> str | None:
    folder, home = facts.real(facts.folder), facts.real(facts.home)
    if facts.inside(home, folder):
        return None
    here = folder
    while not facts.inside(home, here):
        if any(facts.kind(facts.join(here, name)) is not None for name in _TOPS):
            return here
        upper = facts.parent(here)
        if upper == here:
            break
        here = upper
    return folder


def lies_in_tree(facts: Facts, *paths: str) -> str | None:
    """The first of these paths that lies in the tree, by its words or with its links followed; None where none does."""
    tree = tree_of(facts)
    if tree is None:
        return None
    return next((p for p in paths if p and (facts.inside(p, tree) or facts.inside(facts.real(p), tree))), None)


def has_entered(facts: Facts, prefix: str) -> bool:
    """Whether the user has entered this environment: activating it is a deed, and a folder cannot do it."""
    entered = (facts.variable(name) for name in ("VIRTUAL_ENV", "CONDA_PREFIX"))
    return any(value and facts.real(value) == facts.real(prefix) for value in entered)


def objection(facts: Facts, interpreter: Interpreter, named_by: NamedBy) -> str | None:
    """Why the interpreter may not be started, in words; None where it may."""
    name = f"name it with --in {interpreter.executable}"
    if named_by == "user":
        return None
    if named_by in ("folder", "text"):
        if has_entered(facts, interpreter.prefix):
            return None
        who = "only files of this folder name it" if named_by == "folder" else "only the text given names it"
        return f"{interpreter.executable} was not started: {who}, and you did not; {name}"
    inside = lies_in_tree(facts, interpreter.executable, interpreter.real_executable, interpreter.prefix)
    if inside is None or named_by in ("kernel", "process") or has_entered(facts, interpreter.prefix):
        return None
    where = "it lies in the folder you stand in, and you did not name it"
    return f"{interpreter.executable} was not started: {where}; {name}"
