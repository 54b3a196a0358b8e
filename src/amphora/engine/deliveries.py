"""Deliveries: who brought an item into an environment when, whose claims there are, and what was edited since."""

from __future__ import annotations

from amphora.core.merge.merge import FieldChange
from amphora.core.needs.selection import the_one
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Claim, Listed
from amphora.engine.edits import as_packed
from amphora.engine.session import Session
from amphora.engine.sides import own_side
from amphora.engine.verify import verify
from amphora.ledger.records import Delivered


@dataclass(frozen=True)
class Traced:
    """One item's deliveries (the latest first, which is in force), claims, and local edits since."""

    environment: str
    key: Key
    listed: Listed
    deliveries: tuple[Delivered, ...]
    claims: tuple[Claim, ...]
    edits: tuple[FieldChange, ...]


def trace(session: Session, environment: str, name: str) -> Traced:
    """The history of one item of an environment."""
    side = own_side(session.open(environment), session.ledger, session.crosswalk)
    key = the_one(name, side.by_key, environment)
    found = session.ledger.deliveries_of(side.uid, key)
    claims = [claim for claim in session.ledger.claims(side.uid) if claim.key == key]
    edits = verify(session, environment, [as_packed(found[0].delivery)])[0].differences if found else ()
    return Traced(environment, key, side.by_key[key], tuple(found), tuple(claims), edits)
