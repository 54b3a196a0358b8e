"""Ids that stand where a kind sheet says nothing: they would travel as they are, and mean something else there."""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from functools import cache

from amphora.core.form.kinds import KindSheet
from amphora.core.form.native_ids import MARK
from amphora.core.form.visit import Visit, visited
from amphora.core.merge.phrase import place_phrase
from amphora.core.values.model import Found, Json, Supply
from amphora.core.values.pointers import Pointer, write_pointer
from amphora.environments.contract import Description

SHORTEST = 3
"""Shorter ones stand everywhere: in sizes, counters, colours."""
_WORD = re.compile(r"[A-Z]?[a-z]+|[A-Z]+")
_NUMBERED = re.compile(r"\d+")


def unsaid_ids(description: Description, found: Sequence[Found], supplies: Sequence[Supply]) -> dict[str, list[str]]:
    """By kind, where in these definitions something looks like the id of an item or of a connection, in words: an id
    that the same definition names elsewhere, or the value of a member that is called like what it is the id of."""
    style, ids = description.id_style, dict[str, set[str]]()
    # What may be a word like others counts only under the name of its kind.
    words = {(one.listed.kind, one.listed.native_id) for one in found if not style.tells(one.listed.native_id)}
    for native in [*(one.listed.native_id for one in found), *(one.native_id for one in supplies)]:
        space, mark, plain = native.partition(MARK)
        ids.setdefault(space if mark else "", set()).add(plain if mark else native)
    told: dict[str, dict[str, str]] = {}
    for one in found:
        sheet = description.sheets[one.listed.kind]
        for place, phrase in _unsaid(one.definition, sheet, style.pattern, ids, words):
            told.setdefault(one.listed.kind, {}).setdefault(place, phrase)
    return {kind: [f"{place} ({phrase})" for place, phrase in places.items()] for kind, places in told.items()}


def _unsaid(
    form: Json, sheet: KindSheet, pattern: str, ids: Mapping[str, set[str]], words: Collection[tuple[str, str]]
) -> Iterator[tuple[str, str]]:
    named = {one[0] for one in re.finditer(pattern, json.dumps(form, ensure_ascii=False))}
    plain = {one.partition(MARK)[2]: one for one in named if MARK in one and len(one.partition(MARK)[2]) >= SHORTEST}
    outside: Pointer = ("",)
    for here in visited(form, sheet.places.walk(form), is_thorough=True):
        # Holders come first: all that is below one that doesn't travel harms nobody.
        outside = here.at if here.walk.is_outside else outside
        if here.at[: len(outside)] == outside:
            continue
        # What is open already is said.
        if here.walk.spot.refer or here.value is None or isinstance(here.value, dict | list | bool):
            continue
        text = str(here.value)
        other = (
            next((plain[n] for n in plain if n in text and _alone(n).search(text)), "")
            or _like(here, ids)
            or _called(here, words)
        )
        if other:
            yield place_phrase(_NUMBERED.sub("*", write_pointer(here.at))), f"{text[:30]!r}, as in {other}"


def _like(here: Visit, ids: Mapping[str, set[str]]) -> str:
    """The id that a member's name and value seem to mean."""
    words = [word.lower() for word in _WORD.findall(str(here.at[-1]))] if here.at else []
    spaces = (space for space in ids if space and len(words) == 2 and words == [space, "id"])
    return next((f"{space}{MARK}{here.value}" for space in spaces if str(here.value) in ids[space]), "")


def _called(here: Visit, words: Collection[tuple[str, str]]) -> str:
    """The item whose kind a member is called by, and whose id it holds: `work_pool_name` of a pool."""
    # The entries of a list are called as that is.
    name = next((step for step in reversed(here.at) if not step.isdecimal()), "")
    parts = [part.lower().removesuffix("s") for part in _WORD.findall(name)]
    return next((f"{kind} {id_}" for kind, id_ in words if id_ == here.value and kind.lower() in parts), "")


@cache
def _alone(plain: str) -> re.Pattern[str]:
    """An id that is no part of a longer word or number, and not open already."""
    return re.compile(rf"(?<![A-Za-z0-9{MARK}.-]){re.escape(plain)}(?![A-Za-z0-9.])")
