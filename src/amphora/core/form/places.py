"""Places of a kind sheet, compiled: which role does this spot of a definition play?

Paths are RFC 9535 JSONPath. Names, indices and wildcards become one automaton that is walked along with
the document; other selectors (filters, slices, descendants) are answered by the library, document by document.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import field, fields, replace
from functools import cache, cached_property, lru_cache
from typing import Any

from amphora.core.form.refers import Refer
from amphora.core.values.digits import is_number
from amphora.core.values.errors import SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import parse_pointer

Step = str | None
"""One step of a simple path: a member name or index as text, or None for every child."""


@dataclass(frozen=True, slots=True)
class PartOf:
    """A place at which the id of a part stands: of the item that the member `of` beside it names, or of the item
    itself. Of its definition `parts` are the parts, `id` and `name` where in one these stand. Where `is_alone` no two
    such places may name one part, not even for a moment."""

    of: str
    parts: str
    id: str
    name: str
    is_alone: bool = False

    @staticmethod
    def is_none(name: Any) -> bool:
        """Whether this stands for no part: many platforms write 0 where there is none."""
        return not isinstance(name, str) or name in ("", "0")

    @property
    def is_own(self) -> bool:
        """Whether it is a part of the item itself."""
        return not self.of

    def ids_in(self, definition: Any) -> dict[str, Any]:
        """The ids of the parts, as the platform writes them, by their names; several of one name are numbered."""
        found: dict[str, Any] = {}
        for part in values_at(definition, self.parts):
            id_, name = (next(iter(values_at(part, path)), None) for path in (self.id, self.name))
            # As texts: a platform may call its parts by numbers. What has no name goes by its place.
            called = name = f"({len(found) + 1})" if name in (None, "") else str(name)
            count = 1
            while called in found:
                count += 1
                called = f"{name} ({count})"
            # One that has no id yet counts all the same: the names of those behind it stay what they are.
            found[called] = id_
        return found

    def names_in(self, form: Any) -> set[str]:
        """The names of the parts of such an item."""
        return set(self.ids_in(form))


@dataclass(frozen=True, slots=True)
class Spot:
    """The roles of one spot of a definition."""

    refer: Refer | None = None
    setting: str | None = None
    named_by: str | None = None
    part: str | None = None
    is_unordered: bool = False
    is_text: bool = False
    is_layout: bool = False
    is_volatile: bool = False
    is_secret: bool = False
    is_file: bool = False
    is_feature: bool = False
    is_region: bool = False
    is_outward: bool = False
    is_data: bool = False
    is_switch: bool = False
    is_json: bool = False
    is_members: bool = False
    is_order: bool = False
    shown: str = ""
    pieces: str = ""
    is_piece: bool = False
    part_of: PartOf | None = None

    @property
    def is_outside(self) -> bool:
        """Whether what stands here is no part of the portable form."""
        return self.is_layout or self.is_volatile or self.is_switch


OF, IS = "of", "is"
"""The members of a pair: an object whose member names are ids is an array of such, once it has been opened."""

PART, REST = "part", "rest"
"""What a text is made of besides the id `of` an item, once it has been opened: the name of a part, and anything."""

PAIR = frozenset({OF, IS, PART, REST})
"""All that a pair may have."""


def has_pieces(form: str) -> bool:
    """Whether more than an id is told apart in what is written so."""
    return any(f"{{{name}}}" in form for name in (PART, REST))


def is_part_alone(form: str) -> bool:
    """Whether a part is named by its own id, and nothing there says of which item it is one."""
    return f"{{{PART}}}" in form and "{id}" not in form


NOWHERE = Spot()
_PLAIN_STEP = re.compile(r"\.(\*|[A-Za-z_][A-Za-z0-9_]*)|\[(\*|0|[1-9][0-9]{0,8})\]")
_PLAIN_PATH = re.compile(rf"\$(?:{_PLAIN_STEP.pattern})*")


def merged(spots: Iterable[Spot]) -> Spot:
    """One spot with the roles of all."""
    some = tuple(spots)
    return some[0] if len(some) == 1 else _merged(some) if some else NOWHERE


# A sheet has some thirty places, of which a few meet: the same ones in every definition.
@lru_cache(maxsize=1024)
def _merged(spots: tuple[Spot, ...]) -> Spot:
    result = NOWHERE
    for spot in spots:
        # Later ones win, and what one leaves out does not take away what another said: a wildcard's role and that of
        # a single name add up.
        given = {f.name: value for f in fields(Spot) if (value := getattr(spot, f.name))}
        result = replace(result, **given)
    return result


def _roles_of(spot: Spot) -> frozenset[str]:
    return frozenset(f.name for f in fields(Spot) if getattr(spot, f.name))


@dataclass(slots=True)
class _Node:
    names: dict[str, _Node] = field(default_factory=dict)
    every: _Node | None = None
    spots: list[Spot] = field(default_factory=list)
    _roles: frozenset[str] | None = None

    def roles(self) -> frozenset[str]:
        """The roles of places that are here or below; asked for when all places are there."""
        if self._roles is None:
            below = [*self.names.values(), *([self.every] if self.every else [])]
            self._roles = frozenset().union(*map(_roles_of, self.spots), *(node.roles() for node in below))
        return self._roles


class Walk:
    """A position in the automaton: `spot` says what is here, `step` leads to a child."""

    __slots__ = ("_nodes", "_other", "_steps", "holds_secret", "is_bare", "is_dull", "is_outside", "roles", "spot")

    def __init__(self, nodes: tuple[_Node, ...]) -> None:
        self._nodes = nodes
        self._steps: dict[str, Walk] = {}
        self._other: Walk | None = None
        self.spot = merged(spot for node in nodes for spot in node.spots) if nodes else NOWHERE
        self.is_outside = self.spot.is_outside
        self.is_bare = self.spot == NOWHERE
        """Whether this place has no role of its own."""
        self.is_dull = not nodes
        """Whether neither this place nor any below it has a role."""
        self.roles = frozenset().union(*(node.roles() for node in nodes))
        """The roles of this place and of those below it, as the fields of a spot are called."""
        self.holds_secret = "is_secret" in self.roles

    def step(self, name: str) -> Walk:
        """The position of the child with this member name, or index as text."""
        steps, other = self.children()
        return steps.get(name, other)

    def children(self) -> tuple[dict[str, Walk], Walk]:
        """The positions of the children that the sheet names, and that of all others."""
        if self._other is None:
            every = [node.every for node in self._nodes if node.every]
            # A subset construction, made only where a document leads: sheets have some thirty places, of which one
            # definition meets a few.
            names = sorted({name for node in self._nodes for name in node.names})
            steps = {}
            for name in names:
                named = [node.names[name] for node in self._nodes if name in node.names]
                steps[name] = Walk((*every, *named))
            # All at once, and before what tells that it is done: sheets are shared by threads, and a place that is
            # not known yet would be taken for one without a role, a secret's place among them.
            self._steps = steps
            # The place below which nothing is declared is its own child: the walk through a large foreign part of a
            # definition makes no objects.
            self._other = Walk(tuple(every)) if self._nodes else self
        return self._steps, self._other


class Places:
    """All places of one kind sheet."""

    def __init__(self, roles: Iterable[tuple[str, Spot]]) -> None:
        self._simple: list[tuple[tuple[Step, ...], Spot]] = []
        self._searched: list[tuple[Any, Spot]] = []
        roles = tuple(roles)
        self.paths = {path: spot for path, spot in roles if not spot.is_outside and not spot.is_order}
        """Those of the portable form, as the sheet writes them."""
        # Filters, slices and descendants depend on the document: they are answered for each one, and joined with the
        # plain paths into one automaton. The others share a single one for ever.
        for path, spot in roles:
            query, steps = parse_path(path)
            if steps is None:
                self._searched.append((query, spot))
            else:
                self._simple.append((steps, spot))
        self._start = Walk((_tree(self._simple),))
        self._spots: dict[str, Spot] = {}
        named = [spot.refer for spot in self._all_spots() if spot.refer]
        self.refers = tuple(way for refer in named for way in refer.ways or (refer,))
        """What may stand at its places."""
        self.in_ways = tuple(refer for refer in named if refer.ways)
        """What is written in several ways."""

    @cached_property
    def secrets(self) -> Places:
        """Those of secrets alone: what is searched for all others need not be searched for them."""
        only = Places(())
        only._simple = [(steps, spot) for steps, spot in self._simple if spot.is_secret]
        only._searched = [(query, spot) for query, spot in self._searched if spot.is_secret]
        only._start = Walk((_tree(only._simple),))
        return only

    def _all_spots(self) -> list[Spot]:
        return [spot for _, spot in self._simple] + [spot for _, spot in self._searched]

    @cached_property
    def has_outside(self) -> bool:
        """Whether a portable form lacks or sorts anything that stands in a definition."""
        return any(spot.is_outside or spot.is_unordered for spot in self._all_spots())

    @property
    def is_simple(self) -> bool:
        """Whether a walk is the same for every definition: no place is searched for."""
        return not self._searched

    def spot_of(self, definition: Any, pointer: str) -> Spot:
        """The role of a place (RFC 6901) of a definition, which is only looked at where `is_simple` is not so.
        The same places come again and again, so that the answers are kept."""
        known = self._spots.get(pointer) if self.is_simple else None
        if known is None:
            walk = self.walk(definition)
            for name in parse_pointer(pointer):
                walk = walk.step(name)
            known = self._spots[pointer] = walk.spot
        return known

    def walk(self, definition: Any) -> Walk:
        """The start of a walk along this definition."""
        # The usual case: no filter in the sheet, so that one automaton serves all definitions, and positions are
        # equal objects.
        if not self._searched:
            return self._start
        found = [
            (tuple(str(part) for part in node.location), spot)
            for query, spot in self._searched
            for node in query.find(definition)
        ]
        return Walk((_tree([*self._simple, *found]),))


def parse_path(path: str) -> tuple[Any, tuple[Step, ...] | None]:
    """The library's query, and its steps where only names, indices and wildcards stand in it;
    SheetFault where it is no RFC 9535 path. The plain ones, which nearly all are, are taken apart here: names
    in shorthand, indices and wildcards, as sections 2.3 and 2.5 of the RFC write them. Loading the library
    would take a tenth of a second on every command."""
    if _PLAIN_PATH.fullmatch(path):
        plain = [found[1] or found[2] for found in _PLAIN_STEP.finditer(path)]
        return None, tuple(None if step == "*" else step for step in plain)
    import jsonpath_rfc9535

    try:
        query = jsonpath_rfc9535.compile(path)
    except jsonpath_rfc9535.JSONPathError as error:
        # Without the library's line and column, which count in the path and not in the sheet.
        why = re.sub(r", line \d+, column \d+$", "", str(error))
        raise SheetFault(
            f"{path!r} is not a JSONPath (RFC 9535): {why}{_perhaps(path)}",
            subject=path,
            next_step=advice("Mend the sheet."),
        ) from error
    steps: list[Step] = []
    for segment in query.segments:
        selector = segment.selectors[0]
        name = getattr(selector, "name", getattr(selector, "index", None))
        # By name and not by class: the library's modules are not part of its promise, its class names stand in its
        # messages.
        is_plain = type(segment).__name__ == "JSONPathChildSegment" and len(segment.selectors) == 1
        if is_plain and type(selector).__name__ == "WildcardSelector":
            steps.append(None)
        # A negative index counts from the end and so depends on the document, like a filter.
        elif is_plain and name is not None and not (isinstance(name, int) and name < 0):
            steps.append(str(name))
        else:
            return query, None
    return query, tuple(steps)


def _perhaps(path: str) -> str:
    """The path with its names in brackets where shorthand can't hold them, if that is all that is wrong with it."""
    import jsonpath_rfc9535

    quoted = _LONGHAND.sub(r"['\1']", path)
    try:
        jsonpath_rfc9535.compile(quoted)
    except jsonpath_rfc9535.JSONPathError:
        return ""
    return f"; perhaps {quoted}"


