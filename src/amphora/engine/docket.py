"""The docket of an import: read the target, match, compare, check, plan, and write it all down."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace

from amphora.core.form.attachments import LEFT_OUT, with_present, without_attachments
from amphora.core.form.bindings import MISSING
from amphora.core.form.declared import secret_faults
from amphora.core.form.portable import Portable
from amphora.core.form.routes import converted_contents
from amphora.core.form.secrets import sealed
from amphora.core.form.spots import part_ids
from amphora.core.merge.compare import Base
from amphora.core.merge.merge import TARGET
from amphora.core.needs.crosswalk import Mapped, MapState, resolve
from amphora.core.needs.needs import needs_of, types_of
from amphora.core.plan.arrivals import arranged, joined
from amphora.core.plan.claims import Claims
from amphora.core.plan.decisions import KEEP, NEW, THERE, WITHOUT, Decisions
from amphora.core.plan.docket import Action, Custody, Do, Docket, Fate, fingerprint
from amphora.core.plan.order import wanted_places
from amphora.core.plan.places import Place, place_of
from amphora.core.values.canon import digest
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, readable
from amphora.core.values.model import Contents, Finding, Item, Leak
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.tokens import NEED_KINDS, parse_token
from amphora.engine.action import Known, action_of, secrets_to_enter
from amphora.engine.check import found_by_rules, sheets_for, sheets_packed, target_index
from amphora.engine.leaks import leaks_in_images, refuse_faults
from amphora.engine.plan import planned
from amphora.engine.retirement import retirements_of
from amphora.engine.runs.material import secrets_at_hand
from amphora.engine.runs.stage import looked_up
from amphora.engine.session import Opened, Session
from amphora.engine.shapes import Shapes
from amphora.engine.sides import OWN_ADDRESS, Side, read_items, target_side
from amphora.environments.contract import ChoosesIds, TellsMakers, Wanted, able


@dataclass(frozen=True)
class Adopted:
    """What of a run that stopped in its middle is there, as it left it: all of it, and what it created."""

    keys: frozenset[Key] = frozenset()
    created: frozenset[Key] = frozenset()


NOTHING_ADOPTED = Adopted()


@dataclass(frozen=True)
class Prepared:
    """A docket with the target side that it was made from; `is_reviewed` if it came from a file. `contents` are
    what is taken in, `packed` all that the package holds, both as they are to arrive; `original` is the package."""

    docket: Docket
    side: Side
    opened: Opened
    contents: Contents
    is_reviewed: bool = False
    present: Mapping[Key, Item] = field(default_factory=dict, repr=False)
    packed: Contents | None = field(default=None, repr=False)
    said: Decisions = field(default_factory=Decisions, repr=False)
    original: Contents | None = field(default=None, repr=False)


def map_needs(session: Session, contents: Contents, opened: Opened) -> list[Mapped]:
    """The needs of a package as they stand for one environment."""
    needs = [need for need in contents.needs if need.kind in NEED_KINDS]
    known = {OWN_ADDRESS: opened.description.base_url}
    supplies = opened.environment.supplies()
    return resolve(needs, session.crosswalk, opened.name, supplies, known, contents.items.keys())


def prepare(
    session: Session,
    contents: Contents,
    environment: str,
    decisions: Decisions | None = None,
    since: Contents | None = None,
    adopted: Adopted = NOTHING_ADOPTED,
) -> Prepared:
    """The docket of importing a package into an environment, as decided so far; changes nothing. `since` is a
    package that serves as base where the ledger knows none, `adopted` what a run that goes on has done already."""
    said = decisions or Decisions()
    opened = session.open(environment)
    session.ledger.locks.wait(opened.description.uid, environment)
    original = contents
    # Before anything is compared: all sides have the shape that the target has.
    contents, converted, keys = converted_contents(contents, opened.description.sheets, sheets_packed(contents))
    since = converted_contents(since, opened.description.sheets, sheets_packed(since))[0] if since else None
    said = said.under(keys) if keys else said
    remembered = session.ledger.arrivals(opened.description.uid, contents.name, contents.source_uid)
    arrivals = joined(remembered, said.arrivals)
    # First of all: whatever looks at a title or folder from here on has to see the one that it will have there.
    packed = contents = arranged(contents, arrivals)
    contents = lacking(reduced(contents, said.without, session), [k for k in said.left_out if k in contents.items])
    sheets = opened.description.sheets
    items = packed.items.items()
    refuse_faults(
        packed, ((k, *fault) for k, i in items if i.kind in sheets for fault in secret_faults(i, sheets[i.kind]))
    )
    session.listener(f"reading {environment}", 0, 0)
    mapped = map_needs(session, packed, opened)
    side = target_side(opened, session.ledger, session.crosswalk, contents, mapped, said.same)
    mapped = [_made_by_now(one, side) for one in mapped]
    # One look at the claims for everything below: who shares, what is dropped and what was there have to agree.
    claims = Claims(session.ledger.claims(side.uid))
    gone = _no_longer_there(session, contents, side, claims)
    # "As the target has it" means that it stays away: then it is no part of this import at all, with everything that
    # follows from that (needs, order, retirement).
    given_up = [key for key in gone if said.of(key).on(THERE) == TARGET]
    if given_up:
        contents = lacking(contents, given_up)
    bases = _bases(session, contents, side, since)
    there = [key for key in contents.items if key in side.by_key]
    # The package's form guides the reading: where several tokens would render to what stands there, the one is taken
    # that the package has.
    guides = {key: contents.items[key].form for key in there}
    # An item without a live version has nothing to compare: its draft is a question of its own.
    readable = [key for key in there if not side.by_key[key].is_drafted_only and key not in adopted.keys]
    present, found, noticed = read_items(side, readable, guides=guides, bases=bases)
    if adopted.keys:
        # Our own drafts are what has been written so far.
        mine = [key for key in there if key in adopted.keys]
        ours = read_items(side, mine, "draft", guides, bases)
        present, found, noticed = present | ours[0], found | ours[1], noticed | ours[2]
        # What the run made is its own base: whatever differs from the package is still to be done.
        natives = {one.need.key: one.native for one in mapped if one.state is MapState.MAPPED}
        for key in adopted.created & present.keys():
            bases.setdefault(key, Base(present[key].form, present[key].states, natives))
    contents = _with_kept_attachments(contents, side, present, noticed)
    # Before any action: a definition can only be written in native words once every id that it refers to is known.
    other = _reserve_ids(contents, side, said.ids)
    actions = []
    for key in contents.items:
        earlier = _earlier(session, side, key, present.get(key), bases.get(key))
        known = Known(bases.get(key), key in gone, earlier, key in adopted.keys)
        actions.append(action_of(contents, key, side, present.get(key), found.get(key), known, said.of(key)))
    kept = secrets_at_hand(mapped, environment)
    to_enter = tuple(
        (action.key, token)
        for action in actions
        for token in secrets_to_enter(action, side, found.get(action.key), contents.files, kept)
    )
    # Left out of this import is not dropped by the package: it must not come up for retirement.
    left = (*said.left_out, *given_up)
    dropped = [key for key in claims.dropped(contents) if key in side.by_key and key not in left]
    retirements = retirements_of(session, side, dropped, {a.key: a for a in actions}, said.fates)
    docket = Docket(
        package=contents.name,
        version=contents.version,
        source_uid=contents.source_uid,
        package_digest=contents.package_digest,
        target=environment,
        target_uid=side.uid,
        ledger_uid=session.ledger.uid(),
        actions=tuple(actions),
        bindings=side.names,
        mapped=tuple(mapped),
        findings=(),
        fingerprint="",
        # Where people build, what arrives is theirs to go on with; elsewhere it is the package's, and local edits are
        # reported.
        custody=said.custody or (Custody.PACKAGE if opened.entry.role != "build" else Custody.TARGET),
        retirements=tuple(retirements),
        left_out=tuple(sorted(left)),
        shared=claims.shared((a.key for a in actions if a.do is Do.UPDATE), contents.name, contents.source_uid),
        since=f"{since.name}-{since.version}" if since else "",
        without=said.without,
        file=said.file,
        if_it_fails=said.if_it_fails,
        ids=said.ids,
        pause_after={key: about for key, about in said.pause_after.items() if key in contents.items},
        same=tuple(key for key in said.same if key in contents.items),
        id_taken=other if said.ids == KEEP else (),
        arrivals=arrivals,
        words=said.words,
        has_records=said.records,
        source_file=contents.file,
        to_enter=to_enter,
        files=contents.files,
        of_others=_of_others(session, side, [key for key in there if key not in bases and key not in adopted.keys]),
        converted=tuple(one for one in converted if one.key in contents.items),
    )
    docket = planned(docket, side, contents, said, adopted.keys)
    docket = replace(docket, leaks=leaks_of(session, docket, side, present))
    docket = replace(docket, fingerprint=_fingerprint(docket, side, packed))
    findings = _check(session, contents, side, docket, present, claims)
    docket = replace(docket, findings=tuple(findings))
    return Prepared(docket, side, opened, contents, False, present, packed, said, original)


def _made_by_now(mapped: Mapped, side: Side) -> Mapped:
    """A need for which the import would pause, unless what it is made from is there already: then nothing has to be
    waited for."""
    maker = str(mapped.value)
    if mapped.state is not MapState.LATER or maker not in side.by_key:
        return mapped
    reason = f"it can be made now, from {readable(maker)}, which is there"
    return replace(mapped, state=MapState.OPEN, value=None, reason=reason)


def leaks_of(
    session: Session, docket: Docket, side: Side, present: Mapping[Key, Item]
) -> tuple[tuple[Key, Leak], ...]:
    """What looks like a secret in what would be written, and in what is there and would be kept for an undo."""
    sheets, guard = side.opened.description.sheets, session.guard
    found: list[tuple[Key, Leak]] = []
    for action in docket.actions:
        if action.do in (Do.CREATE, Do.UPDATE):
            # What a package holds is asked anew by the target's own sheet, whatever its maker's said.
            mine = action.item.leaks or sealed(action.item, sheets.get(action.item.kind), guard).leaks
            theirs = present[action.key].leaks if action.key in present else ()
            found += [(action.key, leak) for leak in (*mine, *theirs) if leak.is_sure]
    # The live versions of what is written have been read already; drafts, and what will go, have not.
    unread = {
        a.key: a.present.native_id for a in docket.actions if a.do is Do.UPDATE and a.present and a.present.has_draft
    }
    unread |= {one.key: one.present.native_id for one in docket.fated(Fate.RETIRE)}
    if unread:
        found += leaks_in_images(looked_up(side.opened.environment, unread), sheets, guard)
    return tuple(dict.fromkeys(found))


def reduced(contents: Contents, without: Collection[str], session: Session | None = None) -> Contents:
    """What of a package is taken into an environment."""
    if unknown := sorted(set(without) - set(WITHOUT)):
        raise UsageFault(
            f"--without takes {' or '.join(WITHOUT)}, not {unknown[0]!r}.", next_step=to_type("import", "--help")
        )
    items = dict(contents.items)
    if "access" in without:
        sheets = sheets_for(contents, None)
        used = {key for item in items.values() for key in item.uses()}
        # A rule that something in the package uses is needed there, whatever it gives access to.
        rules = {k for k, item in items.items() if item.kind in sheets and sheets[item.kind].is_access} - used
        contents = lacking(contents, sorted(rules))
        items = dict(contents.items)
    if "attachments" in without:
        items = {key: without_attachments(item) for key, item in items.items()}
        contents = replace(contents, items=items, files={})
    return contents


def lacking(contents: Contents, keys: Collection[Key]) -> Contents:
    """The contents without some items, of which needs are made."""
    if not keys:
        return contents
    items = {key: item for key, item in contents.items.items() if key not in keys}
    return replace(contents, items=items, needs=tuple(needs_of(items, types_of(contents.needs))))


def check_package(session: Session, contents: Contents, environment: str) -> Prepared:
    """The docket with which an import of the package would begin; its findings are those for the target."""
    return prepare(session, contents, environment)


def is_current(session: Session, prepared: Prepared) -> bool:
    """Whether everything that a docket rests on is as it was when it was made: one sweep of the index, and
    for what is to be retired a look at everything that may use it."""
    docket, opened = prepared.docket, prepared.opened
    mapped = map_needs(session, prepared.packed or prepared.contents, opened)
    # With the crosswalk as it is now: a row that was changed meanwhile is a change of what was agreed to.
    side = target_side(opened, session.ledger, session.crosswalk, prepared.contents, mapped, prepared.said.same)
    # Reading all definitions takes as long as the docket did; only a retirement depends on who uses what by now.
    if docket.fated(Fate.RETIRE):
        keys = [one.key for one in docket.retirements if one.key in side.by_key]
        actions = {action.key: action for action in docket.actions}
        fates = {one.key: one.fate.value for one in docket.retirements if one.key in keys}
        docket = replace(docket, retirements=tuple(retirements_of(session, side, keys, actions, fates)))
    docket = replace(docket, mapped=tuple(mapped))
    return _fingerprint(docket, side, prepared.packed or prepared.contents) == prepared.docket.fingerprint


def _fingerprint(docket: Docket, side: Side, packed: Contents) -> str:
    """What everything in a docket rests on, whatever is decided in it: what the package holds and what that uses,
    what it no longer holds with all users, and whatever stands where something new would go."""
    watched = {
        parsed.key for item in packed.items.values() for place in item.places if (parsed := parse_token(place.token))
    }
    watched |= packed.items.keys()
    # The users too: one that begins to use what is to be retired makes the docket a lie.
    watched |= {key for one in docket.retirements for key in (one.key, *one.everybody)}
    places: set[Place] = set()
    if side.opened.description.capabilities.has_unique_names:
        actions = [
            Action(i.key, Do.CREATE, "", i, None, i.states, side.by_key.get(i.key)) for i in packed.items.values()
        ]
        places = set(wanted_places(actions).values())
    rows = [row for key, row in side.by_key.items() if key in watched or place_of(row) in places]
    # Gone since: with the row as it was then the fingerprint can't come out the same.
    rows += [one.present for one in docket.retirements if one.key not in side.by_key]
    bindings = {one.need.key: one.native for one in docket.mapped}
    # What the package no longer holds is part of what was reviewed, whatever was decided about it.
    gone = sorted(one.key for one in docket.retirements)
    return fingerprint(docket.package_digest, side.uid, rows, {**bindings, "\0retired": gone})


def _of_others(session: Session, side: Side, keys: Collection[Key]) -> dict[Key, str]:
    """Items that were made by a run of another ledger, by that one's uid: what it knows of them nobody knows here."""
    environment = side.opened.environment
    if not keys or not isinstance(environment, TellsMakers):
        return {}
    ids = {side.by_key[key].native_id: key for key in keys}
    # A token begins with the ledger's uid, where the environment takes one of that length.
    uids = {ids[id_]: token.partition("/")[0] for id_, token in environment.makers(list(ids)).items()}
    mine = session.ledger.uid()
    return {key: uid for key, uid in uids.items() if len(uid) == len(mine) and uid != mine}


