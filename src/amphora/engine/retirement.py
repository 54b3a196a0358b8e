"""What an import would take over from other packages, and what the package no longer holds."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from amphora.core.form.references import quick_references
from amphora.core.needs.selection import choose
from amphora.core.plan.docket import Action, Custody, Do, Fate, Retirement
from amphora.core.values.graph import in_order
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents
from amphora.core.values.scan import token_places
from amphora.core.values.tokens import parse_token
from amphora.engine.session import Session
from amphora.engine.sides import Side
from amphora.files.package import is_version, version_order


def shared_items(
    session: Session, contents: Contents, side: Side, actions: Sequence[Action]
) -> dict[Key, tuple[str, ...]]:
    """The items that would be updated although another package claims them, with those packages."""
    updated = {action.key for action in actions if action.do is Do.UPDATE}
    found: dict[Key, tuple[str, ...]] = {}
    for claim in session.ledger.claims(side.uid):
        if claim.key in updated and (claim.package, claim.source_uid) != (contents.name, contents.source_uid):
            found[claim.key] = (*found.get(claim.key, ()), f"{claim.package} {claim.version}")
    return found


def dropped_items(
    session: Session,
    contents: Contents,
    side: Side,
    actions: Sequence[Action],
    fates: Mapping[str, str],
    left: Collection[Key],
) -> list[Retirement]:
    """What this package alone claims there, in its own custody, and no longer holds; nothing on the way back to
    a lower version."""
    claims = session.ledger.claims(side.uid)
    mine = [c for c in claims if (c.package, c.source_uid) == (contents.name, contents.source_uid)]
    latest = max((version_order(c.version) for c in mine if is_version(c.version)), default=None)
    if latest is not None and version_order(contents.version) < latest:
        return []
    shared = {c.key for c in claims if c not in mine}
    mine = [c for c in mine if c.custody == Custody.PACKAGE and c.key not in contents.items]
    keys = [c.key for c in mine if c.key not in shared and c.key not in left]
    forms = {action.key: action for action in actions}
    return retirements_of(session, side, [key for key in sorted(keys) if key in side.by_key], forms, fates)


def retirements_of(
    session: Session, side: Side, keys: Sequence[Key], actions: Mapping[Key, Action], fates: Mapping[str, str]
) -> list[Retirement]:
    """Items that may go, users before used, each with what stays and uses it."""
    rows = {key: side.by_key[key] for key in keys}
    chosen = {key: Fate(fate) for name, fate in fates.items() for key in choose([name], rows, "what is dropped")}
    if not rows:
        return []
    going = {key for key in rows if chosen.get(key, Fate.STAY) is Fate.RETIRE}
    uses: dict[Key, set[Key]] = {}
    for found in side.opened.environment.read(list(side.keys), "draft"):
        key = side.keys[found.listed.native_id]
        uses[key] = quick_references(found.definition, side.names, key)
    for key, action in actions.items():
        if action.do is not Do.LEAVE:
            uses[key] = {used for place in token_places(action.form) if (used := _key_of(place.token))}
    ours = session.ledger.created(side.uid)
    order = [key for group in reversed(in_order({key: uses.get(key, set()) for key in rows})) for key in group]
    return [
        Retirement(
            key,
            rows[key],
            tuple(sorted(user for user, used in uses.items() if key in used and user not in going and user != key)),
            chosen.get(key, Fate.STAY),
            rows[key].native_id not in ours,
        )
        for key in order
    ]


def _key_of(token: str) -> Key | None:
    parsed = parse_token(token)
    return parsed.key if parsed and parsed.is_item else None
