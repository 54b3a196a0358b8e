"""The docket of an import: read the target, match, compare, check, plan, and write it all down."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import field, replace

from amphora.core.form.secrets import sealed
from amphora.core.form.spots import part_ids
from amphora.core.merge.merge import TARGET
from amphora.core.needs.crosswalk import Mapped, MapState, resolve, row_name
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.aftercare import Task, access_tasks, given_access, secret_task, tell_tasks, words_tasks
from amphora.core.plan.claims import Claims
from amphora.core.plan.decisions import KEEP, NEW, THERE, Decisions
from amphora.core.plan.docket import Custody, Docket, Parting, fingerprint
from amphora.core.plan.order import wanted_places
from amphora.core.plan.places import Place, place_of
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, kind_of, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Finding, Item, Leak
from amphora.core.values.next_step import advice
from amphora.core.values.tokens import NEED_KINDS, PREFIX, parse_token
from amphora.engine.action import action_of, secrets_to_enter
from amphora.engine.called import Called
from amphora.engine.check import found_by_rules, sheets_for, target_index
from amphora.engine.intake import Intake, lacking, taken_in
from amphora.engine.leaks import leaks_in_images
from amphora.engine.plan import planned
from amphora.engine.present import (
    NOTHING_ADOPTED,
    Adopted,
    Present,
    no_longer_there,
    present_in,
    with_kept_attachments,
)
from amphora.engine.renames import with_rewritten
from amphora.engine.retirement import retirements_of
from amphora.engine.runs.material import secrets_at_hand
from amphora.engine.runs.stage import looked_up
from amphora.engine.session import Opened, Session
from amphora.engine.severed import severed_by
from amphora.engine.sides import OWN_ADDRESS, Side, target_side
from amphora.environments.contract import ByDescription, ChoosesIds, Wanted, able
from amphora.files.agreements import Agreement


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
    agreed: tuple[Agreement, ...] = ()
    """Who agreed to the docket, where it came from a file."""


def map_needs(session: Session, contents: Contents, opened: Opened) -> list[Mapped]:
    """The needs of a package as they stand for one environment."""
    needs = [need for need in contents.needs if need.kind in NEED_KINDS]
    known = {OWN_ADDRESS: opened.description.base_url}
    supplies = opened.environment.supplies()
    packed, unlisted = contents.items.keys(), opened.description.unlisted
    return resolve(needs, session.crosswalk, opened.name, supplies, known, packed, contents.source, unlisted)


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
    opened = session.open(environment)
    session.ledger.locks.wait(opened.description.uid, environment)
    intake = taken_in(session, contents, opened, decisions or Decisions(), since)
    said, packed, taken = intake.said, intake.packed, intake.contents
    session.listener(f"reading {environment}", 0, 0)
    mapped = map_needs(session, packed, opened)
    side = target_side(opened, session.ledger, session.crosswalk, taken, mapped, said.same)
    mapped = [_made_by_now(one, side) for one in mapped]
    # What became a connection there stays as it is, and serves whatever names it.
    taken = lacking(taken, [key for key in side.turned if key in taken.items])
    # One look at the claims for everything below: who shares, what is dropped and what was there have to agree.
    claims = Claims(session.ledger.claims(side.uid))
    gone = no_longer_there(session, taken, side, claims)
    # "As the target has it" means that it stays away: then it is no part of this import at all, with everything that
    # follows from that (needs, order, retirement).
    given_up = [key for key in gone if said.of(key).on(THERE) == TARGET]
    taken = lacking(taken, given_up)
    present = present_in(session, side, taken, intake.since, mapped, adopted)
    taken = with_kept_attachments(taken, side, present.items, present.noticed, "attachments" in said.without)
    # Before any action: a definition can only be written in native words once every id that it refers to is known.
    other_ids = _reserve_ids(taken, side, said.ids)
    actions = [
        action_of(
            taken,
            key,
            side,
            present.items.get(key),
            present.found.get(key),
            present.known(session, side, key, gone, adopted),
            said.of(key),
        )
        for key in taken.items
    ]
    actions, stranded = with_rewritten(side, actions)
    # Left out of this import, or with all access, is not dropped by the package: it must not come up for retirement.
    left = (*said.left_out, *given_up)
    dropped = [key for key in claims.dropped(packed) if key in side.by_key]
    retirements = retirements_of(session, side, dropped, {a.key: a for a in actions}, said.fates)
    leaving = [one.key for one in retirements if one.fate is Parting.RETIRE]
    docket = replace(
        _written_down(session, side, replace(intake, contents=taken), actions, claims, leaving),
        mapped=tuple(mapped),
        retirements=tuple(retirements),
        left_out=tuple(sorted(left)),
        shared=_shared(session, side, taken, actions, claims),
        id_taken=other_ids if said.ids == KEEP else (),
        care=_care(actions, side, present, taken, mapped, adopted.keys & adopted.created),
        of_others=present.of_others,
        stranded=stranded,
        severed=severed_by(side, actions, present.items, leaving),
    )
    docket = planned(docket, side, taken, said, adopted.keys)
    docket = replace(docket, leaks=leaks_of(session, docket, side, present.items))
    docket = replace(docket, fingerprint=_fingerprint(docket, side, packed))
    findings = _check(session, taken, side, docket, present.items)
    docket = replace(docket, findings=tuple(findings))
    return Prepared(docket, side, opened, taken, False, present.items, packed, said, contents)


def _shared(
    session: Session, side: Side, contents: Contents, actions: Sequence[Action], claims: Claims
) -> dict[Key, tuple[str, ...]]:
    """What would be updated of which another package's version is in force. Of others that claim it too nothing is
    taken: this one's is in force already."""
    mine = (contents.name, contents.source_uid)
    shared = claims.shared((a.key for a in actions if a.do is Do.UPDATE), *mine)
    last = session.ledger.last_deliveries(side.uid, shared)
    return {k: p for k, p in shared.items() if k not in last or (last[k].package, last[k].source_uid) != mine}


