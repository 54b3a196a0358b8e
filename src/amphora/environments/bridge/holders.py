"""What holds the items of a kind that are listed for each of something else: pages of apps, tables of bases."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

from amphora.core.form.native_ids import MARK, held_id, opened_id, plain_id
from amphora.core.values.model import Json
from amphora.environments.bridge.parts import ItemPart
from amphora.environments.bridge.paths import text_at, value_at


class Holders:
    """Who holds what, as far as lists have told; `listed` reads the list of a kind, and notes it here."""

    def __init__(self, parts: Mapping[str, ItemPart], listed: Callable[[ItemPart], object]) -> None:
        self._parts, self._listed = parts, listed
        # As the platform writes it, by the item's id; and the titles of what holds some, by kind and id.
        self._of: dict[str, Json] = {}
        self._titles: dict[tuple[str, str], str] = {}

    def ids_in(self, kind: str, rows: Sequence[Json]) -> list[Json]:
        """The ids of what may hold some, from its list; their titles are noted."""
        paths = self._parts[kind].paths
        ids = [value_at(row, paths["id"]) for row in rows]
        self._titles |= {(kind, str(id_)): text_at(row, paths["title"]) for id_, row in zip(ids, rows, strict=True)}
        return ids

    def note(self, part: ItemPart, native: str, holder: Json) -> None:
        """What holds an item that a list has shown."""
        self._of[opened_id(native, part.kind.ids)] = holder

    def made(self, part: ItemPart, native: str, holder: Json) -> str:
        """The id of what was just made in something, as it is called from now on."""
        # In a list it is called by both already.
        is_whole = not part.kind.ids.within or MARK in native
        native = native if is_whole else held_id(native, str(holder))
        self.note(part, native, holder)
        return native

    def forget(self, native_id: str) -> None:
        """That there was such an item."""
        self._of.pop(native_id, None)

    def learn(self, part: ItemPart, native_ids: Collection[str]) -> None:
        """Reads the list where nobody knows what holds one of these: somebody may have made it meanwhile."""
        # Once for all of them: what is gone would be looked for in a list of its own each time.
        if part.within and not self._of.keys() >= set(native_ids):
            self._listed(part)

    def values_of(self, part: ItemPart, native: str) -> dict[str, Json]:
        """What stands for placeholders in calls on an item; without `parent` nobody knows what holds it, and it is
        not there."""
        holder: Json = self._of.get(opened_id(native, part.kind.ids)) if part.within else None
        if part.kind.ids.within and holder is None:
            # It is told by what the item is called: nobody has to have listed it.
            holder = native.rpartition(MARK)[0] or None
        return {"id": plain_id(native, part.kind.ids), **self.values_in(part, holder)}

    def values_in(self, part: ItemPart, holder: Json) -> dict[str, Json]:
        """The same of what holds an item, and of what holds that in turn."""
        if part.within is None or holder is None:
            return {}
        above = self.values_of(self._parts[part.within.kind], str(holder)).get("parent")
        return {"parent": holder, **({} if above is None else {"above": above})}

    def path_of(self, part: ItemPart, native_id: str) -> tuple[str, ...]:
        """The titles of what holds an item, as the beginning of its path: in each there may be one of the same
        title."""
        if part.within is None or native_id not in self._of:
            return ()
        kind, holder = part.within.kind, str(self._of[native_id])
        above, title = self._parts[kind], self._titles.get((kind, holder), "")
        return (*self.path_of(above, opened_id(holder, above.kind.ids)), *([title] if title else []))
