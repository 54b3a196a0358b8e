"""Attachments that stay behind: what stands in a form instead of them, and what becomes of that in a target."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from amphora.core.form.bindings import MISSING
from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import Walk
from amphora.core.form.spots import named_elements
from amphora.core.form.visit import visited, with_texts
from amphora.core.values.model import Item, Json
from amphora.core.values.tokens import attachment_of, parse_token

LEFT_OUT = "amphora:file:left-out"
"""Stands where an attachment was that the package doesn't carry: the target keeps its own."""


def kept_apart(definition: Json, sheet: KindSheet) -> list[str]:
    """The attachments, by SHA-256, that a native definition names instead of holding them."""
    # Asked of each item at each step: most kinds have none.
    if not sheet.has_files:
        return []
    places = visited(definition, sheet.places.walk(definition))
    named = (attachment_of(here.value) for here in places if here.walk.spot.is_file)
    return [name for name in named if name]


def without_attachments(item: Item) -> Item:
    """The item with every attachment left out."""

    def left_out(text: str) -> Json:
        token = parse_token(text)
        return LEFT_OUT if token and token.kind == "file" else text

    return replace(item, _form=with_texts(item.form, left_out))


def with_present(item: Item, present: Json, walk: Walk, keeps_all: bool = False) -> Item:
    """The item with what the target has where an attachment was left out; nothing where it has none.
    `present` is the target's form, MISSING if the item is new there. Where it `keeps_all`, also those that the item
    has no more."""
    form = _filled(item.form, present, walk, keeps_all)
    return item if form is None else replace(item, _form=form[0])


def _filled(value: Json, present: Json, walk: Walk, keeps_all: bool) -> tuple[Json] | None:
    """The value with the gaps filled, None where it has none."""
    if value == LEFT_OUT:
        return ("" if present is MISSING else present,)
    if isinstance(value, dict):
        there: Mapping[str, Json] = present if isinstance(present, dict) else {}
        parts = {
            name: _filled(part, there.get(name, MISSING), walk.step(name), keeps_all) for name, part in value.items()
        }
        kept = {n: part for n, part in there.items() if keeps_all and n not in value and walk.step(n).spot.is_file}
        # None and not the value itself: nearly all definitions hold no attachment, and are not made anew.
        if not any(parts.values()) and not kept:
            return None
        # Where the target lacks the member there is nothing to keep, and an empty one would be an edit that nobody
        # made.
        filled = {name: value[name] if part is None else part[0] for name, part in parts.items()}
        return ({name: part for name, part in filled.items() if value[name] != LEFT_OUT or name in there} | kept,)
    if isinstance(value, list):
        beside = _beside(value, present, walk.spot.named_by)
        elements = [_filled(part, beside[n], walk.step(str(n)), keeps_all) for n, part in enumerate(value)]
        if any(elements):
            return ([old if new is None else new[0] for old, new in zip(value, elements, strict=True)],)
    return None


def _beside(value: list[Json], present: Json, member: str | None) -> list[Json]:
    """The target's element for each of ours: of the same name, else at the same position.

    >>> there = [{"n": "a", "v": 1}, {"n": "b", "v": 2}]
    >>> _beside([{"n": "b"}, {"n": "c"}], there, "n"), _beside([0, 0, 0], there, None), _beside([0], None, "n")
    ([{'n': 'b', 'v': 2}, MISSING], [{'n': 'a', 'v': 1}, {'n': 'b', 'v': 2}, MISSING], [MISSING])
    """
    there: list[Json] = present if isinstance(present, list) else []
    index = named_elements(there, member) if member else None
    if member and index is not None:
        names = [part.get(member) if isinstance(part, dict) else None for part in value]
        return [there[index[name]] if name in index else MISSING for name in names]
    return [there[n] if n < len(there) else MISSING for n in range(len(value))]
