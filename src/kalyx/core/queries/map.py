"""The layout of the map: seats, interpreters, environments, and the lines between them, in pixels.

Seats are on the left, the installations that they start in the middle, environments on the right. Every environment is
a row of its installation's box; the seats that run it are at its height, so that the main lines go from left to right
and never cross. A word of a seat that starts another environment (an installer, say) has a line to another row: rows
are ordered so that few of these lines cross. Seats that start nothing, or are not known, are below.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from itertools import permutations
from typing import TypeVar

from msgspec import Struct

from kalyx.core.model.action_results import MapBox, MapWay, Picture
from kalyx.core.model.records import Environment, Interpreter, Relation, Seat
from kalyx.core.text.versions import minor_of, numbers_of

Item = TypeVar("Item")

# Heights: of a seat, between seats, between rows, of the columns' names, of a box's head, of a row.
SEAT, GAP, BLOCK, TOP, HEAD, ROOM = 30, 5, 14, 26, 44, 46
LEFT, MIDDLE, RIGHT = (0, 330), (470, 250), (860, 320)  # where each column begins, and how wide it is
WIDTH = RIGHT[0] + RIGHT[1]
_ORDER = ("shell", "program", "path", "server", "editor", "notebook", "kernel", "process")
# Groups that no installation makes: of seats that start nothing or are not known, of environments whose base is gone.
_NOTHING, _NOT_KNOWN, _GONE = "\0", "\1", "\2"
# More seats of one kind than these, in one row, are folded; so are environments that no seat starts.
_SEATS, _SHOWN, _UNUSED = 6, 4, 4


class _Row(Struct, eq=False):
    """An environment, or a reason why seats start none; with the seats at its height."""

    key: str
    environment: Environment | None
    message: str
    relation: Relation
    seats: list[int] = []


class _Group(Struct, eq=False):
    """An installation with its rows."""

    key: str
    title: str
    detail: str
    relation: Relation
    rows: list[_Row] = []


def draw_map(
    seats: list[Seat], environments: Iterable[Environment], meant: Mapping[int, Environment] | None = None
) -> Picture:
    """The map of these seats, the reference first, and of the environments that are known, used or not.

    ``meant``: by its place among the seats, the broken environment that a seat names which starts nothing.
    """
    known = {environment.key: environment for environment in sorted(environments, key=_newest_first)}
    drawn = _Drawn(known)
    for number, seat in enumerate(seats):
        named = (meant or {}).get(number)
        (drawn.row_of_environment(named, "dead") if named is not None else drawn.row_of(seat)).seats.append(number)
    strays = {(number, row.key): (number, row) for number, seat in enumerate(seats) for row in drawn.strays_of(seat)}
    for environment in known.values():
        if environment.kind != "installation" or environment.condition != "sound":
            drawn.row_of_environment(environment, "unknown")
    # An installation that no seat runs by itself needs no row.
    idle = [
        environment
        for environment in known.values()
        if environment.kind == "installation" and not drawn.has(environment)
    ]
    ordered = _ordered(list(drawn.groups.values()), [(drawn.row_with(number), row) for number, row in strays.values()])
    return _placed(seats, ordered, list(strays.values()), idle)


# -- what stands in which row -----------------------------------------------------------------------------------------


def _newest_first(environment: Environment) -> tuple[list[int], str]:
    return [-number for number in numbers_of(environment.version or "")], environment.prefix


def _key(path: str, version: str) -> str:
    """What tells a row or a group from others: a place, and the minor version that it is run by."""
    return f"{path} {minor_of(version) or version}"


class _Drawn:
    """The groups and rows so far. ``known``: each environment by its key as the survey judged it."""

    def __init__(self, known: Mapping[str, Environment]) -> None:
        self.groups: dict[str, _Group] = {}
        self.rows: dict[str, _Row] = {}
        self._known = known

    def row_of(self, seat: Seat) -> _Row:
        """The row of what the seat starts, or of why it starts nothing."""
        if seat.interpreter is not None and seat.environment is not None:
            return self.row_of_environment(seat.environment, seat.relation, seat.interpreter)
        dead = seat.relation == "dead"
        message = seat.reason or ("it starts nothing" if dead else "what it starts is not known")
        group = _NOTHING if dead else _NOT_KNOWN
        return self._row(
            f"{group}{message}", None, message, seat.relation, group, "nothing" if dead else "not known", ""
        )

    def strays_of(self, seat: Seat) -> list[_Row]:
        """The rows that words of a seat start next to the seat's own."""
        own = seat.environment.key if seat.environment is not None else None
        whole = [(part.environment, part.interpreter) for part in seat.parts]
        return [self.row_of_environment(environment, "differs", interpreter) for environment, interpreter in whole
                if environment is not None and interpreter is not None and environment.key != own]  # fmt: skip

    def row_of_environment(
        self, environment: Environment, relation: Relation, interpreter: Interpreter | None = None
    ) -> _Row:
        """The row of an environment, run by this interpreter, else by its own."""
        environment = self._known.get(environment.key, environment)
        version = interpreter.version if interpreter is not None else environment.version or ""
        key = _key(environment.key, version)
        if key not in self.rows and interpreter is None and environment.executable is None:
            return self._row(key, environment, environment.condition, "dead", _GONE, "gone",
                             "their base Python is gone")  # fmt: skip
        base = (interpreter.base_prefix if interpreter is not None else environment.base_prefix) or environment.prefix
        return self._row(key, environment, "", relation, _key(base, version), version, base)

    def has(self, installation: Environment) -> bool:
        """Whether an installation is drawn already, by itself or as the base of others."""
        version = installation.version or ""
        return _key(installation.key, version) in self.rows or _key(installation.prefix, version) in self.groups

    def row_with(self, number: int) -> _Row:
        """The row that a seat stands in."""
        return next(row for row in self.rows.values() if number in row.seats)

    def _row(
        self,
        key: str,
        environment: Environment | None,
        message: str,
        relation: Relation,
        group: str,
        title: str,
        detail: str,
    ) -> _Row:
        if key not in self.rows:
            apart: Relation = "dead" if group in (_NOTHING, _GONE) else "unknown"
            self.rows[key] = _Row(key=key, environment=environment, message=message, relation=relation)
            result = self.groups.setdefault(group, _Group(key=group, title=title, detail=detail, relation=apart))
            result.rows.append(self.rows[key])
        return self.rows[key]


