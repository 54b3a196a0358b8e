"""Named arrays by the names of their elements: so they are looked into where an order of its own is no difference."""

from __future__ import annotations

from amphora.core.form.places import Walk
from amphora.core.form.spots import named_elements
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer


class ByName(dict[str, Json]):
    """A named array: its elements by their names, in their order."""


def by_name(value: Json, walk: Walk) -> Json:
    """A copy in which the elements of named arrays stand by their names."""
    if isinstance(value, dict):
        return {name: by_name(part, walk.step(name)) for name, part in value.items()}
    if not isinstance(value, list):
        return value
    parts = [by_name(part, walk.step(str(number))) for number, part in enumerate(value)]
    index = named_elements(value, walk.spot.named_by) if walk.spot.named_by else None
    return parts if index is None else ByName({name: parts[number] for name, number in index.items()})


def in_order(value: Json) -> Json:
    """The inverse of `by_name`."""
    if isinstance(value, list | ByName):
        return [in_order(part) for part in (value.values() if isinstance(value, ByName) else value)]
    return {name: in_order(part) for name, part in value.items()} if isinstance(value, dict) else value


def steps_in(form: Json, way: Pointer) -> Pointer:
    """The steps of a place by names, as far as it leads; what was written down before elements went by their names
    says where they stood."""
    steps: list[str] = []
    for step in way:
        if isinstance(form, ByName) and step not in form and step.isdecimal() and int(step) < len(form):
            step = list(form)[int(step)]
        steps.append(step)
        if isinstance(form, dict):
            form = form.get(step)
        elif isinstance(form, list) and step.isdecimal() and int(step) < len(form):
            form = form[int(step)]
    return tuple(steps)
