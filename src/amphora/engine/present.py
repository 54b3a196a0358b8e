"""The present: what an environment holds of a package just now, and what was last known of it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import field, replace

from amphora.core.form.attachments import LEFT_OUT, with_present
from amphora.core.form.bindings import MISSING
from amphora.core.form.filled import unfilled
from amphora.core.form.portable import Portable
from amphora.core.merge.compare import Base
from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.plan.claims import Claims
from amphora.core.values.canon import loose_digest
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Found, Item, Json, States
from amphora.engine.action import Known
from amphora.engine.session import Session
from amphora.engine.shapes import Shapes
from amphora.engine.sides import Side, form_of, read_items
from amphora.environments.contract import TellsMakers


@dataclass(frozen=True)
class Adopted:
    """What of a run that stopped in its middle is there, as it left it: all of it, what it created, and of what was
    there before whether that was on then: off for a change, it is on for whoever decides. Of what a change left
    `half` written, the native definition of before: half of our own work is no side of a merge."""

    keys: frozenset[Key] = frozenset()
    created: frozenset[Key] = frozenset()
    on: Mapping[Key, bool | None] = field(default_factory=dict)
    half: Mapping[Key, Json] = field(default_factory=dict)


NOTHING_ADOPTED = Adopted()


@dataclass(frozen=True)
class Present:
    """What of a package's items is there: in portable form, natively, with what was noticed on the way. `bases` are
    what was last delivered or exported of them, `of_others` what a run of another ledger made."""

    items: Mapping[Key, Item]
    found: Mapping[Key, Found]
    noticed: Mapping[Key, Portable]
    bases: Mapping[Key, Base]
    of_others: Mapping[Key, str] = field(default_factory=dict)

    def known(self, session: Session, side: Side, key: Key, gone: Collection[Key], adopted: Adopted) -> Known:
        """What the ledger knows of one item."""
        earlier = _earlier(session, side, key, self.items.get(key), self.bases.get(key))
        return Known(self.bases.get(key), key in gone, earlier, key in adopted.keys, key in adopted.created)


def present_in(
    session: Session,
    side: Side,
    contents: Contents,
    since: Contents | None,
    mapped: Collection[Mapped],
    adopted: Adopted,
) -> Present:
    """Reads what is there of a package's items, with the bindings and the shape that were delivered."""
    bases = {key: _as_left(base, side, key) for key, base in _bases(session, contents, side, since).items()}
    there = [key for key in contents.items if key in side.by_key]
    # The package's form guides the reading: where several tokens would render to what stands there, the one is taken
    # that the package has.
    guides = {key: contents.items[key].form for key in there}
    others = of_others(session, side, [key for key in there if key not in bases and key not in adopted.keys])
    readable = [key for key in there if key not in adopted.keys]
    items, found, noticed = read_items(side, readable, guides=guides, bases=bases)
    if adopted.keys:
        # Our own drafts are what has been written so far.
        mine = [key for key in there if key in adopted.keys]
        ours = read_items(side, mine, "draft", guides, bases)
        as_before = {key: replace(item, states=_on(item, adopted)) for key, item in ours[0].items()}
        for key in adopted.half.keys() & as_before.keys() & bases.keys():
            form = form_of(side, bases[key], key, adopted.half[key])
            as_before[key] = replace(as_before[key], _form=form)
        items, found, noticed = items | as_before, found | ours[1], noticed | ours[2]
        # What the run made is its own base: whatever differs from the package is still to be done. Not what somebody
        # has changed since: of that nobody can tell what is theirs, and what is still to come.
        natives = {one.need.key: one.native for one in mapped if one.state is MapState.MAPPED}
        for key in adopted.created & adopted.keys & items.keys():
            bases.setdefault(key, Base(items[key].form, items[key].states, natives))
    return Present(items, found, noticed, bases, others)


