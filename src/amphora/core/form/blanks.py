"""Places at which nothing stands, in objects that are there: what would stand there, if it did."""

from __future__ import annotations

import copy
import re
from collections.abc import Callable, Iterable
from typing import Any

from amphora.core.form.places import values_at
from amphora.core.values.errors import SheetFault
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice


def with_missing(form: Json, places: Iterable[str], value: Callable[[], Json]) -> Json:
    """A definition with a value at each of these places at which nothing stands, if the object around it is there."""

    def laid(holder: dict[str, Any], name: str) -> None:
        if holder.get(name) in (None, ""):
            holder[name] = value()

    for path in places:
        form = _with_members(form, path, laid)
    return form


def _with_members(document: Json, path: str, change: Callable[[dict[str, Any], str], object]) -> Json:
    """The document after a change of each object that holds, or may hold, the member at a path; filters may stand
    before its name."""
    # A copy, for whoever else holds the answer must not see it change.
    document = copy.deepcopy(document)
    above, name = holder_of(path)
    for holder in values_at(document, above):
        if isinstance(holder, dict):
            change(holder, name)
    return document


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
