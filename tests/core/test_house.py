"""Every room knows its place: the floors of docs/architecture.md against every import of the tree."""

import ast
import re
from pathlib import Path

import pytest

from tests.support.sources import nodes

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "kalyx"
ROW = re.compile(r"^\| (\d+) \| `([a-z_./]+)` \|", re.MULTILINE)
# The package itself, and the way in.
OUTSIDE = {"kalyx", "kalyx.__main__", "kalyx.core"}


def floors() -> dict[str, int]:
    """Room, as a module's name, to its floor."""
    page = (ROOT / "docs" / "architecture.md").read_text()
    return {"kalyx." + room.removesuffix(".py").replace("/", "."): int(floor) for floor, room in ROW.findall(page)}


def modules() -> dict[str, Path]:
    found = {}
    for path in SOURCE.rglob("*.py"):
        name = ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")
        if ".standin" not in name:
            found[name] = path
    return found


MODULES, FLOORS = modules(), floors()


def room_of(module: str) -> str | None:
    """The room of the table that a module belongs to: the longest name that it begins with."""
    fitting = [room for room in FLOORS if module == room or module.startswith(room + ".")]
    return max(fitting, key=len, default=None)


def imports_of(path: Path) -> set[str]:
    """Every module of the tree that a file imports: at its top, inside functions, and for types only."""
    found = set()
    for node in nodes(path):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {
                f"{node.module}.{alias.name}" if f"{node.module}.{alias.name}" in MODULES else node.module
                for alias in node.names
            }
    return found & MODULES.keys()


def upward(module: str, imported: set[str], floor_of: dict[str, int]) -> list[str]:
    """The imports of a module that do not lead to a lower floor; its own room's are looked at for circles."""
    room = room_of(module)
    wrong = []
    for other in imported - OUTSIDE:
        theirs = room_of(other)
        if theirs != room and (theirs is None or room is None or floor_of[theirs] >= floor_of[room]):
            wrong.append(f"{module} imports {other}")
    return wrong


@pytest.mark.parametrize("module", sorted(set(MODULES) - OUTSIDE))
def test_a_module_imports_only_from_below(module):
    assert room_of(module) is not None, f"{module} lies in no room of docs/architecture.md"
    assert not upward(module, imports_of(MODULES[module]), FLOORS)


def circle(graph: dict[str, set[str]]) -> list[str]:
    """A way of imports that comes back to where it began; empty where there is none."""
    done: set[str] = set()

    def search(name: str, way: list[str]) -> list[str]:
        if name in way:
            return [*way[way.index(name) :], name]
        if name in done:
            return []
        for other in graph[name]:
            found = search(other, [*way, name])
            if found:
                return found
        done.add(name)
        return []

    return next((found for name in graph if (found := search(name, []))), [])


def test_no_circle():
    assert circle({name: imports_of(path) for name, path in MODULES.items()}) == []


def test_every_room_of_the_table_is_there():
    for room in FLOORS:
        assert room in MODULES or any(name.startswith(room + ".") for name in MODULES), room


def test_an_arrow_that_goes_up_would_be_seen():
    """The tests above can fail."""
    assert upward("kalyx.core.system.live_reader", {"kalyx.core.machine"}, FLOORS) == ["kalyx.core.system.live_reader imports kalyx.core.machine"]
    assert circle({"a": {"b"}, "b": {"c"}, "c": {"a"}}) == ["a", "b", "c", "a"] and not circle({"a": {"b"}, "b": set()})


# Alike in every module of their room, whose ``__init__`` says what they take and give.
SAME_EVERYWHERE = {"look", "look_at_dead", "look_at_environment", "look_at_kernel", "look_at_seat", "arguments", "run", "main"}


def undocumented(path: Path, documented: set[str]) -> list[str]:
    """The public classes and functions of a file without a docstring; a method may have it from the class it is made from."""
    found = []
    for node in nodes(path):
        for item in getattr(node, "body", []) if isinstance(node, (ast.Module, ast.ClassDef)) else []:
            if not isinstance(item, (ast.FunctionDef, ast.ClassDef)) or item.name.startswith("_") or ast.get_docstring(item):
                continue
            inherited = isinstance(node, ast.ClassDef) and node.bases and item.name in documented
            if item.name not in SAME_EVERYWHERE and not inherited and not getattr(node, "name", "").startswith("_"):
                found.append(f"{path.name}, line {item.lineno}: {item.name}")
    return found


def test_public_names_say_what_they_are():
    documented = {item.name for path in MODULES.values() for node in nodes(path) if isinstance(node, ast.ClassDef)
                  for item in node.body if isinstance(item, ast.FunctionDef) and ast.get_docstring(item)}  # fmt: skip
    missing = [line for path in MODULES.values() for line in undocumented(path, documented | {"error"})]
    assert missing == [], missing


# Private words, each of which the field has another for: a reader whose first language is another must not guess.
WORDS = r"\b(anew|afresh|foreseen|st(ands?|ood) on|speaks? of|told apart|(cannot|could not) be told|thrown away|in vain|half-way|(is|was) brought|you stand in)\b"
PRIVATE = re.compile(WORDS + r"|\b(mend(s|ed|ing)?|deeds?|fills|comes back|goes too)\b")


def test_code_and_comments_use_the_words_of_the_field():
    lines = [(path, line) for path in sorted((ROOT / "src").rglob("*.py")) for line in path.read_text().splitlines()]
    assert not [f"{path.name}: {line.strip()}" for path, line in lines if re.search(WORDS, line)]


def test_messages_use_the_words_of_the_field():
    """Every text of the product that can be read at a terminal: all strings of more than a word, but for docstrings."""
    found = []
    for path in sorted((ROOT / "src").rglob("*.py")):
        bodies = [node.body for node in nodes(path) if isinstance(node, (ast.Module, ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef))]
        docstrings = {id(body[0].value) for body in bodies if body and isinstance(body[0], ast.Expr)}
        for node in nodes(path):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docstrings and " " in node.value:
                found += [f"{path.name}:{node.lineno}: {node.value[:80]}" for _ in PRIVATE.finditer(node.value)]
    assert not found


def test_the_tests_that_take_turns_are_there():
    for line in (ROOT / "tests" / "in_turn.txt").read_text(encoding="utf-8").splitlines():
        file, _, name = line.partition("::")
        assert f"def {name.partition('[')[0]}(" in (ROOT / file).read_text(encoding="utf-8"), line