def _written_down(
    session: Session, side: Side, intake: Intake, actions: Sequence[Action], claims: Claims, leaving: Sequence[Key]
) -> Docket:
    """The docket as far as it follows from the package and what was said."""
    said, contents, since = intake.said, intake.contents, intake.since
    claimed = claims.custody(contents.name, contents.source_uid)
    was = Custody(claimed) if claimed else None
    # Where people build, what arrives is theirs to go on with; elsewhere it is the package's, and local edits are
    # reported. What was handed over stays so until somebody says otherwise.
    usual = was or (Custody.TARGET if side.opened.entry.role == "build" else Custody.PACKAGE)
    return Docket(
        package=contents.name,
        version=contents.version,
        source_uid=contents.source_uid,
        package_digest=contents.package_digest,
        target=side.name,
        target_uid=side.uid,
        ledger_uid=session.ledger.uid(),
        actions=tuple(actions),
        bindings=side.names,
        mapped=(),
        findings=(),
        fingerprint="",
        custody=said.custody or usual,
        custody_was=was,
        since=f"{since.name}-{since.version}" if since else "",
        without=said.without,
        file=said.file,
        if_it_fails=said.if_it_fails,
        ids=said.ids,
        omissions=intake.omissions,
        pause_after={key: about for key, about in said.pause_after.items() if key in contents.items},
        same=tuple(key for key in said.same if key in contents.items),
        arrivals=intake.arrivals,
        words=said.words,
        has_records=said.records,
        idle_rows=() if said.records else tuple(sorted(contents.records)),
        is_guarded=_is_guarded(side, [*(one.key for one in actions if one.do is Do.UPDATE), *leaving]),
        source_file=contents.file,
        files=contents.files,
        converted=tuple(one for one in intake.converted if one.key in contents.items),
    )


def _is_guarded(side: Side, written_over: Sequence[Key]) -> bool:
    """Whether the target refuses by itself to write over what somebody changes in that moment, for these items."""
    environment = side.opened.environment
    if isinstance(environment, ByDescription):
        return all(environment.is_guarded(kind) for kind in {kind_of(key) for key in written_over})
    return side.opened.description.capabilities.is_guarded


def _care(
    actions: Sequence[Action],
    side: Side,
    present: Present,
    contents: Contents,
    mapped: Sequence[Mapped],
    new: Collection[Key],
) -> tuple[Task, ...]:
    """What has to follow: secrets that the target lacks, what the package's maker asks for, people to be told. `new`
    is what this run has made before it was cut off: whose secrets nobody is shown, those it lacks."""
    kept, sheets = secrets_at_hand(mapped, side.name), side.opened.description.sheets
    found = {
        key: one for key, one in present.found.items() if key not in new or not sheets[kind_of(key)].hides_secrets
    }
    secrets = [
        secret_task(action.key, action.states.title, token, row_name(token.removeprefix(PREFIX)))
        for action in actions
        for token in secrets_to_enter(action, side, found.get(action.key), contents.files, kept)
    ]
    created = {action.key: action.states.title for action in actions if action.do is Do.CREATE}
    # Asked for again only where something happens: importing the same once more is no reason to tell people.
    is_idle = all(action.do is Do.LEAVE for action in actions)
    words = [] if is_idle else words_tasks(contents.afterwards)
    access = access_tasks(created, given_access([action.item for action in actions], sheets), sheets)
    return (*secrets, *access, *words, *tell_tasks(created, {}, sheets))


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
    unread |= {one.key: one.present.native_id for one in docket.fated(Parting.RETIRE)}
    if unread:
        found += leaks_in_images(looked_up(side.opened.environment, unread), sheets, guard)
    return tuple(dict.fromkeys(found))


def check_package(session: Session, contents: Contents, environment: str) -> Prepared:
    """The docket with which an import of the package would begin; its findings are those for the target."""
    return prepare(session, contents, environment)


def key_in(session: Session, prepared: Prepared, contents: Contents, name: str) -> Key:
    """The one item of an import that a name means, as its package calls it or as its target does; by the key that it
    has in the docket."""
    docket = prepared.docket
    key = Called(session, contents, [docket.target]).the_one(name)
    return next((one.key for one in docket.converted if one.packed_key == key), key)


def is_current(session: Session, prepared: Prepared) -> bool:
    """Whether everything that a docket rests on is as it was when it was made: one sweep of the index, and
    for what is to be retired a look at everything that may use it."""
    docket, opened = prepared.docket, prepared.opened
    mapped = map_needs(session, prepared.packed or prepared.contents, opened)
    # With the crosswalk as it is now: a row that was changed meanwhile is a change of what was agreed to.
    side = target_side(opened, session.ledger, session.crosswalk, prepared.contents, mapped, prepared.said.same)
    # Reading all definitions takes as long as the docket did; only a retirement depends on who uses what by now.
    if docket.fated(Parting.RETIRE):
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
) -> list[Finding]:
    target = target_index(session, contents, side, docket, present)
    return found_by_rules(session, contents, sheets_for(contents, side.opened), target)
