"""Which name leads where, as a platform says just now: titles and uids of items, and names of their parts."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from threading import Lock
from typing import Any

from amphora.core.form.native_ids import opened_id
from amphora.core.form.places import PartOf
from amphora.core.values.model import Json
from amphora.environments.bridge.parts import ItemPart
from amphora.environments.bridge.paths import text_at


class Names:
    """Remembers what was asked for until it is told to forget it: somebody may have renamed something, or we did.
    `rows` gives the list of a kind, `newest` an item's definition as it is written, `each` makes many looks."""

    def __init__(
        self,
        items: Mapping[str, ItemPart],
        rows: Callable[[ItemPart], list[Json]],
        newest: Callable[[str], Json],
        each: Callable[[Callable[[str], Any], Sequence[str]], list[Any]],
    ) -> None:
        self._items, self._rows, self._newest, self._each = items, rows, newest, each
        self._called: dict[tuple[str, str], dict[str, str]] = {}
        self._ids: dict[str, set[str]] = {}
        self._parts: dict[tuple[str, PartOf], dict[str, Json]] = {}
        self._holders: dict[tuple[str, PartOf], dict[str, str]] = {}
        self._sought: set[tuple[str, PartOf]] = set()
        self._seeking = Lock()

    def forget(self) -> None:
        """Everything is asked for anew."""
        self._called.clear()
        self._ids.clear()
        self._parts.clear()
        # Who holds what is looked up in what was known, and believed once that has been looked at.
        self._sought.clear()

    def called(self, kind: str, by: str) -> Mapping[str, str]:
        """The ids of the items of a kind by their titles, or by their uids, as the list says now; without those of
        which several have one."""
        part = self._items.get(kind)
        if part is None or by not in part.paths:
            return {}
        # Taken out once: others read at the same time, and may have it forgotten.
        known = self._called.get((kind, by))
        if known is None:
            found: dict[str, list[str]] = {}
            for row in self._rows(part):
                native = opened_id(part.id_in(row), part.kind.ids)
                found.setdefault(text_at(row, part.paths[by]), []).append(native)
            known = {name: ids[0] for name, ids in found.items() if name and len(set(ids)) == 1}
            self._called[kind, by] = known
        return known

    def ids(self, kind: str) -> set[str]:
        """The ids of all items of a kind, as the list says now."""
        if (known := self._ids.get(kind)) is None:
            part = self._items[kind]
            known = self._ids[kind] = {opened_id(part.id_in(row), part.kind.ids) for row in self._rows(part)}
        return known

    def parts(self, owner: str, part: PartOf) -> Mapping[str, Json]:
        """The ids of an item's parts by their names, as the item is now."""
        known = self._parts.get((owner, part))
        if known is None:
            # By what the platform writes, and not by what is shown of it: ids of parts are seldom compared.
            known = self._parts[owner, part] = part.ids_in(self._newest(owner))
        return known

    def holder(self, kind: str, part: PartOf, id_: str) -> str:
        """The id of the item of a kind that has a part of this id, as they all are now; empty where none has."""
        which = (kind, part)
        # One at a time: several that read at once would each look through all of them.
        with self._seeking:
            owner = self._holders.get(which, {}).get(id_, "")
            if which not in self._sought and not self._has(owner, part, id_):
                owners = sorted(self.ids(kind)) if kind in self._items else []
                parts = self._each(lambda owner: self.parts(owner, part), owners)
                found = {str(one): owner for owner, its in zip(owners, parts, strict=True) for one in its.values()}
                self._holders[which] = found
                self._sought.add(which)
            return self._holders.get(which, {}).get(id_, "")

    def _has(self, owner: str, part: PartOf, id_: str) -> bool:
        return bool(owner) and id_ in map(str, self.parts(owner, part).values())
