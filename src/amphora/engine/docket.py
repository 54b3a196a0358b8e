"""Preparing an import: read the target, match, compare, check, and write it all down in a docket."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

from amphora.core.form.attachments import LEFT_OUT, with_present, without_attachments
from amphora.core.form.bindings import MISSING
from amphora.core.form.kinds import KindSheet
from amphora.core.form.native import to_native
from amphora.core.form.portable import Portable
from amphora.core.form.spots import masked_places, part_ids
from amphora.core.merge.compare import STATE, Base, Comparison, compare_item
from amphora.core.merge.merge import TARGET, By, FieldChange, field_choices
from amphora.core.needs.crosswalk import Mapped, resolve
from amphora.core.needs.needs import needs_of, types_of
from amphora.core.plan.docket import Action, Custody, Do, Docket, decide, fingerprint, order_of
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents, Finding, Found, Item, Json, Listed
from amphora.core.values.tokens import NEED_KINDS, parse_token
from amphora.engine.check import found_by_rules, sheets_for, target_index
from amphora.engine.retirement import dropped_items, shared_items
from amphora.engine.session import Opened, Session
from amphora.engine.sides import OWN_ADDRESS, Side, read_items, target_side
from amphora.environments.contract import Wanted

Choices = Mapping[Key, Mapping[str, Json]]
"""Item, then place (or `*` for the whole item), then choice."""

LEAVE = "leave"
"""The choice for a whole item that isn't to be part of this import."""
DRAFT = STATE + "draft"
SECRETS = STATE + "secrets"


@dataclass(frozen=True)
class Prepared:
    """A docket with the target side that it was made from; `is_reviewed` if it came from a file."""

    docket: Docket
    side: Side
    opened: Opened
    contents: Contents
    is_reviewed: bool = False
    present: Mapping[Key, Item] = field(default_factory=dict, repr=False)


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
    choices: Choices | None = None,
    without: Collection[str] = (),
    since: Contents | None = None,
    fates: Mapping[str, str] | None = None,
    custody: str = "",
) -> Prepared:
    """The docket of importing a package into an environment; changes nothing. `without` names what of the
    package stays out: `attachments` (the target keeps its own), `access` (rules that nothing else uses).
    `since` is a package that serves as base where the ledger knows none. `fates` says, by any naming, what
    becomes of items that the package no longer holds."""
    contents = reduced(contents, without)
    left = sorted(key for key, mine in (choices or {}).items() if mine.get("*") == LEAVE and key in contents.items)
    contents = lacking(contents, left)
    opened = session.open(environment)
    session.listener(f"reading {environment}", 0, 0)
    mapped = map_needs(session, contents, opened)
    side = target_side(opened, session.ledger, session.crosswalk, contents, mapped)
    bases = _bases(session, contents, side, since)
    there = [key for key in contents.items if key in side.by_key]
    guides = {key: contents.items[key].form for key in there}
    present, found, noticed = read_items(side, _readable(there, side), guides=guides, bases=bases)
    contents = _with_kept_attachments(contents, side, present, noticed)
    _reserve_ids(contents, side)
    actions = [
        _action(contents, key, side, present.get(key), found.get(key), bases.get(key), choices or {})
        for key in contents.items
    ]
    findings = _check(session, contents, side, mapped, actions, present)
    to_enter = tuple(
        (action.key, token)
        for action in actions
        for token in _secrets_to_enter(contents, action, side, found.get(action.key))
    )
    chosen_custody = Custody(custody) if custody else None
    retirements = dropped_items(session, contents, side, actions, fates or {}, left)
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
        findings=tuple(findings),
        fingerprint=_fingerprint(contents, side, mapped),
        custody=chosen_custody or (Custody.PACKAGE if opened.entry.role != "build" else Custody.TARGET),
        retirements=tuple(retirements),
        left_out=tuple(left),
        shared=shared_items(session, contents, side, actions),
        since=f"{since.name}-{since.version}" if since else "",
        without=tuple(without),
        to_enter=to_enter,
        order=order_of(list(contents.items.values())),
        files=contents.files,
    )
    return Prepared(docket, side, opened, contents, present=present)


def reduced(contents: Contents, without: Collection[str]) -> Contents:
    """What of a package is taken into an environment."""
    if unknown := sorted(set(without) - {"attachments", "access"}):
        raise UsageFault(
            f"--without takes attachments or access, not {unknown[0]!r}.", next_step="amphora import --help"
        )
    items = dict(contents.items)
    if "access" in without:
        used = {key for item in items.values() for key in item.uses()}
        items = {key: item for key, item in items.items() if item.kind != "access-rule" or key in used}
        contents = lacking(contents, contents.items.keys() - items.keys())
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


def check_package(session: Session, contents: Contents, environment: str) -> list[Finding]:
    """The findings for one target: those with which its import would begin."""
    return list(prepare(session, contents, environment).docket.findings)


def current_fingerprint(session: Session, contents: Contents, opened: Opened) -> str:
    """The fingerprint as it would be now."""
    mapped = map_needs(session, contents, opened)
    side = target_side(opened, session.ledger, session.crosswalk, contents, mapped)
    return _fingerprint(contents, side, mapped)


def _readable(keys: list[Key], side: Side) -> list[Key]:
    return [key for key in keys if not side.by_key[key].is_drafted_only]


