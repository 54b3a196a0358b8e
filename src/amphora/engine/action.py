"""Actions: what happens to one item of a package in a target, and on what somebody has to decide."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

from amphora.core.form.bindings import MISSING
from amphora.core.form.kinds import KindSheet
from amphora.core.form.native import to_native
from amphora.core.form.spots import masked_places
from amphora.core.merge.compare import STATE, Base, Comparison, compare_item
from amphora.core.merge.merge import LAST_DELIVERED, PACKAGE, TARGET, By, FieldChange, field_choices
from amphora.core.plan.actions import AS_DECIDED, MENDED, SAME, Action, Do, decide, moves
from amphora.core.plan.decisions import DRAFT, PUBLICATION, SECRETS, THERE, ItemDecision
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Found, Item
from amphora.core.values.next_step import advice
from amphora.core.values.tokens import PREFIX
from amphora.engine.sides import Side
from amphora.environments.contract import habits_of


@dataclass(frozen=True)
class Known:
    """What the ledger knows of an item: its base, whether it was delivered and is still claimed, and the
    version whose delivery the target's present state is that of, if it is an earlier one's; and whether that state is
    the work of the run that goes on, and the item too."""

    base: Base | None = None
    is_delivered: bool = False
    earlier: str = ""
    is_ours: bool = False
    is_made_by_us: bool = False


ABOUT_ALL = (DRAFT, SECRETS, PUBLICATION)
"""Questions about an item as a whole: where these are answered for the target's side, nothing of it is written."""


def action_of(
    contents: Contents,
    key: Key,
    side: Side,
    present: Item | None,
    found: Found | None,
    known: Known,
    said: ItemDecision,
) -> Action:
    """The action for one item, as decided so far."""
    item, listed = contents.items[key], side.by_key.get(key)
    if said.whole == LAST_DELIVERED and known.base is None:
        raise UsageFault(
            f"{readable(key)} was never delivered: there is nothing last delivered to choose.",
            subject=key,
            next_step=advice("Choose package or target, or name with --since the package that was there before."),
        )
    if listed is None:
        return _creation(item, known, said)
    if present is None:
        present = Item(key, item.schema, {}, listed.states, None, listed.native_id, listed.link)
    sheet = side.opened.description.sheets[item.kind]
    if known.earlier and said.on(THERE) == PACKAGE:
        said = replace(said, whole=PACKAGE)
    comparison = compare_item(
        item, present, known.base, sheet, side.names, field_choices(said.whole or None, said.places)
    )
    if known.earlier and comparison.local_edits:
        comparison = _asking(
            comparison,
            THERE,
            known.base and "as delivered last",
            f"as {known.earlier} left it",
            "as this version has it",
            said,
        )
    # An update would overwrite what lies unpublished there; what was never live is compared place by place.
    hides_draft = listed.has_draft and not listed.is_drafted_only
    if hides_draft and not known.is_ours and any(map(moves, comparison.changes)):
        whose = f"unpublished edits by {listed.modified_by or 'somebody'}"
        comparison = _asking(comparison, DRAFT, "no draft", whose, "the draft is replaced", said)
    if found and (lost := _lost_secrets(comparison, found, sheet, side)):
        comparison = _asking(comparison, SECRETS, "", f"holds {', '.join(lost)}", "gone, and can't be put back", said)
    is_draft_ours = known.is_ours and listed.has_draft and bool(item.states.is_published)
    action = decide(comparison, item, listed, contents.title, is_draft_ours)
    # What the run has made itself goes as a whole with it.
    if not known.is_made_by_us and _is_first_publication(action, side) and said.on(STATE + "published") != TARGET:
        words = "published for good: this release can't take it back"
        comparison = _asking(comparison, PUBLICATION, "", "never published", words, said)
        action = replace(action, comparison=comparison)
    if any(change.place in ABOUT_ALL and change.choice == TARGET for change in comparison.changes):
        # The same words whether it was said of the whole item or of each of its places, as in a docket's file.
        reason = action.reason if action.do is Do.LEAVE else AS_DECIDED
        return Action(key, Do.LEAVE, reason, item, present.form, present.states, listed, comparison)
    return action


def _creation(item: Item, known: Known, said: ItemDecision) -> Action:
    if not known.is_delivered:
        return Action(item.key, Do.CREATE, "not there yet", item, item.form, item.states)
    # Somebody removed it, or the target was restored from an older backup: making it again is no creation
    # like any other, and has to be somebody's word.
    comparison = Comparison(item.key, (), item.form, item.states, True, layout=item.layout)
    comparison = _asking(comparison, THERE, "there", "no longer there", "there again", said)
    return Action(
        item.key, Do.CREATE, "was delivered, is no longer there", item, item.form, item.states, None, comparison
    )


def _asking(
    comparison: Comparison, place: str, was: object, target: str, package: str, said: ItemDecision
) -> Comparison:
    """The comparison with a question about the whole item."""
    choice = said.on(place)
    if choice == LAST_DELIVERED:
        choice = PACKAGE if place == THERE else None
    change = FieldChange(place, By.CLASH, was or MISSING, target, package, choice)
    return replace(comparison, changes=(*comparison.changes, change))


def _lost_secrets(comparison: Comparison, found: Found, sheet: KindSheet, side: Side) -> list[str]:
    """Places of secrets that the target holds and that would be gone after the write."""
    inner = side.names.inner.get(comparison.key)
    native = to_native(comparison.form, sheet, side.names, inner=inner, present=found.definition)
    kept = set(masked_places(native.definition, sheet).values())
    return sorted(set(masked_places(found.definition, sheet).values()) - kept)


def _is_first_publication(action: Action, side: Side) -> bool:
    """Whether something that was never published would be, in an environment that can't take that back."""
    present, habits = action.present, habits_of(side.opened.description)
    if habits.takes_back or action.do is not Do.UPDATE or present is None or not habits.drafts(action.item.kind):
        return False
    return bool(action.item.states.is_published) and not present.states.is_published


def secrets_to_enter(
    action: Action, side: Side, found: Found | None, files: Mapping[str, object], kept: Collection[Key] = ()
) -> list[str]:
    """The secrets that the target will not hold after the import: those that are not there, and that the import
    doesn't enter (`kept`: those that it finds where the crosswalk says)."""
    sheet = side.opened.description.sheets.get(action.item.kind)
    # What is the same is what the package delivers, too; what somebody left there is theirs.
    if (action.do is Do.LEAVE and action.reason not in (SAME, MENDED)) or sheet is None:
        return []
    native = to_native(
        action.form,
        sheet,
        side.names,
        inner=side.names.inner.get(action.key),
        present=found.definition if found else None,
        files=files,  # type: ignore[arg-type]
    )
    return [token for _, token in native.to_enter if token.removeprefix(PREFIX) not in kept]
