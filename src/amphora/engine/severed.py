"""What would be cut off: items beside a package that use a part of something that the import takes from it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from amphora.core.form.parts import parts_gone, parts_used
from amphora.core.plan.actions import Action, Do
from amphora.core.values.keys import Key
from amphora.core.values.model import Item
from amphora.engine.sides import Side


def severed_by(
    side: Side, actions: Sequence[Action], present: Mapping[Key, Item], leaving: Collection[Key]
) -> tuple[tuple[Key, Key, str], ...]:
    """Who uses a part that would be gone: user, item, part. What the package holds itself is no matter of this, and
    neither is what is `leaving`."""
    sheets = side.opened.description.sheets
    ways = [way for sheet in sheets.values() for way in sheet.parts_by]
    gone = {
        action.key: parts
        for action in actions
        if action.do is Do.UPDATE and action.key in present and action.item.kind in sheets
        if (parts := parts_gone(present[action.key].form, action.form, sheets[action.item.kind], ways))
    }
    # Everything there has to be read for it, and hardly any import takes a part away.
    if not gone:
        return ()
    apart = {action.key for action in actions} | set(leaving)
    others = {native_id: key for native_id, key in side.keys.items() if key not in apart}
    found: set[tuple[Key, Key, str]] = set()
    for native_id, image in side.opened.environment.look(list(others)).items():
        key, sheet = others[native_id], sheets.get(image.kind)
        for version in (image.live, image.draft):
            uses = parts_used(version, sheet, side.names, key) if version is not None else ()
            found |= {(key, use.key, use.part) for use in uses if (use.by, use.part) in gone.get(use.key, ())}
    return tuple(sorted(found))
