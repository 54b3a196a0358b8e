"""What is asked of a platform before items leave it: who uses them, and what goes along with them."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from amphora.core.values.errors import EnvironmentRefused
from amphora.environments.bridge.items import Items
from amphora.environments.bridge.parts import BridgeSheet
from amphora.environments.bridge.removal import Standing, refuse_danglings, taken_along, users
from amphora.environments.bridge.single import Single
from amphora.environments.contract import NEXT


def refuse_departure(sheet: BridgeSheet, items: Items, leaving: Mapping[str, Single]) -> None:
    """EnvironmentRefused where the removal of these would leave something dangling, or take along what nobody
    named."""
    kinds = {single.row.kind for single in leaving.values()}
    takes = takes_of(sheet, leaving)
    using = users([part.kind for part in sheet.items.values()], kinds) | {one.get("kind", "") for one in takes}
    others = _others(sheet, items, using, leaving)
    kept = {one.native_id for one in others if sheet.goes_along(one.sheet.kind, *one.forms)}
    # What goes only with what holds it belongs to that, and needs no naming.
    if along := {id_: by for id_, by in taken_along(others, takes, leaving).items() if id_ not in kept}:
        title = next(other.title for other in others if other.native_id in along)
        raise EnvironmentRefused(
            f"Removing it would take {title!r} along, which nobody named.",
            subject=min(along),
            next_step=NEXT["in-use"],
        )
    refuse_danglings([one for one in others if one.native_id not in kept], leaving)


def led_along(sheet: BridgeSheet, items: Items, leaving: Mapping[str, Single]) -> dict[str, str]:
    """The ids of what the removal of these takes along, each with the one that takes it."""
    takes = takes_of(sheet, leaving)
    others = _others(sheet, items, {one.get("kind", "") for one in takes}, leaving)
    own = [one for one in others if not sheet.goes_along(one.sheet.kind, *one.forms)]
    return taken_along(own, takes, leaving)


def _others(sheet: BridgeSheet, items: Items, kinds: Collection[str], leaving: Collection[str]) -> list[Standing]:
    """All items of some kinds but those that are to go."""
    # Sorted, so that the same refusal names the same item every time.
    parts = [part for kind, part in sorted(sheet.items.items()) if kind in kinds]
    rows = [row for part in parts for row in items.of_kind(part)]
    singles = items.singles([row.native_id for row in rows if row.native_id not in leaving])
    return [items.standing(single) for single in singles.values()]


def takes_of(sheet: BridgeSheet, leaving: Mapping[str, Single]) -> list[Mapping[str, str]]:
    """What the removal of these takes along: kinds, and where items of those name what is removed."""
    kinds = {single.row.kind for single in leaving.values()}
    calls = [call for kind in sorted(kinds) if (call := sheet.items[kind].retire)]
    return [one for call in calls for one in call.said("takes", [])]
