"""What a platform makes of what is written: members that it fills in, texts that it tidies. Learned by looking right
after a write, and taken back on every later look, so that nobody's hand is seen in it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from amphora.core.form.bindings import MISSING
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
    """One place (RFC 6901): what was asked for, and what came of it; MISSING where there was nothing."""

    at: str
    asked: Json
    found: Json

    @property
    def is_added(self) -> bool:
        """Whether the platform only added what nobody had said anything about."""
        return self.asked is MISSING

    @property
    def is_lost(self) -> bool:
        """Whether something that was asked for is not there at all: no way of writing it, but a loss. What is off,
        zero or empty may be left out, and of equal entries one may stand for all."""
        # A secret that is still to be entered is a task.
        if not self.asked or self.asked is MISSING or is_secret(self.asked):
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


def filled_in(asked: Json, found: Json) -> list[Filled]:
    """What came of a form, place by place; whole arrays where their lengths differ."""
    return list(_filled((), asked, found))


def _filled(at: Pointer, asked: Json, found: Json) -> Iterable[Filled]:
    if isinstance(asked, dict) and isinstance(found, dict):
        for name in dict.fromkeys((*asked, *found)):
            yield from _filled((*at, name), asked.get(name, MISSING), found.get(name, MISSING))
    elif isinstance(asked, list) and isinstance(found, list) and len(asked) == len(found):
        for number, pair in enumerate(zip(asked, found, strict=True)):
            yield from _filled((*at, str(number)), *pair)
    elif not _is_same(asked, found):
        yield Filled(write_pointer(at), asked, found)


def stayed(filled: Iterable[Filled], before: Json) -> list[Filled]:
    """Those places that hold what they held before: nothing has come of what was asked for there."""
    held = ((one, _at(before, parse_pointer(one.at))) for one in filled)
    return [one for one, was in held if was is not MISSING and _is_same(was, one.found)]


def unfilled(form: Json, filled: Sequence[Filled]) -> Json:
    """A form as it was asked for. Only where a place still holds what the platform made of it: anything else is
    somebody's."""
    for one in filled:
        at = parse_pointer(one.at)
        if _is_same(_at(form, at), one.found):
            form = without_value(form, at) if one.asked is MISSING else with_value(form, at, one.asked)
    return form


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
