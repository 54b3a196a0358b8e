"""Deliveries: who brought an item into an environment when, whose claims there are, and what was edited since."""

from __future__ import annotations

from amphora.core.merge.merge import FieldChange
from amphora.core.needs.selection import the_one
from amphora.core.values.keys import Key, decode_segment, kind_of, path_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Claim, Listed
from amphora.engine.edits import as_packed
from amphora.engine.session import Session
from amphora.engine.sides import own_side
from amphora.engine.verify import verify
from amphora.ledger.records import Delivered, Delivery


@dataclass(frozen=True)
class Traced:
    """One item's deliveries (the latest first, which is in force), claims, and local edits since. `gone` says
    what became of it where it is no item there any more; then `listed` is how it was delivered last."""

    environment: str
    key: Key
    listed: Listed
    deliveries: tuple[Delivered, ...]
    claims: tuple[Claim, ...]
    edits: tuple[FieldChange, ...]
    gone: str = ""


def trace(session: Session, environment: str, name: str) -> Traced:
    """The history of one item of an environment."""
    side = own_side(session.open(environment), session.ledger, session.crosswalk)
    # What is gone by now is asked about as well, and then most of all.
    delivered = session.ledger.last_deliveries(side.uid)
    rows = {key: _as_delivered(one) for key, one in delivered.items() if key not in side.by_key}
    key = the_one(name, {**rows, **side.by_key}, environment)
    found = session.ledger.deliveries_of(side.uid, key)
    claims = [claim for claim in session.ledger.claims(side.uid) if claim.key == key]
    if key in rows:
        gone = "a connection of the environment's own by now" if key in side.turned else "no longer there"
        return Traced(environment, key, rows[key], tuple(found), tuple(claims), (), gone)
    edits = verify(session, environment, [as_packed(found[0].delivery)])[0].differences if found else ()
    return Traced(environment, key, side.by_key[key], tuple(found), tuple(claims), edits)


def _as_delivered(one: Delivery) -> Listed:
    path = tuple(decode_segment(part) for part in path_of(one.key).split("/"))
    return Listed(one.native_id, kind_of(one.key), path, one.merged_states, "")
