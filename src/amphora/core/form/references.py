"""References in native definitions, quickly: which items does it name, without making a portable form."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.form.bindings import Bindings
from amphora.core.form.kinds import KindSheet
from amphora.core.form.spots import reference_values
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.core.values.tokens import is_of_item

SHORTEST_ID = 5
"""No id inside a text is as short as this."""


def quick_references(definition: Json, names: Bindings, own: Key, sheet: KindSheet | None) -> set[Key]:
    """The keys of the items that a native definition names, as whole values or inside texts. Linear in
    the size of the definition; declared and undeclared places count alike, but for ids that are words."""
    found = {names.owner_of(native) for native in natives_in(definition, names, sheet)}
    return {key for key in found if key and key != own and is_of_item(key)}


def natives_in(definition: Json, names: Bindings, sheet: KindSheet | None) -> set[str]:
    """Whatever in a native definition may be an id: whole values, and what looks like one inside texts."""
    style = names.style
    texts: set[str] = set()
    waiting = [definition]
    while waiting:
        value = waiting.pop()
        if isinstance(value, dict):
            # A stack of our own and no order: a set comes out, and this runs over every definition of an environment.
            waiting.extend(value.values())
        elif isinstance(value, list):
            waiting.extend(value)
        elif isinstance(value, str) and len(value) > 1:
            texts.add(value)
    found = {value for value in texts if names.may_be_id(value)}
    # Rarely: to look at places costs ten times as much as to look at texts.
    if words := {value for value in found if not style.tells(value)}:
        said = {value for _, value, _ in reference_values(definition, sheet)} if sheet else set[str]()
        found -= words - said
    # One search through all of them: to begin one takes longer than most texts are. Nothing goes on over what parts
    # them.
    searched = "\0".join(value for value in texts if len(value) > SHORTEST_ID and names.may_hold_ids(value))
    hits = set(names.text_pattern().findall(searched))
    return found | {native for hit in hits for native in names.readings(hit)}


def counts(uses: Mapping[Key, set[Key]]) -> dict[Key, int]:
    """How many items use each key."""
    result: dict[Key, int] = {}
    for used in uses.values():
        for key in used:
            result[key] = result.get(key, 0) + 1
    return result
