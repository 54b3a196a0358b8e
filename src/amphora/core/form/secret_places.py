"""Secrets into the places where a portable form has their tokens."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.form.places import Walk
from amphora.core.form.spots import named_elements
from amphora.core.values.model import Json


def entered(present: Json, form: Json, secrets: Mapping[str, str], walk: Walk) -> Json:
    """A native definition with secrets where a portable form of it has their tokens. Elements with names are found by
    them; a place that is no longer there gets nothing."""
    if isinstance(form, dict) and isinstance(present, dict):
        result = dict(present)
        for name, part in form.items():
            if isinstance(part, str) and part in secrets:
                result[name] = secrets[part]
            elif name in present:
                result[name] = entered(present[name], part, secrets, walk.step(name))
        return result
    if isinstance(form, list) and isinstance(present, list):
        member = walk.spot.named_by
        places = named_elements(form, member) if member else None
        return [
            entered(part, form[at], secrets, walk.step(str(number)))
            if (at := _place(part, number, member, places)) is not None and at < len(form)
            else part
            for number, part in enumerate(present)
        ]
    return present


def _place(part: Json, number: int, member: str | None, places: Mapping[str, int] | None) -> int | None:
    if places is None or member is None:
        return number
    name = part.get(member) if isinstance(part, dict) else None
    return places.get(name) if isinstance(name, str) else None
