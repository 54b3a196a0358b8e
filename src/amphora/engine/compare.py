"""Comparing any two sides, with nobody importing anything."""

from __future__ import annotations

from contextlib import suppress

from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.form.routes import converted_contents
from amphora.core.merge.compare import item_differences
from amphora.core.merge.merge import FieldChange
from amphora.core.needs.selection import Unknown, choose, the_one
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Item
from amphora.engine.export import listed_items
from amphora.engine.session import Session
from amphora.engine.sides import own_side, read_items


@dataclass(frozen=True)
class Differences:
    """Two sides against each other: keys only on one of them, changes by key, and the items that were compared."""

    only_left: list[Key]
    only_right: list[Key]
    changed: dict[Key, list[FieldChange]]
    left: dict[Key, Item]
    right: dict[Key, Item]
    named: tuple[Key, ...] = ()
    """The items that it was narrowed down to; none where all was compared."""


def named_key(contents: Contents, name: str) -> Key:
    """The one item of a package that a name means."""
    return the_one(name, listed_items(contents), contents.title)


def compare_sides(session: Session, left: str | Contents, right: str | Contents, only: str | None) -> Differences:
    """Two environments (by name), two packages, or one of each."""
    left_items, left_sheets = _items(session, left)
    right_items, right_sheets = _items(session, right)
    # In the shape of the right side, as an import from left to right would have it.
    mine = Contents("", "", "", "", left_items, ())
    left_items = dict(converted_contents(mine, right_sheets, left_sheets.values())[0].items)
    sheets = left_sheets | right_sheets
    chosen: list[Key] = []
    if only is not None:
        chosen = _on_either(only, left_items, right_items)
        left_items, right_items = (
            {key: side[key] for key in chosen if key in side} for side in (left_items, right_items)
        )
    changed = {
        key: changes
        for key in sorted(left_items.keys() & right_items.keys())
        if (changes := item_differences(left_items[key], right_items[key], sheets[left_items[key].kind]))
    }
    only_left, only_right = left_items.keys() - right_items.keys(), right_items.keys() - left_items.keys()
    return Differences(sorted(only_left), sorted(only_right), changed, left_items, right_items, tuple(chosen))


def _on_either(name: str, left: dict[Key, Item], right: dict[Key, Item]) -> list[Key]:
    """The keys that a name means on one of two sides: what is new stands only on one, and each has its own ids, links
    and titles."""
    ours, theirs = (Contents("", "", "", "", items, ()) for items in ({**right, **left}, {**left, **right}))
    with suppress(Unknown):
        return choose([name], listed_items(ours), "the two sides")
    try:
        return choose([name], listed_items(theirs), "the two sides")
    except Unknown as unknown:
        words = f"Neither side has an item called {name!r}."
        raise Unknown(words, subject=name, details=unknown.details, next_step=unknown.next_step) from None


def _items(session: Session, side: str | Contents) -> tuple[dict[Key, Item], dict[str, KindSheet]]:
    if isinstance(side, Contents):
        return dict(side.items), {kind: parse_sheet(source, kind) for kind, source in side.sheets.items()}
    own = own_side(session.open(side), session.ledger, session.crosswalk)
    # What was never live has nothing to be compared with.
    published = [key for key, row in own.by_key.items() if not row.is_drafted_only]
    # With what was delivered as a guide: a text that happens to equal a setting stays a text.
    guides = session.ledger.last_forms(own.uid, own.by_key)
    items, _, _ = read_items(own, published, guides=guides, binds_new=True)
    return items, dict(own.opened.description.sheets)
