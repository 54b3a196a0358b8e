"""Forms without references to what isn't there yet, or is to go: so circles are entered, and taken apart."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any

from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import OF, Walk, values_at
from amphora.core.form.refers import Refer
from amphora.core.form.visit import BELOW, rebuilt, visited, with_texts
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.core.values.tokens import parse_token, render_text, tokens_in

Leads = Callable[[str], bool]
"""Whether a value that is a reference leads to something of which there is to be no reference."""


def hollowed(form: Json, keys: Collection[Key], sheet: KindSheet) -> Json:
    """A portable form without its references to the given items: null for whole values, or for the objects around
    them where the kind sheet says so, nothing inside of texts; of a list of them those are left out."""

    def leads(text: str) -> bool:
        return bool((token := parse_token(text)) and token.key in keys)

    form = _without(form, sheet, leads)

    def change(text: str) -> Json:
        gone = {token for token, _ in tokens_in(text) if (parsed := parse_token(token)) and parsed.key in keys}
        if not gone:
            return text
        keep: Callable[[str], Any] = lambda token: "" if token in gone else "${" + token + "}"  # noqa: E731
        # Null where it was the whole value: an empty text would be another kind of value there.
        return None if parse_token(text) else render_text(text, keep)

    return with_texts(form, change)


def loosened(definition: Json, ids: Collection[str], sheet: KindSheet) -> Json:
    """The same of a definition in which ids stand. What stands inside of texts stays: no platform holds on to
    that."""
    return _without(definition, sheet, lambda text: text in ids)


def let_go(definition: Json, sheet: KindSheet) -> Json:
    """A definition without the parts that no two places of it may name at once: what comes before a change in which
    one of them is named by another place."""

    def change(value: Json, walk: Walk) -> Any:
        return None if (part := walk.spot.part_of) and part.is_alone else BELOW

    return rebuilt(definition, sheet.places.walk(definition), change)


def changes_hands(before: Json, after: Json, sheet: KindSheet) -> bool:
    """Whether a part that no two places may name at once is named by another place after a change."""
    was, now = (
        {
            here.value: here.named
            for here in visited(version, sheet.places.walk(version), role="part_of")
            if (part := here.walk.spot.part_of) and part.is_alone and isinstance(here.value, str)
        }
        for version in (before, after)
    )
    return any(was[value] != now[value] for value in was.keys() & now.keys())


def without_new(definition: Json, before: Json, sheet: KindSheet) -> Json:
    """A definition as the first call of a change leaves it, of which new parts have no ids yet: what names one is
    empty where it is a part itself, and else left out."""
    if not sheet.own_parts:
        return definition
    ids = {part: part.ids_in(before) for part in sheet.own_parts}
    known = {part: {name for name, id_ in some.items() if id_ is not None} for part, some in ids.items()}
    new = {part: {*part.ids_in(definition)} - names for part, names in known.items()}
    bodies = [one for part in sheet.own_parts for one in values_at(definition, part.parts)]

    def is_new(value: Json, walk: Walk) -> bool:
        return isinstance(value, str) and (part := walk.spot.part_of) is not None and value in new.get(part, ())

    def is_left_out(value: Json, walk: Walk) -> bool:
        names_new = isinstance(value, dict) and any(is_new(part, walk.step(name)) for name, part in value.items())
        return names_new and all(value is not one for one in bodies)

    def change(value: Json, walk: Walk) -> Any:
        if isinstance(value, list):
            here = [(part, walk.step(str(number))) for number, part in enumerate(value)]
            return [rebuilt(part, step, change) for part, step in here if not is_left_out(part, step)]
        return None if is_new(value, walk) else BELOW

    return rebuilt(definition, sheet.places.walk(definition), change)


def _is_reference(value: Json, refer: Refer | None, leads: Leads) -> bool:
    return refer is not None and isinstance(value, str) and leads(value)


def _is_hollow(value: Json, walk: Walk, leads: Leads) -> bool:
    # Platforms that name things by kind and id (`{"type": …, "id": …}`) take all of it or nothing.
    return isinstance(value, dict) and any(
        (refer := walk.step(name).spot.refer) is not None
        # An entry without its name is none.
        and (refer.empties_holder or name == OF)
        and _is_reference(part, refer, leads)
        for name, part in value.items()
    )


def _without(form: Json, sheet: KindSheet, leads: Leads) -> Json:
    """Null stands for what is gone, but in a list the others move up."""

    def is_gone(value: Json, walk: Walk) -> bool:
        return _is_hollow(value, walk, leads) or _is_reference(value, walk.spot.refer, leads)

    def change(value: Json, walk: Walk) -> Any:
        if isinstance(value, list):
            here = [(part, walk.step(str(number))) for number, part in enumerate(value)]
            left = [(part, step) for part, step in here if not is_gone(part, step)]
            # Only of what is all alike: in `["label", id]` each has its own place.
            if len(left) < len(value) and len({id(step.spot.refer) for _, step in here}) == 1:
                return [rebuilt(part, step, change) for part, step in left]
        return None if is_gone(value, walk) else BELOW

    return rebuilt(form, sheet.places.walk(form), change)
