"""What a platform makes of what is written: members that it fills in, texts that it tidies. Learned by looking right
after a write, and taken back on every later look, so that nobody's hand is seen in it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

from amphora.core.form.bindings import MISSING
from amphora.core.form.named import ByName, by_name, in_order, steps_in
from amphora.core.form.places import Places
from amphora.core.form.spots import ORDER
from amphora.core.values.canon import loose_digest
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.pointers import (
    Pointer,
    parse_pointer,
    value_at,
    with_value,
    without_value,
    write_pointer,
)
from amphora.core.values.tokens import is_secret


@dataclass(frozen=True)
class Filled:
    """One place (RFC 6901, elements of named arrays under their names; with ORDER behind it the names in such an
    array): what was asked for, and what came of it; MISSING where there was nothing. `has_stayed` where nothing has
    come of it: what was there before is there still."""

    at: str
    asked: Json
    found: Json
    has_stayed: bool = False

    @property
    def is_added(self) -> bool:
        """Whether the platform only added what nobody had said anything about."""
        return self.asked is MISSING

    @property
    def is_untaken(self) -> bool:
        """Whether the platform has not taken what was asked for, which is no way of writing it."""
        return self.has_stayed or self.is_lost

    @property
    def reversed(self) -> Filled:
        """The same the other way round: what was found asked for."""
        return Filled(self.at, self.found, self.asked)

    @property
    def is_order(self) -> bool:
        """Whether it tells of the order of named elements alone."""
        return self.at.endswith(ORDER)

    @property
    def way(self) -> Pointer:
        """The steps to the place."""
        return parse_pointer(self.at.removesuffix(ORDER))

    @property
    def is_lost(self) -> bool:
        """Whether something that was asked for is not there at all: no way of writing it, but a loss. What is off,
        zero or empty may be left out, and of equal entries one may stand for all."""
        # A secret that is still to be entered is a task.
        if not self.asked or self.asked is MISSING or is_secret(self.asked) or self.is_order:
            return False
        if isinstance(self.asked, list) and isinstance(self.found, list):
            kept = {loose_digest(one) for one in self.found}
            is_shorter = len(self.found) < len(self.asked)
            return is_shorter and any(loose_digest(one) not in kept for one in self.asked)
        return self.found is MISSING or self.found in (None, "", [], {})

    def to_json(self) -> Json:
        """As it stands in the ledger: a list with the value, or an empty one for none."""
        asked, found = ([] if value is MISSING else [value] for value in (self.asked, self.found))
        return [self.at, asked, found, *([True] if self.has_stayed else [])]

    @staticmethod
    def from_json(row: Json) -> Filled:
        """The inverse of `to_json`."""
        at, asked, found, *stayed = row
        return Filled(at, asked[0] if asked else MISSING, found[0] if found else MISSING, bool(stayed))


@dataclass(frozen=True)
class Learned:
    """What became of one item: place by place, and its form as it is read with none of that taken back."""

    filled: tuple[Filled, ...]
    form: Json


def filled_in(asked: Json, found: Json, places: Places) -> list[Filled]:
    """What came of a form, place by place; whole arrays where their lengths differ, but named ones element by
    element: a platform may list them in an order of its own."""
    return list(_filled((), by_name(asked, places.walk(asked)), by_name(found, places.walk(found))))


def _filled(at: Pointer, asked: Json, found: Json) -> Iterable[Filled]:
    if isinstance(asked, dict) and type(asked) is type(found):
        for name in dict.fromkeys((*asked, *found)):
            yield from _filled((*at, name), asked.get(name, MISSING), found.get(name, MISSING))
        if isinstance(asked, ByName) and list(asked) != list(found):
            yield Filled(write_pointer(at) + ORDER, list(asked), list(found))
    elif isinstance(asked, list) and isinstance(found, list) and len(asked) == len(found):
        if _is_moved(asked, found):
            # Element by element it would look as if each had become another, and lost what only that one has.
            yield Filled(write_pointer(at), in_order(asked), in_order(found))
            return
        for number, pair in enumerate(zip(asked, found, strict=True)):
            yield from _filled((*at, str(number)), *pair)
    elif not _is_same(plain_asked := in_order(asked), plain_found := in_order(found)):
        yield Filled(write_pointer(at), plain_asked, plain_found)


def _is_moved(asked: list[Json], found: list[Json]) -> bool:
    """Whether a list holds the same in another order."""
    # Nearly always they are equal, and then nothing has to be counted.
    if asked == found:
        return False
    one, other = ([loose_digest(in_order(part)) for part in some] for some in (asked, found))
    return one != other and sorted(one) == sorted(other)


def shuffled(asked: Json, found: Json, at: Pointer = ()) -> Iterable[str]:
    """The places of arrays that hold the same in another order.

    >>> list(shuffled({"a": [[1, 2], 3], "b": [1]}, {"a": [[2, 1], 3], "b": [2]})), list(shuffled([1, 2], [2, 1, 1]))
    (['/a/0'], [])
    """
    if isinstance(asked, dict) and isinstance(found, dict):
        for name in asked.keys() & found.keys():
            yield from shuffled(asked[name], found[name], (*at, name))
    elif isinstance(asked, list) and isinstance(found, list) and asked != found:
        if _is_moved(asked, found):
            yield write_pointer(at)
        elif len(asked) == len(found):
            for number, pair in enumerate(zip(asked, found, strict=True)):
                yield from shuffled(*pair, (*at, str(number)))


def stayed(filled: Iterable[Filled], before: Json, places: Places) -> list[Filled]:
    """Those places that hold what they held before: nothing has come of what was asked for there."""
    form = by_name(before, places.walk(before))
    return [one for one in filled if _stood(form, one)]


def kept_entries(filled: Iterable[Filled], before: Json, places: Places) -> list[Filled]:
    """Those places where entries of an array stand that stood there before and were not asked for any more."""
    form = by_name(before, places.walk(before))

    def is_kept(one: Filled) -> bool:
        if one.is_order:
            return False
        if one.is_added:
            # An entry of an array by names.
            return isinstance(_at(form, steps_in(form, one.way[:-1])), ByName) and _stood(form, one)
        was = in_order(_at(form, steps_in(form, one.way)))
        if not all(isinstance(some, list) for some in (one.asked, one.found, was)):
            return False
        asked, found, stood = (Counter(map(loose_digest, some)) for some in (one.asked, one.found, was))
        return bool((found - asked) & stood)

    return [one for one in filled if is_kept(one)]


def _stood(form: Json, one: Filled) -> bool:
    """Whether a place held before what it holds now."""
    there = _at(form, steps_in(form, one.way))
    was = list(there) if one.is_order and isinstance(there, ByName) else in_order(there)
    return there is not MISSING and _is_same(was, one.found)


def taken(filled: Iterable[Filled]) -> list[Filled]:
    """Those that are the platform's way of writing what it was asked for."""
    return [one for one in filled if not one.is_untaken]