_LONGHAND = re.compile(r"\.([A-Za-z0-9_]*[-@:#/$][-@:#/$A-Za-z0-9_]*)")


_parsed = cache(parse_path)


def values_at(document: Any, path: str) -> list[Any]:
    """All that stands at a path."""
    query, steps = _parsed(path)
    if steps is None:
        return [node.value for node in query.find(document)]
    found = [document]
    for step in steps:
        found = [child for value in found for child in _children(value, step)]
    return found


def _children(value: Any, step: Step) -> list[Any]:
    if isinstance(value, dict):
        return list(value.values()) if step is None else [value[step]] if step in value else []
    if isinstance(value, list):
        if step is None:
            return value
        return [value[int(step)]] if is_number(step) and int(step) < len(value) else []
    return []


def _tree(paths: Iterable[tuple[tuple[Step, ...], Spot]]) -> _Node:
    root = _Node()
    for steps, spot in paths:
        node = root
        for step in steps:
            if step is None:
                node.every = node.every or _Node()
                node = node.every
            else:
                node = node.names.setdefault(step, _Node())
        node.spots.append(spot)
    return root


def spots_from(table: Mapping[str, Any]) -> list[tuple[str, Spot]]:
    """The places of a sheet's `[fields]` table (design, section 5)."""
    plain = {
        "unordered": Spot(is_unordered=True),
        "text": Spot(is_text=True),
        "layout": Spot(is_layout=True),
        "order": Spot(is_layout=True, is_order=True),
        "volatile": Spot(is_volatile=True),
        "secret": Spot(is_secret=True),
        "files": Spot(is_file=True),
        "features": Spot(is_feature=True),
        "region": Spot(is_region=True),
        "outward": Spot(is_outward=True),
        "data": Spot(is_data=True),
        "json": Spot(is_json=True),
    }
    roles = [(path, spot) for name, spot in plain.items() for path in table.get(name, [])]
    roles += [(path, Spot(part=part)) for part, path in table.get("parts", {}).items()]
    roles += [(path, Spot(named_by=member)) for path, member in table.get("named", {}).items()]
    roles += [(path, Spot(setting=kind)) for path, kind in table.get("settings", {}).items()]
    return roles
