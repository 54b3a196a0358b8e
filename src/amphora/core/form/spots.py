"""What stands at the places of a definition: parts, references, features, secrets, named elements."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from typing import Final

from amphora.core.form.blanks import is_member, with_missing
from amphora.core.form.kinds import KindSheet
from amphora.core.form.native_ids import around
from amphora.core.form.places import Spot, Walk
from amphora.core.form.refers import Refer
from amphora.core.form.visit import BELOW, rebuilt, visited
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, write_pointer
from amphora.core.values.tokens import MASK, PREFIX, parse_token

UNSET: Final[tuple[Json, ...]] = (None, "", [], {})
"""What stands at the place of a secret that is not set."""


MASKS: Final = ("****", "••••", "●●●●", "XXXXXXXX", "xxxxxxxx")
"""What platforms show secrets as, at least; of letters it takes more to be none of a word."""


def is_mask(text: str) -> bool:
    """Whether a text looks like what a platform shows in place of a secret."""
    return text.startswith(MASKS) and text == text[0] * len(text)


def mask_secrets(definition: Json, sheet: KindSheet) -> Json:
    """A copy of a native definition in which every declared secret that is set is masked; where the platform shows
    nobody whether one is, all are taken for set."""

    def masked(value: Json, walk: Walk) -> Json:
        if walk.spot.is_secret:
            return value if value in UNSET else MASK
        return BELOW

    # Whole branches are shared with the original: most definitions hold no secret, and copying them was half of the
    # cost of reading.
    found = rebuilt(definition, sheet.places.secrets.walk(definition), masked, lambda walk: walk.holds_secret)
    places = filter(is_member, sheet.secrets) if sheet.hides_secrets else ()
    return with_missing(found, places, lambda: MASK)


ORDER: Final = " (order)"
"""Behind the place of a named array: not an element differs, but where the elements stand."""


def named_elements(elements: list[Json], member: str) -> dict[str, int] | None:
    """Positions by name where every element has its own; None where that can't be said."""
    names = [element.get(member) if isinstance(element, dict) else None for element in elements]
    index = {name: position for position, name in enumerate(names) if isinstance(name, str)}
    # Fewer names than elements: one is missing, or doubled. Both make a name say nothing.
    return index if len(index) == len(elements) else None


def sort_unordered(elements: list[Json], member: str | None) -> list[Json]:
    """The fixed order of an array whose order means nothing: by name, else by content."""
    if member and named_elements(elements, member) is not None:
        return sorted(elements, key=lambda element: str(element[member]))
    # By content where nothing has a name: it only has to be the same order everywhere.
    return sorted(elements, key=lambda element: json.dumps(element, sort_keys=True))


def named_pointer(form: Json, sheet: KindSheet, parts: Pointer) -> Pointer:
    """A pointer with the elements of named arrays under their names, as people read it."""
    walk, result = sheet.places.walk(form), []
    for part in parts:
        member = walk.spot.named_by
        value = form[int(part)] if isinstance(form, list) else form[part]
        name = value.get(member) if member and isinstance(value, dict) else None
        result.append(str(name) if name is not None else part)
        form, walk = value, walk.step(part)
    return tuple(result)


def part_ids(form: Json, sheet: KindSheet) -> set[str]:
    """The ids of all parts of a form that others may refer to."""
    return _texts_at(form, sheet, lambda spot: spot.part is not None)


def masked_places(definition: Json, sheet: KindSheet) -> dict[str, str]:
    """Where secrets are masked in a native definition: JSON Pointer, and the same place with elements of
    named arrays under their names."""
    return {
        write_pointer(here.at): write_pointer(here.named)
        for here in visited(definition, sheet.places.walk(definition))
        if here.walk.spot.is_secret and here.value == MASK
    }


def secret_places(definition: Json, sheet: KindSheet) -> Iterator[Pointer]:
    """Where secrets stand in a native definition, set or not."""
    return (here.at for here in visited(definition, sheet.places.walk(definition)) if here.walk.spot.is_secret)


