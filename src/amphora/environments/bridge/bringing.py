"""Removals, and what a platform makes along with a new item by itself: a table with its first column, an app with a
page. What can be removed again is; what can't be is written over by what the package has in its place."""

from __future__ import annotations

from contextlib import nullcontext

from amphora.core.form.native_ids import closed_id
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.environments.bridge import apart, members
from amphora.environments.bridge.acts import Acts
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.hold import held
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.parts import BridgeSheet, Call, ItemPart
from amphora.environments.bridge.sameness import Sameness
from amphora.environments.bridge.single import Single
from amphora.environments.contract import Write


def is_kept(sheet: BridgeSheet, kind: str, form: Json) -> bool:
    """Whether an item of this definition is one that a platform makes along with what holds it, and never removes
    alone."""
    within = sheet.items[kind].within
    keeps = sheet.items[within.kind].brings.get(kind) if within else None
    return keeps is not None and keeps.holds(form)


class Bringing(Acts):
    """Whoever makes and removes items by a sheet."""

    def __init__(self, client: Client, sheet: BridgeSheet, account: str = "") -> None:
        super().__init__(client, sheet, account)
        self._sameness = Sameness(self.items, client.base_url, sheet.file)
        self._new: set[str] = set()

    def _taken_away(self, part: ItemPart, single: Single) -> Single:
        """What was just made, without what the platform has put into it by itself."""
        native_id = single.row.native_id
        self._new.add(native_id)
        holder = closed_id(native_id, part.kind.ids)
        brought = [one for kind in part.brings for one in self.items.held_in(self.sheet.items[kind], holder)]
        for one in brought:
            if not is_kept(self.sheet, one.row.kind, one.newest):
                self._remove(self._switched_back(one, False))
        return self._again(single) if brought else single

    def _in_its_place(self, part: ItemPart, write: Write) -> Single | None:
        """What the platform has made of which there can be no other, where this is to be in its place."""
        if part.within is None or not is_kept(self.sheet, write.kind, write.definition):
            return None
        holder = self.bodies.holder(part, write)["parent"]
        there = [one for one in self.items.held_in(part, holder) if is_kept(self.sheet, one.row.kind, one.newest)]
        # Only in what is new: elsewhere it is somebody's, unless it has that very name.
        is_new = any(str(closed_id(id_, self.ids[part.within.kind])) == str(holder) for id_ in self._new)
        named = [one for one in there if is_new or one.row.states.title == write.states.title]
        return named[0] if len(named) == 1 else None

    def _remove(self, single: Single) -> None:
        part, values = self._part(single), self._values(single)
        emptied = part.retire.said("empties", []) if part.retire else []
        count = 0
        for name in emptied:
            for entry in members.entries_of(self.client, part, name, values):
                # From the first one on it is no longer what it was.
                with taken(f"{count} of what it holds are gone") if count else nullcontext():
                    apart.removed(self.client, part, name, entry, values)
                count += 1
        with taken("what it holds is gone") if count else nullcontext():
            retire = self._able(part.retire, single.row.states.title, "remove", single.row.kind)
            # Some platforms only put away what is removed, and keep its name, until that is said once more: `then`.
            with held(self._change, retire, values, "it was removed") as more:
                self._do(retire, self._again(single) if retire.said("first", None) else single, "remove", more)
        self.items.forget(single.row.native_id)
        self._sameness.forget(single.row.native_id)

    def finish_removal(self, kind: str, native_id: str) -> bool:
        """Says once more what was said of a removal last; whether that was needed, and done."""
        part = self.sheet.items[kind]
        then: Call | None = part.retire.said("then", None) if part.retire else None
        if then is None:
            return False
        try:
            self._change(then, self.items.holders.values_of(part, str(closed_id(native_id, part.kind.ids))))
        except EnvironmentRefused:
            return False
        return True
