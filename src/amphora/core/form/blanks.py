"""Places at which nothing stands, in objects that are there: what would stand there, if it did."""

from __future__ import annotations

import copy
import re
from collections.abc import Callable, Iterable

from amphora.core.form.places import values_at
from amphora.core.values.errors import SheetFault
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice


def with_missing(form: Json, places: Iterable[str], value: Callable[[], Json]) -> Json:
    """A definition with a value at each of these places at which nothing stands, if the object around it is there;
    filters may stand before its name."""
    for number, path in enumerate(places):
        # A copy, for whoever else holds the definition must not see it change.
        form = copy.deepcopy(form) if number == 0 else form
        above, name = holder_of(path)
        for holder in values_at(form, above):
            if isinstance(holder, dict) and holder.get(name) in (None, ""):
                holder[name] = value()
    return form


def holder_of(path: str) -> tuple[str, str]:
    """Where the object stands in which a place is a member, and what that is called. SheetFault for another place."""
    found = _MEMBER.fullmatch(path)
    if not found:
        raise SheetFault(
            f"{path!r} is no member of an object.",
            subject=path,
            next_step=advice("End it with a name, as in $.macros[?@.kind == 'secret'].value."),
        )
    return found[1], found[2]


def is_member(path: str) -> bool:
    """Whether a place is a member of an object, by its last name."""
    return _MEMBER.fullmatch(path) is not None


_MEMBER = re.compile(r"(\$.*)\.([A-Za-z_][A-Za-z0-9_]*)")
