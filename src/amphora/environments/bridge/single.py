"""One item by itself, as a platform answers it."""

from __future__ import annotations

from amphora.core.form.places import values_at
from amphora.core.values.errors import RevisionMoved
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json, Listed
from amphora.environments.bridge.parts import ItemPart
from amphora.environments.bridge.paths import member_path, value_at
from amphora.environments.contract import NEXT


@dataclass(frozen=True)
class Single:
    """One item as a platform answers it: its row, the live definition and the draft (opened, secrets masked); the
    newer of the two as it was written, the whole answer that it stood in, the entity tag, and the revision as the
    platform writes it, a number or a text; None where it says none."""

    row: Listed
    live: Json
    draft: Json
    native: Json
    whole: Json
    etag: str
    stamp: Json

    @property
    def newest(self) -> Json:
        """What a change is laid over."""
        return self.live if self.draft is None else self.draft


def moved(where: str, single: Single) -> RevisionMoved:
    """That an item is no longer as somebody saw it."""
    title = single.row.states.title
    return RevisionMoved(
        f"{title!r} was changed in {where} meanwhile.", subject=single.row.native_id, next_step=NEXT["moved"]
    )


def row_in(part: ItemPart, native: str, answer: Json) -> Json:
    """What the list shows of an item, in a single answer: all of it, or what stands where the sheet says. Some
    platforms say no id where they were asked by it."""
    row = value_at(answer, part.paths["row"]) if "row" in part.paths else answer
    if not isinstance(row, dict) or not isinstance(answer, dict):
        return row
    if part.within and part.within.member in answer:
        row = {part.within.member: answer[part.within.member], **row}
    path = part.paths["id"]
    name = path.removeprefix("$.")
    # What holds nothing of the definition is another answer, and no item.
    is_item = any(values_at(answer, at) for at in part.definition.values())
    is_plain = member_path(name) == path and not part.kind.ids.within
    return {name: native, **row} if is_item and is_plain else row
