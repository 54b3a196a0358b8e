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


def in_columns(values: Sequence[Json], say: Callable[[Json], str]) -> list[str]:
    """Values in words. Of lists and objects that are too long for a cell only what they differ in, and so of texts
    whose cells would look alike."""
    words = [say(value) for value in values]
    there = [value for value in values if value is not MISSING]
    different = [(a, b) for a, b in combinations(range(len(values)), 2) if not _is_same(values[a], values[b])]
    looks_alike = any(words[a] == words[b] for a, b in different)
    is_cut = all(isinstance(value, list | dict) for value in there) and any("…" in text for text in words)
    if len(there) < 2 or not different or not (looks_alike or is_cut):
        return words
    for type_, told in ((list, _entries), (dict, _members), (str, _texts)):
        if all(isinstance(value, type_) for value in there):
            rest = iter(told(there, say))
            return [say(value) if value is MISSING else next(rest) for value in values]
    return words


def _is_same(one: Json, other: Json) -> bool:
    return one is other if one is MISSING or other is MISSING else loose_digest(one) == loose_digest(other)


def _entries(values: Sequence[Json], say: Callable[[Json], str]) -> list[str]:
    """What each list has beyond what all of them have."""
    counts = [Counter(map(loose_digest, value)) for value in values]
    alike = counts[0]
    for one in counts[1:]:
        alike &= one
    told = []
    for value in values:
        left, own = Counter(alike), []
        for entry in value:
            if left[digest := loose_digest(entry)]:
                left[digest] -= 1
            else:
                own.append(say(entry))
        told.append(_with_rest(own, alike.total(), "entry", "entries"))
    return told


def _members(values: Sequence[Json], say: Callable[[Json], str]) -> list[str]:
    """What each object has beyond what all of them have."""
    first = values[0]
    alike = {name for name in first if all(_is_same(one.get(name, MISSING), first[name]) for one in values)}
    return [
        _with_rest([f"{n}: {say(v)}" for n, v in value.items() if n not in alike], len(alike), "member", "members")
        for value in values
    ]


def _with_rest(own: Sequence[str], count: int, one: str, many: str) -> str:
    rest = [f"{count} {one if count == 1 else many} alike"] if count else []
    return ", ".join([*own, *rest]) or "empty"


def _texts(values: Sequence[Json], say: Callable[[Json], str]) -> list[str]:
    """Each text from where they part."""
    alike = takewhile(lambda letters: len(set(letters)) == 1, zip(*values, strict=False))
    start = sum(1 for _ in alike) - _BEFORE
    return [say(f"…{value[start:]}" if start > 0 else value) for value in values]
