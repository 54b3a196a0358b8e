"""Merging texts line by line: what two sides changed in different lines comes together, the rest is a clash.

The differences are found by the greedy algorithm of E. Myers ("An O(ND) Difference Algorithm and Its
Variations", Algorithmica 1, 1986). Groups of changed lines that could stand in several places are slid
as far down as they go, or to where the other side has a change too, so that equal edits are found equal.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from amphora.core.values.late import dataclass

MOST_EDITS = 4_000
"""Texts that differ in more lines than this are not merged: they are different texts."""


@dataclass(frozen=True)
class Hunk:
    """Lines `start` to `end` (not with it) of the base become `lines`."""

    start: int
    end: int
    lines: tuple[str, ...]


def merge_texts(base: str, ours: str, theirs: str) -> str | None:
    """The text with the changes of both sides; None where they touch the same or neighbouring lines."""
    old, one, two = (_lines(text) for text in (base, ours, theirs))
    mine, other = line_hunks(old, one), line_hunks(old, two)
    # Too different to be versions of one text: a merge by accident of equal lines would be worse than a question.
    if mine is None or other is None:
        return None
    result: list[str] = []
    position = 0
    for hunk in _joined(old, mine, other):
        if hunk is None:
            return None
        result += old[position : hunk.start]
        result += hunk.lines
        position = hunk.end
    return "".join(result + old[position:])


def line_hunks(old: Sequence[str], new: Sequence[str]) -> list[Hunk] | None:
    """What changed from one list of lines to another, in order; None beyond `MOST_EDITS`."""
    flags = _changed(old, new)
    if flags is None:
        return None
    gone, added = flags
    # Both ways: what slides in the old text are the removals, in the new one the additions.
    _slide(old, gone, added)
    _slide(new, added, gone)
    return list(_hunks(new, gone, added))


def _lines(text: str) -> list[str]:
    """The lines with their ends; only line feeds end a line."""
    # Not splitlines(): it also breaks at form feeds and U+2028, which stand inside a line for git and for editors.
    # The last line may lack its end: "a" and "a\n" are different texts, and the difference has to come through.
    *whole, last = text.split("\n")
    return [line + "\n" for line in whole] + ([last] if last else [])


def _joined(old: Sequence[str], mine: list[Hunk], other: list[Hunk]) -> Iterator[Hunk | None]:
    """The hunks of both in order; None for a clash. Hunks that touch are one region: it has to come out
    the same on both sides."""
    while mine and other:
        # Strictly before: hunks that only touch are one region, as for git. Two people who wrote on either side of
        # one line break may well mean the same place.
        if mine[0].end < other[0].start:
            yield mine.pop(0)
        elif other[0].end < mine[0].start:
            yield other.pop(0)
        else:
            # A region grows until no hunk of either side touches it any more: three edits in a row may hang together
            # only through the middle one.
            start, end = min(mine[0].start, other[0].start), max(mine[0].end, other[0].end)
            ours, theirs = [mine.pop(0)], [other.pop(0)]
            while True:
                if mine and mine[0].start <= end:
                    ours.append(mine.pop(0))
                elif other and other[0].start <= end:
                    theirs.append(other.pop(0))
                else:
                    break
                end = max(end, ours[-1].end, theirs[-1].end)
            one, two = (_applied(old, hunks, start, end) for hunks in (ours, theirs))
            # Equal results count as agreement even if the hunks were cut differently.
            yield Hunk(start, end, one) if one == two else None
    yield from mine
    yield from other


def _applied(old: Sequence[str], hunks: list[Hunk], start: int, end: int) -> tuple[str, ...]:
    result: list[str] = []
    for hunk in hunks:
        result += old[start : hunk.start]
        result += hunk.lines
        start = hunk.end
    return (*result, *old[start:end])


def _changed(old: Sequence[str], new: Sequence[str]) -> tuple[list[bool], list[bool]] | None:
    """Which lines of each side are not common to both."""
    # Equal beginnings and ends are cut off first: most texts differ in a few lines, and what follows costs the
    # product of length and edits.
    head = 0
    while head < min(len(old), len(new)) and old[head] == new[head]:
        head += 1
    tail = 0
    while tail < min(len(old), len(new)) - head and old[-1 - tail] == new[-1 - tail]:
        tail += 1
    trail = _trail(old[head : len(old) - tail], new[head : len(new) - tail])
    if trail is None:
        return None
    gone, added = [False] * len(old), [False] * len(new)
    # Flags per line instead of ready hunks, because sliding moves the borders of groups, and two groups may grow
    # together.
    for x, y, is_gone in trail:
        if is_gone:
            gone[head + x] = True
        else:
            added[head + y] = True
    return gone, added


def _trail(old: Sequence[str], new: Sequence[str]) -> list[tuple[int, int, bool]] | None:
    """The shortest list of edits: (position in old, position in new, whether old's line goes)."""
    # Myers, figure 2: the furthest point on each diagonal that so many edits reach. What was reached with one edit
    # less is kept, so that the way back can be found.
    furthest = {1: 0}
    past: list[dict[int, int]] = []
    for edits in range(min(len(old) + len(new), MOST_EDITS) + 1):
        # A copy for each number of edits: the square of the edits in memory, which MOST_EDITS bounds. Walking back
        # from the end alone would need the linear-space variant of section 4b, twice the code for texts that nobody
        # merges.
        past.append(dict(furthest))
        for diagonal in range(-edits, edits + 1, 2):
            # On a tie the deletion comes first, as git has it: else equal edits of both sides would come out as
            # different hunks, and a clash.
            goes_down = diagonal == -edits or (diagonal != edits and furthest[diagonal - 1] < furthest[diagonal + 1])
            x = furthest[diagonal + 1] if goes_down else furthest[diagonal - 1] + 1
            y = x - diagonal
            while x < len(old) and y < len(new) and old[x] == new[y]:
                x, y = x + 1, y + 1
            furthest[diagonal] = x
            if x >= len(old) and y >= len(new):
                return _back(past, x, y)
    return None


def _back(past: list[dict[int, int]], x: int, y: int) -> list[tuple[int, int, bool]]:
    steps = []
    # The same question as on the way there, asked of what was reached with one edit less: the answer must be the
    # same, or the way back leads elsewhere.
    for edits in range(len(past) - 1, 0, -1):
        before, diagonal = past[edits], x - y
        goes_down = diagonal == -edits or (diagonal != edits and before[diagonal - 1] < before[diagonal + 1])
        diagonal += 1 if goes_down else -1
        x = before[diagonal]
        y = x - diagonal
        steps.append((x, y, not goes_down))
    return steps[::-1]


def _slide(lines: Sequence[str], flags: list[bool], others: list[bool]) -> None:
    """Moves each group of changed lines as far down as it goes, or to the last place where the other side
    has changed lines too."""
    gaps = _gaps(others)
    position = unchanged = 0
    while position < len(lines):
        if not flags[position]:
            position, unchanged = position + 1, unchanged + 1
            continue
        start, end = position, position
        # Up first, as far as it goes, joining the groups that it meets; then down. One that was joined begins anew,
        # because it may now be able to move further.
        while True:
            while end < len(lines) and flags[end]:
                end += 1
            while start > 0 and not flags[start - 1] and lines[start - 1] == lines[end - 1]:
                start, end, unchanged = start - 1, end - 1, unchanged - 1
                flags[start], flags[end] = True, False
            is_joined = False
            while start > 0 and flags[start - 1]:
                start, is_joined = start - 1, True
            if not is_joined:
                break
        # A group that can stand beside a change of the other side is put there: one replacement reads better than a
        # removal and an addition some lines apart, and merges as one.
        matching = (start, end, unchanged) if unchanged in gaps else None
        while end < len(lines) and not flags[end] and lines[start] == lines[end]:
            flags[start], flags[end] = False, True
            start, end, unchanged = start + 1, end + 1, unchanged + 1
            while end < len(lines) and flags[end]:
                end += 1
            if unchanged in gaps:
                matching = (start, end, unchanged)
        # Only if it still is the same group: one that has joined another on the way down is longer, and its place
        # beside the other side's change is gone.
        if matching is not None and matching[0] < start and matching[1] - matching[0] == end - start:
            while start > matching[0]:
                start, end, unchanged = start - 1, end - 1, unchanged - 1
                flags[start], flags[end] = True, False
        position = end


def _gaps(flags: Sequence[bool]) -> set[int]:
    """After how many unchanged lines there are changed ones."""
    found, unchanged = set(), 0
    for is_changed in flags:
        if is_changed:
            found.add(unchanged)
        else:
            unchanged += 1
    return found


def _hunks(new: Sequence[str], gone: Sequence[bool], added: Sequence[bool]) -> Iterator[Hunk]:
    x = y = 0
    while x < len(gone) or y < len(added):
        start, first = x, y
        while x < len(gone) and gone[x]:
            x += 1
        while y < len(added) and added[y]:
            y += 1
        if x > start or y > first:
            yield Hunk(start, x, tuple(new[first:y]))
        x, y = x + 1, y + 1
