"""Rules on completeness: is everything that the package uses packed, or there already?"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from amphora.core.checks.context import CheckContext
from amphora.core.keys import Key, name_of
from amphora.core.model import Finding, Item, Level
from amphora.core.pointers import parse_pointer
from amphora.core.selection import readable
from amphora.core.spots import part_ids
from amphora.core.tokens import Token, TokenPlace


def item_missing(context: CheckContext) -> Iterable[Finding]:
    """An item uses another that is neither packed nor in the target."""
    for key, uses in sorted(_outside(context).items()):
        if context.target is None:
            message = f"{readable(key)} is used but not packed; the target has to have it."
            yield context.finding("item-missing", Level.NOTE, message, item=uses[0][0].key, place=uses[0][1].pointer)
        elif key not in context.target.rows:
            users = ", ".join(f"{item.states.title!r} at {place.pointer}" for item, place in uses[:3])
            more = f" and {len(uses) - 3} more" if len(uses) > 3 else ""
            yield context.finding(
                "item-missing",
                Level.ERROR,
                f"{readable(key)} is neither packed nor in {context.target.name}; used by {users}{more}.",
                item=uses[0][0].key,
                place=uses[0][1].pointer,
                next_step=context.retry,
            )


def part_missing(context: CheckContext) -> Iterable[Finding]:
    """An item uses a part (a column, a node) that the packed or present item doesn't have."""
    parts: dict[Key, frozenset[str]] = dict(context.target.parts) if context.target else {}
    for item in context.contents.items.values():
        sheet = context.sheets.get(item.kind)
        if sheet:
            parts[item.key] = frozenset(part_ids(item.form, sheet))
    for item, place, token in _references(context):
        if token.part is not None and token.key in parts and token.part not in parts[token.key]:
            yield context.finding(
                "part-missing",
                Level.ERROR,
                f"{item.states.title!r} uses {token.part!r} of {readable(token.key)}, which has no such part.",
                item=item.key,
                place=place.pointer,
                next_step="Mend the reference in the source, or pack the version that has it.",
            )


def unbound_id(context: CheckContext) -> Iterable[Finding]:
    """A reference names an id that nothing in the source has."""
    for item, place, token in _references(context):
        if token.kind == "unbound":
            yield context.finding(
                "unbound-id",
                Level.ERROR,
                f"{item.states.title!r} refers to {name_of(token.key)!r}, which exists nowhere in the source.",
                item=item.key,
                place=place.pointer,
                next_step=f"Mend it in {context.contents.source} and export again.",
            )


def undeclared_reference(context: CheckContext) -> Iterable[Finding]:
    """A value is the id of an item, at a place where the kind sheet knows of no reference."""
    for item, place, token in _references(context):
        sheet = context.sheets.get(item.kind)
        if sheet is None or place.in_text:
            continue
        walk = sheet.places.walk(item.form)
        for name in parse_pointer(place.pointer):
            walk = walk.step(name)
        if not (walk.spot.refer or walk.spot.setting):
            yield context.finding(
                "undeclared-reference",
                Level.NOTE,
                f"{item.states.title!r} names {readable(token.key)} where no reference is declared.",
                item=item.key,
                place=place.pointer,
                next_step=f"If it is one, add the place to the kind sheet of {item.kind!r}.",
            )


def _references(context: CheckContext) -> Iterator[tuple[Item, TokenPlace, Token]]:
    for _, item in sorted(context.contents.items.items()):
        for place, token in item.tokens:
            if token.is_item or token.kind == "unbound":
                yield item, place, token


def _outside(context: CheckContext) -> dict[Key, list[tuple[Item, TokenPlace]]]:
    """The items that are used but not packed, with where."""
    result: dict[Key, list[tuple[Item, TokenPlace]]] = {}
    for item, place, token in _references(context):
        if token.is_item and token.key not in context.contents.items:
            result.setdefault(token.key, []).append((item, place))
    return result
