"""One way to go through a definition, and one to make another of it: whoever looks for something at a place, or
puts something else there, does it with these."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from operator import is_
from typing import Final, NamedTuple

from amphora.core.form.places import Walk
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, write_pointer


class Visit(NamedTuple):
    """One value on the way: where it stands (`named`: with elements of named arrays under their names), what it is,
    the position in the kind sheet, and the object or array that holds it."""

    at: Pointer
    named: Pointer
    value: Json
    walk: Walk
    held: Json


def visited(value: Json, walk: Walk, *, is_thorough: bool = False, role: str = "") -> Iterator[Visit]:
    """Every value of a definition, holders before what they hold, in document order. What is below a place under
    which no role is declared is passed over, unless it is to be thorough: most of a definition is. For whoever looks
    for one role only, so is what leads to none of that."""
    yield from _visited(Visit((), (), value, walk, None), is_thorough, role)


def _visited(here: Visit, is_thorough: bool, role: str) -> Iterator[Visit]:
    yield here
    value, walk = here.value, here.walk
    if walk.is_dull and not is_thorough:
        return
    # Asked once for an object and not once for a member: most members have no role, and share one position.
    steps, other = walk.children()
    if isinstance(value, dict):
        for name, part in value.items():
            child = steps.get(name, other)
            if not role or role in child.roles:
                at, named = (*here.at, name), (*here.named, name)
                yield from _visited(Visit(at, named, part, child, value), is_thorough, role)
    elif isinstance(value, list):
        member = walk.spot.named_by
        names = _names(value, member) if member else None
        for position, part in enumerate(value):
            step = str(position)
            child = steps.get(step, other)
            if not role or role in child.roles:
                named = (*here.named, names[position] if names else step)
                yield from _visited(Visit((*here.at, step), named, part, child, value), is_thorough, role)


def _names(elements: list[Json], member: str) -> list[str] | None:
    """The names of a named array's elements; None where one of them has none."""
    names = [element.get(member) if isinstance(element, dict) else None for element in elements]
    # Names may be doubled here: whoever only looks for something wants to name every place, whole or not.
    return [str(name) for name in names] if all(isinstance(name, str) for name in names) else None


class _Below:
    """Go on below this value."""


class _Gone:
    """Leave this value out."""


BELOW: Final = _Below()
GONE: Final = _Gone()

Change = Callable[[Json, Walk], "Json | _Below | _Gone"]
"""What becomes of a value: another one, BELOW for one made of its changed parts, GONE for none at all."""

Concerns = Callable[[Walk], bool]
"""Whether a place, or one below it, is of any concern."""


def rebuilt(value: Json, walk: Walk, change: Change, concerns: Concerns = lambda walk: True) -> Json:
    """The definition with each value changed, holders first. Nothing is changed in place; a definition that is GONE
    as a whole is None. For whoever has to do with few places `concerns` says which, or what is above one: everything
    else is passed over, and shared."""
    found = _rebuilt(value, walk, change, concerns)
    return None if isinstance(found, _Gone) else found


def _rebuilt(value: Json, walk: Walk, change: Change, concerns: Concerns) -> Json:
    if not concerns(walk):
        return value
    # Holders first: what is GONE or replaced as a whole is not looked into.
    found = change(value, walk)
    if not isinstance(found, _Below):
        return found
    if isinstance(value, dict):
        steps, other = walk.children()
        # Asked once for all members without a name in the sheet, which nearly all are.
        some = value if concerns(other) else [name for name in steps if name in value]
        parts = {name: _rebuilt(value[name], steps.get(name, other), change, concerns) for name in some}
        # Shared as a whole where nothing in it is another: a copy of each object cost more than the changes.
        if all(part is value[name] for name, part in parts.items()):
            return value
        return {name: part for name, part in {**value, **parts}.items() if part is not GONE}
    if isinstance(value, list):
        elements = [_rebuilt(part, walk.step(str(n)), change, concerns) for n, part in enumerate(value)]
        if all(map(is_, elements, value)):
            return value
        # Gone from an array means that the others move up; a null in its place would be another definition.
        return [part for part in elements if part is not GONE]
    return value


def texts_in(value: Json, at: Pointer = ()) -> Iterator[tuple[Pointer, str]]:
    """Every text in a document, with its place."""
    if isinstance(value, str):
        yield at, value
    elif isinstance(value, dict):
        for name, part in value.items():
            yield from texts_in(part, (*at, name))
    elif isinstance(value, list):
        for number, part in enumerate(value):
            yield from texts_in(part, (*at, str(number)))


def with_texts(value: Json, change: Callable[[str], Json]) -> Json:
    """The document with each text in it changed, whatever stands around it."""
    if isinstance(value, str):
        return change(value)
    if isinstance(value, dict):
        return {name: with_texts(part, change) for name, part in value.items()}
    return [with_texts(part, change) for part in value] if isinstance(value, list) else value


def texts(form: Json, at: Pointer = ()) -> Iterator[tuple[str, str]]:
    """Every text of a form with its JSON Pointer."""
    if isinstance(form, str):
        yield write_pointer(at), form
    for name, part in form.items() if isinstance(form, dict) else enumerate(form) if isinstance(form, list) else ():
        yield from texts(part, (*at, str(name)))
