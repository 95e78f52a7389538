"""How near two words are, and the words of a label."""

from __future__ import annotations

from collections.abc import Iterable


def distance(word: str, other: str, limit: int) -> int:
    """Letters to add, drop, change or swap between two words; ``limit + 1`` when it is more."""
    if abs(len(word) - len(other)) > limit:
        return limit + 1
    before: list[int] = []
    row = list(range(len(other) + 1))
    for i, a in enumerate(word, 1):
        following = [i]
        for j, b in enumerate(other, 1):
            cost = min(row[j] + 1, following[j - 1] + 1, row[j - 1] + (a != b))
            if i > 1 and j > 1 and a == other[j - 2] and word[i - 2] == b:
                cost = min(cost, before[j - 2] + 1)
            following.append(cost)
        if min(following) > limit:
            return limit + 1
        before, row = row, following
    return row[-1]


def words_of(text: str) -> list[str]:
    """The lower-case words of a label or an id: runs of letters and digits."""
    return "".join(c.lower() if c.isalnum() or c == "." else " " for c in text).split()


def ranked(word: str, names: Iterable[str], prefix: str = "", limit: int = 3) -> list[str]:
    """Names nearest to a word first: those that contain it, then those a few letters away, of a short word fewer."""
    low = word.lower()
    limit = min(limit, (len(low) + 2) // 3)
    scored = []
    for name in dict.fromkeys(names):
        far = 0 if low in name.lower() or name.lower() in low else distance(low, name.lower(), limit)
        if far <= limit:
            scored.append((far, name))
    return [prefix + name for _, name in sorted(scored)][:5]
