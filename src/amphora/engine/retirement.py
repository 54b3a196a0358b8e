"""Retirement: what a package no longer holds, or is withdrawn, with what stays and uses it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.form.references import quick_references
from amphora.core.form.spots import masked_places
from amphora.core.needs.selection import choose
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.claims import Claims
from amphora.core.plan.docket import Parting, Retirement
from amphora.core.values.errors import UsageFault
from amphora.core.values.graph import in_order
from amphora.core.values.keys import Key
from amphora.core.values.model import Listed
from amphora.core.values.next_step import advice
from amphora.core.values.scan import token_places
from amphora.core.values.tokens import parse_token
from amphora.engine.session import Session
from amphora.engine.sides import Side
from amphora.environments.contract import TakesAlong


def retirements_of(
    session: Session,
    side: Side,
    keys: Sequence[Key],
    actions: Mapping[Key, Action],
    fates: Mapping[str, str],
    usual: Parting = Parting.STAY,
) -> list[Retirement]:
    """Items that may go, users before used, each with what stays and uses it; and whatever the environment would
    remove along with them, of which somebody has to say that it may go, if that is not `usual`."""
    along = _along(side, keys)
    # Both as they are now: what is to be removed is what somebody sees in the docket.
    rows = {key: side.by_key[key] for key in [*keys, *along]}
    where = f"What would go from {side.name}"
    if fates and not rows:
        raise UsageFault(
            f"Nothing would go from {side.name}: about {next(iter(fates))!r} there is nothing to say.",
            subject=next(iter(fates)),
            next_step=advice("Leave it out."),
        )
    chosen = {key: Parting(fate) for name, fate in fates.items() for key in choose([name], rows, where)}
    if not rows:
        return []
    # First who goes: users that go along are no reason to stay.
    going = {key for key in rows if chosen.get(key, usual) is Parting.RETIRE}
    uses = _uses(side, actions)
    for key, taker in along.items():
        uses[key] = uses.get(key, set()) | {taker}
    users: dict[Key, list[Key]] = {key: [] for key in rows}
    for user, used in sorted(uses.items()):
        for key in used & rows.keys():
            if user != key:
                # All of them are kept beside those that count: the docket's fingerprint covers them.
                users[key].append(user)
    secret = _with_secrets(side, rows)
    ours = session.ledger.journal.created(side.uid)
    claims = Claims(session.ledger.claims(side.uid))
    handed_over = claims.handed_over(rows)
    # Users before used, as people would remove them.
    order = [key for group in reversed(in_order({key: uses.get(key, set()) for key in rows})) for key in group]
    return [
        Retirement(
            key,
            rows[key],
            tuple(user for user in users[key] if user not in going),
            chosen.get(key, usual),
            rows[key].native_id not in ours,
            tuple(users[key]),
            along.get(key, ""),
            tuple(sorted({claim.package for claim in claims.others(key, "", "") if key in along})),
            key in secret,
            key in handed_over,
        )
        for key in order
    ]


def _with_secrets(side: Side, rows: Mapping[Key, Listed]) -> set[Key]:
    """Those of these items that hold a secret."""
    sheets = side.opened.description.sheets
    holding = {key: row.native_id for key, row in rows.items() if sheets[row.kind].secrets}
    images = side.opened.environment.look(list(holding.values())) if holding else {}
    found = {key: images[id_] for key, id_ in holding.items() if id_ in images}
    return {key for key, image in found.items() if masked_places(image.newest, sheets[image.kind])}


def _along(side: Side, keys: Sequence[Key]) -> dict[Key, Key]:
    """What goes when these go, each with the one that takes it."""
    environment = side.opened.environment
    if not isinstance(environment, TakesAlong):
        return {}
    found: dict[Key, Key] = {}
    asked = list(keys)
    # To the end: what is taken along may take others along.
    while asked:
        taken = environment.along([side.by_key[key].native_id for key in asked])
        new = {side.keys[one]: side.keys[taker] for one, taker in sorted(taken.items()) if one in side.keys}
        asked = [key for key in new if key not in found and key not in keys]
        found |= {key: new[key] for key in asked}
    return found


def _uses(side: Side, actions: Mapping[Key, Action]) -> dict[Key, set[Key]]:
    """What everything in the target uses, live and as a draft, as it will be after the import."""
    uses: dict[Key, set[Key]] = {}
    for native_id, image in side.opened.environment.look(list(side.keys)).items():
        key = side.keys[native_id]
        versions = [version for version in (image.live, image.draft) if version is not None]
        sheet = side.opened.description.sheets.get(image.kind)
        uses[key] = {used for one in versions for used in quick_references(one, side.names, key, sheet)}
    # What an item will use counts, not what it uses now: a package may let go of something and drop it at once.
    for key, action in actions.items():
        if action.do is not Do.LEAVE:
            tokens = (parse_token(place.token) for place in token_places(action.form))
            uses[key] = {token.key for token in tokens if token and token.is_item}
    return uses
