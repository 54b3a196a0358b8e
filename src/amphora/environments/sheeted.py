"""An environment under the workspace's kind sheets: what they call secret is masked at the first touch, whatever
the adapter knows of it, and kept on writing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from amphora.core.form.kinds import KindSheet
from amphora.core.form.spots import mask_secrets, masked_places
from amphora.core.plan.states import Image
from amphora.core.values.model import Found, Json
from amphora.core.values.pointers import parse_pointer, value_at, with_value
from amphora.environments.contract import Environment, Take, Write, Written
from amphora.environments.stand_in import stands_before


class Sheeted:
    """Passes everything on, but for definitions: these are masked by `sheets` on the way out; on the way in, masks
    that the adapter doesn't know (`own`) are replaced by what is there."""

    def __init__(self, inside: Environment, own: Mapping[str, KindSheet], sheets: Mapping[str, KindSheet]) -> None:
        self._inside, self._own, self._sheets = inside, own, sheets
        stands_before(self, inside)

    @staticmethod
    def seen_with(environment: Environment, own: Mapping[str, KindSheet], sheets: Mapping[str, KindSheet]) -> Sheeted:
        """An environment as it was seen under other sheets: what was no secret then shows its value."""
        if not isinstance(environment, Sheeted):
            return Sheeted(environment, own, sheets)
        return Sheeted(environment._inside, environment._own, sheets)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inside, name)

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        found = self._inside.read(native_ids, take)
        return [replace(one, definition=self._masked(one.definition, one.listed.kind)) for one in found]

    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        images = self._inside.look(native_ids)
        return {
            id_: replace(i, live=self._masked(i.live, i.kind), draft=self._masked(i.draft, i.kind))
            for id_, i in images.items()
        }

    def write(self, writes: Sequence[Write]) -> list[Written]:
        return self._inside.write([replace(one, definition=self._unmasked(one)) for one in writes])

    def _masked(self, definition: Json, kind: str) -> Json:
        sheet = self._sheets.get(kind)
        return mask_secrets(definition, sheet) if sheet and definition is not None else definition

    def _unmasked(self, write: Write) -> Json:
        """The definition with what is there at places that only the workspace calls secret: the adapter would
        take our mask for a value."""
        definition = write.definition
        mine = masked_places(definition, self._sheets[write.kind])
        unknown = mine.keys() - masked_places(definition, self._own[write.kind]).keys()
        if not unknown or write.native_id is None:
            return definition
        [present] = self._inside.read([write.native_id], "draft")
        for pointer in unknown:
            parts = parse_pointer(pointer)
            definition = with_value(definition, parts, value_at(present.definition, parts))
        return definition
