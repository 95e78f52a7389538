"""Scenes: machines in memory, and what Kalyx says and does there, kept word for word in a file for each scene.

``KALYX_DRAW=1`` writes the files again; read the difference then.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from kalyx.core.machine import Machine
from kalyx.core.model.records import KalyxError
from kalyx.core.system.memory_reader import Link, MemoryReader
from kalyx.core.system.reader import Unreadable
from tests.kept import differs
from tests.made import HOME, Files
from tests.support.memory_writer import SteadyWriter

Scene = Callable[[], Iterable[str]]


class Scenes:
    """The scenes of one test module, whose texts lie in a folder of the tests."""

    def __init__(self, folder: str) -> None:
        self._folder = Path(__file__).parents[1] / folder
        self._scenes: dict[str, Scene] = {}

    def add(self, scene: Scene, name: str = "") -> Scene:
        self._scenes[name or scene.__name__] = scene
        return scene

    @property
    def names(self) -> list[str]:
        return list(self._scenes)

    def difference(self, name: str) -> str:
        """How what is said now differs from what is kept; empty where it does not."""
        return differs(self._folder / f"{name}.txt", "\n".join(self._scenes[name]()) + "\n")


def told(title: str, ask: Callable[[], Iterable[str]]) -> list[str]:
    """A title, and below what is answered or refused."""
    try:
        lines = list(ask()) or ["nothing"]
    except Unreadable as refusal:
        lines = [f"unreadable: {refusal}"]
    except KalyxError as refusal:
        lines = [f"refused: {refusal.message}", *(f"near: {name}" for name in refusal.candidates)]
    return [title, *(f"  {line}" for line in lines)]


def tree(reader: MemoryReader, below: str = HOME) -> dict[str, str]:
    """Every file below a folder: its content, a link's target, and its time where that was set."""
    result = {}
    for key, node in reader._nodes.items():
        if reader.inside(key, below) and node is not None and "journal/changes-" not in key:
            text = f"-> {node}" if isinstance(node, Link) else node.decode("utf-8", "replace") if isinstance(node, bytes) else str(node)
            result[key] = text + (f" @{reader.modified[key]}" if key in reader.modified else "")
    return result


def changed(before: dict[str, str], after: dict[str, str]) -> list[str]:
    """What came, went and is another."""
    lines = [f"gone {path}" for path in before if path not in after]
    lines += [f"{'new' if path not in before else 'other'} {path}: {text}" for path, text in after.items() if before.get(path) != text]
    return [line.replace("\n", "\\n")[:240] for line in sorted(lines)] or ["as it was"]


def plus(files: Files, more: dict[str, object]) -> Files:
    files.update(more)
    return files


def on(files: Files, **more: object) -> Machine:
    reader = MemoryReader("linux", files, home=HOME, **{"folder": f"{HOME}/spring", "variables": files.variables, **more})
    return Machine(reader, writer=SteadyWriter(reader))