# -- in which order --------------------------------------------------------------------------------------------------


def _ordered(groups: list[_Group], strays: list[tuple[_Row, _Row]]) -> list[_Group]:
    """The reference's own first, then what others start, what nobody does, what starts nothing; strays short."""
    last = {_NOTHING: 2, _NOT_KNOWN: 3, _GONE: 4}
    groups = sorted(groups, key=lambda group: last.get(group.key, 0 if any(row.seats for row in group.rows) else 1))
    for group in groups:
        group.rows.sort(key=lambda row: not row.seats)
    if not strays:
        return groups
    movable = [group for group in groups if group.key not in last]
    remainder = groups[len(movable) :]
    best = _least(movable, lambda order: _cost([row for group in order for row in group.rows], strays))
    for group in best:
        used = [row for row in group.rows if row.seats or any(row is end for _, end in strays)]
        unused = [row for row in group.rows if not any(row is item for item in used)]

        def cost(order: list[_Row], group: _Group = group, unused: list[_Row] = unused) -> int:
            return _cost([row for item in best for row in (order + unused if item is group else item.rows)], strays)

        group.rows = _least(used, cost) + unused
    return best + remainder


def _least(items: list[Item], cost: Callable[[list[Item]], int]) -> list[Item]:
    """The order with the least cost that keeps the first item first: of few items all are looked at, of many some."""
    first, others = items[:1], items[1:]
    if len(others) <= 5:
        return min(([*first, *order] for order in permutations(others)), key=cost)
    best, least = items, cost(items)
    for _ in range(len(others)):
        before = least
        for position in range(1, len(items) - 1):
            other = [*best[:position], best[position + 1], best[position], *best[position + 2 :]]
            if (result := cost(other)) < least:
                best, least = other, result
        if least == before:
            break
    return best