def _bases(session: Session, contents: Contents, side: Side, since: Contents | None) -> dict[Key, Base]:
    """What the package carries as its base; else what was last delivered there; else, coming back to its
    source, what was last exported; else what the named package holds."""
    bases = {key: Base(form, states, {}) for key, (form, states) in contents.bases.items()}
    for key, delivery in session.ledger.last_deliveries(side.uid, contents.items).items():
        bases.setdefault(key, delivery.base)
    for key, (form, states) in session.ledger.exported_forms(side.uid, contents.items).items():
        bases.setdefault(key, Base(form, states, {}))
    for key, item in since.items.items() if since else ():
        if key in contents.items:
            bases.setdefault(key, Base(item.form, item.states, {}))
    return bases


def _reserve_ids(contents: Contents, side: Side) -> None:
    """Settles the ids of what will be written, where the environment takes the ids that we choose."""
    if not side.opened.description.capabilities.keeps_ids:
        return
    sheets = side.opened.description.sheets
    wanted = [
        Wanted(
            key,
            item.kind,
            side.by_key[key].native_id if key in side.by_key else item.native_id,
            key not in side.by_key,
            tuple(sorted(part_ids(item.form, sheets[item.kind]))),
            side.names.inner.get(key, {}),
        )
        for key, item in contents.items.items()
        if item.kind in sheets and sheets[item.kind].is_carried
    ]
    for one, reserved in zip(wanted, side.opened.environment.reserve(wanted), strict=True):
        side.names.bind(one.key, reserved.native_id)
        if reserved.inner:
            side.names.inner[one.key] = reserved.inner


def _action(
    contents: Contents,
    key: Key,
    side: Side,
    present: Item | None,
    found: Found | None,
    base: Base | None,
    choices: Choices,
) -> Action:
    item = contents.items[key]
    listed = side.by_key.get(key)
    if listed is None:
        return Action(key, Do.CREATE, "not there yet", item, item.form, item.states)
    mine = choices.get(key, {})
    if present is None:
        present = Item(key, item.schema, {}, listed.states, None, listed.native_id, listed.link)
    sheet = side.opened.description.sheets[item.kind]
    comparison = compare_item(item, present, base, sheet, side.names, field_choices(mine.get("*"), mine))
    if listed.has_draft:
        comparison = _with_draft(comparison, listed, mine)
    if found and (lost := _lost_secrets(comparison, found, sheet, side)):
        comparison = _with_lost_secrets(comparison, lost, mine)
    if TARGET in (mine.get("*"), mine.get(DRAFT), mine.get(SECRETS)):
        reason = "left as it is, as decided"
        return Action(key, Do.LEAVE, reason, item, present.form, present.states, listed, comparison)
    return decide(comparison, item, listed, contents.title)


def _with_draft(comparison: Comparison, listed: Listed, choices: Mapping[str, Json]) -> Comparison:
    """Unpublished edits in the target are a local edit that an update would overwrite."""
    is_touched = any(change.by not in (By.TARGET, By.BOTH) for change in comparison.changes)
    if not is_touched:
        return comparison
    whose = f"unpublished edits by {listed.modified_by or 'somebody'}"
    choice = choices.get(DRAFT, choices.get("*"))
    change = FieldChange(DRAFT, By.CLASH, "no draft", whose, "the draft is replaced", choice)
    return replace(comparison, changes=(*comparison.changes, change))


def _lost_secrets(comparison: Comparison, found: Found, sheet: KindSheet, side: Side) -> list[str]:
    """Places of secrets that the target holds and that would be gone after the write."""
    inner = side.names.inner.get(comparison.key)
    native = to_native(comparison.form, sheet, side.names, inner=inner, present=found.definition)
    kept = set(masked_places(native.definition, sheet).values())
    return sorted(set(masked_places(found.definition, sheet).values()) - kept)


def _with_lost_secrets(comparison: Comparison, lost: list[str], choices: Mapping[str, Json]) -> Comparison:
    """Destroying a secret can't be put back, so somebody has to agree."""
    choice = choices.get(SECRETS, choices.get("*"))
    change = FieldChange(SECRETS, By.CLASH, "", f"holds {', '.join(lost)}", "gone, and can't be put back", choice)
    return replace(comparison, changes=(*comparison.changes, change))


def _secrets_to_enter(contents: Contents, action: Action, side: Side, found: Found | None) -> list[str]:
    if action.do is Do.LEAVE:
        return []
    sheet = side.opened.description.sheets.get(action.item.kind)
    if sheet is None:
        return []
    native = to_native(
        action.form,
        sheet,
        side.names,
        inner=side.names.inner.get(action.key),
        present=found.definition if found else None,
        files=contents.files,
    )
    return [token for _, token in native.to_enter]


def _check(
    session: Session,
    contents: Contents,
    side: Side,
    mapped: list[Mapped],
    actions: Sequence[Action],
    present: Mapping[Key, Item],
) -> list[Finding]:
    opened = side.opened
    target = target_index(session, contents, side, mapped, actions, present)
    return found_by_rules(session, contents, sheets_for(contents, opened), target)


def _fingerprint(contents: Contents, side: Side, mapped: list[Mapped]) -> str:
    used = {
        parsed.key
        for item in contents.items.values()
        for place in item.places
        if (parsed := parse_token(place.token)) and parsed.key in side.by_key
    }
    rows: list[Listed] = [side.by_key[key] for key in used | set(contents.items) if key in side.by_key]
    return fingerprint(contents.package_digest, side.uid, rows, {one.need.key: one.native for one in mapped})
