"""What a platform puts into a new item by itself: a table comes with a column, an app with a page. What can be
removed again is; what can't be is written over by what the package has in its place."""

from __future__ import annotations

from amphora.core.form.native_ids import closed_id
from amphora.environments.bridge.acts import Acts
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.parts import BridgeSheet, ItemPart
from amphora.environments.bridge.single import Single
from amphora.environments.contract import Write


class Byproducts(Acts):
    """Whoever makes items by a sheet, and looks after what came with them."""

    def __init__(self, client: Client, sheet: BridgeSheet, account: str = "") -> None:
        super().__init__(client, sheet, account)
        self._new: set[str] = set()

    def _taken_away(self, part: ItemPart, single: Single) -> Single:
        """What was just made, without what the platform has put into it by itself."""
        native_id = single.row.native_id
        self._new.add(native_id)
        holder = closed_id(native_id, part.kind.ids)
        brought = [one for kind in part.brings for one in self.items.held_in(self.sheet.items[kind], holder)]
        for one in brought:
            if not self.sheet.goes_along(one.row.kind, one.newest):
                self._remove(self._switched_back(one, False))
        return self._again(single) if brought else single

    def _in_its_place(self, part: ItemPart, write: Write) -> Single | None:
        """What the platform has made of which there can be no other, where this is to be in its place."""
        if part.within is None or not self.sheet.goes_along(write.kind, write.definition):
            return None
        holder = self.bodies.holder(part, write)["parent"]
        there = [one for one in self.items.held_in(part, holder) if self.sheet.goes_along(one.row.kind, one.newest)]
        # Only in what is new: elsewhere it is somebody's, unless it has that very name.
        is_new = any(str(closed_id(id_, self.ids[part.within.kind])) == str(holder) for id_ in self._new)
        named = [one for one in there if is_new or one.row.states.title == write.states.title]
        return named[0] if len(named) == 1 else None
