"""Places in words: one notation, wherever people read one."""

from __future__ import annotations

from amphora.core.form.spots import ORDER
from amphora.core.values.pointers import parse_pointer

_STATES = {"state:on": "switched on", "state:published": "published", "state:there": "the whole item"}


def place_phrase(place: str) -> str:
    """A place as people read it: `/steps/tell/to` -> `steps > tell > to`, `state:on` -> `on/off`."""
    if place.startswith("state:"):
        return _STATES.get(place, place[6:])
    path, note, _ = place.partition(ORDER)
    words = " > ".join(parse_pointer(path)) or "the whole definition"
    return f"{words}, the order" if note else words
