"""Parts of items that others use: a column, a step, a node. By id in a reference, or by name beside one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from amphora.core.form.bindings import Bindings
from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import PartOf
from amphora.core.form.references import natives_in
from amphora.core.form.spots import part_ids, spotted
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item, Json
from amphora.core.values.pointers import write_pointer
from amphora.core.values.tokens import parse_token


@dataclass(frozen=True)
class PartUse:
    """One use of a part: of which item, and the part's id there; or its name, where `by` says how parts of that item
    are named."""

    key: Key
    part: str
    by: PartOf | None = None


def parts_of(form: Json, sheet: KindSheet | None, by: PartOf | None = None) -> set[str]:
    """What of an item can be used: the ids of its parts, or their names. None where its kind is unknown."""
    if by:
        return by.names_in(form)
    return part_ids(form, sheet) if sheet else set()


def parts_named(item: Item, sheet: KindSheet | None) -> Iterator[tuple[str, PartUse]]:
    """The uses in an item's portable form, each with its place (RFC 6901)."""
    for place, token in item.tokens:
        if token.part is not None:
            yield place.pointer, PartUse(token.key, token.part)
    for at, name, spot, beside in spotted(item.form, sheet) if sheet and sheet.parts_by else ():
        part = spot.part_of
        token_beside = parse_token(str(beside.get(part.of))) if part and isinstance(beside, dict) else None
        # An id that had no name at home is no name here either; it is carried as it is.
        if part is not None and token_beside is not None and not part.is_none(name):
            yield write_pointer(at), PartUse(token_beside.key, name, part)


def parts_used(definition: Json, sheet: KindSheet | None, names: Bindings, own: Key) -> set[PartUse]:
    """The uses in a native definition, of items that have a name. Those of its own parts are nobody's business."""
    tokens = (
        parse_token(text) for native in natives_in(definition, names, sheet) if (text := names.token_of(native))
    )
    found = {PartUse(token.key, token.part) for token in tokens if token and token.part is not None}
    for _, name, spot, beside in spotted(definition, sheet) if sheet and sheet.parts_by else ():
        part = spot.part_of
        owner = names.owner_of(str(beside.get(part.of))) if part and isinstance(beside, dict) else None
        if part and owner and not part.is_none(name):
            found.add(PartUse(owner, name, part))
    return {use for use in found if use.key != own}


def parts_gone(before: Json, after: Json, sheet: KindSheet, ways: Iterable[PartOf]) -> set[tuple[PartOf | None, str]]:
    """What could be used of an item and no longer can, once it is another: ids of parts, and names by the `ways` in
    which some kind names them."""
    # The ids always; names only where a kind goes by them.
    all_ways: list[PartOf | None] = [None, *ways]
    return {(by, part) for by in all_ways for part in parts_of(before, sheet, by) - parts_of(after, sheet, by)}