def _no_longer_there(session: Session, contents: Contents, side: Side, claims: Claims) -> set[Key]:
    """What was delivered, is still claimed, and is not there: somebody removed it, or an older backup is back."""
    absent = [key for key in contents.items if key not in side.by_key]
    return claims.claimed(session.ledger.last_deliveries(side.uid, absent))


def _earlier(session: Session, side: Side, key: Key, present: Item | None, base: Base | None) -> str:
    """The version whose delivery the target shows, if that is an earlier one than the last: what was delivered
    since is no longer there, which no merge of fields would say."""
    if present is None or base is None or present.form_bytes == base.form_bytes:
        return ""
    shapes = Shapes(side.opened.description.sheets)
    past = [replace(d, delivery=shapes.delivery(d.delivery)) for d in session.ledger.deliveries_of(side.uid, key)]
    # The last one is the base already: only what came before it would be news.
    for one in past[1:]:
        delivery = one.delivery
        is_same = digest(delivery.merged) == present.digest and delivery.merged_states == present.states
        if is_same and digest(past[0].delivery.merged) != present.digest:
            return f"{delivery.package} {delivery.version}"
    return ""


def _bases(session: Session, contents: Contents, side: Side, since: Contents | None) -> dict[Key, Base]:
    """What the package carries as its base; else the later of the last delivery into the environment and the last
    export from it; else what the named package holds."""
    bases = {key: Base(form, states, {}) for key, (form, states) in contents.bases.items()}
    # The environment may have been brought to another release since: what was delivered then is read in the shape of
    # today.
    shapes = Shapes(side.opened.description.sheets)
    for key, base in session.ledger.bases(side.uid, contents.items).items():
        if (here := shapes.base(key, base)) is not None:
            bases.setdefault(key, here)
    for key, item in since.items.items() if since else ():
        if key in contents.items:
            bases.setdefault(key, Base(item.form, item.states, {}, item.schema))
    return bases


