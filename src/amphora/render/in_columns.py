"""Values beside each other, so that one sees in what they differ."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from itertools import combinations, takewhile

from amphora.core.form.bindings import MISSING
from amphora.core.values.canon import loose_digest
from amphora.core.values.model import Json

_BEFORE = 8
"""So many letters are shown before the first one that differs."""


def in_columns(values: Sequence[Json], say: Callable[[Json], str], is_inner: bool = False) -> list[str]:
    """Values in words. Of lists and objects that are too long for a cell only what they differ in, and so of texts
    whose cells would look alike. How much is alike is counted, but for what is only a part (`is_inner`)."""
    words = [say(value) for value in values]
    there = [value for value in values if value is not MISSING]
    different = [(a, b) for a, b in combinations(range(len(values)), 2) if not _is_same(values[a], values[b])]
    looks_alike = any(words[a] == words[b] for a, b in different)
    is_cut = all(isinstance(value, list | dict) for value in there) and any("…" in text for text in words)
    if len(there) < 2 or not different or not (looks_alike or is_cut):
        return words
    for type_, told in ((list, _entries), (dict, _members), (str, _texts)):
        if all(isinstance(value, type_) for value in there):
            rest = iter(told(there, say, is_inner))
            return [say(value) if value is MISSING else next(rest) for value in values]
    return words


def _is_same(one: Json, other: Json) -> bool:
    return one is other if one is MISSING or other is MISSING else loose_digest(one) == loose_digest(other)


def _entries(values: Sequence[Json], say: Callable[[Json], str], is_inner: bool) -> list[str]:
    """What each list has beyond what all of them have; of lists that are as long as each other, and hold something
    that differs in its own parts, these."""
    if paired := _pairs(values):
        beside = {n: in_columns(some, say, True) for n, some in paired.items()}
        count = 0 if is_inner else len(values[0]) - len(paired)
        return [
            _with_rest([f"{n}: {words[column]}" for n, words in beside.items()], count, "entry", "entries")
            for column in range(len(values))
        ]
    counts = [Counter(map(loose_digest, value)) for value in values]
    alike = counts[0]
    for one in counts[1:]:
        # A new one: in place it would be the first list's own count.
        alike = alike & one
    if all(one == alike for one in counts):
        # Nothing but the order differs: from where they part.
        start = next(
            n for n, row in enumerate(zip(*values, strict=True)) if not all(_is_same(row[0], o) for o in row)
        )
        return [f"{f'from {start + 1}: ' if start else ''}{say(value[start:])}" for value in values]
    told = []
    for value in values:
        left, own = Counter(alike), []
        for entry in value:
            if left[digest := loose_digest(entry)]:
                left[digest] -= 1
            else:
                own.append(say(entry))
        told.append(_with_rest(own, 0 if is_inner else alike.total(), "entry", "entries"))
    return told


def _pairs(values: Sequence[Json]) -> dict[int, list[Json]]:
    """What stands in several lists at the same place and differs, by its place, counted from 1 as people do; nothing
    where one of these is no object in each, for then it may be that something was put in between."""
    if len({len(value) for value in values}) > 1:
        return {}
    rows = {n: list(row) for n, row in enumerate(zip(*values, strict=True), 1)}
    different = {n: row for n, row in rows.items() if not all(_is_same(row[0], one) for one in row)}
    is_moved = len({loose_digest(one) for row in different.values() for one in row}) < 2 * len(different)
    is_inner = all(isinstance(one, dict) and one.keys() & row[0].keys() for row in different.values() for one in row)
    return different if is_inner and not is_moved else {}


def _members(values: Sequence[Json], say: Callable[[Json], str], is_inner: bool) -> list[str]:
    """What each object has beyond what all of them have."""
    names = dict.fromkeys(name for value in values for name in value)
    rows = {name: [value.get(name, MISSING) for value in values] for name in names}
    different = {n: row for n, row in rows.items() if not all(_is_same(row[0], one) for one in row)}
    beside = {name: in_columns(row, say, True) for name, row in different.items()}
    count = 0 if is_inner else len(rows) - len(different)
    return [
        _with_rest(
            [f"{n}: {words[column]}" for n, words in beside.items() if different[n][column] is not MISSING],
            count,
            "member",
            "members",
        )
        for column in range(len(values))
    ]


def _with_rest(own: Sequence[str], count: int, one: str, many: str) -> str:
    rest = [f"{count} {one if count == 1 else many} alike"] if count else []
    return ", ".join([*own, *rest]) or "empty"


def _texts(values: Sequence[Json], say: Callable[[Json], str], _: bool) -> list[str]:
    """Each text from where they part."""
    alike = takewhile(lambda letters: len(set(letters)) == 1, zip(*values, strict=False))
    start = sum(1 for _ in alike) - _BEFORE
    return [say(f"…{value[start:]}" if start > 0 else value) for value in values]
