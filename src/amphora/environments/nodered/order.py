"""Where nodes stand in a flow file: what is taken back finds its old place, and tabs keep the order of home.

Told by neighbours, and not by numbers: somebody's new tab at the end is no change of the others.
"""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable, Mapping, Sequence
from itertools import pairwise
from typing import Any

from amphora.core.values.model import Json

Node = dict[str, Any]

PLACE = "_place"
"""The member that tells it: written with definitions, and never to a runtime."""

Change = tuple[Sequence[Node], Sequence[Node]]
"""The nodes of an item as they are there (none for a new one), and from now on."""


def rewritten(flows: Sequence[Node], changes: Sequence[Change]) -> list[Node]:
    """The flow file with the nodes of some items replaced. What stays keeps its place: people see the order."""
    mine = {str(node["id"]) for old, _ in changes for node in old}
    fresh = {str(node["id"]): node for _, new in changes for node in new}
    # In place where it stays: a diff of the file shows what changed and nothing else.
    stay = [fresh.pop(id_, node) for node in flows if (id_ := str(node["id"])) not in mine or id_ in fresh]
    order = _Order(stay)
    named = {_hint(str(node["id"])): str(node["id"]) for node in stay}
    named |= {_own_hint(node): id_ for id_, node in fresh.items()}
    placeless = {id_ for id_, node in fresh.items() if PLACE not in node}
    spots = {id_: _spot(node, named, placeless, order.first) for id_, node in fresh.items()}
    # Several may have stood behind one that is new as well: they are inserted with it.
    beside: dict[str | None, list[str]] = {}
    for id_, spot in spots.items():
        beside.setdefault(spot, []).append(id_)
    for id_, spot in spots.items():
        if spot is not None and spot in order:
            order.insert(id_, spot, beside)
    # Of several new tabs the first one stays the first: those behind it find their place beside it.
    waits = {id_ for id_, spot in spots.items() if spot in fresh}
    for _, new in sorted(changes, key=lambda change: any(str(node["id"]) in waits for node in change[1])):
        ids = [str(node["id"]) for node in new]
        # Nobody's neighbour is here: behind its siblings, so that a diff of the file shows nothing but what came.
        last = order.last_of(ids)
        for id_ in (one for one in ids if one not in order):
            order.insert(id_, last, beside)
            last = id_
    nodes = {str(node["id"]): node for node in stay} | fresh
    return [{n: v for n, v in nodes[id_].items() if n != PLACE} for id_ in order.ids()]


class _Order:
    """The ids of a file as a chain, which begins with an empty one: of thousands each is inserted at once."""

    def __init__(self, nodes: Sequence[Node]) -> None:
        ids = ["", *(str(node["id"]) for node in nodes)]
        # By who follows: a list would move thousands of nodes for each one that comes.
        self._next = dict(zip(ids, [*ids[1:], ""], strict=True))
        self._number = {id_: number for number, id_ in enumerate(ids)}
        self._last = ids[-1]

    @property
    def first(self) -> str:
        return self._next[""]

    def __contains__(self, id_: str) -> bool:
        return id_ in self._next

    def insert(self, id_: str, after: str | None, beside: Mapping[str | None, Sequence[str]]) -> None:
        """Behind another one (None: at the end), and behind it those that waited for it."""
        todo = [(id_, self._last if after is None else after)]
        while todo:
            one, spot = todo.pop()
            # A node is inserted once, whichever way leads to it.
            if one in self:
                continue
            self._next[one], self._next[spot] = self._next[spot], one
            self._last = one if spot == self._last else self._last
            todo += [(other, one) for other in beside.get(one, ())]

    def last_of(self, ids: Iterable[str]) -> str | None:
        """The one of these that stood last in the file before anything was inserted; None if none did."""
        return max((id_ for id_ in ids if id_ in self._number), key=self._number.__getitem__, default=None)

    def ids(self) -> Iterable[str]:
        """All of them."""
        id_ = self.first
        while id_:
            yield id_
            id_ = self._next[id_]


def _spot(node: Node, named: Mapping[str, str], placeless: Collection[str], first: str) -> str | None:
    """The id behind which a node stood in the file that it comes from: empty for the first of all, if what came
    behind it is the first one now; None where nobody knows. `placeless` are new ones that may end up anywhere."""
    place = node.get(PLACE)
    if not isinstance(place, dict):
        return None
    if "after" in place:
        after, tab = (named.get(str(place.get(name))) for name in ("after", "tab"))
        # Tabs among other nodes: what stood right before one stays at home, as a connection does, or comes without a
        # place of its own.
        return tab if tab is not None and (after is None or after in placeless) else after
    return "" if place.get("before") == _hint(first) else None


def _hint(id_: str) -> str:
    """What a neighbour is known by. Not its id: a node that stands behind another one uses nothing of it."""
    return hashlib.sha256(id_.encode()).hexdigest()[:8] if id_ else ""


def _own_hint(node: Node) -> str:
    """What those behind it know a node by: its id where it comes from, which may have been taken here."""
    place = node.get(PLACE)
    own = place.get("own") if isinstance(place, dict) else None
    return str(own or _hint(str(node["id"])))


def places_of(flows: Sequence[Node]) -> dict[str, Json]:
    """Where each node stands: behind which other one; the first of all, before which."""
    ids = [str(node["id"]) for node in flows]
    # Nothing that changes when somebody adds another tab at the end: that would be no change of this one.
    behind: dict[str, dict[str, Json]] = {id_: {"after": _hint(other)} for other, id_ in pairwise(ids)}
    places: dict[str, dict[str, Json]] = (
        {ids[0]: {"before": _hint(ids[1]) if len(ids) > 1 else ""}, **behind} if ids else behind
    )
    tabs = [str(node["id"]) for node in flows if node.get("type") == "tab"]
    for other, id_ in pairwise(tabs):
        if places[id_].get("after") != _hint(other):
            places[id_]["tab"] = _hint(other)
    return {id_: {"own": _hint(id_), **place} for id_, place in places.items()}