def _cost(rows: list[_Row], strays: list[tuple[_Row, _Row]]) -> int:
    """How many ways a straying one passes on its way to another row: what it must cross."""
    at = {id(row): number for number, row in enumerate(rows)}
    ends = [(at[id(row)], at[id(other)]) for row, other in strays if id(row) in at and id(other) in at]
    passed = sum(
        len(rows[between].seats)
        for number, other in ends
        for between in range(min(number, other) + 1, max(number, other))
    )
    crossed = sum((a[0] - b[0]) * (a[1] - b[1]) < 0 for i, a in enumerate(ends) for b in ends[:i])
    return passed + crossed


# -- and where -------------------------------------------------------------------------------------------------------


def _placed(
    seats: list[Seat], groups: list[_Group], strays: list[tuple[int, _Row]], idle: list[Environment]
) -> Picture:
    picture = Picture(width=WIDTH, height=0)
    middle: dict[str, int] = {}  # of each row, the height its ways enter at
    home: dict[str, str] = {}  # and the box that it is a row of
    stands: dict[int, MapBox] = {}  # of each seat, its box
    places = {row.key: number for number, row in enumerate(row for group in groups for row in group.rows)}
    y = TOP
    for index, group in enumerate(groups):
        top, y = y, y + HEAD
        shown, hidden = _shown_rows(group, {row.key for _, row in strays})
        for row in shown:
            boxes = _seat_boxes(seats, row, y, strays, places)
            height = max(len(boxes) * (SEAT + GAP) - GAP, ROOM)
            offset = (height - (len(boxes) * (SEAT + GAP) - GAP)) // 2
            for box in boxes:
                box.y += offset
                stands |= dict.fromkeys(box.seats, box)
            picture.boxes += boxes
            middle[row.key], home[row.key] = y + height // 2, f"group-{index}"
            _environment(picture, row, y + (height - ROOM) // 2, f"group-{index}", middle[row.key])
            picture.ways += [_way(box, f"group-{index}", middle[row.key], box.relation) for box in boxes]
            y += height + BLOCK
        if hidden:
            names = ", ".join(row.environment.name for row in hidden[:3] if row.environment is not None)
            more = "" if len(hidden) <= 3 else " and others"
            picture.boxes.append(MapBox(id=f"more-{index}", column="environment", title=f"and {len(hidden)} more",
                                        detail=names + more, relation="unknown", x=RIGHT[0], y=y, width=RIGHT[1],
                                        height=ROOM, folded=len(hidden)))  # fmt: skip
            y += ROOM + BLOCK
        picture.boxes.append(MapBox(id=f"group-{index}", column="interpreter", title=group.title, detail=group.detail,
                                    relation=group.relation, x=MIDDLE[0], y=top, width=MIDDLE[1],
                                    height=y - BLOCK - top + 6))  # fmt: skip
        y += BLOCK
    for number, row in strays:
        if number in stands and row.key in middle:
            way = _way(stands[number], home[row.key], middle[row.key] + 7, "differs")
            way.id, way.kind = f"stray-{number}-{row.key}", "strays"
            picture.ways.append(way)
    if idle:
        versions = ", ".join(environment.version or "?" for environment in idle)
        word = "interpreter" if len(idle) == 1 else "interpreters"
        picture.boxes.append(MapBox(id="idle", column="interpreter", title=f"{len(idle)} more {word}", detail=versions,
                                    relation="unknown", x=MIDDLE[0], y=y, width=MIDDLE[1], height=HEAD,
                                    folded=len(idle)))  # fmt: skip
        y += HEAD + BLOCK
    picture.height = max(y - BLOCK, SEAT)
    return picture


def _shown_rows(group: _Group, wanted: set[str]) -> tuple[list[_Row], list[_Row]]:
    """The rows drawn, and those folded into one: of what no seat starts only the first few."""
    used = [row for row in group.rows if row.seats or row.key in wanted]
    unused = [row for row in group.rows if not row.seats and row.key not in wanted]
    if len(unused) <= _UNUSED + 1:
        return used + unused, []
    return used + unused[:_UNUSED], unused[_UNUSED:]


def _seat_boxes(
    seats: list[Seat], row: _Row, y: int, strays: list[tuple[int, _Row]], places: dict[str, int]
) -> list[MapBox]:
    """The boxes of a row's seats: by kind, those that stray upwards first and downwards last; many of a kind in one."""

    def lean(number: int) -> int:
        ends = [places[other.key] - places[row.key] for item, other in strays if item == number]
        return (sum(ends) > 0) - (sum(ends) < 0)

    def order(number: int) -> tuple[int, int, int]:
        kind = seats[number].seat
        return lean(number), (_ORDER.index(kind) if kind in _ORDER else len(_ORDER)) if number else -1, number

    chosen = sorted(row.seats, key=order)
    straying = {number for number, _ in strays}
    boxes: list[MapBox] = []
    for kind in dict.fromkeys((lean(number), seats[number].seat, seats[number].relation) for number in chosen):
        alike = [number for number in chosen
                 if (lean(number), seats[number].seat, seats[number].relation) == kind]  # fmt: skip
        fold = len(alike) > _SEATS and not straying & set(alike)
        for number in alike[: _SHOWN if fold else len(alike)]:
            seat = seats[number]
            boxes.append(_seat_box(f"seat-{number}", seat.seat, seat.name, seat.relation, [number]))
        if fold:
            remainder = alike[_SHOWN:]
            words = "processes" if kind[1] == "process" else f"{kind[1]}s"
            boxes.append(
                _seat_box(f"seats-{remainder[0]}", kind[1], f"and {len(remainder)} more {words}", kind[2], remainder)
            )
    for position, box in enumerate(boxes):
        box.y = y + position * (SEAT + GAP)
    return boxes


def _seat_box(identifier: str, kind: str, name: str, relation: Relation, seats: list[int]) -> MapBox:
    return MapBox(id=identifier, column="seat", title=name, detail=kind, relation=relation, x=LEFT[0], y=0,
                  width=LEFT[1], height=SEAT, seats=seats, folded=len(seats) if len(seats) > 1 else 0)  # fmt: skip


def _environment(picture: Picture, row: _Row, y: int, group: str, enters: int) -> None:
    """The environment's box and the way to it, or what is said in its place."""
    environment = row.environment
    if environment is None:
        picture.boxes.append(MapBox(id=f"row-{len(picture.boxes)}", column="reason", title=row.message, detail="",
                                    relation=row.relation, x=RIGHT[0], y=y, width=RIGHT[1], height=ROOM,
                                    seats=list(row.seats)))  # fmt: skip
        return
    sound = environment.condition == "sound"
    title = environment.name if sound else f"{environment.name}  {environment.condition}"
    box = MapBox(id=f"row-{len(picture.boxes)}", column="environment", title=title, detail=environment.prefix,
                 relation=row.relation if sound else "dead", x=RIGHT[0], y=y, width=RIGHT[1], height=ROOM,
                 seats=list(row.seats))  # fmt: skip
    picture.boxes.append(box)
    relation = row.relation if row.seats else "unknown"
    picture.ways.append(MapWay(id=f"holds-{box.id}", kind="holds", relation=relation, seats=list(row.seats),
                               x1=MIDDLE[0] + MIDDLE[1], y1=enters, x2=RIGHT[0], y2=y + ROOM // 2, start=group,
                               end=box.id))  # fmt: skip


def _way(box: MapBox, group: str, enters: int, relation: Relation) -> MapWay:
    return MapWay(id=f"way-{box.id}", kind="starts", relation=relation, seats=box.seats, x1=LEFT[0] + LEFT[1],
                  y1=box.y + SEAT // 2, x2=MIDDLE[0], y2=enters, start=box.id, end=group)  # fmt: skip