def reference_values(definition: Json, sheet: KindSheet) -> Iterator[tuple[str, str, Refer]]:
    """Every text at a declared reference position: (pointer, value, what may stand there)."""
    for here in visited(definition, sheet.places.walk(definition)):
        if here.walk.spot.refer and isinstance(here.value, str):
            yield write_pointer(here.at), here.value, here.walk.spot.refer


def titled_ids(definition: Json, sheet: KindSheet) -> set[str]:
    """The ids at places where the platform writes what an item is called, and nobody but us writes anew when that is
    called otherwise."""
    if not sheet.names_by_title:
        return set()
    found = {value for _, value, refer in reference_values(definition, sheet) if refer.by == "title"}
    patterns = [one.pattern for one in sheet.mentions if one.by == "title"]
    texts = [value for _, value, spot, _ in spotted(definition, sheet) if spot.is_text and isinstance(value, str)]
    return found | {hit["id"] for one in patterns for text in texts for hit in around(one, ".+?").finditer(text)}


Spotted = tuple[Pointer, Json, Spot, Json]
"""A place with a role: where, what stands there, the role, and the object or array that holds it."""


def spotted(form: Json, sheet: KindSheet, role: str = "") -> Iterator[Spotted]:
    """Every place of a form that has a role, of one role at least those; a required reference that isn't there stands
    as None."""
    for here in visited(form, sheet.places.walk(form), role=role):
        if not here.walk.is_bare:
            yield here.at, here.value, here.walk.spot, here.held
        if isinstance(here.value, dict) and not here.walk.is_dull:
            for name, child in here.walk.children()[0].items():
                # What isn't there can't be visited, and is exactly what a required reference is asked for.
                if name not in here.value and child.spot.refer and child.spot.refer.is_required:
                    yield (*here.at, name), None, child.spot, here.value


def region_values(form: Json, sheet: KindSheet) -> list[str]:
    """The regions that a form is bound to."""
    return [value for _, value, spot, _ in spotted(form, sheet, "is_region") if spot.is_region and value]


def setting_values(form: Json, sheet: KindSheet) -> list[tuple[str, Json, str]]:
    """The settings of a form: (pointer, value, type)."""
    found = [(at, value, spot.setting) for at, value, spot, _ in spotted(form, sheet, "setting") if spot.setting]
    return [(write_pointer(at), value, str(type_)) for at, value, type_ in found]


def empty_references(form: Json, sheet: KindSheet) -> list[str]:
    """The places of required references at which nothing stands."""
    return [
        write_pointer(at)
        for at, value, spot, _ in spotted(form, sheet, "refer")
        if spot.refer and spot.refer.is_required and value in (None, "")
    ]


def required_references(form: Json, sheet: KindSheet) -> list[Json]:
    """What stands at required references."""
    return [value for _, value, spot, _ in spotted(form, sheet, "refer") if spot.refer and spot.refer.is_required]


def requires(form: Json, sheet: KindSheet | None, key: Key) -> bool:
    """Whether an item or need is named where the form can't do without it; elsewhere it may be filled in later."""
    values = required_references(form, sheet) if sheet else []
    return any((token := parse_token(value)) is not None and token.key == key for value in values)


def shown_values(form: Json, sheet: KindSheet) -> list[tuple[str, str]]:
    """What a person needs at a pause who sets something up by hand: name and value, ready to copy."""
    found = []
    for _, value, spot, _ in spotted(form, sheet):
        # What is masked can't be copied, and what is no plain value is nothing to type.
        if spot.shown and isinstance(value, str | int | float) and value != MASK:
            found.append((spot.shown, value if isinstance(value, str) else json.dumps(value)))
    return found


def feature_values(form: Json, sheet: KindSheet) -> set[str]:
    """The features of the platform that a form asks for; references among them don't count."""
    return {text for text in _texts_at(form, sheet, lambda spot: spot.is_feature) if PREFIX not in text}


def _texts_at(form: Json, sheet: KindSheet, is_wanted: Callable[[Spot], bool]) -> set[str]:
    walk = sheet.places.walk(form)
    return {here.value for here in visited(form, walk) if isinstance(here.value, str) and is_wanted(here.walk.spot)}
