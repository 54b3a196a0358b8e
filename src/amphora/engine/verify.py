"""Verifying: is the target what was promised?"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field, replace

from amphora.core.form.bindings import MISSING
from amphora.core.form.filled import Filled, Learned, taken, unfilled
from amphora.core.merge.compare import item_differences
from amphora.core.merge.merge import By, FieldChange
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item, Json
from amphora.core.values.pointers import parse_pointer
from amphora.engine.session import Session
from amphora.engine.shapes import Shapes
from amphora.engine.sides import Side, own_side, read_items, with_turned
from amphora.ledger.records import Delivery


@dataclass(frozen=True)
class Verified:
    """One delivered item: as promised where `differences` is empty and it is there. `named` is what its needs were
    called when it was delivered."""

    key: Key
    title: str
    is_there: bool
    differences: tuple[FieldChange, ...] = ()
    named: Mapping[Key, Json] = field(default_factory=dict)

    @property
    def is_as_promised(self) -> bool:
        return self.is_there and not self.differences


def verify(session: Session, environment: str, deliveries: Sequence[Delivery]) -> list[Verified]:
    """Compares what was delivered, in its merged form and as the platform has taken it, with what is there now."""
    return list(looked_at(session, environment, deliveries, counts_losses=False).verified)


@dataclass(frozen=True)
class Look:
    """Delivered items looked at: how each stands, what was found there in portable form, and the whole index. Nothing
    is promised of those that `turned` into connections of the environment's own."""

    verified: tuple[Verified, ...]
    items: Mapping[Key, Item]
    side: Side
    deliveries: tuple[Delivery, ...] = ()
    turned: tuple[Key, ...] = ()
    refused: frozenset[Key] = frozenset()
    """Those which the platform has not taken as they were written, and which nobody has touched since."""
    unread: Mapping[Key, frozenset[str]] = field(default_factory=dict)
    """Members that are read by now, and were not when an item was delivered, or the other way round: of these nobody
    knows what was promised."""


def looked_at(session: Session, environment: str, deliveries: Sequence[Delivery], counts_losses: bool = True) -> Look:
    """The same, with what was found there. What the platform never took is not as promised, where losses count; it is
    nobody's edit all the same."""
    side = with_turned(own_side(session.open(environment), session.ledger, session.crosswalk))
    losses, side = side.untaken, side if counts_losses else side.as_asked
    shapes = Shapes(side)
    turned = tuple(one.key for one in deliveries if one.key in side.turned)
    deliveries = [shapes.delivery(one) for one in deliveries if one.key not in side.turned]
    there = [d for d in deliveries if d.key in side.by_key]
    # Read with the bindings of their delivery: a crosswalk that changed since is a change to bring, not damage.
    bases = {d.key: replace(d.base, _form=d.merged, states=d.merged_states) for d in there}
    session.listener(f"verifying {environment}", 0, len(there))
    items, _, _ = read_items(side, [d.key for d in there], bases=bases)
    unread = _unread(session, side, deliveries)
    look = Look((), items, side, tuple(deliveries), turned, unread=unread)
    verified = _looks(look, items)
    but_for = _looks(look, _with(look, losses)) if losses else verified
    pairs = zip(verified, but_for, strict=True)
    refused = frozenset(one.key for one, other in pairs if other.is_as_promised and not one.is_as_promised)
    return replace(look, verified=verified, refused=refused)


def looked_with(look: Look, learned: Mapping[Key, Learned]) -> Look:
    """The same look, once it is known what the environment made of what was written."""
    bare = {key: replace(look.items[key], _form=one.form) for key, one in learned.items()}
    look = replace(look, items={**look.items, **bare})
    items = _with(look, {key: taken(one.filled) for key, one in learned.items()})
    return replace(look, verified=_looks(look, items), items=items)


def _looks(look: Look, items: Mapping[Key, Item]) -> tuple[Verified, ...]:
    """How each delivered item stands, with these forms."""
    rows = {key: row.rows for key, row in look.side.by_key.items()}
    return tuple(_verified(d, items.get(d.key), rows.get(d.key), look.side, look.unread) for d in look.deliveries)


def _with(look: Look, filled: Mapping[Key, Sequence[Filled]]) -> dict[Key, Item]:
    """The items as they were asked for at these places."""
    items, sheets = dict(look.items), look.side.opened.description.sheets
    for key in items.keys() & filled.keys():
        form = unfilled(items[key].form, filled[key], sheets[items[key].kind].places)
        items[key] = replace(items[key], _form=form)
    return items


def _unread(session: Session, side: Side, deliveries: Sequence[Delivery]) -> dict[Key, frozenset[str]]:
    """Members that are read only now, or were only when these items were delivered."""
    now = {kind: sheet.reads for kind, sheet in side.opened.description.sheets.items() if sheet.reads}
    mine = [one for one in deliveries if kind_of(one.key) in now]
    then = session.ledger.journal.reads({one.run_id for one in mine}) if mine else {}
    found = {}
    for one in mine:
        kind = kind_of(one.key)
        was, reads = then.get(one.run_id, {}).get(kind), now[kind]
        if was is not None and reads is not None and reads != was:
            found[one.key] = reads ^ was
    return found


def _verified(
    delivery: Delivery, item: Item | None, rows: int | None, side: Side, unread: Mapping[Key, frozenset[str]]
) -> Verified:
    title = delivery.merged_states.title
    if item is None:
        return Verified(delivery.key, title, False)
    promised = Item(delivery.key, item.schema, delivery.merged, delivery.merged_states)
    found = item_differences(promised, item, side.opened.description.sheets[item.kind])
    if new := unread.get(delivery.key):
        found = [one for one in found if one.place[:1] != "/" or parse_pointer(one.place)[0] not in new]
    # Rows that were loaded and are all gone: a table that stands empty is not what was promised. Other numbers
    # are people at work.
    if delivery.rows and not rows:
        found.append(FieldChange("state:rows", By.UNKNOWN, MISSING, delivery.rows, rows or 0))
    return Verified(delivery.key, title, True, tuple(found), delivery.base.bindings)
