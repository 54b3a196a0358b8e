"""What counts of a native definition: the rest is a platform's own business and is never compared."""

from __future__ import annotations

from collections.abc import Callable

from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import Walk
from amphora.core.form.spots import UNSET, sort_unordered
from amphora.core.form.visit import BELOW, GONE, rebuilt
from amphora.core.values.model import Json


def without_volatile(definition: Json, sheet: KindSheet) -> Json:
    """A native definition without what the platform writes by itself."""
    return _without(definition, sheet, lambda walk: walk.spot.is_volatile)


def without_secrets(definition: Json, sheet: KindSheet) -> Json:
    """A native definition without what stands where secrets stand."""
    return _without(definition, sheet, lambda walk: walk.spot.is_secret)


def _without(definition: Json, sheet: KindSheet, is_gone: Callable[[Walk], bool]) -> Json:
    def change(value: Json, walk: Walk) -> Json:
        return value if walk.is_dull else GONE if is_gone(walk) else BELOW

    return rebuilt(definition, sheet.places.walk(definition), change)


def settled(definition: Json, sheet: KindSheet) -> Json:
    """A native definition without volatile, layout and switch places, and without secrets that are not set; unordered
    arrays in a fixed order.

    Native words are compared, not the portable form: what putting back has to know must not depend on a
    crosswalk that somebody may have changed since. Equal portable forms with equal bindings have equal
    settled definitions.
    """

    def change(value: Json, walk: Walk) -> Json:
        if walk.is_dull:
            return value
        if walk.is_outside:
            return GONE
        # One platform shows nothing for it, the next an empty text.
        if walk.spot.is_secret and value in UNSET:
            return GONE
        # An object in which only secrets can stand is there as long as one of them is.
        if (
            isinstance(value, dict)
            and walk.children()[1].spot.is_secret
            and all(part in UNSET for part in value.values())
        ):
            return GONE
        if isinstance(value, list) and walk.spot.is_unordered:
            parts = [rebuilt(part, walk.step(str(position)), change) for position, part in enumerate(value)]
            return sort_unordered(parts, walk.spot.named_by)
        return BELOW

    return rebuilt(definition, sheet.places.walk(definition), change)
