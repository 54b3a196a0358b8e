"""Dependencies: what has to be there before what."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from amphora.core.values.keys import Key

Uses = Mapping[Key, Iterable[Key]]


def in_order(uses: Uses) -> list[list[Key]]:
    """Groups of keys, used before user; a group of several is a cycle.

    Tarjan's algorithm without recursion: its components come out in topological order. Only keys of
    `uses` take part; the result depends on nothing but the graph.
    """
    number: dict[Key, int] = {}
    low: dict[Key, int] = {}
    on_path: dict[Key, None] = {}
    groups: list[list[Key]] = []
    # Sorted, here and below: the order of a docket's steps must not depend on how a dictionary was filled, or two
    # previews of one import would differ.
    for start in sorted(uses):
        if start in number:
            continue
        number[start] = low[start] = len(number)
        on_path[start] = None
        # A stack of our own: a chain of ten thousand items would be beyond Python's.
        work = [(start, iter(sorted(set(uses[start]))))]
        while work:
            key, rest = work[-1]
            # The iterator is kept beside the key, so that each edge is looked at once; looking anew from the start
            # each time would be the square of an item's references.
            step = next((used for used in rest if used in uses and _is_open(used, number, on_path)), None)
            if step is None:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[key])
                # The root of its group: all that lies above it on the path belongs to it.
                if low[key] == number[key]:
                    groups.append(_take(on_path, key))
            # Only what is still open counts: an edge into a finished group says nothing about this one.
            elif step in on_path:
                low[key] = min(low[key], number[step])
            else:
                number[step] = low[step] = len(number)
                on_path[step] = None
                work.append((step, iter(sorted(set(uses[step])))))
    return groups


def _is_open(used: Key, number: Mapping[Key, int], on_path: Mapping[Key, None]) -> bool:
    return used not in number or used in on_path


def _take(on_path: dict[Key, None], root: Key) -> list[Key]:
    group = []
    while True:
        key, _ = on_path.popitem()
        group.append(key)
        if key == root:
            return sorted(group)