def _on(item: Item, adopted: Adopted) -> States:
    return replace(item.states, is_on=adopted.on.get(item.key, item.states.is_on))


def of_others(session: Session, side: Side, keys: Collection[Key]) -> dict[Key, str]:
    """Items that were made by a run of another ledger, by that one's uid: what it knows of them nobody knows here."""
    environment = side.opened.environment
    if not keys or not isinstance(environment, TellsMakers):
        return {}
    ids = {side.by_key[key].native_id: key for key in keys}
    # A token begins with the ledger's uid, where the environment takes one of that length.
    uids = {ids[id_]: token.partition("/")[0] for id_, token in environment.makers(list(ids)).items()}
    mine = session.ledger.uid()
    return {key: uid for key, uid in uids.items() if len(uid) == len(mine) and uid != mine}


def no_longer_there(session: Session, contents: Contents, side: Side, claims: Claims) -> set[Key]:
    """What was delivered, is still claimed, and is not there: somebody removed it, or an older backup is back."""
    absent = [key for key in contents.items if key not in side.by_key]
    return claims.claimed(session.ledger.last_deliveries(side.uid, absent))


def _earlier(session: Session, side: Side, key: Key, present: Item | None, base: Base | None) -> str:
    """The version whose delivery the target shows, if that is an earlier one than the last: what was delivered
    since is no longer there, which no merge of fields would say."""
    if present is None or base is None or present.form_bytes == base.form_bytes or key in side.untaken:
        return ""
    shapes = Shapes(side)
    past = [replace(d, delivery=shapes.delivery(d.delivery)) for d in session.ledger.deliveries_of(side.uid, key)]
    # The last one is the base already: only what came before it would be news.
    for one in past[1:]:
        delivery = one.delivery
        is_same = loose_digest(delivery.merged) == present.fingerprint and delivery.merged_states == present.states
        if is_same and loose_digest(past[0].delivery.merged) != present.fingerprint:
            return f"{delivery.package} {delivery.version}"
    return ""


def _bases(session: Session, contents: Contents, side: Side, since: Contents | None) -> dict[Key, Base]:
    """What the package carries as its base; else the later of the last delivery into the environment and the last
    export from it; else what the named package holds."""
    bases = {key: Base(form, states, {}) for key, (form, states) in contents.bases.items()}
    # The environment may have been brought to another release since: what was delivered then is read in the shape of
    # today.
    shapes = Shapes(side)
    for key, base in session.ledger.bases(side.uid, contents.items).items():
        if (here := shapes.base(key, base)) is not None:
            bases.setdefault(key, here)
    for key, item in since.items.items() if since else ():
        if key in contents.items:
            bases.setdefault(key, Base(item.form, item.states, {}, item.schema))
    return bases


def _as_left(base: Base, side: Side, key: Key) -> Base:
    """The base with what stood there in the end, where the target has not taken what it was asked for: that is no
    edit, and is asked for once more."""
    if key not in side.untaken:
        return base
    places = side.opened.description.sheets[kind_of(key)].places
    return replace(base, _form=unfilled(base.form, [one.reversed for one in side.untaken[key]], places))


def with_kept_attachments(
    contents: Contents,
    side: Side,
    present: Mapping[Key, Item],
    noticed: Mapping[Key, Portable],
    keeps_all: bool,
) -> Contents:
    """The contents with the target's own attachments where the package carries none, or with all of these."""
    items, sheets = dict(contents.items), side.opened.description.sheets
    for key, item in items.items():
        has_files = keeps_all and key in present and item.kind in sheets and sheets[item.kind].has_files
        if has_files or any(place.token == LEFT_OUT for place in item.places):
            form = present[key].form if key in present else MISSING
            items[key] = with_present(item, form, sheets[item.kind].places.walk(item.form), keeps_all)
    kept = {name: raw for portable in noticed.values() for name, raw in portable.files.items()}
    return replace(contents, items=items, files={**kept, **contents.files})
