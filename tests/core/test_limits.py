"""Every number that bounds something stands on docs/limits.md, and no limit bounds the look before a removal."""

import ast
import re
from pathlib import Path

from kalyx.core.deeds import discarding
from kalyx.core.doors import trees

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "kalyx"
NAME = re.compile(r"_?(?:[A-Z_]*LIMIT|[A-Z_]*AT_MOST|_?MOST|_?FILES|_?LINES|_?LINE|_?CELLS|_?LONGEST[A-Z_]*|_?LARGEST|_?LARGE|_?PROCESSES|_?DEEP(EST)?|WALK_DEPTH|_?WIDEST"
                  r"|_?PATTERNS|_?STARS|_?PARTS|_?HASHED|_?DENSEST|_?SMALL|_?ABOVE|_?LONG|_HEAD)")  # fmt: skip


def limits() -> dict[str, str]:
    """Module and name of each number of a module that is called like a bound."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        if path.name == "memory.py":
            continue  # a machine in memory
        module = ".".join(path.relative_to(SOURCE).with_suffix("").parts).replace(".", "/")
        for node in ast.parse(path.read_text()).body:
            if not isinstance(node, ast.Assign):
                continue
            names = [one for target in node.targets for one in ast.walk(target) if isinstance(one, ast.Name)]
            numbers = [one for one in ast.walk(node.value) if isinstance(one, ast.Constant)]
            if numbers and all(isinstance(one.value, (int, float)) for one in numbers) and not isinstance(node.value, ast.Call):
                found |= {f"{module}.{one.id}": one.id for one in names if NAME.fullmatch(one.id)}
    return found


def test_every_limit_is_listed():
    page = (ROOT / "docs" / "limits.md").read_text()
    cells = [cell for line in page.splitlines() if line.startswith("| `") for cell in [line.split("|")[1]]]
    listed = set()
    for cell in cells:
        module = ""
        for word in re.findall(r"`([^`]+)`", cell):
            module = word.rpartition(".")[0] or module
            listed.add(f"{module}.{word.rpartition('.')[2]}")
    known = limits()
    assert len(known) > 70 and not known.keys() - listed, sorted(known.keys() - listed)


def test_no_limit_bounds_the_look_before_a_removal():
    for module in (discarding, trees):
        assert not [name for name in limits() if name.startswith("core/" + module.__name__.removeprefix("kalyx.core.").replace(".", "/") + ".")]


def test_a_file_that_was_cut_is_named(moor):
    """Whatever kind of file it is: the answer is followed by what it lacks."""
    from tests.conftest import make_environment
    from tests.equipment import NEW

    python = make_environment(NEW, moor.root / "heath", "--without-pip")
    site = next((moor.root / "heath").glob("lib/python*/site-packages"))
    info = site / "comb-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: comb\nVersion: 1.0\n" + "Requires-Dist: hive\n" * 60_000)
    (site / "long.pth").write_text("# x\n" * 300_000)
    ran = moor.kalyx("packages", python, "--json")
    assert ran.status == 0 and ran.json["packages"]
    said = ran.err.splitlines()
    assert any("long.pth" in line and "1048576 bytes" in line for line in said) and any("METADATA" in line for line in said), said
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: comb\nVersion: 1.0\n")
    (site / "long.pth").unlink()
    assert moor.kalyx("packages", python, "--json").err == ""


def test_what_there_is_too_much_of_is_named(moor):
    from kalyx.core.doors.live import LiveFacts

    facts = LiveFacts(moor.variables, str(moor.folder))
    assert list(facts.first_of(range(5), 5, "bees")) == list(range(5)) and not facts.cut
    assert list(facts.first_of(range(9), 5, "bees")) == list(range(5)) and facts.cut == {"bees": "only the first 5 of 9 were looked at"}
    state = moor.root / ".local" / "state" / "kalyx"
    state.mkdir(parents=True)
    (state / "environments.json").write_text(str([f"/gone/{number}" for number in range(3000)]).replace("'", '"'))
    assert "only the first 2000 of 3000 were looked at" in moor.kalyx("survey").err
