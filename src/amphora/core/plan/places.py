"""Places that have to be free: items that swap folders, and chains of moves, go in without a clash."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from amphora.core.plan.steps import Move
from amphora.core.values.keys import Key, decode_segment, kind_of, path_of
from amphora.core.values.model import Listed, States

Place = tuple[str, str, str]
"""Kind, folder, name: where many platforms allow one item only."""


def place_of(row: Listed) -> Place:
    """Where an item stands."""
    return row.kind, row.states.folder, row.segments[-1] if row.segments else row.states.title


def new_place(key: Key, states: States) -> Place:
    """Where an item will stand that isn't there yet."""
    return kind_of(key), states.folder, decode_segment(path_of(key).rpartition("/")[2])


ASIDE = "amphora-aside"
"""The folder in which an item waits while others change places; it is empty again when the run is done."""


def moves_first(held: Mapping[Key, Place], wanted: Mapping[Key, Place], leaving: Collection[Key]) -> list[Move]:
    """The moves after which every wanted place is free for the item that wants it. `held` are the places of
    all that is there, `wanted` those of what will be written, `leaving` the items that will go.

    Nothing is moved that stands in nobody's way. Holders that nobody moves are left alone: that is a name
    which is taken, and the gate says so.
    """
    # Simulated on the side: a move is only written down once its destination is known to be free.
    by_place = {place: key for key, place in held.items()}
    now = dict(held)
    moves: list[Move] = []
    waiting = [
        key for key in _in_the_way(by_place, wanted) if key in leaving or wanted.get(key, now[key]) != now[key]
    ]
    while waiting:
        # What will be removed anyway never moves to a place of its own: it would be a change that nobody wanted.
        ready = next((key for key in waiting if key not in leaving and by_place.get(wanted[key], key) == key), None)
        # Those whose place is free first: every move out of the way may free the next place, and only a true circle
        # costs a move aside.
        key = waiting[0] if ready is None else ready
        kind, _, name = now[key]
        # A circle has no free place to begin with, and what will go has none of its own: both wait aside.
        folder = f"{ASIDE}/{len(moves) + 1}" if ready is None else wanted[key][1]
        del by_place[now[key]]
        now[key] = (kind, folder, name)
        by_place[now[key]] = key
        moves.append(Move((key,), folder))
        waiting.remove(key)
    return moves


def taken(held: Mapping[Key, Place], wanted: Mapping[Key, Place], leaving: Collection[Key]) -> list[tuple[Key, Key]]:
    """The items that would get the place of another one that stays: (item, the other)."""
    by_place = {place: key for key, place in held.items()}
    found = []
    for key, place in sorted(wanted.items()):
        holder = by_place.get(place, key)
        # A holder that moves away frees the place: `moves_first` sees to it that it does so in time.
        stays = holder != key and holder not in leaving and wanted.get(holder, place) == place
        # Where an item already stands two may stand: the platform has let them.
        if stays and held.get(key) != place:
            found.append((key, holder))
    return found


def _in_the_way(by_place: Mapping[Place, Key], wanted: Mapping[Key, Place]) -> list[Key]:
    """The holders of places that others want, in the order of those."""
    found = (by_place.get(place, key) for key, place in sorted(wanted.items()))
    return [holder for holder, key in zip(found, sorted(wanted), strict=True) if holder != key]
