"""Whether an item is the same: creations that a platform answers with what is there already, and items that have
another id since they are called otherwise."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from amphora.core.values.errors import EnvironmentRefused, Uncertain
from amphora.core.values.model import Json, Listed
from amphora.environments.bridge.items import Items
from amphora.environments.bridge.parts import Call, ItemPart
from amphora.environments.bridge.paths import value_at
from amphora.environments.bridge.single import Single
from amphora.environments.contract import NEXT, NotNew


class Sameness:
    """Tells what was made from what was there. `where` is the platform's address, `file` that of its sheet."""

    def __init__(self, items: Items, where: str, file: str) -> None:
        self._items, self._where, self._file = items, where, file
        self._made: dict[str, str] = {}

    def refuse_before(
        self, part: ItemPart, call: Call, body: Mapping[str, Json], title: str, holder: Json = None
    ) -> None:
        """Refuses to make what is there already, where the platform would answer with that, or write over it;
        `holder` is what is to hold it."""
        same = call.said("same", [])
        if not same:
            return
        sent = body[part.write["wrapped"]] if part.write.get("wrapped") else body
        # Asked right before: the list of the start would not show what somebody made since.
        rows = self._items.rows_of(part)
        if part.kind.ids.within:
            # In something else the same name is another thing.
            rows = [row for row in rows if part.holder_in(row) == str(holder)]
        # The title may stand in the path alone.
        said = {at: title if at == part.paths["title"] else value_at(sent, at) for at in same}
        if any(all(value_at(row, at) == value for at, value in said.items()) for row in rows):
            raise self._error(part, title, "", EnvironmentRefused)

    def refuse_after(self, part: ItemPart, row: Listed, title: str, started: float, token: str) -> None:
        """Refuses what a creation gave if it was there before that started, or is what another one gave. It is never
        taken back: it is somebody's."""
        was_there = self._items.known.was_there(row.native_id, row.states.title, started)
        # In one step: several are made at once.
        if self._made.setdefault(row.native_id, token) != token or was_there:
            raise self._error(part, title, ", and perhaps wrote over it", NotNew)

    def found_again(self, part: ItemPart, before: Single, title: str) -> Single:
        """The item that was just written, and is to be called so. Where ids are made from names, one that is called
        otherwise now has another id: it is what bears the new name, if nothing else does."""
        old = before.row.native_id
        if title == before.row.states.title or self._items.singles([old]):
            return before
        ids = self._items.ids_called(part, title)
        found = self._items.single(part, ids.pop()) if len(ids) == 1 else None
        if found is None:
            raise Uncertain(f"{self._where} does not show {title!r} any more.", subject=old)
        # What was read of it before still stands; only where it is has changed.
        return replace(before, row=replace(before.row, native_id=found.row.native_id))

    def forget(self, native_id: str) -> None:
        """That an item was made: it is removed, and its id may be given again."""
        self._made.pop(native_id, None)

    def _error(self, part: ItemPart, title: str, words: str, kind: type[EnvironmentRefused]) -> EnvironmentRefused:
        said = f"{self._where} answers the creation of {title!r} with the {part.kind.singular} that is there"
        return kind(f"{said}{words}.", subject=title, place=self._file, next_step=NEXT["taken"])
