"""Changing one value in a JSON text and leaving every other byte as it is.

The text is never written again from its values. The standard decoder gives the
positions of the members, and only the text of the changed value is replaced; a
new member gets the layout of its neighbours.
"""

from __future__ import annotations

import json

from msgspec import Struct

_BLANKS = " \t\r\n"


class Edit(Struct, frozen=True):
    """Replace the characters from ``start`` to ``end`` by ``text``."""

    start: int
    end: int
    text: str


class Member(Struct, frozen=True):
    """A member of an object: its key, where the key begins, and where its value stands."""

    key: str
    begin: int
    start: int
    end: int


def apply(text: str, edits: list[Edit]) -> tuple[str, list[Edit]]:
    """The text with the edits made, and the edits that undo them."""
    back, shift = [], 0
    out, at = [], 0
    for edit in sorted(edits, key=lambda item: item.start):
        out += [text[at : edit.start], edit.text]
        begin = edit.start + shift
        back.append(Edit(begin, begin + len(edit.text), text[edit.start : edit.end]))
        shift += len(edit.text) - (edit.end - edit.start)
        at = edit.end
    return "".join([*out, text[at:]]), back


def members(text: str, start: int) -> list[Member]:
    """The members of the object that begins at ``start``, in their order. Raises ValueError for what is no object."""
    if text[start : start + 1] != "{":
        raise ValueError("no object stands there")
    decoder, at = json.JSONDecoder(), start + 1
    result: list[Member] = []
    while True:
        at = past_blanks(text, at)
        if text[at : at + 1] == "}":
            return result
        if text[at : at + 1] == ",":
            at = past_blanks(text, at + 1)
        begin = at
        if text[at : at + 1] != '"':
            raise ValueError(f"no key at character {at}")
        key, at = decoder.raw_decode(text, at)
        at = past_blanks(text, at)
        if text[at : at + 1] != ":":
            raise ValueError(f"no colon at character {at}")
        value = past_blanks(text, at + 1)
        _, at = decoder.raw_decode(text, value)
        result.append(Member(key, begin, value, at))


def past_blanks(text: str, at: int) -> int:
    """The first position from here that is no blank."""
    while at < len(text) and text[at] in _BLANKS:
        at += 1
    return at


def last(members: list[Member], key: str) -> Member | None:
    """The member that counts where a key stands twice."""
    return next((member for member in reversed(members) if member.key == key), None)


def set_members(text: str, container: Member, wanted: dict[str, str]) -> list[Edit]:
    """The edits that give members of the object at ``container`` these texts; those that lack are put in at its end."""
    there = members(text, container.start)
    edits = []
    new = dict(wanted)
    for key, value in wanted.items():
        member = last(there, key)
        if member is not None:
            del new[key]
            if json.loads(text[member.start : member.end]) != value:
                edits.append(Edit(member.start, member.end, json.dumps(value, ensure_ascii=False)))
    if new:
        texts = {key: json.dumps(value, ensure_ascii=False) for key, value in new.items()}
        edits.append(_appended(text, container, there, texts))
    return edits


def put_object(text: str, container: Member, key: str, values: dict[str, str]) -> Edit:
    """The edit that puts an object of texts under a new ``key`` into the object at ``container``."""
    there = members(text, container.start)
    outer = _layout(text, container, there)
    unit = _unit(text, outer)
    inner = outer + unit if "\n" in outer else ""
    gap = " " if ": " in text[container.start : container.end] or "\n" in outer else ""
    rows = [f"{json.dumps(name)}:{gap}{json.dumps(value, ensure_ascii=False)}" for name, value in values.items()]
    body = ("," + (inner or gap)).join(rows)
    whole = "{" + inner + body + (outer if inner else "") + "}"
    return _appended(text, container, there, {key: whole})


def append_texts(text: str, values: dict[str, str]) -> Edit:
    """The edit that puts texts under new keys at the end of the outermost object."""
    start = past_blanks(text, 1 if text[:1] == "\ufeff" else 0)
    there = members(text, start)
    _, end = json.JSONDecoder().raw_decode(text, start)
    texts = {key: json.dumps(value, ensure_ascii=False) for key, value in values.items()}
    return _appended(text, Member("", start, start, end), there, texts)


def _appended(text: str, container: Member, there: list[Member], new: dict[str, str]) -> Edit:
    outer = _layout(text, container, there)
    gap = " " if there and text[there[-1].start - 1 : there[-1].start] == " " or not there else ""
    rows = [f"{json.dumps(key)}:{gap}{value}" for key, value in new.items()]
    joined = ("," + (outer or gap)).join(rows)
    if there:
        return Edit(there[-1].end, there[-1].end, "," + (outer or gap) + joined)
    closing = _closing(text, container) if "\n" in outer else ""
    return Edit(container.start, container.end, "{" + outer + joined + closing + "}")


def _layout(text: str, container: Member, there: list[Member]) -> str:
    """The blanks that stand before each member of an object: as before its first, or one step further in."""
    if there:
        return text[container.start + 1 : there[0].begin]
    closing = _closing(text, container)
    return closing + _unit(text, closing) if "\n" in closing else ""


def _closing(text: str, container: Member) -> str:
    """The line break and indentation of the line that the object's key is in."""
    begin = container.begin
    while begin > 0 and text[begin - 1] in _BLANKS:
        begin -= 1
    return text[begin : container.begin]


def _unit(text: str, blanks: str) -> str:
    """One step of indentation, as the whole text has it."""
    first = members(text, past_blanks(text, 1 if text[:1] == "\ufeff" else 0))
    if not first or "\n" not in blanks:
        return ""
    start = text.index("{")
    return text[start + 1 : first[0].begin].rpartition("\n")[2]
