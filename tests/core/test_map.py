"""The map's layout: nothing overlaps, the ways that matter never cross, the same machine is drawn the same."""

import random

import pytest

from kalyx.core.model.records import Environment, Interpreter, Part, Seat
from kalyx.core.queries.map import draw_map
from tests.equipment import LONG

BASES = [("/opt/3.9", "3.9.18"), ("/opt/3.11", "3.11.7"), ("/opt/3.12", "3.12.1"), ("/usr", "3.11.2")]


def environment(number: int, condition: str = "sound") -> Environment:
    base, version = BASES[number % len(BASES)]
    prefix = f"/moor/hive-{number}"
    return Environment(key=prefix, prefix=prefix, name=f"hive-{number}", kind="virtual", version=version, base_prefix=base, condition=condition, executable=f"{prefix}/bin/python")


def installation(number: int) -> Environment:
    base, version = BASES[number]
    return Environment(key=base, prefix=base, name=f"python{version}", kind="installation", version=version, base_prefix=base)


def started(one: Environment) -> Interpreter:
    path = f"{one.prefix}/bin/python"
    return Interpreter(executable=path, real_executable=f"{one.base_prefix}/bin/python3", version=one.version,
                       implementation="cpython", prefix=one.prefix, base_prefix=one.base_prefix)  # fmt: skip


def seat(name: str, one: Environment | None, relation: str, kind: str = "kernel", strays: tuple = ()) -> Seat:
    if one is None:
        return Seat(seat=kind, name=name, relation=relation, reason="there is nothing at this path" if relation == "dead" else "it may not be asked")
    parts = [Part(role="python", word="python", interpreter=started(one), environment=one)]
    parts += [Part(role="installer", word="pip", interpreter=started(other), environment=other) for other in strays]
    return Seat(seat=kind, name=name, relation=relation, interpreter=started(one), environment=one, parts=parts)


def machine(chance: random.Random) -> tuple[list[Seat], list[Environment]]:
    """A reference and up to forty other seats, over environments of which some are broken or used by nobody."""
    known = [environment(number, chance.choice(["sound"] * 5 + ["moved"])) for number in range(chance.randint(1, 14))]
    known += [installation(number) for number in range(len(BASES))]
    seats = [seat("bash", known[0], "same", "shell")]
    for number in range(chance.randint(0, 40)):
        one = chance.choice([*known, None])
        kind = chance.choice(["kernel", "notebook", "notebook", "editor", "process"])
        relation = chance.choice(["dead", "unknown"]) if one is None else "same" if one is known[0] else "differs"
        strays = tuple(chance.sample(known, 1)) if chance.random() < 0.1 else ()
        seats.append(seat(f"{kind} {number}", one, relation, kind, strays))
    return seats, known


@pytest.mark.parametrize("seed", range(400 if LONG else 60))
def test_of_any_machine(seed):
    seats, known = machine(random.Random(seed))
    picture = draw_map(seats, known)
    boxes = {box.id: box for box in picture.boxes}
    assert len(boxes) == len(picture.boxes), "no two boxes of one name"
    for column in ("seat", "interpreter", ("environment", "reason")):
        standing = sorted((box for box in picture.boxes if box.column in column), key=lambda box: box.y)
        for upper, lower in zip(standing, standing[1:], strict=False):
            assert upper.y + upper.height <= lower.y, (upper, lower)
        for box in standing:
            assert box.x >= 0 and box.x + box.width <= picture.width and box.y >= 0 and box.y + box.height <= picture.height
    shown = [number for box in picture.boxes if box.column == "seat" for number in box.seats]
    assert sorted(shown) == list(range(len(seats))), "each seat stands once"
    assert {way.end for way in picture.ways} <= set(boxes) and all(boxes[way.start] for way in picture.ways)
    for kind in ("starts", "holds"):
        ways = [way for way in picture.ways if way.kind == kind]
        for number, way in enumerate(ways):
            start, end = boxes[way.start], boxes[way.end]
            assert start.x + start.width == way.x1 and end.x == way.x2, way
            assert start.y <= way.y1 <= start.y + start.height and end.y <= way.y2 <= end.y + end.height, way
            for other in ways[:number]:
                assert (way.y1 - other.y1) * (way.y2 - other.y2) >= 0, (way, other)
    # What a seat runs is at the end of its way: through its installation to its environment.
    for number, one in enumerate(seats):
        ends = [boxes[way.end].title for way in picture.ways if way.kind == "holds" and number in way.seats]
        assert [end.split("  ")[0] for end in ends] == ([one.environment.name] if one.environment else [])
    assert draw_map(seats, known) == picture
    assert draw_map(seats, known[::-1]) == picture, "in whatever order the environments were found"


def test_what_strays_is_drawn_near():
    """The row that a word strays to stands beside its seat's, though another came first."""
    home, other, far = (environment(number) for number in (0, 4, 8))
    seats = [seat("bash", home, "same", "shell", (far,)), seat("one", other, "differs"), seat("two", far, "differs")]
    rows = [box.title for box in sorted(draw_map(seats, []).boxes, key=lambda box: box.y) if box.column == "environment"]
    assert rows == ["hive-0", "hive-8", "hive-4"]
    (stray,) = [way for way in draw_map(seats, []).ways if way.kind == "strays"]
    assert stray.start == "seat-0" and stray.relation == "differs"


def test_many_alike_are_folded_and_none_is_lost():
    home = environment(0)
    seats = [seat("bash", home, "same", "shell"), *(seat(f"week_{number}", home, "same", "notebook") for number in range(30))]
    picture = draw_map(seats, [home, *(environment(4 * number) for number in range(1, 20))])
    folded = {box.title: box.folded for box in picture.boxes if box.folded}
    assert folded == {"and 26 more notebooks": 26, "and 15 more": 15}
    assert picture.height < 700
