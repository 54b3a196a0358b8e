"""What counts of a native definition: the rest is a platform's own business and is never compared."""

from __future__ import annotations

from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import Walk
from amphora.core.form.spots import sort_unordered
from amphora.core.values.model import Json


def settled(definition: Json, sheet: KindSheet) -> Json:
    """A native definition without volatile, layout and switch places, unordered arrays in a fixed order.

    Native words are compared, not the portable form: what putting back has to know must not depend on a
    crosswalk that somebody may have changed since. Equal portable forms with equal bindings have equal
    settled definitions.
    """
    return _settled(definition, sheet.places.walk(definition))


def _settled(value: Json, walk: Walk) -> Json:
    if walk.is_dull:
        return value
    if isinstance(value, dict):
        steps, other = walk.children()
        result = {}
        for name, part in value.items():
            child = steps.get(name, other)
            # An object in which only secrets can stand is there as long as one of them is.
            is_empty_bag = part == {} and child.children()[1].spot.is_secret
            if not child.is_outside and not is_empty_bag:
                result[name] = part if child.is_dull else _settled(part, child)
        return result
    if isinstance(value, list):
        parts = [_settled(part, walk.step(str(position))) for position, part in enumerate(value)]
        return sort_unordered(parts, walk.spot.named_by) if walk.spot.is_unordered else parts
    return value