def unfilled(form: Json, filled: Sequence[Filled], places: Places) -> Json:
    """A form as it was asked for. Only where a place still holds what the platform made of it: anything else is
    somebody's."""
    named = by_name(form, places.walk(form))
    # Orders last: what was lost has to be there again before it can stand where it was.
    for one in sorted(filled, key=lambda one: one.is_order):
        at = steps_in(named, one.way)
        there = _at(named, at)
        if one.is_order:
            named = with_value(named, at, _arranged(there, one)) if isinstance(there, ByName) else named
        # Where nothing is around the place any more, somebody took all of it away.
        elif _is_same(in_order(there), one.found) and isinstance(_at(named, at[:-1]), dict | list):
            named = without_value(named, at) if one.asked is MISSING else with_value(named, at, one.asked)
    return in_order(named)


def _arranged(there: ByName, one: Filled) -> ByName:
    """The elements in the order that was asked for, where nobody has moved one since; each new one behind the one
    that it stands behind."""
    if [name for name in there if name in one.found] != [name for name in one.found if name in there]:
        return there
    names, before = [name for name in one.asked if name in there], ""
    for name in there:
        if name not in one.asked:
            names.insert(names.index(before) + 1 if before else 0, name)
        before = name
    return ByName({name: there[name] for name in names})


def _at(form: Json, at: Pointer) -> Json:
    try:
        return value_at(form, at)
    except (LookupError, ValueError):
        return MISSING


def _is_same(one: Json, other: Json) -> bool:
    if one is MISSING or other is MISSING:
        return one is other
    # By digest: in Python 1, 1.0 and True are equal.
    return loose_digest(one) == loose_digest(other)
