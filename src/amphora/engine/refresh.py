"""Dockets brought up to date: what was decided stays decided, as far as the question is still the same."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from amphora.core.plan.decisions import ItemDecision
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents
from amphora.engine.docket import Prepared, prepare
from amphora.engine.imports import base_of, packed, target_of
from amphora.engine.session import Session
from amphora.files.docket_file import AGREED, read_docket, write_docket


@dataclass(frozen=True)
class Refreshed:
    """The docket as it is now, and the decisions that no longer fit: (item, place)."""

    prepared: Prepared
    kept: int
    dropped: tuple[tuple[Key, str], ...]
    agreed: int = 0
    """How many agreements were to what it was before: they hold no longer."""


def refresh_docket(session: Session, path: Path) -> Refreshed:
    """Makes the docket of a file anew and keeps the decisions whose three values are what they were."""
    file = read_docket(path)
    contents, since = packed(session, file), base_of(session, file)
    said, target = file.decisions, target_of(session, file)
    fates = {key: fate for key, fate in said.fates.items() if key not in contents.items and fate != "stay"}
    plain = replace(said, items={}, fates=_still(session, contents, target, fates))
    undecided = prepare(session, contents, target, plain, since)
    now = {
        (action.key, change.place): change.sides
        for action in undecided.docket.actions
        for change in (action.comparison.changes if action.comparison else ())
    }
    kept: dict[Key, ItemDecision] = {}
    dropped = []
    for key, mine in said.items.items():
        places = {}
        for place, choice in mine.places.items():
            if (key, place) in now and file.sides.get((key, place)) == now[key, place]:
                places[place] = choice
            else:
                dropped.append((key, place))
        is_kept = key in contents.items
        if mine.whole and not is_kept:
            dropped.append((key, ""))
        kept[key] = ItemDecision(mine.whole if is_kept else "", places)
    prepared = prepare(session, contents, target, replace(plain, items=kept), since)
    write_docket(path, prepared.docket)
    count = sum(len(one.places) + bool(one.whole) for one in kept.values())
    return Refreshed(prepared, count, tuple(dropped), len(file.document.get(AGREED) or ()))


def _still(session: Session, contents: Contents, target: str, fates: Mapping[Key, str]) -> dict[Key, str]:
    """The fates of what is still not in the package, and still there."""
    plain = prepare(session, contents, target).docket if fates else None
    there = {one.key for one in plain.retirements} if plain else set()
    return {key: fate for key, fate in fates.items() if key in there}
