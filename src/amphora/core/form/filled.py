"""What a platform makes of what is written: members that it fills in, texts that it tidies. Learned by looking right
after a write, and taken back on every later look, so that nobody's hand is seen in it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from amphora.core.form.bindings import MISSING
from amphora.core.form.places import Places, Walk
from amphora.core.form.spots import ORDER, named_elements
from amphora.core.values.canon import loose_digest
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, parse_pointer, write_pointer
from amphora.core.values.tokens import is_secret


@dataclass(frozen=True)
class Filled:
    """One place (RFC 6901, elements of named arrays under their names; with ORDER behind it the names in such an
    array): what was asked for, and what came of it; MISSING where there was nothing."""

    at: str
    asked: Json
    found: Json

    @property
    def is_added(self) -> bool:
        """Whether the platform only added what nobody had said anything about."""
        return self.asked is MISSING

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
        return [self.at, asked, found]

    @staticmethod
    def from_json(row: Json) -> Filled:
        """The inverse of `to_json`."""
        at, asked, found = row
        return Filled(at, asked[0] if asked else MISSING, found[0] if found else MISSING)


class _ByName(dict[str, Json]):
    """A named array while it is looked into: its elements by their names, in their order."""


def filled_in(asked: Json, found: Json, places: Places) -> list[Filled]:
    """What came of a form, place by place; whole arrays where their lengths differ, but named ones element by
    element: a platform may list them in an order of its own."""
    return list(_filled((), _by_name(asked, places.walk(asked)), _by_name(found, places.walk(found))))


def _filled(at: Pointer, asked: Json, found: Json) -> Iterable[Filled]:
    if isinstance(asked, dict) and type(asked) is type(found):
        for name in dict.fromkeys((*asked, *found)):
            yield from _filled((*at, name), asked.get(name, MISSING), found.get(name, MISSING))
        if isinstance(asked, _ByName) and list(asked) != list(found):
            yield Filled(write_pointer(at) + ORDER, list(asked), list(found))
    elif isinstance(asked, list) and isinstance(found, list) and len(asked) == len(found):
        for number, pair in enumerate(zip(asked, found, strict=True)):
            yield from _filled((*at, str(number)), *pair)
    elif not _is_same(plain_asked := _in_order(asked), plain_found := _in_order(found)):
        yield Filled(write_pointer(at), plain_asked, plain_found)


def shuffled(asked: Json, found: Json, at: Pointer = ()) -> Iterable[str]:
    """The places of arrays that hold the same in another order."""
    if isinstance(asked, dict) and isinstance(found, dict):
        for name in asked.keys() & found.keys():
            yield from shuffled(asked[name], found[name], (*at, name))
    elif isinstance(asked, list) and isinstance(found, list) and asked != found:
        one, other = ([loose_digest(part) for part in some] for some in (asked, found))
        if sorted(one) == sorted(other):
            yield write_pointer(at)
        elif len(one) == len(other):
            for number, pair in enumerate(zip(asked, found, strict=True)):
                yield from shuffled(*pair, (*at, str(number)))


def stayed(filled: Iterable[Filled], before: Json, places: Places) -> list[Filled]:
    """Those places that hold what they held before: nothing has come of what was asked for there."""
    form = _by_name(before, places.walk(before))
    held = ((one, _at(form, one.way)) for one in filled)
    was = (
        (one, list(there) if one.is_order and isinstance(there, _ByName) else _in_order(there)) for one, there in held
    )
    return [one for one, there in was if there is not MISSING and _is_same(there, one.found)]


def unfilled(form: Json, filled: Sequence[Filled], places: Places) -> Json:
    """A form as it was asked for. Only where a place still holds what the platform made of it: anything else is
    somebody's."""
    named = _by_name(form, places.walk(form))
    # Orders last: what was lost has to be there again before it can stand where it was.
    for one in sorted(filled, key=lambda one: one.is_order):
        there = _at(named, one.way)
        if one.is_order and isinstance(there, _ByName):
            named = _with(named, one.way, _arranged(there, one))
        elif not one.is_order and _is_same(_in_order(there), one.found):
            named = _with(named, one.way, one.asked)
    return _in_order(named)


def _arranged(there: _ByName, one: Filled) -> _ByName:
    """The elements in the order that was asked for, where nobody has moved one since; each new one behind the one
    that it stands behind."""
    if [name for name in there if name in one.found] != [name for name in one.found if name in there]:
        return there
    names, before = [name for name in one.asked if name in there], ""
    for name in there:
        if name not in one.asked:
            names.insert(names.index(before) + 1 if before else 0, name)
        before = name
    return _ByName({name: there[name] for name in names})


def _by_name(value: Json, walk: Walk) -> Json:
    """A copy in which the elements of named arrays stand by their names."""
    if isinstance(value, dict):
        return {name: _by_name(part, walk.step(name)) for name, part in value.items()}
    if not isinstance(value, list):
        return value
    parts = [_by_name(part, walk.step(str(number))) for number, part in enumerate(value)]
    index = named_elements(value, walk.spot.named_by) if walk.spot.named_by else None
    return parts if index is None else _ByName({name: parts[number] for name, number in index.items()})


def _in_order(value: Json) -> Json:
    """The inverse of `_by_name`."""
    if isinstance(value, list | _ByName):
        return [_in_order(part) for part in (value.values() if isinstance(value, _ByName) else value)]
    return {name: _in_order(part) for name, part in value.items()} if isinstance(value, dict) else value


def _at(form: Json, at: Pointer) -> Json:
    for step in at:
        if isinstance(form, dict):
            form = form.get(_member(form, step), MISSING)
        elif isinstance(form, list):
            form = form[int(step)] if step.isdecimal() and int(step) < len(form) else MISSING
        else:
            return MISSING
    return form


def _member(form: dict[str, Json], step: str) -> str:
    """The member that a step leads to. What was learned before elements went by their names says where they stood."""
    if isinstance(form, _ByName) and step not in form and step.isdecimal() and int(step) < len(form):
        return list(form)[int(step)]
    return step


def _with(form: Json, at: Pointer, value: Json) -> Json:
    """A copy with another value at a place, or none there; the same where nothing is around the place."""
    if not at:
        return value
    step, rest = at[0], at[1:]
    if isinstance(form, list):
        # What comes behind it would move up.
        put = None if value is MISSING and not rest else value
        return [_with(part, rest, put) if str(number) == step else part for number, part in enumerate(form)]
    if not isinstance(form, dict):
        return form
    member = _member(form, step)
    if rest and member not in form:
        return form
    others = {name: part for name, part in form.items() if name != member or value is not MISSING or rest}
    changed = {} if value is MISSING and not rest else {member: _with(form.get(member), rest, value)}
    return type(form)({**others, **changed})


def _is_same(one: Json, other: Json) -> bool:
    if one is MISSING or other is MISSING:
        return one is other
    # By digest: in Python 1, 1.0 and True are equal.
    return loose_digest(one) == loose_digest(other)