def _with_kept_attachments(
    contents: Contents, side: Side, present: Mapping[Key, Item], noticed: Mapping[Key, Portable]
) -> Contents:
    """The contents with the target's own attachments where the package carries none."""
    items = dict(contents.items)
    for key, item in items.items():
        if any(place.token == LEFT_OUT for place in item.places):
            form = present[key].form if key in present else MISSING
            items[key] = with_present(item, form, side.opened.description.sheets[item.kind].places.walk(item.form))
    kept = {name: raw for portable in noticed.values() for name, raw in portable.files.items()}
    return replace(contents, items=items, files={**kept, **contents.files})


def _reserve_ids(contents: Contents, side: Side, ids: str) -> tuple[Key, ...]:
    """Settles the ids of what will be written, where the environment takes the ids that we choose; the items whose
    own ids are taken there."""
    if not side.opened.description.capabilities.keeps_ids:
        if ids == KEEP:
            raise UsageFault(
                f"{side.name} gives ids by itself: none can be kept.",
                subject=side.name,
                next_step=advice("Leave --ids out."),
            )
        return ()
    sheets = side.opened.description.sheets
    wanted = [
        Wanted(
            key,
            item.kind,
            side.by_key[key].native_id if key in side.by_key else item.native_id,
            key not in side.by_key,
            tuple(sorted(part_ids(item.form, sheets[item.kind]))),
            side.names.inner.get(key, {}),
            ids == NEW,
        )
        for key, item in contents.items.items()
        if item.kind in sheets and sheets[item.kind].is_carried
    ]
    other: list[Key] = []
    chooser = able(side.opened.environment, ChoosesIds, "takes no ids of our choice")
    for one, reserved in zip(wanted, chooser.reserve(wanted), strict=True):
        side.names.bind(one.key, reserved.native_id)
        if reserved.inner:
            side.names.inner[one.key] = reserved.inner
        if one.is_new and (reserved.native_id != one.native_id or reserved.inner):
            other.append(one.key)
    return tuple(other)


def _check(
    session: Session,
    contents: Contents,
    side: Side,
    docket: Docket,
    present: Mapping[Key, Item],
    claims: Claims,
) -> list[Finding]:
    target = target_index(session, contents, side, docket, present, claims)
    return found_by_rules(session, contents, sheets_for(contents, side.opened), target)
